//! A walkthrough: the guided confirmation of one device. It notes what the device does from its
//! start on, ticks the steps by that, and beside a step that is not ticked it tells the likely
//! [cause](Cause).
//!
//! What it needs to know beside what the device does is handed in as [`Circumstances`].

mod cause;
mod circumstances;
mod diagnosis;
mod steps;
mod taking;

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use mostra_protocol::Moment;
use serde::{Deserialize, Serialize};

pub use cause::{Cause, RemedyPlace};
pub use circumstances::{Circumstances, Covers};
pub use steps::{Question, WalkthroughStep};
pub use taking::{Flow, SECONDS, Taking};

use crate::access::Standing;
use crate::ids::{DeviceId, FileId};
use crate::kind::{Kind, Kinds};
use crate::proof::{ProofState, Step};
use crate::sighting::{Act, Attempt, Sighting};
use crate::streaming::AcknowledgedBytes;

/// Pieces of which it is kept how they were taken.
const TAKINGS: usize = 40;
/// Titles of one kind that are counted.
const TITLES: usize = 100_000;
/// A device that skipped is to go on so soon.
pub const GOES_ON: Duration = Duration::from_secs(3);

/// The proof of a step, as it is kept with the walkthrough.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepProof {
    /// The step.
    pub step: WalkthroughStep,
    /// When, in milliseconds since the epoch.
    pub at_ms: u64,
    /// What the device did.
    pub evidence: String,
    /// The title, where there is one.
    pub item: Option<String>,
    /// Bytes that it acknowledged, where that is what proves it.
    pub bytes: Option<u64>,
}

impl StepProof {
    /// When.
    pub fn at(&self) -> Moment {
        Moment::from_millis(self.at_ms)
    }
}

/// How many times something was seen, and when last in milliseconds since the epoch.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
struct Tally {
    times: u32,
    last: u64,
}

impl Tally {
    fn note(&mut self, sighting: &Sighting) {
        self.times = self.times.saturating_add(sighting.times);
        self.last = self.last.max(sighting.last.as_millis());
    }

    fn any(self) -> bool {
        self.times > 0
    }
}

/// What is noted of a walkthrough, as it is recorded.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Noted {
    steps: Vec<StepProof>,
    said: BTreeMap<Question, bool>,
    covers: Covers,
    connected: Tally,
    described: Tally,
    denied: Tally,
    got: Tally,
    event_failed: Tally,
    /// Statuses other than for media come before the description was read.
    refused: Option<(u16, Tally)>,
    faulted: Option<(String, u16, Tally)>,
    /// Lists by kind, in the order of [`Kind::ALL`].
    listed: [Tally; 3],
    /// How many titles of each kind it was given.
    given: [u32; 3],
    /// How pieces were taken, the latest last.
    takings: Vec<Taking>,
    /// What was found to be the matter when it was finished.
    finding: Option<Cause>,
}

/// A walkthrough.
#[derive(Debug, Clone)]
pub struct Walkthrough {
    /// Its number.
    pub id: u32,
    /// The device.
    pub device: DeviceId,
    /// When it began.
    pub started: Moment,
    /// When it was finished.
    pub finished: Option<Moment>,
    /// What is noted.
    noted: Noted,
    /// What is proven since it began; anew after a restart of the house.
    proof: ProofState,
    /// The titles that it was given of each kind since then.
    titles: [BTreeSet<FileId>; 3],
}

/// How a step stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StepState {
    /// Done, with its proof.
    Done(StepProof),
    /// Not done; with the likely cause, once something can be told.
    Open(Option<Cause>),
    /// The house cannot try it yet.
    NotPossibleYet,
}

/// A step as it stands now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StepNow {
    /// The step.
    pub step: WalkthroughStep,
    /// How it stands.
    pub state: StepState,
    /// What to press; nothing once it is done.
    pub press: Option<String>,
    /// How many titles it was given, and how many there are, where it is about a list.
    pub counted: Option<(u32, u32)>,
}

/// What a walkthrough comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WalkthroughVerdict {
    /// Every step is done, and nobody says otherwise.
    Confirmed,
    /// It is refused and got nothing, as decided.
    KeptOut,
    /// Steps are open, and nothing speaks against them.
    Open,
    /// Something stops it.
    Fails(Cause),
}

impl WalkthroughVerdict {
    /// The word for it, such as `confirmed` or `too-slow`.
    pub fn word(&self) -> &'static str {
        match self {
            WalkthroughVerdict::Confirmed => "confirmed",
            WalkthroughVerdict::KeptOut => "kept-out",
            WalkthroughVerdict::Open => "open",
            WalkthroughVerdict::Fails(cause) => cause.word(),
        }
    }
}

/// A walkthrough as it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// The steps in order.
    pub steps: Vec<StepNow>,
    /// What else is the matter, beside what stops a step.
    pub remarks: Vec<Cause>,
    /// What only a person can say: asked of what was started, or answered already.
    pub questions: Vec<Question>,
    /// What it comes to.
    pub verdict: WalkthroughVerdict,
}

impl Walkthrough {
    /// Begins.
    pub fn start(id: u32, device: DeviceId, now: Moment, covers: Covers) -> Walkthrough {
        let noted = Noted { covers, ..Noted::default() };
        Walkthrough::recorded(id, device, now, None, noted)
    }

    /// One as it was recorded.
    pub fn recorded(
        id: u32,
        device: DeviceId,
        started: Moment,
        finished: Option<Moment>,
        noted: Noted,
    ) -> Walkthrough {
        let (proof, titles) = (ProofState::default(), Default::default());
        Walkthrough { id, device, started, finished, noted, proof, titles }
    }

    /// What is to be recorded.
    pub fn noted(&self) -> &Noted {
        &self.noted
    }

    /// What was proven, in the order in which it was.
    pub fn proofs(&self) -> &[StepProof] {
        &self.noted.steps
    }

    /// How pieces were taken, the latest last.
    pub fn takings(&self) -> &[Taking] {
        &self.noted.takings
    }

    /// What a person said.
    pub fn said(&self) -> &BTreeMap<Question, bool> {
        &self.noted.said
    }

    /// A person answers a question, or takes the answer back.
    pub fn say(&mut self, question: Question, answer: Option<bool>) {
        match answer {
            Some(answer) => self.noted.said.insert(question, answer),
            None => self.noted.said.remove(&question),
        };
    }

    /// Ends it, with what was found.
    pub fn finish(&mut self, now: Moment, circumstances: &Circumstances) {
        self.noted.finding = match self.report(now, circumstances).verdict {
            WalkthroughVerdict::Fails(cause) => Some(cause),
            _ => None,
        };
        self.finished = Some(now);
    }

    /// What was found when it was finished.
    pub fn finding(&self) -> Option<&Cause> {
        self.noted.finding.as_ref()
    }

    /// What changed since it began, so that its proof is due again.
    pub fn due_again(&self, now: &Covers) -> Vec<&'static str> {
        self.noted.covers.changed(now)
    }

    /// Notes what the device does; true if that ticks a step.
    pub fn note(&mut self, sighting: &Sighting) -> bool {
        if self.finished.is_some() || sighting.last < self.started {
            return false;
        }
        let noted = &mut self.noted;
        match &sighting.act {
            Act::Connected => noted.connected.note(sighting),
            Act::Described => noted.described.note(sighting),
            Act::Listed { items, kinds, files, .. } => {
                noted.got.note(sighting);
                if *items > 0 && !files.is_empty() {
                    for kind in kinds.iter() {
                        noted.listed[kind.index()].note(sighting);
                    }
                }
                for (file, kind) in files {
                    let titles = &mut self.titles[kind.index()];
                    if titles.len() < TITLES {
                        titles.insert(*file);
                    }
                    let given = &mut noted.given[kind.index()];
                    *given = (*given).max(titles.len() as u32);
                }
            }
            Act::Took { .. } | Act::Kept { .. } => noted.got.note(sighting),
            Act::Faulted { action, code } => {
                let faulted = noted.faulted.take().map(|(_, _, tally)| tally);
                let mut tally = faulted.unwrap_or_default();
                tally.note(sighting);
                noted.faulted = Some((action.clone(), *code, tally));
            }
            // Of one that is let in, these are menus and files that it does not see.
            Act::Denied { attempt: Attempt::HiddenMenu } => {}
            Act::Denied { .. } => noted.denied.note(sighting),
            Act::Refused { status } => {
                let mut tally = noted.refused.take().map(|(_, tally)| tally).unwrap_or_default();
                tally.note(sighting);
                noted.refused = Some((*status, tally));
            }
            Act::EventFailed { .. } => noted.event_failed.note(sighting),
            Act::Searched { .. }
            | Act::Announced
            | Act::Answered { .. }
            | Act::Subscribed { .. }
            | Act::Unsubscribed { .. }
            | Act::EventDelivered { .. } => {}
        }
        let is_denied = matches!(sighting.act, Act::Denied { .. });
        let mut counted = sighting.clone();
        if let Act::Listed { items, kinds, files, .. } = &mut counted.act
            && files.is_empty()
        {
            // That it lists the test pieces says nothing of what it is to list.
            (*items, *kinds) = (0, Kinds::NONE);
        }
        self.proof.apply(&mut counted);
        let before = self.noted.steps.len();
        self.tick_by_proof();
        if is_denied {
            self.tick(WalkthroughStep::Seen, sighting.last, "asked for something".to_owned());
            // Anybody can write an address into a search: it says nothing of the device itself.
            let evidence = match sighting.act {
                Act::Denied { attempt: Attempt::Search } => {
                    "a search from its address was not answered".to_owned()
                }
                _ => sighting.act.to_string(),
            };
            self.tick(WalkthroughStep::GotNothing, sighting.last, evidence);
        }
        self.noted.steps.len() > before
    }

    /// Notes bytes of a piece that the device took.
    pub fn take(&mut self, now: Moment, bytes: &AcknowledgedBytes<'_>, format: &str) {
        if self.finished.is_some() {
            return;
        }
        let takings = &mut self.noted.takings;
        let at = match takings.iter().position(|taking| taking.resource == bytes.resource) {
            Some(at) => at,
            None => {
                if takings.len() >= TAKINGS {
                    takings.remove(0);
                }
                takings.push(Taking::new(now, bytes, format));
                takings.len() - 1
            }
        };
        takings[at].take(now, bytes);
        // The latest last.
        let latest = takings.remove(at);
        takings.push(latest);
        // How soon it goes on is known only now.
        self.tick_by_proof();
    }

    fn proof_of(&self, step: WalkthroughStep) -> Option<&StepProof> {
        self.noted.steps.iter().find(|proof| proof.step == step)
    }

    fn tick(&mut self, step: WalkthroughStep, at: Moment, evidence: String) {
        if self.proof_of(step).is_none() {
            let (at_ms, item, bytes) = (at.as_millis(), None, None);
            self.noted.steps.push(StepProof { step, at_ms, evidence, item, bytes });
        }
    }

    /// Ticks what is proven by now.
    fn tick_by_proof(&mut self) {
        use WalkthroughStep::*;
        let of_device = [(Seen, Step::Seen), (Read, Step::Read), (Opened, Step::Opened)];
        for (step, proven) in of_device {
            if let Some(proof) = self.proof.ladder.proof(proven).cloned() {
                self.tick_as_proven(step, &proof, None);
            }
        }
        // Some keep the description, and the way to a menu, from an earlier visit.
        let listed = self.proof.ladder.proof(Step::Listed).map(|proof| proof.at);
        let opened = self.proof.ladder.proof(Step::Opened).map(|proof| proof.at);
        if let Some(at) = opened.or(listed) {
            self.tick(Seen, at, "asked for a menu".into());
            self.tick(Read, at, "knew the description from before".into());
        }
        if let Some(at) = listed {
            self.tick(Opened, at, "knew the way to a menu from before".into());
        }
        for kind in Kind::ALL {
            let of_kind = [
                (Listed(kind), Step::Listed),
                (Started(kind), Step::Started),
                (KeptPlaying(kind), Step::KeptPlaying),
                (SkippedAhead(kind), Step::SkippedAhead),
            ];
            for (step, proven) in of_kind {
                let Some(proof) = self.proof.of_kind(kind).proof(proven).cloned() else { continue };
                let mut evidence = None;
                if proven == Step::SkippedAhead {
                    let soon = self.went_on(kind).filter(|time| *time <= GOES_ON);
                    let Some(time) = soon else { continue };
                    let seconds = time.as_secs_f64();
                    evidence =
                        Some(format!("went to a later place and went on after {seconds:.1} s"));
                }
                self.tick_as_proven(step, &proof, evidence);
            }
        }
    }

    fn tick_as_proven(
        &mut self,
        step: WalkthroughStep,
        proof: &crate::proof::Proof,
        evidence: Option<String>,
    ) {
        if self.proof_of(step).is_some() {
            return;
        }
        let evidence = evidence.unwrap_or_else(|| proof.evidence.to_string());
        let (item, bytes) = (proof.item.clone(), proof.bytes);
        self.noted.steps.push(StepProof {
            step,
            at_ms: proof.at.as_millis(),
            evidence,
            item,
            bytes,
        });
    }

    /// How soon it went on after it went to another place in something of a kind, the soonest.
    fn went_on(&self, kind: Kind) -> Option<Duration> {
        let of_kind = self.noted.takings.iter().filter(|taking| taking.kind == kind);
        of_kind.filter_map(Taking::went_on).min()
    }

    /// How it stands now.
    pub fn report(&self, now: Moment, circumstances: &Circumstances) -> Report {
        let now = self.finished.unwrap_or(now);
        let steps = WalkthroughStep::of(circumstances);
        // The first step that is open is the one that something stops.
        let mut is_first = true;
        let steps: Vec<StepNow> = steps
            .into_iter()
            .map(|step| {
                let counted = match step {
                    WalkthroughStep::Listed(kind) => {
                        let at = kind.index();
                        Some((self.noted.given[at], circumstances.expected[at]))
                    }
                    _ => None,
                };
                if step.comes_with_control() {
                    let state = StepState::NotPossibleYet;
                    return StepNow { step, state, press: None, counted };
                }
                match self.proof_of(step) {
                    Some(proof) => {
                        let state = StepState::Done(proof.clone());
                        StepNow { step, state, press: None, counted }
                    }
                    None => {
                        let cause = self.cause(now, step, is_first, circumstances);
                        is_first = false;
                        let press = Some(self.press(step, circumstances));
                        StepNow { step, state: StepState::Open(cause), press, counted }
                    }
                }
            })
            .collect();
        let remarks = self.remarks(now, circumstances);
        let verdict = self.verdict(&steps, &remarks, circumstances);
        let is_asked = |question: &Question| {
            let started = WalkthroughStep::Started(question.kind());
            let mut of_kind = steps.iter().filter(|now| now.step == started);
            let answered = self.said().contains_key(question);
            of_kind.any(|now| answered || matches!(now.state, StepState::Done(_)))
        };
        let questions = Question::ALL.into_iter().filter(is_asked).collect();
        Report { steps, remarks, questions, verdict }
    }

    fn verdict(
        &self,
        steps: &[StepNow],
        remarks: &[Cause],
        circumstances: &Circumstances,
    ) -> WalkthroughVerdict {
        let stops = |cause: &&Cause| {
            !matches!(cause, Cause::ClockOff | Cause::SharedAddress | Cause::ListsPart { .. })
        };
        let open = steps.iter().filter_map(|step| match &step.state {
            StepState::Open(cause) => Some(cause.as_ref()),
            _ => None,
        });
        let of_step = open.clone().flatten().next();
        let remark = remarks.iter().find(stops);
        match (of_step, remark) {
            (_, Some(cause @ Cause::GotSomething)) => WalkthroughVerdict::Fails(cause.clone()),
            (Some(cause), _) | (None, Some(cause)) => WalkthroughVerdict::Fails(cause.clone()),
            (None, None) if open.count() > 0 => WalkthroughVerdict::Open,
            (None, None) if circumstances.standing == Standing::Admitted => {
                WalkthroughVerdict::Confirmed
            }
            (None, None) => WalkthroughVerdict::KeptOut,
        }
    }
}

#[cfg(test)]
mod tests;
