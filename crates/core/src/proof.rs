//! Proof: what a device has really done, step by step. What it did and was refused is told by
//! [sightings](crate::sighting), and this is the one place that says what they prove.

use std::collections::{BTreeMap, HashMap};
use std::fmt;
use std::time::Duration;

use mostra_protocol::Moment;
use mostra_protocol::model::text::{NAME, TITLE, tamed};
use serde::{Deserialize, Serialize};

use crate::ids::FileId;
use crate::kind::{Kind, Kinds};
use crate::playback::{Layout, Playback};
use crate::resource::ResourceId;
use crate::sighting::{Act, Sighting};

/// A step of the ladder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// It searched, announced itself or connected.
    Seen,
    /// The description was delivered to it.
    Read,
    /// A Browse of the root was answered.
    Opened,
    /// An answer with at least one granted item was delivered.
    Listed,
    /// It took media data beyond what probes take.
    Started,
    /// It took bytes at the pace of the piece's own time for a while.
    KeptPlaying,
    /// It went to a later place and took as much again.
    SkippedAhead,
}

impl Step {
    /// All steps in order.
    pub const ALL: [Step; 7] = [
        Step::Seen,
        Step::Read,
        Step::Opened,
        Step::Listed,
        Step::Started,
        Step::KeptPlaying,
        Step::SkippedAhead,
    ];

    /// The steps of one kind, from *listed* on. A picture has no time of its own.
    pub fn of_kind(kind: Kind) -> impl Iterator<Item = Step> {
        let has = move |step: &Step| *step != Step::KeptPlaying || kind != Kind::Picture;
        Step::ALL.into_iter().filter(|step| *step >= Step::Listed).filter(has)
    }

    /// The word for people.
    pub fn word(self) -> &'static str {
        match self {
            Step::Seen => "seen",
            Step::Read => "read",
            Step::Opened => "opened",
            Step::Listed => "listed",
            Step::Started => "started",
            Step::KeptPlaying => "kept playing",
            Step::SkippedAhead => "skipped ahead",
        }
    }

    /// What it proves, and what it does not.
    pub fn proves(self) -> &'static str {
        match self {
            Step::Seen => {
                "It is on, and something of it reaches this host. Not that it finds the house."
            }
            Step::Read => {
                "It found the house and can reach it. Not that it shows the house to anybody."
            }
            Step::Opened => "It shows the house's menu. Not that it shows what is in it.",
            Step::Listed => "It took a list with titles. Not that it can play any of them.",
            Step::Started => {
                "It took more than a look at the file. Not that a picture or sound came: a program \
                 that copies files does that as well."
            }
            Step::KeptPlaying => {
                "It took the piece as fast as the piece plays, which only playing does. Not that \
                 picture and sound are good: that a person says."
            }
            Step::SkippedAhead => "It went to a later place and took as much again from there.",
        }
    }

    /// Reads [`word`](Self::word).
    pub fn from_word(word: &str) -> Option<Step> {
        Step::ALL.into_iter().find(|s| s.word() == word)
    }
}

/// What a device did that proves a step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Evidence {
    /// It searched for something.
    Searched(String),
    /// It announced itself.
    Announced,
    /// It connected to the device listener.
    Connected,
    /// It took the description.
    Description,
    /// It opened the root menu.
    RootMenu,
    /// It listed so many items.
    Items(u32),
    /// It listed so many items of a container that holds more entries, which it may take page by
    /// page.
    Page {
        /// Items in that answer.
        items: u32,
        /// Entries of the container.
        of: u32,
    },
    /// It started to play something of a kind.
    Played(Kind),
    /// It took so many seconds of it in the time that they play.
    KeptPace(u32),
    /// It went to a later place and played on.
    PlayedOn,
    /// Something that an earlier version put into words.
    Words(String),
}

impl fmt::Display for Evidence {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Evidence::Searched(target) => write!(f, "searched for {target}"),
            Evidence::Announced => f.write_str("announced itself"),
            Evidence::Connected => f.write_str("connected to the device listener"),
            Evidence::Description => f.write_str("took the description"),
            Evidence::RootMenu => f.write_str("opened the root menu"),
            Evidence::Items(1) => f.write_str("listed 1 item"),
            Evidence::Items(items) => write!(f, "listed {items} items"),
            Evidence::Page { items, of } => write!(f, "listed {items} of {of} entries at once"),
            Evidence::Played(kind) => write!(f, "started {}", kind.word()),
            Evidence::KeptPace(seconds) => {
                write!(f, "took {seconds} seconds of it in the time that they play")
            }
            Evidence::PlayedOn => f.write_str("went to a later place and played on"),
            Evidence::Words(words) => f.write_str(words),
        }
    }
}

/// The proof of a step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proof {
    /// When it was confirmed.
    pub at: Moment,
    /// What the device did.
    pub evidence: Evidence,
    /// The item's or container's title, where there is one.
    pub item: Option<String>,
    /// Bytes that the device acknowledged, where that is what proves it.
    pub bytes: Option<u64>,
}

/// The steps of one device. A step is confirmed once and keeps its first proof.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Ladder {
    steps: [Option<Proof>; 7],
}

impl Ladder {
    /// The proof of a step, if it is confirmed.
    pub fn proof(&self, step: Step) -> Option<&Proof> {
        self.steps[step as usize].as_ref()
    }

    /// Confirms a step; false if it was confirmed before.
    pub fn confirm(&mut self, step: Step, proof: Proof) -> bool {
        let place = &mut self.steps[step as usize];
        if place.is_some() {
            return false;
        }
        let evidence = match proof.evidence {
            Evidence::Searched(target) => Evidence::Searched(tamed(target, NAME)),
            Evidence::Words(words) => Evidence::Words(tamed(words, NAME)),
            other => other,
        };
        let item = proof.item.map(|item| tamed(item, TITLE));
        *place = Some(Proof { evidence, item, ..proof });
        true
    }

    /// The confirmed steps in order.
    pub fn confirmed(&self) -> impl Iterator<Item = (Step, &Proof)> {
        Step::ALL.into_iter().filter_map(|step| Some((step, self.proof(step)?)))
    }

    /// Takes over the proof of another record of the same device; of two for one step, the earlier
    /// one stays.
    pub fn merge(&mut self, other: Ladder) {
        for (place, other) in self.steps.iter_mut().zip(other.steps) {
            let earlier = match (&place, &other) {
                (Some(mine), Some(its)) => its.at < mine.at,
                (None, Some(_)) => true,
                _ => false,
            };
            if earlier {
                *place = other;
            }
        }
    }
}

/// What is proven of one file.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct FileProof {
    /// That it was started.
    pub started: Option<Proof>,
    /// That somebody skipped ahead in it.
    pub skipped: Option<Proof>,
}

/// Files of which proof is kept for one device; of more, the one goes that was played first.
pub const FILES: usize = 1000;
/// Resources that are being played of which it is known what has been taken.
const PLAYS: usize = 64;
/// Bytes of a resource count together if no longer than this lies between them.
pub const SITTING: Duration = Duration::from_secs(6 * 3600);

/// All that is proven of one device: of itself, of each kind and of each file.
#[derive(Debug, Clone, Default)]
pub struct ProofState {
    /// Its ladder.
    pub ladder: Ladder,
    /// Its ladder of each kind, in the order of [`Kind::ALL`], from *listed* on.
    pub kinds: [Ladder; 3],
    /// Its files, by serial.
    pub files: BTreeMap<FileId, FileProof>,
    /// What has been taken of resources, and when last.
    plays: HashMap<ResourceId, (Playback, Moment)>,
}

impl PartialEq for ProofState {
    /// Whether the same is proven.
    fn eq(&self, other: &ProofState) -> bool {
        (&self.ladder, &self.kinds, &self.files) == (&other.ladder, &other.kinds, &other.files)
    }
}

/// Which steps are confirmed, to be looked up quickly.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct ConfirmedSteps {
    device: u8,
    kinds: [u8; 3],
}

impl ConfirmedSteps {
    /// Whether an act, once it is delivered, confirms a step that is not.
    pub fn would_grow_by(self, act: &Act) -> bool {
        let open = |steps: u8, step: Step| steps & 1 << step as u8 == 0;
        match act {
            Act::Described => open(self.device, Step::Read),
            Act::Listed { root, items, kinds, .. } => {
                (*root && open(self.device, Step::Opened))
                    || (*items > 0 && open(self.device, Step::Listed))
                    || kinds.iter().any(|kind| open(self.kinds[kind.index()], Step::Listed))
            }
            _ => false,
        }
    }
}

impl ProofState {
    /// The ladder of one kind: what was listed, started and skipped in of it.
    pub fn of_kind(&self, kind: Kind) -> &Ladder {
        &self.kinds[kind as usize]
    }

    /// The kinds of which something was started.
    pub fn played(&self) -> Kinds {
        let started = |kind: &Kind| self.of_kind(*kind).proof(Step::Started).is_some();
        Kinds::of(Kind::ALL.into_iter().filter(started))
    }

    /// What these sightings prove, in the order in which they were made.
    pub fn fold<'a>(sightings: impl IntoIterator<Item = &'a mut Sighting>) -> ProofState {
        let mut state = ProofState::default();
        for sighting in sightings {
            state.apply(sighting);
        }
        state
    }

    /// Forgets the bytes of files of which nothing was taken for longer than [`SITTING`]; proof
    /// stays.
    pub fn rest(&mut self, now: Moment) {
        self.plays.retain(|_, (_, last)| now.since(*last) <= SITTING);
    }

    /// Which steps are confirmed.
    pub fn confirmed(&self) -> ConfirmedSteps {
        let bits = |ladder: &Ladder| ladder.confirmed().fold(0, |bits, (s, _)| bits | 1 << s as u8);
        ConfirmedSteps {
            device: bits(&self.ladder),
            kinds: [0, 1, 2].map(|at| bits(&self.kinds[at])),
        }
    }

    /// Notes a sighting; gives the steps of the device that it confirms. One that confirms
    /// anything is marked so and holds from then on all that proves it.
    pub fn apply(&mut self, sighting: &mut Sighting) -> Vec<Step> {
        let mut steps = Vec::new();
        let mut proves = false;
        let mut confirm = |ladder: &mut Ladder, step, proof: Proof, of_device: bool| {
            let new = ladder.confirm(step, proof);
            proves |= new;
            if new && of_device {
                steps.push(step);
            }
        };
        let at = sighting.first;
        let plain = |evidence| Proof { at, evidence, item: None, bytes: None };
        match &mut sighting.act {
            Act::Searched { target } => {
                let evidence = Evidence::Searched(target.clone());
                confirm(&mut self.ladder, Step::Seen, plain(evidence), true);
            }
            Act::Announced => {
                confirm(&mut self.ladder, Step::Seen, plain(Evidence::Announced), true);
            }
            Act::Connected => {
                confirm(&mut self.ladder, Step::Seen, plain(Evidence::Connected), true);
            }
            Act::Described => {
                confirm(&mut self.ladder, Step::Read, plain(Evidence::Description), true);
            }
            Act::Listed { root, items, of, kinds, title, .. } => {
                if *root {
                    confirm(&mut self.ladder, Step::Opened, plain(Evidence::RootMenu), true);
                }
                if *items > 0 {
                    let item = Some(title.clone());
                    let evidence = match of {
                        of if of > items => Evidence::Page { items: *items, of: *of },
                        _ => Evidence::Items(*items),
                    };
                    let proof = Proof { item, ..plain(evidence) };
                    confirm(&mut self.ladder, Step::Listed, proof.clone(), true);
                    for kind in kinds.iter() {
                        let ladder = &mut self.kinds[kind.index()];
                        confirm(ladder, Step::Listed, proof.clone(), false);
                    }
                }
            }
            Act::Took { resource, title, layout, runs } => {
                let times = (sighting.first, sighting.last);
                let playback = play(&mut self.plays, *resource, *layout, times);
                let before = playback.taken();
                let known = self.files.entry(resource.file).or_default();
                let of_kind = &mut self.kinds[layout.kind.index()];
                let steps_of_file = runs.iter().flat_map(|(from, to)| playback.deliver(*from, *to));
                for confirmed in steps_of_file {
                    let (of_file, evidence) = match confirmed.step {
                        Step::Started => (&mut known.started, Evidence::Played(layout.kind)),
                        _ => (&mut known.skipped, Evidence::PlayedOn),
                    };
                    // What was taken bit by bit was enough with the last of it.
                    let proof = Proof {
                        at: sighting.last,
                        evidence,
                        item: Some(title.clone()),
                        bytes: Some(confirmed.bytes),
                    };
                    proves |= of_file.is_none();
                    of_file.get_or_insert_with(|| proof.clone());
                    proves |= of_kind.confirm(confirmed.step, proof.clone());
                    if self.ladder.confirm(confirmed.step, proof) {
                        proves = true;
                        steps.push(confirmed.step);
                    }
                }
                if *known == FileProof::default() {
                    self.files.remove(&resource.file);
                }
                // Proof is kept longer than what else was taken before it.
                if proves {
                    runs.splice(0..0, before);
                }
            }
            Act::Kept { title, kind, seconds } => {
                let item = Some(title.clone());
                let proof = Proof { item, ..plain(Evidence::KeptPace(*seconds)) };
                confirm(&mut self.kinds[kind.index()], Step::KeptPlaying, proof.clone(), false);
                confirm(&mut self.ladder, Step::KeptPlaying, proof, true);
            }
            Act::Answered { .. }
            | Act::Faulted { .. }
            | Act::Denied { .. }
            | Act::Refused { .. }
            | Act::Subscribed { .. }
            | Act::Unsubscribed { .. }
            | Act::EventDelivered { .. }
            | Act::EventFailed { .. } => {}
        }
        sighting.proves |= proves;
        steps
    }

    /// Takes over what is proven by another record of the same device.
    pub fn merge(&mut self, other: ProofState) {
        self.ladder.merge(other.ladder);
        for (mine, its) in self.kinds.iter_mut().zip(other.kinds) {
            mine.merge(its);
        }
        for (file, its) in other.files {
            let mine = self.files.entry(file).or_default();
            for (mine, its) in [(&mut mine.started, its.started), (&mut mine.skipped, its.skipped)]
            {
                let earlier = match (&mine, &its) {
                    (Some(mine), Some(its)) => its.at < mine.at,
                    (None, Some(_)) => true,
                    _ => false,
                };
                if earlier {
                    *mine = its;
                }
            }
        }
    }

    /// Forgets the files that were played first, beyond [`FILES`]; gives which.
    pub fn forget_files(&mut self) -> Vec<FileId> {
        let mut by_age: Vec<(Moment, FileId)> = self
            .files
            .iter()
            .map(|(file, proof)| (proof.started.as_ref().map_or(Moment::EPOCH, |p| p.at), *file))
            .collect();
        by_age.sort_unstable();
        let beyond = by_age.len().saturating_sub(FILES);
        let gone: Vec<FileId> = by_age.into_iter().take(beyond).map(|(_, file)| file).collect();
        for file in &gone {
            self.files.remove(file);
            self.plays.retain(|resource, _| resource.file != *file);
        }
        gone
    }
}

/// What has been taken of a resource between two times; anew if its bytes are others than before, or if
/// nothing was taken of it for longer than [`SITTING`].
fn play(
    plays: &mut HashMap<ResourceId, (Playback, Moment)>,
    resource: ResourceId,
    layout: Layout,
    (first, last): (Moment, Moment),
) -> &mut Playback {
    if plays.len() >= PLAYS
        && !plays.contains_key(&resource)
        && let Some(oldest) = plays.iter().min_by_key(|(_, (_, last))| *last).map(|(id, _)| *id)
    {
        plays.remove(&oldest);
    }
    let (playback, before) = plays.entry(resource).or_insert_with(|| (Playback::new(layout), last));
    if playback.layout() != layout || first.since(*before) > SITTING {
        *playback = Playback::new(layout);
    }
    *before = last.max(*before);
    playback
}

#[cfg(test)]
mod tests {
    use super::*;

    fn proof(s: u64, evidence: Evidence) -> Proof {
        Proof { at: Moment::from_secs(s), evidence, item: None, bytes: None }
    }

    #[test]
    fn a_step_keeps_its_first_proof() {
        let mut ladder = Ladder::default();
        assert!(ladder.confirm(Step::Seen, proof(1, Evidence::Connected)));
        assert!(!ladder.confirm(Step::Seen, proof(2, Evidence::Connected)));
        assert_eq!(ladder.proof(Step::Seen).unwrap().at.as_secs(), 1);
        assert_eq!(ladder.confirmed().count(), 1);
    }

    #[test]
    fn keeping_to_the_time_of_a_piece_is_a_step_of_the_device_and_of_the_kind() {
        let mut state = ProofState::default();
        let act = Act::Kept { title: "Film".into(), kind: Kind::Video, seconds: 21 };
        let contact = crate::sighting::Contact::Address(std::net::Ipv4Addr::LOCALHOST);
        let mut sighting =
            Sighting::new(crate::ids::DeviceId(1), contact, Moment::from_secs(9), act);
        assert_eq!(state.apply(&mut sighting), [Step::KeptPlaying]);
        assert!(sighting.proves);
        let proof = state.of_kind(Kind::Video).proof(Step::KeptPlaying).unwrap();
        assert_eq!(proof.evidence.to_string(), "took 21 seconds of it in the time that they play");
        assert!(state.of_kind(Kind::Music).proof(Step::KeptPlaying).is_none());
        assert!(!Step::of_kind(Kind::Picture).any(|step| step == Step::KeptPlaying));
        assert!(Step::of_kind(Kind::Video).eq(Step::ALL[3..].iter().copied()));
    }

    #[test]
    fn what_a_device_sends_as_proof_is_bounded() {
        let long = "x".repeat(1 << 20);
        let evidence = Evidence::Searched(long.clone());
        let proof = Proof { item: Some(long), ..proof(0, evidence) };
        let mut ladder = Ladder::default();
        assert!(ladder.confirm(Step::Listed, proof));
        let kept = ladder.proof(Step::Listed).unwrap();
        let words = kept.evidence.to_string();
        assert!(words.len() < 1000 && kept.item.as_ref().unwrap().len() < 2000);
        let (step, _) = ladder.confirmed().next().unwrap();
        assert_eq!(step, Step::Listed);
    }

    #[test]
    fn of_two_records_the_earlier_proof_stays() {
        let mut ladder = Ladder::default();
        ladder.confirm(Step::Seen, proof(5, Evidence::Connected));
        ladder.confirm(Step::Read, proof(6, Evidence::Description));
        let mut other = Ladder::default();
        other.confirm(Step::Seen, proof(1, Evidence::Announced));
        other.confirm(Step::Read, proof(9, Evidence::Description));
        other.confirm(Step::Opened, proof(9, Evidence::RootMenu));
        ladder.merge(other);
        let at = |step| ladder.proof(step).map(|proof| proof.at.as_secs());
        assert_eq!([Step::Seen, Step::Read, Step::Opened].map(at), [Some(1), Some(6), Some(9)]);
    }

    #[test]
    fn words_read_back() {
        assert!(Step::ALL.into_iter().all(|s| Step::from_word(s.word()) == Some(s)));
        assert_eq!(Step::SkippedAhead.word(), "skipped ahead");
        assert_eq!(Step::from_word("skipped"), None);
        let told = [(1, "listed 1 item"), (3, "listed 3 items")];
        assert!(told.into_iter().all(|(n, words)| Evidence::Items(n).to_string() == words));
        let some = Evidence::Page { items: 4, of: 10 };
        assert_eq!(some.to_string(), "listed 4 of 10 entries at once");
    }
}
