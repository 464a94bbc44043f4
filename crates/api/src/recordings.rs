use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// For how long a device's conversation is to be recorded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRecording {
    /// Minutes, 120 at most.
    pub minutes: u32,
}

/// A recorded conversation of a device with this house.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Recording {
    /// Its name.
    pub name: String,
    /// When it was begun.
    pub from_ms: u64,
    /// Until when it goes on; left out where it ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until_ms: Option<u64>,
    /// Its bytes so far.
    pub bytes: u64,
}

/// What was said, a page of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Conversation {
    /// What the device was called.
    pub device: String,
    /// What this house was called.
    pub server: String,
    /// When it was begun.
    pub from_ms: u64,
    /// What was said, in order.
    pub entries: Vec<ConversationEntry>,
    /// Whether more follows.
    pub more: bool,
}

/// A datagram, or a request with its answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConversationEntry {
    /// Its place, from 0.
    pub number: u64,
    /// When.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_ms: Option<u64>,
    /// Whether the device said it.
    pub by_device: bool,
    /// What was said, in words.
    pub said: String,
    /// What came back, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answered: Option<String>,
    /// Whether what came back is no success.
    pub failed: bool,
    /// What was said, as it was sent.
    pub raw: String,
    /// What came back, as it was sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub raw_answer: Option<String>,
}
