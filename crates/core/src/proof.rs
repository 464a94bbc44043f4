//! The proof ladder: what a device has really done, step by step.

use mostra_protocol::Moment;
use mostra_protocol::model::text::{NAME, TITLE, tamed};
use serde::{Deserialize, Serialize};

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
    /// It went to a later place and took as much again.
    SkippedAhead,
}

impl Step {
    /// All steps in order.
    pub const ALL: [Step; 6] =
        [Step::Seen, Step::Read, Step::Opened, Step::Listed, Step::Started, Step::SkippedAhead];

    /// The word for people.
    pub fn word(self) -> &'static str {
        match self {
            Step::Seen => "seen",
            Step::Read => "read",
            Step::Opened => "opened",
            Step::Listed => "listed",
            Step::Started => "started",
            Step::SkippedAhead => "skipped ahead",
        }
    }

    /// Reads [`word`](Self::word).
    pub fn from_word(word: &str) -> Option<Step> {
        Step::ALL.into_iter().find(|s| s.word() == word)
    }
}

/// The evidence for a step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proof {
    /// When it was confirmed.
    pub at: Moment,
    /// What the device did, in words for a person.
    pub what: String,
    /// The item's or container's title, where there is one.
    pub item: Option<String>,
    /// Bytes that the device acknowledged, where that is what proves it.
    pub bytes: Option<u64>,
}

/// The six steps of one device. A step is confirmed once and keeps its first proof.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Ladder {
    steps: [Option<Proof>; 6],
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
        *place = Some(Proof {
            what: tamed(proof.what, NAME),
            item: proof.item.map(|item| tamed(item, TITLE)),
            ..proof
        });
        true
    }

    /// The confirmed steps in order.
    pub fn confirmed(&self) -> impl Iterator<Item = (Step, &Proof)> {
        Step::ALL.into_iter().filter_map(|step| Some((step, self.proof(step)?)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    #[test]
    fn a_step_keeps_its_first_proof() {
        let proof = |s| Proof {
            at: Duration::from_secs(s),
            what: "searched".into(),
            item: None,
            bytes: None,
        };
        let mut ladder = Ladder::default();
        assert!(ladder.confirm(Step::Seen, proof(1)));
        assert!(!ladder.confirm(Step::Seen, proof(2)));
        assert_eq!(ladder.proof(Step::Seen).unwrap().at.as_secs(), 1);
        assert_eq!(ladder.confirmed().count(), 1);
    }

    #[test]
    fn what_a_device_sends_as_proof_is_bounded() {
        let long = "x".repeat(1 << 20);
        let proof = Proof { at: Duration::ZERO, what: long.clone(), item: Some(long), bytes: None };
        let mut ladder = Ladder::default();
        assert!(ladder.confirm(Step::Listed, proof));
        let kept = ladder.proof(Step::Listed).unwrap();
        assert!(kept.what.len() < 1000 && kept.item.as_ref().unwrap().len() < 2000);
        let (step, _) = ladder.confirmed().next().unwrap();
        assert_eq!(step, Step::Listed);
    }

    #[test]
    fn words_read_back() {
        assert!(Step::ALL.into_iter().all(|s| Step::from_word(s.word()) == Some(s)));
        assert_eq!(Step::SkippedAhead.word(), "skipped ahead");
        assert_eq!(Step::from_word("skipped"), None);
    }
}
