//! What is known of a file.

use serde::{Deserialize, Serialize};

use crate::Kind;

/// What was read from a file. What is unknown is `None`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Facts {
    /// Its kind.
    pub kind: Kind,
    /// How its bytes are laid out.
    pub format: Format,
    /// Bytes.
    pub size: u64,
    /// Last modification, Unix time in milliseconds.
    pub modified_ms: i64,
    /// The title inside the file.
    pub title: Option<String>,
    /// The artist inside the file.
    pub artist: Option<String>,
    /// The album inside the file.
    pub album: Option<String>,
    /// Date taken or released, ISO 8601.
    pub date: Option<String>,
    /// Milliseconds.
    pub duration_ms: Option<u64>,
    /// Width and height in pixels.
    pub resolution: Option<(u32, u32)>,
    /// **Bits** a second, all streams.
    pub bit_rate: Option<u32>,
    /// The picture's codec.
    pub video: Option<VideoCodec>,
    /// The sound's codec.
    pub audio: Option<AudioCodec>,
    /// First byte of media data and the first byte after it: what lies outside is header and
    /// index, which a device reads without playing.
    pub media: Option<(u64, u64)>,
}

/// A file format that we know.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Format {
    /// MP4 with a picture.
    Mp4,
    /// MPEG audio layer 3.
    Mp3,
    /// JPEG, baseline.
    Jpeg,
    /// JPEG in a form that old devices do not read: progressive, four colours, 12 bits.
    JpegOther,
}

impl Format {
    /// The MIME type in `res` and Content-Type.
    pub fn mime(self) -> &'static str {
        match self {
            Format::Mp4 => "video/mp4",
            Format::Mp3 => "audio/mpeg",
            Format::Jpeg | Format::JpegOther => "image/jpeg",
        }
    }

    /// The usual extension, with which URLs end (CDS-23).
    pub fn extension(self) -> &'static str {
        match self {
            Format::Mp4 => "mp4",
            Format::Mp3 => "mp3",
            Format::Jpeg | Format::JpegOther => "jpg",
        }
    }
}

/// A picture's codec.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct VideoCodec {
    /// `h264`, `hevc`, or the container's four-character code.
    pub name: String,
    /// The codec's own number for its profile (H.264: 66 baseline, 77 main, 100 high).
    pub profile: Option<u8>,
    /// Ten times the level (H.264 level 3.1 is 31).
    pub level: Option<u8>,
}

/// A sound's codec.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AudioCodec {
    /// `aac-lc`, `mp3`, or the container's four-character code.
    pub name: String,
    /// Hertz.
    pub sample_rate: Option<u32>,
    /// Channels.
    pub channels: Option<u32>,
}

impl Facts {
    /// Facts of a file of which only the bytes' layout is known.
    pub fn bare(kind: Kind, format: Format, size: u64, modified_ms: i64) -> Facts {
        Facts {
            kind,
            format,
            size,
            modified_ms,
            title: None,
            artist: None,
            album: None,
            date: None,
            duration_ms: None,
            resolution: None,
            bit_rate: None,
            video: None,
            audio: None,
            media: None,
        }
    }

    /// The part of the file that holds media data, as (first byte, first byte after).
    pub fn media_span(&self) -> (u64, u64) {
        match self.media {
            Some((from, to)) if from < to && to <= self.size => (from, to),
            _ => (0, self.size),
        }
    }
}
