use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A term of the field.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Explanation {
    /// The term.
    pub term: String,
    /// What it means, as one sentence.
    pub means: String,
}

/// Where people find things on a kind of device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DeviceDirections {
    /// The kind.
    pub device_kind: String,
    /// Where it keeps its network media.
    pub media: String,
    /// Where its hardware address is written.
    pub hardware: String,
    /// What makes it search again.
    pub again: String,
}
