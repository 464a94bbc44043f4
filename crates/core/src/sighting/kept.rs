//! What of the sightings is kept: put together as they come in, and thinned out as they age.

use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use mostra_protocol::Moment;

use super::{Act, Contact, Sighting};
use crate::ids::DeviceId;
use crate::proof::SITTING;

/// Runs of bytes that one sighting holds.
const RUNS: usize = 32;

impl Sighting {
    /// Takes in a later sighting of the same; gives it back if it is of something else, or is to
    /// stay by itself. What proves something is neither taken in nor takes in anything.
    fn absorb(&mut self, later: Sighting) -> Option<Sighting> {
        let same = (self.device, self.contact) == (later.device, later.contact);
        if !same || self.proves || later.proves {
            return Some(later);
        }
        match (&mut self.act, &later.act) {
            (
                Act::Took { resource, layout, runs, .. },
                Act::Took { resource: its, layout: other, runs: more, .. },
            ) if resource == its && layout == other && later.first.since(self.last) <= SITTING => {
                let mut joined = runs.clone();
                for run in more {
                    match joined.last_mut() {
                        // What goes on where the last one ended.
                        Some(last) if (last.0..=last.1).contains(&run.0) => {
                            last.1 = last.1.max(run.1);
                        }
                        _ => joined.push(*run),
                    }
                }
                if joined.len() > RUNS {
                    return Some(later);
                }
                *runs = joined;
            }
            (mine, its) if mine == its => {}
            _ => return Some(later),
        }
        self.last = self.last.max(later.last);
        self.times = self.times.saturating_add(later.times);
        None
    }

    /// What sightings must have in common to be put together.
    fn key(&self) -> (DeviceId, Contact, Act) {
        let act = match &self.act {
            Act::Took { resource, layout, .. } => {
                let (title, runs) = (String::new(), Vec::new());
                Act::Took { resource: *resource, title, layout: *layout, runs }
            }
            other => other.clone(),
        };
        (self.device, self.contact, act)
    }
}

/// What part of the room one device may take of it, at most.
const SHARE: usize = 16;

/// Puts together what comes in between two looks, in bounded room. One device takes at most a
/// sixteenth of it; once all of it is taken, who has least takes the place of who has most. So a
/// device that shouts loses its own sightings, and nobody else's.
#[derive(Debug)]
pub struct Coalescer {
    most: usize,
    sightings: Vec<Sighting>,
    by_key: HashMap<(DeviceId, Contact, Act), usize>,
    by_device: HashMap<DeviceId, usize>,
    dropped: u64,
}

impl Coalescer {
    /// With room for so many that differ.
    pub fn new(most: usize) -> Coalescer {
        Coalescer {
            most,
            sightings: Vec::new(),
            by_key: HashMap::new(),
            by_device: HashMap::new(),
            dropped: 0,
        }
    }

    /// Notes a sighting; what there is no room for is counted.
    pub fn note(&mut self, sighting: Sighting) {
        let key = sighting.key();
        let sighting = match self.by_key.get(&key) {
            Some(at) => match self.sightings[*at].absorb(sighting) {
                Some(apart) => apart,
                None => return,
            },
            None => sighting,
        };
        let own = self.by_device.get(&sighting.device).copied().unwrap_or(0);
        if own >= (self.most / SHARE).max(1) {
            self.dropped += u64::from(sighting.times);
            return;
        }
        let at = if self.sightings.len() < self.most {
            self.sightings.push(sighting.clone());
            self.sightings.len() - 1
        } else {
            let Some(at) = self.make_room(own) else {
                self.dropped += u64::from(sighting.times);
                return;
            };
            self.sightings[at] = sighting.clone();
            at
        };
        *self.by_device.entry(sighting.device).or_default() += 1;
        self.by_key.insert(key, at);
    }

    /// Drops the last sighting of the device that has most, if that is more than who asks has, and
    /// would have; gives its place.
    fn make_room(&mut self, own: usize) -> Option<usize> {
        let (loudest, count) = self.by_device.iter().max_by_key(|(_, count)| **count)?;
        let loudest = (*count > own + 1).then_some(*loudest)?;
        let at = self.sightings.iter().rposition(|sighting| sighting.device == loudest)?;
        let gone = &self.sightings[at];
        self.dropped += u64::from(gone.times);
        let key = gone.key();
        if self.by_key.get(&key) == Some(&at) {
            self.by_key.remove(&key);
        }
        *self.by_device.get_mut(&loudest)? -= 1;
        Some(at)
    }

    /// Takes all that came, in the order in which it began.
    pub fn take(&mut self) -> Vec<Sighting> {
        self.by_key.clear();
        self.by_device.clear();
        // What took another's place stands before what came earlier.
        self.sightings.sort_by_key(|sighting| sighting.first);
        std::mem::take(&mut self.sightings)
    }

    /// Whether anything came.
    pub fn is_empty(&self) -> bool {
        self.sightings.is_empty()
    }

    /// How many sightings found no room so far.
    pub fn dropped(&self) -> u64 {
        self.dropped
    }
}

/// How long what is not proof is kept in minutes, and then in days.
pub const IN_MINUTES: Duration = Duration::from_secs(24 * 3600);
/// How long what is not proof is kept at all.
pub const KEPT: Duration = Duration::from_secs(90 * 24 * 3600);
/// Sightings of one device that are kept beside its proof; of more, the oldest go.
pub const OF_DEVICE: usize = 10_000;

/// Thins out the sightings of one device, which are in the order in which they were made: what is
/// older than [`IN_MINUTES`] is put together by day, what is older than [`KEPT`] goes, and so do the
/// oldest beyond [`OF_DEVICE`]. Proof stays as it is, and what is kept proves what it proved before.
pub fn thin_out(sightings: Vec<Sighting>, now: Moment) -> Vec<Sighting> {
    let age = |sighting: &Sighting| now.since(sighting.last);
    let day = |sighting: &Sighting| sighting.first.as_secs() / 86_400;
    let mut kept: Vec<Sighting> = Vec::new();
    // The last sighting of each key; nothing is put together over a proof of the same key.
    let mut by_key: BTreeMap<u64, usize> = BTreeMap::new();
    let number = |key: &(DeviceId, Contact, Act)| {
        use std::hash::{DefaultHasher, Hash as _, Hasher as _};
        let mut hasher = DefaultHasher::new();
        key.hash(&mut hasher);
        hasher.finish()
    };
    for sighting in sightings {
        let key = number(&sighting.key());
        let before = by_key.get(&key).copied().filter(|at| {
            let before = &kept[*at];
            age(&sighting) > IN_MINUTES && day(before) == day(&sighting)
        });
        let apart = match before {
            Some(at) => kept[at].absorb(sighting),
            None => Some(sighting),
        };
        if let Some(apart) = apart {
            by_key.insert(key, kept.len());
            kept.push(apart);
        }
    }
    let plain = kept.iter().filter(|sighting| !sighting.proves).count();
    let mut beyond = plain.saturating_sub(OF_DEVICE);
    // Bytes of sightings that go, until the next sighting of the same sitting takes them over.
    let mut taken: BTreeMap<u64, (Vec<(u64, u64)>, Moment)> = BTreeMap::new();
    kept.retain_mut(|sighting| {
        let key = number(&sighting.key());
        let goes = !sighting.proves && (beyond > 0 || age(sighting) > KEPT);
        beyond -= usize::from(goes && beyond > 0);
        if let Act::Took { runs, .. } = &mut sighting.act {
            let before =
                taken.remove(&key).filter(|(_, last)| sighting.first.since(*last) <= SITTING);
            // Proof holds already what was taken before it.
            if let Some((before, _)) = before.filter(|_| !sighting.proves) {
                runs.splice(0..0, before);
            }
            if goes {
                taken.insert(key, (joined(runs), sighting.last));
            }
        }
        !goes
    });
    kept
}

/// The same bytes in as few runs as possible, in order.
fn joined(runs: &[(u64, u64)]) -> Vec<(u64, u64)> {
    let mut sorted = runs.to_vec();
    sorted.sort_unstable();
    let mut joined: Vec<(u64, u64)> = Vec::new();
    for (from, to) in sorted {
        match joined.last_mut() {
            Some(last) if from <= last.1 => last.1 = last.1.max(to),
            _ => joined.push((from, to)),
        }
    }
    joined
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ids::FileId;
    use crate::playback::Layout;
    use crate::proof::ProofState;
    use crate::resource::ResourceId;
    use crate::sighting::Attempt;
    use crate::{Kind, Kinds};
    use proptest::prelude::*;
    use std::net::Ipv4Addr;

    const DEVICE: DeviceId = DeviceId(1);
    const CONTACT: Contact = Contact::Address(Ipv4Addr::new(192, 0, 2, 7));

    fn at(ms: u64) -> Moment {
        Moment::from_millis(ms)
    }

    fn sighting(ms: u64, act: Act) -> Sighting {
        Sighting::new(DEVICE, CONTACT, at(ms), act)
    }

    fn took(file: u32, from: u64, to: u64) -> Act {
        let kind = if file == 9 { Kind::Picture } else { Kind::Video };
        let layout = Layout { kind, span: (100, 10_100), needed: 1000 };
        Act::Took {
            resource: ResourceId::original(FileId(file)),
            title: "Harbour at dawn".into(),
            layout,
            runs: vec![(from, to)],
        }
    }

    #[test]
    fn a_flood_is_put_together_and_bounded() {
        let mut coalescer = Coalescer::new(160);
        for n in 0..100_000 {
            coalescer.note(sighting(n, Act::Connected));
        }
        for n in 0..100 {
            coalescer.note(sighting(n, Act::Refused { status: 400 + n as u16 }));
        }
        assert_eq!(coalescer.dropped(), 91);
        let all = coalescer.take();
        assert_eq!(all.len(), 10);
        assert_eq!((all[0].times, all[0].first, all[0].last), (100_000, at(0), at(99_999)));
        assert!(coalescer.is_empty() && coalescer.take().is_empty());
    }

    #[test]
    fn who_shouts_takes_no_room_from_others() {
        let mut coalescer = Coalescer::new(64);
        let of = |device, n: u16| {
            let act = Act::Refused { status: 400 + n };
            Sighting { device: DeviceId(device), ..sighting(1, act) }
        };
        for n in 0..1000_u16 {
            for device in 0..40 {
                coalescer.note(of(device, n));
            }
        }
        // There is no room left, and each of these finds one.
        (50..60).for_each(|device| coalescer.note(of(device, 0)));
        let all = coalescer.take();
        assert_eq!(all.len(), 64);
        for device in (0..40).chain(50..60) {
            let own = all.iter().filter(|sighting| sighting.device == DeviceId(device)).count();
            assert!((1..=4).contains(&own), "{own} of {device}");
        }
    }

    #[test]
    fn bytes_that_go_on_are_one_run_and_others_stay_in_their_order() {
        let mut coalescer = Coalescer::new(160);
        for (from, to) in [(0, 100), (100, 200), (5000, 5100), (150, 300)] {
            coalescer.note(sighting(1, took(7, from, to)));
        }
        let all = coalescer.take();
        let Act::Took { runs, .. } = &all[0].act else { panic!() };
        assert_eq!((all.len(), &runs[..]), (1, &[(0, 200), (5000, 5100), (150, 300)][..]));
    }

    #[test]
    fn what_is_old_is_thinned_out_and_proof_stays() {
        let now = at(200 * 86_400_000);
        let days_ago = |days: u64, n: u64| now.before(Duration::from_secs(days * 86_400 + 60 * n));
        let made = |moment: Moment, proves| Sighting {
            proves,
            ..Sighting::new(DEVICE, CONTACT, moment, Act::Connected)
        };
        let mut all = vec![made(days_ago(100, 0), true), made(days_ago(99, 0), false)];
        all.extend((0..50).rev().map(|n| made(days_ago(3, n), false)));
        all.extend((0..50).rev().map(|n| made(days_ago(0, n), false)));
        let kept = thin_out(all, now);
        assert!(kept[0].proves);
        let times: u32 = kept.iter().map(|sighting| sighting.times).sum();
        assert_eq!(times, 101, "all but the one of 99 days ago");
        // At most two days are touched three days ago.
        assert!(kept.len() <= 1 + 2 + 50, "{}", kept.len());
        let many = (0..OF_DEVICE as u64 + 70)
            .map(|n| made(days_ago(0, 1) + Duration::from_millis(n), false))
            .collect();
        assert_eq!(thin_out(many, now).len(), OF_DEVICE);
    }

    fn acts() -> impl Strategy<Value = Act> {
        let kinds =
            prop_oneof![Just(Kinds::NONE), Just(Kinds::of([Kind::Music])), Just(Kinds::ALL)];
        prop_oneof![
            Just(Act::Connected),
            Just(Act::Announced),
            Just(Act::Described),
            (1u8..4).prop_map(|n| {
                let target = format!("urn:schemas-upnp-org:device:MediaServer:{n}");
                Act::Searched { target }
            }),
            (any::<bool>(), 0u32..3, kinds).prop_map(|(root, items, kinds)| {
                let kinds = if items == 0 { Kinds::NONE } else { kinds };
                Act::Listed {
                    root,
                    items,
                    of: items,
                    kinds,
                    title: "Films".into(),
                    files: Vec::new(),
                }
            }),
            (prop_oneof![Just(7u32), Just(8), Just(9)], 0u64..11_000, 1u64..3_000)
                .prop_map(|(file, from, length)| took(file, from, from + length)),
            Just(Act::Denied { attempt: Attempt::Menu }),
            Just(Act::Refused { status: 404 }),
        ]
    }

    proptest! {
        /// What is kept proves what was known, to the millisecond, however it was put together
        /// and thinned out on the way.
        #[test]
        fn what_is_kept_proves_what_was_known(
            all in proptest::collection::vec((acts(), prop_oneof![9 => 0u64..40_000, 1 => 0u64..90_000_000]), 0..200),
            look in 1usize..20,
            days in 0u64..200,
        ) {
            let mut coalescer = Coalescer::new(16_000);
            let mut state = ProofState::default();
            let mut kept = Vec::new();
            let mut now = Moment::from_secs(1_767_225_600);
            for (n, (act, wait)) in all.into_iter().enumerate() {
                now += Duration::from_millis(wait);
                coalescer.note(Sighting::new(DEVICE, CONTACT, now, act));
                if n % look == 0 {
                    for mut sighting in coalescer.take() {
                        state.apply(&mut sighting);
                        kept.push(sighting);
                    }
                }
                if n % 50 == 49 {
                    kept = thin_out(kept, now);
                }
            }
            now += Duration::from_secs(days * 86_400);
            let mut kept = thin_out(kept, now);
            let mut told = ProofState::fold(&mut kept);
            told.rest(now);
            state.rest(now);
            prop_assert_eq!(told, state);
        }
    }
}
