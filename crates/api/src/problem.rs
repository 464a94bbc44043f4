use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An error as a problem document (RFC 9457).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// A short name for this kind of problem, `about:blank` if the status says it all.
    #[serde(rename = "type")]
    pub kind: String,
    /// What happened, in a few words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// Why, in a sentence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    /// What to do next.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}
