use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A stream that runs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Stream {
    /// Its number.
    pub id: u32,
    /// The device's number.
    pub device: u32,
    /// The device's name.
    pub label: String,
    /// The item's title.
    pub title: String,
    /// `video`, `music` or `picture`.
    pub kind: String,
    /// When it began.
    pub since_ms: u64,
    /// Bytes acknowledged in all.
    pub delivered: u64,
    /// The place in the file that it has come to.
    pub position: u64,
    /// The file's bytes.
    pub size: u64,
    /// Milliseconds that the item plays.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub duration_ms: Option<u64>,
    /// Bytes a second over the last three seconds.
    pub rate: u64,
    /// Bytes a second since it began.
    pub average: u64,
    /// Whether it is connected but takes nothing.
    pub paused: bool,
    /// Bytes by second, the newest last.
    pub history: Vec<u64>,
}

/// How busy the host is, in percent by second, the newest last.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct HostLoad {
    /// All processors together.
    pub processor: Vec<f32>,
    /// The busiest disk.
    pub disk: Vec<f32>,
}

/// Something that plays in the console's own player.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConsolePlaying {
    /// Whose player it is.
    pub account: String,
    /// The item's title.
    pub title: String,
    /// `video` or `music`.
    pub kind: String,
    /// Since when.
    pub since_ms: u64,
}

/// What plays in the console's own player.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NowPlaying {
    /// The item's object id.
    pub object: String,
}

/// All streams, and the host beside them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StreamList {
    /// The oldest first.
    pub streams: Vec<Stream>,
    /// What plays in the console, which is no stream to a device.
    #[serde(default)]
    pub console: Vec<ConsolePlaying>,
    /// How busy the host is.
    pub host: HostLoad,
}
