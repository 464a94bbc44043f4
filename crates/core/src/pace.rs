//! Whether a device keeps playing something: whether it takes bytes at the pace of the piece's own
//! time, neither all at once nor ever less.

use std::collections::VecDeque;
use std::time::Duration;

use mostra_protocol::Moment;

/// For how long a device must keep to the piece's own time.
pub const KEPT: Duration = Duration::from_secs(20);
/// How far what is taken within such a time may be from that time, as shares of it: less is a device
/// that runs dry, more is one that only copies.
const SHARES: (f64, f64) = (0.95, 1.15);
/// Each of so many parts of that time must have brought something: one gulp is no playing.
const PARTS: u32 = 4;
/// How often it is judged, and for how long samples are kept, so far apart.
const JUDGED: Duration = Duration::from_secs(1);
const REMEMBERED: Duration = Duration::from_secs(120);
const APART: Duration = Duration::from_millis(250);
/// Every so many samples one is tried as a beginning.
const STEP: usize = 4;

/// How a device takes one piece, from one place on.
#[derive(Debug, Clone)]
pub struct Pace {
    /// Milliseconds of the piece in each byte.
    ms_each: f64,
    /// What was taken from that place on, in milliseconds of the piece, over time.
    samples: VecDeque<(Moment, f64)>,
    judged: Moment,
}

impl Pace {
    /// Begins with a piece of so many bytes that plays so long; `None` where that is not known.
    pub fn new(now: Moment, size: u64, duration_ms: Option<u64>) -> Option<Pace> {
        let duration = duration_ms.filter(|ms| *ms > 0)?;
        (size > 0).then(|| Pace {
            ms_each: duration as f64 / size as f64,
            samples: VecDeque::from([(now, 0.0)]),
            judged: now,
        })
    }

    /// Begins anew: the device went to another place.
    pub fn restart(&mut self, now: Moment) {
        self.samples = VecDeque::from([(now, 0.0)]);
        self.judged = now;
    }

    /// Notes how many bytes were taken in all from that place on; gives for how long the device has
    /// kept to the piece's own time, once that is long enough.
    pub fn take(&mut self, now: Moment, bytes: u64) -> Option<Duration> {
        let taken = bytes as f64 * self.ms_each;
        match self.samples.back_mut() {
            // What comes within a moment counts as taken at its beginning.
            Some((at, last)) if now.since(*at) < APART && *last > 0.0 => *last = taken,
            _ => self.samples.push_back((now, taken)),
        }
        while self.samples.front().is_some_and(|(at, _)| now.since(*at) > REMEMBERED) {
            self.samples.pop_front();
        }
        if now.since(self.judged) < JUDGED {
            return None;
        }
        self.judged = now;
        self.judge(now, taken)
    }

    /// The shortest time up to now that is long enough and was kept to.
    fn judge(&self, now: Moment, taken: f64) -> Option<Duration> {
        let long_enough = self.samples.partition_point(|(at, _)| now.since(*at) >= KEPT);
        // A beginning in each second or so is enough, and keeps this cheap for many streams.
        let begins = self.samples.range(..long_enough).rev().step_by(STEP);
        begins.copied().find_map(|(from, before)| {
            let time = now.since(from);
            let share = (taken - before) / (time.as_secs_f64() * 1000.0);
            let kept = (SHARES.0..=SHARES.1).contains(&share) && self.each_part(from, now);
            kept.then_some(time)
        })
    }

    /// Whether each part of a time brought something.
    fn each_part(&self, from: Moment, to: Moment) -> bool {
        let part = to.since(from) / PARTS;
        let taken_by = |until: Moment| {
            let after = self.samples.partition_point(|(at, _)| *at <= until);
            after.checked_sub(1).map_or(0.0, |last| self.samples[last].1)
        };
        (0..PARTS).all(|number| {
            let begin = from + part * number;
            taken_by(begin + part) > taken_by(begin)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Bytes of a piece that plays for ten minutes at 12 Mbit/s.
    const RATE: u64 = 1_500_000;
    const SECONDS: u64 = 600;

    /// A device's habit: how many bytes it has taken at a time, in seconds since it began.
    type Habit<'a> = &'a dyn Fn(f64) -> f64;

    /// When a device with this habit counts as keeping up, looked at ten times a second.
    fn kept_at(habit: Habit<'_>, until: f64) -> Option<f64> {
        let start = Moment::from_secs(1000);
        let mut pace = Pace::new(start, RATE * SECONDS, Some(SECONDS * 1000)).unwrap();
        let mut before = 0;
        for step in 1..=(until * 10.0) as u64 {
            let seconds = step as f64 / 10.0;
            let taken = (habit(seconds).max(0.0) * RATE as f64) as u64;
            let now = start + Duration::from_millis(step * 100);
            let taken = taken.min(RATE * SECONDS);
            // Only what is new is told.
            if taken > before && pace.take(now, taken).is_some() {
                return Some(seconds);
            }
            before = taken.max(before);
        }
        None
    }

    #[test]
    fn who_plays_is_told_soon_and_who_copies_dries_up_or_leaves_never() {
        // A buffer of some seconds first, then as it plays.
        let steady = kept_at(&|t| (t * 8.0).min(6.0 + t), 60.0).unwrap();
        assert!((20.0..25.0).contains(&steady), "{steady}");
        // In gulps of five seconds.
        let gulps = kept_at(&|t| (t * 8.0).min(10.0 + (t / 5.0).floor() * 5.0), 80.0).unwrap();
        assert!(gulps < 45.0, "{gulps}");
        let never: [(&str, Habit<'_>); 8] = [
            ("copies at once", &|t| t * 40.0),
            ("copies at twice the pace", &|t| t * 2.0),
            ("copies somewhat faster", &|t| t * 1.3),
            ("takes a quarter of what it needs", &|t| t * 0.25),
            ("takes nine tenths", &|t| t * 0.9),
            ("takes the first bytes and leaves", &|t| t.min(0.5)),
            ("takes thirty seconds at once and leaves", &|t| (t * 20.0).min(30.0)),
            ("takes a quarter and then as much again later", &|t| {
                if t < 40.0 { (t * 20.0).min(40.0) } else { ((t - 40.0) * 20.0).min(40.0) + 40.0 }
            }),
        ];
        for (what, habit) in never {
            assert_eq!(kept_at(habit, 200.0), None, "{what}");
        }
    }

    #[test]
    fn of_a_thousand_devices_none_is_judged_wrongly() {
        let mut random = fastrand::Rng::with_seed(16);
        for number in 0..1000 {
            let buffer = 1.0 + random.f64() * 20.0;
            let speed = 2.0 + random.f64() * 40.0;
            let gulp = 0.2 + random.f64() * 4.0;
            let late = random.f64() * 2.0;
            let healthy = |t: f64| {
                let t = t - late;
                (t * speed).min(buffer + (t / gulp).floor() * gulp)
            };
            // It is sure five seconds after the last request that it takes.
            let filled = late + buffer / (speed - 1.0);
            let needed = filled + KEPT.as_secs_f64() + gulp * 2.0;
            let at = kept_at(&healthy, needed + 30.0);
            assert!(
                at.is_some_and(|at| at <= needed + 5.0),
                "{number}: buffer {buffer}, speed {speed}, gulp {gulp}: {at:?}, needed {needed}"
            );
            // The same with a fault.
            let copier = 1.25 + random.f64() * 30.0;
            let slow = 0.05 + random.f64() * 0.85;
            let quits = 1.0 + random.f64() * 18.0;
            let faults: [(&str, Habit<'_>); 3] = [
                ("copies", &|t| t * copier),
                ("is slow", &|t| t * slow),
                ("leaves", &|t| healthy(t.min(quits))),
            ];
            for (what, habit) in faults {
                assert_eq!(kept_at(habit, 120.0), None, "{number} {what}");
            }
        }
    }

    #[test]
    fn a_place_that_is_gone_to_begins_anew_and_what_has_no_time_is_not_judged() {
        assert!(Pace::new(Moment::EPOCH, 100, None).is_none());
        assert!(Pace::new(Moment::EPOCH, 0, Some(5)).is_none());
        let at = |seconds| Moment::from_secs(seconds);
        let mut pace = Pace::new(at(0), RATE * SECONDS, Some(SECONDS * 1000)).unwrap();
        for second in 1..=15 {
            assert_eq!(pace.take(at(second), second * RATE), None);
        }
        pace.restart(at(15));
        for second in 1..=19 {
            assert_eq!(pace.take(at(15 + second), second * RATE), None);
        }
        assert_eq!(pace.take(at(35), 20 * RATE), Some(KEPT));
    }
}
