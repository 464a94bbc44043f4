use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Facts of an item.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ObjectFacts {
    /// `video`, `music` or `picture`.
    pub kind: String,
    /// MIME type.
    pub mime: String,
    /// Bytes.
    pub size: u64,
    /// Name on disk.
    pub file_name: String,
    /// Artist.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub artist: Option<String>,
    /// Album.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub album: Option<String>,
    /// Date taken or released.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub date: Option<String>,
    /// Milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub duration_ms: Option<u64>,
    /// `WxH`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub resolution: Option<String>,
    /// Bits a second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bit_rate: Option<u32>,
    /// The picture's codec, with profile and level where known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub video_codec: Option<String>,
    /// The sound's codec.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audio_codec: Option<String>,
    /// The DLNA profile, where the file fits one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub profile: Option<String>,
}

/// A container or an item.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CatalogueObject {
    /// Its object id.
    pub id: String,
    /// The container around it.
    pub parent: String,
    /// Its title.
    pub title: String,
    /// Children, for a container.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub children: Option<u32>,
    /// Items at any depth, for a container.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub items: Option<u32>,
    /// Facts, for an item.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub facts: Option<ObjectFacts>,
}

/// A page of a container.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CataloguePage {
    /// The containers from the root to this one, this one last.
    pub path: Vec<CatalogueObject>,
    /// The children asked for.
    pub objects: Vec<CatalogueObject>,
    /// The first child's place in the whole list.
    pub start: u32,
    /// Children in all.
    pub total: u32,
}
