//! A resource: what one `res` element offers and one URL of ours answers.

use mostra_protocol::model::dlna::ProtocolInfo;

use crate::profile::Rendition;

/// Where the bytes of a resource come from. A new way of making bytes is one more of these, with
/// its protocolInfo and length in [`present::resource`](crate::present::resource).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Source {
    /// The file as it is on disk.
    File,
    /// A picture made from the item, or a smaller form of it.
    Picture(Rendition),
    /// Subtitles beside the file.
    Captions {
        /// Which of the files beside it.
        number: usize,
        /// Whether they are sent as WebVTT, and not as SubRip.
        webvtt: bool,
    },
    /// A broadcast that is passed on.
    Station {
        /// Where it comes from.
        address: String,
    },
}

/// How many bytes a resource has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Length {
    /// So many.
    Known(u64),
    /// About so many: told to nobody as a fact (HTTP-35).
    Estimated(u64),
    /// It goes on as long as it goes on.
    Unknown,
}

impl Length {
    /// The number, if it is one to rely on.
    pub fn known(self) -> Option<u64> {
        match self {
            Length::Known(bytes) => Some(bytes),
            Length::Estimated(_) | Length::Unknown => None,
        }
    }
}

/// A resource of an item, for one device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Resource {
    /// Where its bytes come from.
    pub source: Source,
    /// What it is and how it may be fetched, as listed and as sent (HTTP-2, HTTP-17).
    pub info: ProtocolInfo,
    /// How many bytes it has, as far as the catalogue knows.
    pub length: Length,
    /// How long it plays, in milliseconds.
    pub duration_ms: Option<u64>,
}
