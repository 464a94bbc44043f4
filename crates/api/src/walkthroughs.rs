use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How the walkthroughs stand.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WalkthroughList {
    /// The latest walkthrough of each device that was walked through, the latest first.
    pub walkthroughs: Vec<WalkthroughSummary>,
    /// The test pieces.
    pub test_pieces: TestPieces,
}

/// A walkthrough in short.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WalkthroughSummary {
    /// The device's number.
    pub device: u32,
    /// The device's name to show.
    pub label: String,
    /// The walkthrough's number.
    pub number: u32,
    /// When it began.
    pub started_ms: u64,
    /// When it was finished; left out while it runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finished_ms: Option<u64>,
    /// `confirmed`, `kept-out`, `open`, or the word of the cause that stops it, such as `too-slow`.
    pub verdict: String,
    /// What it comes to, for people.
    pub verdict_text: String,
    /// How many steps are done.
    pub done: u32,
    /// How many steps there are that can be done.
    pub steps: u32,
    /// What changed since, so that its proof is due again: `grant`, `traits`, `folders` and so on.
    pub due_again: Vec<String>,
}

/// The test pieces.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TestPieces {
    /// How many are there.
    pub made: u32,
    /// How many there are to be; 0 where they are switched off.
    pub of: u32,
    /// The one that is being made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub making: Option<String>,
    /// Why some are missing, with what to do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
}

/// A walkthrough of a device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Walkthrough {
    /// It in short.
    pub summary: WalkthroughSummary,
    /// The device's standing.
    pub standing: String,
    /// The steps in order.
    pub steps: Vec<WalkthroughStep>,
    /// What else is the matter, beside what stops a step.
    pub remarks: Vec<Cause>,
    /// What only a person can say: asked of what was started, or answered already.
    pub questions: Vec<Question>,
    /// How pieces were taken, the latest last.
    pub takings: Vec<Taking>,
    /// The test pieces.
    pub test_pieces: TestPieces,
}

/// A step of a walkthrough.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WalkthroughStep {
    /// The step: `seen`, `read`, `opened`, `listed`, `started`, `kept playing`, `skipped ahead`, `got
    /// nothing`, and those of renderers.
    pub step: String,
    /// The kind of media that it is about.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// `done`, `open`, or `not-possible-yet`.
    pub state: String,
    /// What it proves, and what not.
    pub proves: String,
    /// When it was done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_ms: Option<u64>,
    /// What the device did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub evidence: Option<String>,
    /// The title of the item or container.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// Bytes that it acknowledged.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// Titles that it was given, of a list.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub given: Option<u32>,
    /// Titles that there are for it, of a list.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expected: Option<u32>,
    /// What to press, while it is open.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub press: Option<String>,
    /// The likely cause why it is open.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cause: Option<Cause>,
}

/// A likely cause.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Cause {
    /// The word for it, such as `too-slow`.
    pub cause: String,
    /// What was seen.
    pub seen: String,
    /// What to do.
    pub remedy: String,
    /// Where the remedy is: `preflight`, `device`, `folders`, `settings` or `on-the-device`.
    pub place: String,
}

/// What only a person can say.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Question {
    /// The word for it, such as `video-sound`.
    pub question: String,
    /// The kind of media that it is about.
    pub kind: String,
    /// The question as it is asked.
    pub asked: String,
    /// What was said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub said: Option<bool>,
}

/// What a person says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Answer {
    /// The question's word.
    pub question: String,
    /// Yes or no; left out: what was said is taken back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub said: Option<bool>,
}

/// How a device took a piece.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Taking {
    /// The piece's title.
    pub title: String,
    /// Its kind.
    pub kind: String,
    /// Its MIME type.
    pub format: String,
    /// What it needs, in bits a second, where it has a time of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub need: Option<u64>,
    /// What was taken, in bits a second.
    pub rate: u64,
    /// Whole seconds in which nothing came though the device can have had nothing left.
    pub stalls: u32,
    /// How many times it was begun.
    pub attempts: u32,
    /// Bytes by second since it was begun last, 300 seconds at most.
    pub seconds: Vec<u64>,
}

/// A walkthrough as it is recorded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EarlierWalkthrough {
    /// Its number.
    pub number: u32,
    /// When it began.
    pub started_ms: u64,
    /// When it was finished; left out while it runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finished_ms: Option<u64>,
    /// When a step was done last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_step_ms: Option<u64>,
    /// The steps that were done.
    pub done: Vec<String>,
    /// What was found to stop it when it was finished.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finding: Option<Cause>,
}
