//! Sightings: everything that a device does or is refused. They are kept, put together where they
//! come in floods, and what is [proven](crate::proof) can be told from them again.

use std::collections::{BTreeMap, HashMap};
use std::fmt;
use std::net::Ipv4Addr;
use std::str::FromStr;
use std::time::Duration;

use mostra_protocol::Moment;
use mostra_protocol::model::text::{NAME, TITLE, tamed};
use serde::{Deserialize, Serialize};

use crate::device::Hardware;
use crate::ids::{DeviceId, FileId};
use crate::kind::Kinds;
use crate::playback::Layout;
use crate::proof::SITTING;

/// What a device that is not let in asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Attempt {
    /// The root menu.
    RootMenu,
    /// A menu.
    Menu,
    /// A menu that it does not see.
    HiddenMenu,
    /// A file, a picture or subtitles.
    File,
}

impl Attempt {
    /// All of them.
    pub const ALL: [Attempt; 4] =
        [Attempt::RootMenu, Attempt::Menu, Attempt::HiddenMenu, Attempt::File];

    /// The word for it in records.
    pub fn word(self) -> &'static str {
        match self {
            Attempt::RootMenu => "root-menu",
            Attempt::Menu => "menu",
            Attempt::HiddenMenu => "hidden-menu",
            Attempt::File => "file",
        }
    }

    /// Reads [`word`](Self::word).
    pub fn from_word(word: &str) -> Option<Attempt> {
        Attempt::ALL.into_iter().find(|attempt| attempt.word() == word)
    }
}

impl fmt::Display for Attempt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Attempt::RootMenu => "asked for the root menu",
            Attempt::Menu => "asked for a menu",
            Attempt::HiddenMenu => "asked for a menu it does not see",
            Attempt::File => "asked for a file",
        })
    }
}

/// What a device did, or what it was refused. Texts in it are those of the device or the catalogue.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Act {
    /// It searched for something that we are.
    Searched {
        /// For what.
        target: String,
    },
    /// It announced itself.
    Announced,
    /// It connected.
    Connected,
    /// The description was delivered to it.
    Described,
    /// A list was delivered to it.
    Listed {
        /// Whether it is the root.
        root: bool,
        /// Granted items in it.
        items: u32,
        /// Their kinds.
        kinds: Kinds,
        /// The container's title.
        title: String,
    },
    /// It acknowledged bytes of a file.
    Took {
        /// The file's serial.
        file: FileId,
        /// Its title.
        title: String,
        /// What it takes to play it.
        layout: Layout,
        /// The bytes, as first and first behind, in the order in which they were acknowledged.
        runs: Vec<(u64, u64)>,
    },
    /// An action was answered.
    Answered {
        /// Its name.
        action: String,
    },
    /// An action failed.
    Faulted {
        /// Its name.
        action: String,
        /// The fault's code.
        code: u16,
    },
    /// It asked for something and got nothing, as it is not let in.
    Denied {
        /// For what.
        attempt: Attempt,
    },
    /// A request was refused.
    Refused {
        /// The HTTP status.
        status: u16,
    },
    /// It subscribed to a service, or renewed that.
    Subscribed {
        /// The service, by its short name.
        service: String,
    },
    /// It ended a subscription.
    Unsubscribed {
        /// The service, by its short name.
        service: String,
    },
    /// It accepted an event.
    EventDelivered {
        /// The service, by its short name.
        service: String,
    },
    /// An event did not reach it.
    EventFailed {
        /// The service, by its short name.
        service: String,
    },
}

impl fmt::Display for Act {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Act::Searched { target } => write!(f, "searched for {target}"),
            Act::Announced => f.write_str("announced itself"),
            Act::Connected => f.write_str("connected"),
            Act::Described => f.write_str("took the description"),
            Act::Listed { root: true, .. } => f.write_str("opened the root menu"),
            Act::Listed { title, .. } => write!(f, "listed {title}"),
            Act::Took { title, runs, .. } => {
                let bytes: u64 = runs.iter().map(|(from, to)| to - from).sum();
                write!(f, "took {bytes} bytes of {title}")
            }
            Act::Answered { action } => write!(f, "called {action}"),
            Act::Faulted { action, code } => {
                write!(f, "called {action}, which failed with error {code}")
            }
            Act::Denied { attempt } => write!(f, "{attempt} and got nothing"),
            Act::Refused { status } => write!(f, "was answered with status {status}"),
            Act::Subscribed { service } => write!(f, "subscribed to {service}"),
            Act::Unsubscribed { service } => write!(f, "ended its subscription to {service}"),
            Act::EventDelivered { service } => write!(f, "accepted an event of {service}"),
            Act::EventFailed { service } => write!(f, "did not take an event of {service}"),
        }
    }
}

impl Act {
    /// Whether something failed or was refused.
    pub fn failed(&self) -> bool {
        matches!(
            self,
            Act::Faulted { .. }
                | Act::Denied { .. }
                | Act::Refused { .. }
                | Act::EventFailed { .. }
        )
    }

    /// The same with texts as they can be kept (SEC-12).
    fn tamed(self) -> Act {
        match self {
            Act::Searched { target } => Act::Searched { target: tamed(target, NAME) },
            Act::Answered { action } => Act::Answered { action: tamed(action, NAME) },
            Act::Faulted { action, code } => Act::Faulted { action: tamed(action, NAME), code },
            Act::Listed { root, items, kinds, title } => {
                Act::Listed { root, items, kinds, title: tamed(title, TITLE) }
            }
            Act::Took { file, title, layout, runs } => {
                Act::Took { file, title: tamed(title, TITLE), layout, runs }
            }
            other => other,
        }
    }
}

/// By what a device was told apart when it was sighted: its hardware address where the system knew
/// it, else its address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Contact {
    /// A hardware address.
    Hardware(Hardware),
    /// An address.
    Address(Ipv4Addr),
}

impl Contact {
    /// That of somebody at an address.
    pub fn of(address: Ipv4Addr, hardware: Option<Hardware>) -> Contact {
        hardware.map_or(Contact::Address(address), Contact::Hardware)
    }
}

impl fmt::Display for Contact {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Contact::Hardware(hardware) => hardware.fmt(f),
            Contact::Address(address) => address.fmt(f),
        }
    }
}

/// A text that is neither an address nor a hardware address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NoContact;

impl FromStr for Contact {
    type Err = NoContact;

    fn from_str(text: &str) -> Result<Contact, NoContact> {
        let address = text.trim().parse().map(Contact::Address);
        address.or_else(|_| text.parse().map(Contact::Hardware)).map_err(|_| NoContact)
    }
}

/// Something that a device did or was refused, once or several times.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sighting {
    /// The device.
    pub device: DeviceId,
    /// By what it was told apart.
    pub contact: Contact,
    /// When it did so first.
    pub first: Moment,
    /// When it did so last.
    pub last: Moment,
    /// How many times.
    pub times: u32,
    /// What.
    pub act: Act,
    /// Whether it is the proof of something, and is kept for as long as that.
    pub proves: bool,
}

/// Runs of bytes that one sighting holds.
const RUNS: usize = 32;

impl Sighting {
    /// Something that a device did now.
    pub fn new(device: DeviceId, contact: Contact, at: Moment, act: Act) -> Sighting {
        Sighting { device, contact, first: at, last: at, times: 1, act: act.tamed(), proves: false }
    }

    /// Takes in a later sighting of the same; gives it back if it is of something else, or is to
    /// stay by itself. What proves something is neither taken in nor takes in anything.
    fn absorb(&mut self, later: Sighting) -> Option<Sighting> {
        let same = (self.device, self.contact) == (later.device, later.contact);
        if !same || self.proves || later.proves {
            return Some(later);
        }
        match (&mut self.act, &later.act) {
            (
                Act::Took { file, layout, runs, .. },
                Act::Took { file: its, layout: other, runs: more, .. },
            ) if file == its && layout == other && later.first.since(self.last) <= SITTING => {
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
            Act::Took { file, layout, .. } => {
                Act::Took { file: *file, title: String::new(), layout: *layout, runs: Vec::new() }
            }
            other => other.clone(),
        };
        (self.device, self.contact, act)
    }
}

/// Puts together what comes in between two looks, in bounded room.
#[derive(Debug)]
pub struct Coalescer {
    most: usize,
    sightings: Vec<Sighting>,
    by_key: HashMap<(DeviceId, Contact, Act), usize>,
    dropped: u64,
}

impl Coalescer {
    /// With room for so many that differ.
    pub fn new(most: usize) -> Coalescer {
        Coalescer { most, sightings: Vec::new(), by_key: HashMap::new(), dropped: 0 }
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
        if self.sightings.len() >= self.most {
            self.dropped += u64::from(sighting.times);
            return;
        }
        self.by_key.insert(key, self.sightings.len());
        self.sightings.push(sighting);
    }

    /// Takes all that came, in the order in which it began.
    pub fn take(&mut self) -> Vec<Sighting> {
        self.by_key.clear();
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
    use crate::Kind;
    use crate::proof::ProofState;
    use proptest::prelude::*;

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
            file: FileId(file),
            title: "Harbour at dawn".into(),
            layout,
            runs: vec![(from, to)],
        }
    }

    #[test]
    fn a_flood_is_put_together_and_bounded() {
        let mut coalescer = Coalescer::new(10);
        for n in 0..100_000 {
            coalescer.note(sighting(n, Act::Connected));
        }
        for n in 0..100 {
            coalescer.note(sighting(n, Act::Searched { target: format!("urn:{n}") }));
        }
        assert_eq!(coalescer.dropped(), 91);
        let all = coalescer.take();
        assert_eq!(all.len(), 10);
        assert_eq!((all[0].times, all[0].first, all[0].last), (100_000, at(0), at(99_999)));
        assert!(coalescer.is_empty() && coalescer.take().is_empty());
    }

    #[test]
    fn bytes_that_go_on_are_one_run_and_others_stay_in_their_order() {
        let mut coalescer = Coalescer::new(10);
        for (from, to) in [(0, 100), (100, 200), (5000, 5100), (150, 300)] {
            coalescer.note(sighting(1, took(7, from, to)));
        }
        let all = coalescer.take();
        let Act::Took { runs, .. } = &all[0].act else { panic!() };
        assert_eq!((all.len(), &runs[..]), (1, &[(0, 200), (5000, 5100), (150, 300)][..]));
    }

    #[test]
    fn contacts_and_attempts_read_back() {
        for text in ["192.0.2.7", "02:00:00:00:00:01"] {
            assert_eq!(text.parse::<Contact>().unwrap().to_string(), text);
        }
        assert!("".parse::<Contact>().is_err() && "television".parse::<Contact>().is_err());
        assert!(Attempt::ALL.into_iter().all(|a| Attempt::from_word(a.word()) == Some(a)));
        assert_eq!(Attempt::from_word(""), None);
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
            (0u8..3).prop_map(|n| Act::Searched { target: format!("urn:{n}") }),
            (any::<bool>(), 0u32..3, kinds).prop_map(|(root, items, kinds)| {
                let kinds = if items == 0 { Kinds::NONE } else { kinds };
                Act::Listed { root, items, kinds, title: "Films".into() }
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
            let mut coalescer = Coalescer::new(1000);
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
