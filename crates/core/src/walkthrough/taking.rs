//! How a device takes one piece during a walkthrough: how fast, with which gaps, and how soon it goes
//! on after it went to another place.

use std::time::Duration;

use mostra_protocol::Moment;
use serde::{Deserialize, Serialize};

use crate::kind::Kind;
use crate::playback::Layout;
use crate::resource::ResourceId;
use crate::streaming::AcknowledgedBytes;

/// Seconds of which the bytes are kept one by one.
pub const SECONDS: usize = 300;
/// A request from so early a place begins the piece anew.
const BEGINNING: u64 = 64 << 10;
/// Who was still for so long and then begins anew tries again.
const AGAIN: Duration = Duration::from_secs(1);
/// Who took nothing for so long has stopped.
const STOPPED: Duration = Duration::from_secs(5);
/// For so long it is looked at before it is called slow.
const SLOW: Duration = Duration::from_secs(6);
/// A device can hold so much of a piece before it plays it.
const AHEAD: Duration = Duration::from_secs(45);

/// How a device takes one piece.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Taking {
    /// What it takes.
    pub resource: ResourceId,
    /// Its title.
    pub title: String,
    /// Its kind.
    pub kind: Kind,
    /// Its format, as a MIME type.
    pub format: String,
    /// Its bytes.
    pub size: u64,
    /// Milliseconds that it plays.
    pub duration_ms: Option<u64>,
    /// When this attempt began, in milliseconds since the epoch.
    begun: u64,
    /// When something was taken last.
    last: u64,
    /// What is taken in a row, and since when.
    run: (u64, u64),
    run_since: u64,
    /// The most that was taken in a row.
    longest: u64,
    /// How many times it was begun.
    pub attempts: u32,
    /// When it went to another place from which it has not gone on yet.
    jumped: Option<u64>,
    /// How long it took to go on from the last other place, in milliseconds.
    went_on: Option<u64>,
    /// Bytes by second of this attempt.
    pub seconds: Vec<u64>,
}

/// How what is taken stands to what is played.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Flow {
    /// Nothing can be said yet, or all is well.
    Fine,
    /// It takes less than the piece needs, and the picture must stand: bits a second.
    Slow {
        /// What it takes.
        rate: u64,
        /// What the piece needs.
        need: u64,
    },
    /// It stopped before the piece was over: after so many seconds of it.
    Stopped {
        /// Seconds of the piece.
        after: u64,
    },
    /// It took much more than it can have played.
    Copied {
        /// Seconds that it took.
        within: u64,
        /// Seconds of the piece that it took.
        seconds: u64,
    },
}

impl Taking {
    /// Begins with the first bytes.
    pub fn new(now: Moment, bytes: &AcknowledgedBytes<'_>, format: &str) -> Taking {
        let now = now.as_millis();
        let from = bytes.position.saturating_sub(bytes.bytes);
        Taking {
            resource: bytes.resource,
            title: bytes.title.to_owned(),
            kind: bytes.kind,
            format: format.to_owned(),
            size: bytes.size,
            duration_ms: bytes.duration_ms,
            begun: now,
            last: now,
            run: (from, from),
            run_since: now,
            longest: 0,
            attempts: u32::from(from < BEGINNING),
            jumped: None,
            went_on: None,
            seconds: Vec::new(),
        }
    }

    /// Notes bytes that were taken.
    pub fn take(&mut self, now: Moment, bytes: &AcknowledgedBytes<'_>) {
        let at = now.as_millis();
        let from = bytes.position.saturating_sub(bytes.bytes);
        let still = at.saturating_sub(self.last) >= AGAIN.as_millis() as u64;
        let is_again = from < BEGINNING && from < self.run.1 && still;
        if is_again || !(self.run.0..=self.run.1).contains(&from) {
            if is_again {
                self.attempts += 1;
                (self.begun, self.jumped) = (at, None);
                self.seconds.clear();
            } else if from >= BEGINNING {
                self.jumped = Some(at);
            }
            self.run = (from, from);
            self.run_since = at;
        }
        self.run.1 = self.run.1.max(bytes.position);
        self.longest = self.longest.max(self.run.1 - self.run.0);
        self.last = at;
        let second = (at.saturating_sub(self.begun) / 1000) as usize;
        if second < SECONDS {
            self.seconds.resize(self.seconds.len().max(second + 1), 0);
            self.seconds[second] += bytes.bytes;
        }
        if let Some(jumped) = self.jumped
            && self.run.1 - self.run.0 >= self.one_second()
        {
            self.went_on = Some(at - jumped);
            self.jumped = None;
        }
    }

    /// How long it took to go on from the last other place.
    pub fn went_on(&self) -> Option<Duration> {
        self.went_on.map(Duration::from_millis)
    }

    /// What the piece needs, in bits a second.
    pub fn need(&self) -> Option<u64> {
        let ms = self.duration_ms.filter(|ms| *ms > 0)?;
        u64::try_from(u128::from(self.size) * 8000 / u128::from(ms)).ok()
    }

    /// What was taken while it was taken, in bits a second.
    pub fn rate(&self) -> u64 {
        let bytes: u64 = self.seconds.iter().sum();
        bytes * 8000 / self.last.saturating_sub(self.begun).max(1000)
    }

    /// Whole seconds within this attempt in which nothing came, though the piece was not over and the
    /// device can have had nothing left to play.
    pub fn stalls(&self) -> u32 {
        let Some(need) = self.need().map(|bits| bits / 8).filter(|need| *need > 0) else {
            return 0;
        };
        let mut taken = 0;
        let mut stalls = 0;
        for (second, bytes) in self.seconds.iter().enumerate() {
            taken += bytes;
            stalls += u32::from(*bytes == 0 && taken < need * second as u64);
        }
        stalls
    }

    /// Whether it stopped so early that this is no playing, by now.
    pub fn gave_up(&self, now: Moment) -> bool {
        self.longest < self.needed() && self.is_still(now)
    }

    /// Whether it only took what lies at the end.
    pub fn is_tail_alone(&self) -> bool {
        self.attempts == 0 && self.run.0 > self.size / 2
    }

    /// How what is taken stands to what can have been played.
    pub fn flow(&self, now: Moment) -> Flow {
        let Some(need) = self.need().filter(|need| *need > 0) else { return Flow::Fine };
        let run = self.run.1 - self.run.0;
        let taken = Duration::from_millis(run.saturating_mul(8000) / need);
        let end = if self.is_still(now) { now.as_millis() } else { self.last };
        let elapsed = Duration::from_millis(end.saturating_sub(self.run_since));
        let whole = Duration::from_millis(self.duration_ms.unwrap_or(0));
        let within = Duration::from_millis(self.last.saturating_sub(self.run_since));
        let most_of_it = run >= self.size / 20 * 19;
        if taken > within + AHEAD || most_of_it && within < whole / 2 {
            return Flow::Copied { within: within.as_secs(), seconds: taken.as_secs() };
        }
        // Only what runs for a while tells, and at the end there is nothing more to take.
        if elapsed < SLOW || self.run.1 >= self.size / 100 * 99 {
            return Flow::Fine;
        }
        // While it took anything it took too little.
        if within >= SLOW && taken < within.mul_f64(0.9) {
            let rate = run * 8000 / (within.as_millis() as u64).max(1);
            return Flow::Slow { rate, need };
        }
        if self.is_still(now) && elapsed > taken + STOPPED {
            return Flow::Stopped { after: taken.as_secs() };
        }
        Flow::Fine
    }

    fn is_still(&self, now: Moment) -> bool {
        now.as_millis().saturating_sub(self.last) >= STOPPED.as_millis() as u64
    }

    /// Bytes of one second of it; at least what counts as going on.
    fn one_second(&self) -> u64 {
        self.need().map_or(1 << 20, |bits| bits / 8).max(16 << 10).min(self.needed())
    }

    /// Bytes in a row that count as playing, as [`Layout`] has it.
    fn needed(&self) -> u64 {
        Layout::needed_of(self.kind, self.size, self.duration_ms)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ids::{DeviceId, FileId};

    const RATE: u64 = 1_500_000;

    fn bytes(position: u64, bytes: u64) -> AcknowledgedBytes<'static> {
        AcknowledgedBytes {
            device: DeviceId(1),
            resource: ResourceId::original(FileId(1)),
            title: "Flash and beep",
            kind: Kind::Video,
            size: 60 * RATE,
            duration_ms: Some(60_000),
            bytes,
            position,
        }
    }

    /// Takes so many bytes each second for a while, from a place on.
    fn take(taking: &mut Option<Taking>, from: u64, begin: u64, seconds: u64, each: u64) {
        for second in 0..seconds {
            let now = Moment::from_secs(begin + second);
            let more = bytes(from + (second + 1) * each, each);
            let taking = taking.get_or_insert_with(|| Taking::new(now, &more, "video/mp4"));
            taking.take(now, &more);
        }
    }

    #[test]
    fn rates_gaps_and_attempts_are_told() {
        let mut it = None;
        take(&mut it, 0, 100, 10, RATE / 4);
        let taking = it.as_mut().unwrap();
        assert_eq!(taking.need(), Some(12_000_000));
        let Flow::Slow { rate, need } = taking.flow(Moment::from_secs(110)) else {
            panic!("{taking:?}")
        };
        assert!((3_000_000..3_400_000).contains(&rate) && need == 12_000_000, "{rate}");
        assert!(matches!(taking.flow(Moment::from_secs(120)), Flow::Slow { .. }), "as it was");
        assert!(taking.gave_up(Moment::from_secs(120)), "2.5 s of it is no playing");
        assert_eq!(taking.attempts, 1);
        take(&mut it, 0, 130, 3, RATE);
        let taking = it.as_ref().unwrap();
        assert_eq!((taking.attempts, taking.seconds.len()), (2, 3));
        assert_eq!(taking.flow(Moment::from_secs(132)), Flow::Fine);
    }

    #[test]
    fn who_takes_it_whole_copies_and_who_plays_does_not() {
        let mut copy = None;
        take(&mut copy, 0, 100, 6, RATE * 10);
        let within = copy.unwrap().flow(Moment::from_secs(106));
        assert!(matches!(within, Flow::Copied { seconds: 60, .. }), "{within:?}");
        let mut play = None;
        take(&mut play, 0, 100, 5, RATE * 4);
        take(&mut play, 5 * RATE * 4, 105, 30, RATE);
        assert_eq!(play.as_ref().unwrap().flow(Moment::from_secs(135)), Flow::Fine);
        assert_eq!(play.unwrap().stalls(), 0);
    }

    #[test]
    fn after_another_place_it_goes_on_sooner_or_later() {
        let mut it = None;
        take(&mut it, 0, 100, 12, RATE);
        // A look at the end is no going on.
        take(&mut it, 60 * RATE - 65_536, 112, 1, 65_536);
        assert_eq!(it.as_ref().unwrap().went_on(), None);
        take(&mut it, 40 * RATE, 113, 4, RATE / 3);
        assert_eq!(it.as_ref().unwrap().went_on(), Some(Duration::from_secs(2)));
        assert!(!it.unwrap().is_tail_alone());
        let mut tail = None;
        take(&mut tail, 59 * RATE, 100, 1, RATE / 2);
        assert!(tail.unwrap().is_tail_alone());
    }
}
