use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Cause, Preflight, ProofStep};

/// What is handed over to the household.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Handover {
    /// The house's name.
    pub house: String,
    /// When this was written.
    pub at_ms: u64,
    /// The household's rule in three lines.
    pub rule: Vec<String>,
    /// This computer's name.
    pub host: String,
    /// Where devices reach the house.
    pub addresses: Vec<String>,
    /// Where the console is.
    pub console: String,
    /// The program's version.
    pub version: String,
    /// What happens to devices that ask for the first time.
    pub doorway: String,
    /// The published folders.
    pub folders: Vec<HandoverFolder>,
    /// The devices that somebody decided on.
    pub devices: Vec<HandoverDevice>,
    /// How the preflight came out.
    pub preflight: Preflight,
    /// Settings that are not as they come.
    pub settings: Vec<HandoverSetting>,
    /// When the last hand-over was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_ms: Option<u64>,
    /// What changed since then.
    pub changes: Vec<String>,
}

/// A folder, as it is handed over.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HandoverFolder {
    /// Its label.
    pub label: String,
    /// Where it is.
    pub path: String,
    /// Films in it.
    pub films: u32,
    /// Tracks in it.
    pub tracks: u32,
    /// Pictures in it.
    pub pictures: u32,
}

/// A device, as it is handed over.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HandoverDevice {
    /// Its number.
    pub device: u32,
    /// Its name.
    pub label: String,
    /// The room that it is in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub room: Option<String>,
    /// Its address.
    pub address: String,
    /// `admitted` or `refused`.
    pub standing: String,
    /// What it may see, in words.
    pub may_see: String,
    /// What is proven of it.
    pub proof: Vec<ProofStep>,
    /// When it was walked through.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub walked_ms: Option<u64>,
    /// What that came to, in a word; left out where it was not walked through.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub verdict: Option<String>,
    /// The same in a sentence.
    pub verdict_text: String,
    /// What does not play, and why.
    pub causes: Vec<Cause>,
    /// What changed since it was walked through.
    pub due_again: Vec<String>,
}

/// A setting that is not as it comes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HandoverSetting {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: String,
    /// What it is for.
    pub about: String,
}

/// What came of a house file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AppliedHouse {
    /// Whether it was applied; else this is the plan.
    pub applied: bool,
    /// What changes.
    pub changes: Vec<HouseChangePlan>,
    /// What could not be changed.
    pub failed: Vec<NotApplied>,
}

/// A change that a house file makes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HouseChangePlan {
    /// What it is about: `house doorway`, `folder Films`.
    pub what: String,
    /// What it is before; left out where it is new.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// What it is after.
    pub after: String,
}

/// A part of a house file that was not applied.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NotApplied {
    /// What it is about.
    pub what: String,
    /// Why.
    pub why: String,
}
