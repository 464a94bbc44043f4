//! A resource: what one `res` element offers and one URL of ours answers.

use mostra_protocol::model::dlna::ProtocolInfo;
use serde::{Deserialize, Serialize};

use crate::ids::FileId;
use crate::profile::Rendition;
use crate::samples::Samples;

/// One resource of the catalogue, by which streams and proof tell apart what a device receives.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct ResourceId {
    /// The file that it is, or is made of.
    pub file: FileId,
    /// What is made of it.
    #[serde(default, skip_serializing_if = "Form::is_original")]
    pub form: Form,
}

impl ResourceId {
    /// That of a file as it is.
    pub fn original(file: FileId) -> ResourceId {
        ResourceId { file, form: Form::Original }
    }
}

/// What a resource is made of a file. Two forms of one file differ in their bytes.
#[derive(
    Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize,
)]
#[serde(rename_all = "kebab-case")]
pub enum Form {
    /// Nothing: it is the file, or the station.
    #[default]
    Original,
    /// A picture.
    Picture(Rendition),
    /// Samples without a header.
    Samples,
    /// Subtitles.
    Captions {
        /// Which of the files beside it.
        number: usize,
        /// Whether as WebVTT.
        webvtt: bool,
    },
}

impl Form {
    fn is_original(&self) -> bool {
        *self == Form::Original
    }
}

/// Where the bytes of a resource come from. A new way of making bytes is one more of these, with
/// its protocolInfo and length in [`present::resource`](crate::present::resource).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Source {
    /// The file as it is on disk.
    File,
    /// A picture made from the item, or a smaller form of it.
    Picture(Rendition),
    /// The samples in the file, without its header.
    Samples(Samples),
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

impl Source {
    /// What it makes of the file.
    pub fn form(&self) -> Form {
        match self {
            Source::File | Source::Station { .. } => Form::Original,
            Source::Picture(rendition) => Form::Picture(*rendition),
            Source::Samples(_) => Form::Samples,
            Source::Captions { number, webvtt } => {
                Form::Captions { number: *number, webvtt: *webvtt }
            }
        }
    }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_original_is_written_as_before_there_were_forms() {
        let original = ResourceId::original(FileId(7));
        let picture = ResourceId { form: Form::Picture(Rendition::Small), ..original };
        assert_eq!(serde_json::to_string(&original).unwrap(), r#"{"file":7}"#);
        for id in [original, picture] {
            let text = serde_json::to_string(&id).unwrap();
            assert_eq!(serde_json::from_str::<ResourceId>(&text).unwrap(), id);
        }
    }
}
