use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What stands in the way of devices finding, listing and playing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Preflight {
    /// When everything was looked at last; left out before the first time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub looked_ms: Option<u64>,
    /// The worst outcome: `ok`, `unknown`, `attention` or `stops you`.
    pub worst: String,
    /// The checks, in the order of the road that a device takes to the house.
    pub checks: Vec<PreflightCheck>,
}

/// One thing that was looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PreflightCheck {
    /// What it is, the same from run to run: `firewall`, `folder:3`.
    pub id: String,
    /// What it is, for people.
    pub title: String,
    /// `ok`, `unknown`, `attention` or `stops you`.
    pub outcome: String,
    /// What was measured.
    pub measured: String,
    /// Why it matters.
    pub why: String,
    /// What to do, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
    /// A command that does it, to copy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<String>,
}
