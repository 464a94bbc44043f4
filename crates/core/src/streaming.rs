//! Who receives what: streams as a person means them, put together from the requests that a
//! player makes for one resource.

use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::time::Duration;

use mostra_protocol::Moment;

use crate::Kind;
use crate::ids::{DeviceId, StreamId};
use crate::pace::Pace;
use crate::resource::ResourceId;

/// Seconds of which the bytes are kept one by one.
pub const HISTORY: usize = 120;
/// How long a stream goes on without a connection: players close one before they open the next.
const QUIET: Duration = Duration::from_secs(10);
/// Seconds over which the rate of now is taken.
const NOW: usize = 3;
/// How long a resource is kept from a device whose stream of it a person ended; players come back
/// at once.
pub const KEPT_FROM: Duration = Duration::from_secs(60);

/// Bytes that a device acknowledged.
#[derive(Debug, Clone)]
pub struct AcknowledgedBytes<'a> {
    /// The device's number.
    pub device: DeviceId,
    /// What it took them of.
    pub resource: ResourceId,
    /// Its title.
    pub title: &'a str,
    /// Its kind.
    pub kind: Kind,
    /// Its bytes.
    pub size: u64,
    /// Milliseconds that it plays.
    pub duration_ms: Option<u64>,
    /// How many bytes, beyond those told before.
    pub bytes: u64,
    /// The place in it behind the last of them.
    pub position: u64,
}

#[derive(Debug, Clone)]
struct Stream {
    id: StreamId,
    title: String,
    kind: Kind,
    size: u64,
    duration_ms: Option<u64>,
    since: Moment,
    last: Moment,
    delivered: u64,
    /// The place that it has come to, and the bytes that are being taken one after the other.
    position: u64,
    run: (u64, u64),
    /// Whether it is taken at its own pace, until that is known; nothing of what has no time.
    pace: Option<Pace>,
    /// Bytes by second, the last one being `second`.
    history: VecDeque<u64>,
    second: u64,
}

/// Bytes in a row from which on it is playing and not a look at an index; of a small file, a
/// fiftieth of it.
const PLAYING: u64 = 1 << 20;

impl Stream {
    /// Takes in bytes of the resource. A player that looks at the index at the end is not there.
    /// Gives for how long it was taken at its own pace, once that is long enough to count.
    fn go_on(&mut self, now: Moment, from: u64, to: u64) -> Option<Duration> {
        let goes_on = (self.run.0..=self.run.1).contains(&from);
        self.run = match goes_on {
            true => (self.run.0, self.run.1.max(to)),
            false => (from, to),
        };
        let taken = self.run.1 - self.run.0;
        let kept = self.pace.as_mut().and_then(|pace| {
            if !goes_on {
                pace.restart(now);
            }
            pace.take(now, taken)
        });
        if kept.is_some() {
            // Once is enough.
            self.pace = None;
        }
        let enough = PLAYING.min(self.size / 50);
        if self.run.0 == 0 || self.run.1 - self.run.0 > enough {
            self.position = self.run.1;
        }
        kept
    }

    fn roll(&mut self, now: Moment) {
        let second = now.as_secs();
        for _ in 0..(second.saturating_sub(self.second)).min(HISTORY as u64) {
            self.history.push_back(0);
        }
        self.second = self.second.max(second);
        while self.history.len() > HISTORY {
            self.history.pop_front();
        }
    }
}

/// A stream as it is now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Running {
    /// Its number.
    pub id: StreamId,
    /// The device's number.
    pub device: DeviceId,
    /// What is streamed.
    pub resource: ResourceId,
    /// The item's title.
    pub title: String,
    /// Its kind.
    pub kind: Kind,
    /// Its bytes.
    pub size: u64,
    /// Milliseconds that it plays.
    pub duration_ms: Option<u64>,
    /// When it began.
    pub since: Moment,
    /// Bytes acknowledged in all.
    pub delivered: u64,
    /// The place in it that it has come to.
    pub position: u64,
    /// Bytes a second now, over the last whole seconds.
    pub rate: u64,
    /// Bytes a second since it began.
    pub average: u64,
    /// Whether it is connected but takes nothing.
    pub paused: bool,
    /// Bytes by second, the newest last, without the second that is not over.
    pub history: Vec<u64>,
}

/// All streams, by device and resource.
#[derive(Debug, Default)]
pub struct StreamBook {
    streams: BTreeMap<(DeviceId, ResourceId), Stream>,
    open: BTreeSet<(DeviceId, ResourceId)>,
    ended: HashMap<(DeviceId, ResourceId), Moment>,
    last_id: StreamId,
}

impl StreamBook {
    /// Notes bytes that a device acknowledged. Gives for how long it has taken the resource at that
    /// one's own pace, once that is long enough to count.
    pub fn take(&mut self, now: Moment, taken: &AcknowledgedBytes<'_>) -> Option<Duration> {
        let key = (taken.device, taken.resource);
        let stream = self.streams.entry(key).or_insert_with(|| {
            self.last_id.0 += 1;
            Stream {
                id: self.last_id,
                title: taken.title.to_owned(),
                kind: taken.kind,
                size: taken.size,
                duration_ms: taken.duration_ms,
                since: now,
                last: now,
                delivered: 0,
                position: 0,
                run: (0, 0),
                pace: Pace::new(now, taken.size, taken.duration_ms),
                history: VecDeque::from([0]),
                second: now.as_secs(),
            }
        });
        stream.roll(now);
        stream.last = now;
        stream.delivered += taken.bytes;
        if let Some(last) = stream.history.back_mut() {
            *last += taken.bytes;
        }
        stream.go_on(now, taken.position.saturating_sub(taken.bytes), taken.position)
    }

    /// Notes which resources devices have connections for now, and forgets the streams that are
    /// over.
    pub fn settle(&mut self, now: Moment, open: BTreeSet<(DeviceId, ResourceId)>) {
        self.open = open;
        let open = &self.open;
        self.streams.retain(|key, stream| {
            stream.roll(now);
            // What was played to its end is over at once.
            let ended = stream.size > 0 && stream.position >= stream.size;
            open.contains(key) || !ended && now.since(stream.last) < QUIET
        });
        self.ended.retain(|_, until| now < *until);
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.streams.len()
    }

    /// The devices to which they run.
    pub fn receiving(&self) -> BTreeSet<DeviceId> {
        self.streams.keys().map(|(device, _)| *device).collect()
    }

    /// All that run, the oldest first.
    pub fn running(&self, now: Moment) -> Vec<Running> {
        let mut all: Vec<Running> =
            self.streams.iter().map(|(k, s)| self.one(now, *k, s)).collect();
        all.sort_by_key(|s| s.id);
        all
    }

    fn one(&self, now: Moment, key: (DeviceId, ResourceId), stream: &Stream) -> Running {
        let mut stream = stream.clone();
        stream.roll(now);
        let whole = stream.history.len().saturating_sub(1);
        let history: Vec<u64> = stream.history.iter().take(whole).copied().collect();
        let recent = &history[history.len().saturating_sub(NOW)..];
        let rate = match recent.len() {
            // Not one second is over: what came so far.
            0 => stream.delivered,
            n => recent.iter().sum::<u64>() / n as u64,
        };
        let lasted = now.since(stream.since).as_millis().max(1000) as u64;
        Running {
            id: stream.id,
            device: key.0,
            resource: key.1,
            title: stream.title,
            kind: stream.kind,
            size: stream.size,
            duration_ms: stream.duration_ms,
            since: stream.since,
            delivered: stream.delivered,
            position: stream.position,
            rate,
            average: stream.delivered.saturating_mul(1000) / lasted,
            paused: rate == 0 && self.open.contains(&key),
            history,
        }
    }

    /// A person ends a stream. Gives the device and the resource, which is kept from it for
    /// [`KEPT_FROM`].
    pub fn end(&mut self, now: Moment, id: StreamId) -> Option<(DeviceId, ResourceId)> {
        let key = self.streams.iter().find(|(_, s)| s.id == id).map(|(key, _)| *key)?;
        self.streams.remove(&key);
        self.ended.insert(key, now + KEPT_FROM);
        Some(key)
    }

    /// Looks anew whether a device keeps playing what it plays now.
    pub fn watch_anew(&mut self, now: Moment, device: DeviceId) {
        let its = self.streams.iter_mut().filter(|((of, _), _)| *of == device);
        for (_, stream) in its {
            stream.pace = Pace::new(now, stream.size, stream.duration_ms);
            // Counted from here on.
            stream.run = (stream.position, stream.position);
        }
    }

    /// Ends all streams; nothing is kept from anybody.
    pub fn end_all(&mut self) {
        self.streams.clear();
    }

    /// How long a resource is still kept from a device, if it is.
    pub fn kept_from(
        &self,
        now: Moment,
        device: DeviceId,
        resource: ResourceId,
    ) -> Option<Duration> {
        let until = self.ended.get(&(device, resource))?;
        until.checked_since(now).filter(|left| !left.is_zero())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ids::FileId;
    use crate::resource::Form;

    const FILE: ResourceId = ResourceId { file: FileId(7), form: Form::Original };

    fn at(seconds: f64) -> Moment {
        Moment::after_epoch(Duration::from_secs_f64(seconds))
    }

    fn taken(device: u32, bytes: u64, position: u64) -> AcknowledgedBytes<'static> {
        AcknowledgedBytes {
            device: DeviceId(device),
            resource: FILE,
            title: "Harbour at dawn",
            kind: Kind::Video,
            size: 10_000,
            duration_ms: Some(60_000),
            bytes,
            position,
        }
    }

    #[test]
    fn ranges_of_one_player_are_one_stream_and_rates_add_up() {
        let mut book = StreamBook::default();
        for n in 0..40u32 {
            book.take(at(100.0 + f64::from(n) * 0.25), &taken(1, 100, 100 * u64::from(n)));
            book.settle(at(100.0 + f64::from(n) * 0.25), BTreeSet::from([(DeviceId(1), FILE)]));
        }
        book.take(at(105.0), &taken(2, 5, 5));
        let all = book.running(at(110.0));
        assert_eq!(all.len(), 2);
        let first = &all[0];
        assert_eq!((first.delivered, first.position, first.since), (4000, 3900, at(100.0)));
        assert_eq!((first.rate, first.average, first.paused), (400, 400, false));
        assert_eq!(first.history, [400; 10]);
    }

    #[test]
    fn a_look_at_the_index_is_no_position_and_what_ended_is_over() {
        let mut book = StreamBook::default();
        book.take(at(10.0), &taken(1, 100, 100));
        book.take(at(10.1), &taken(1, 150, 10_000));
        assert_eq!(book.running(at(10.2))[0].position, 100);
        book.take(at(10.3), &taken(1, 900, 5_900));
        assert_eq!(book.running(at(10.4))[0].position, 5_900, "it was skipped to");
        book.take(at(11.0), &taken(1, 4_100, 10_000));
        assert_eq!(book.running(at(11.1))[0].position, 10_000);
        book.settle(at(11.1), BTreeSet::new());
        assert!(book.running(at(11.2)).is_empty());
    }

    #[test]
    fn a_pause_shows_and_a_stream_ends_when_nobody_is_connected() {
        let mut book = StreamBook::default();
        book.take(at(10.0), &taken(1, 1000, 1000));
        book.settle(at(30.0), BTreeSet::from([(DeviceId(1), FILE)]));
        let all = book.running(at(30.0));
        assert!(all[0].paused && all[0].rate == 0 && all[0].history.len() == 20, "{all:?}");
        book.settle(at(31.0), BTreeSet::new());
        assert_eq!(book.count(), 0);
        book.take(at(40.0), &taken(1, 10, 10));
        book.settle(at(45.0), BTreeSet::new());
        assert_eq!(book.count(), 1, "between two requests it goes on");
        assert!(!book.running(at(45.0))[0].paused, "without a connection nothing pauses");
        assert_ne!(book.running(at(45.0))[0].id, all[0].id, "numbers are not used again");
        book.settle(at(49.999), BTreeSet::new());
        assert_eq!(book.count(), 1);
        book.settle(at(50.0), BTreeSet::new());
        assert_eq!(book.count(), 0, "ten seconds without a byte end it");
    }

    #[test]
    fn an_ended_stream_does_not_come_back_at_once() {
        let mut book = StreamBook::default();
        book.take(at(10.0), &taken(1, 1000, 1000));
        let id = book.running(at(10.0))[0].id;
        assert_eq!(book.end(at(11.0), id), Some((DeviceId(1), FILE)));
        assert_eq!(book.end(at(11.0), id), None);
        book.settle(at(12.0), BTreeSet::new());
        assert_eq!(book.kept_from(at(12.0), DeviceId(1), FILE), Some(Duration::from_secs(59)));
        assert_eq!(book.kept_from(at(12.0), DeviceId(2), FILE), None);
        assert_eq!(book.kept_from(at(71.0), DeviceId(1), FILE), None);
    }

    #[test]
    fn history_is_bounded() {
        let mut book = StreamBook::default();
        book.take(at(1.0), &taken(1, 1, 1));
        book.settle(at(1e7), BTreeSet::from([(DeviceId(1), FILE)]));
        assert_eq!(book.running(at(1e7))[0].history.len(), HISTORY - 1, "the last is not over");
    }
}
