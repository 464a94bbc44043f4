use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An audio or subtitle track.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Track {
    /// Its codec, or the form of a subtitle.
    pub codec: String,
    /// Its language, as the file names it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub language: Option<String>,
    /// Channels of sound.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub channels: Option<u32>,
    /// Hertz.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sample_rate: Option<u32>,
    /// Bits a sample.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bits: Option<u8>,
    /// The subtitle file's name, when it lies beside the film.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file_name: Option<String>,
}

/// Facts of an item; what is unknown is left out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ObjectFacts {
    /// `video`, `music` or `picture`.
    pub kind: String,
    /// MIME type.
    pub mime: String,
    /// Bytes; 0 of a station.
    pub size: u64,
    /// Name on disk.
    pub file_name: String,
    /// The address of a station, which is no file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub station: Option<String>,
    /// Artists.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub artists: Vec<String>,
    /// Artist of the album.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub album_artist: Option<String>,
    /// Album.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub album: Option<String>,
    /// Number of the track on its disc.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub track: Option<u16>,
    /// Number of the disc.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disc: Option<u16>,
    /// Genres.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub genres: Vec<String>,
    /// Composers.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub composers: Vec<String>,
    /// Series, season and number, of an episode.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub episode: Option<String>,
    /// Date taken or released.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub date: Option<String>,
    /// Milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub duration_ms: Option<u64>,
    /// `WxH`, upright.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub resolution: Option<String>,
    /// The camera.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub camera: Option<String>,
    /// Pictures a second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub frame_rate: Option<String>,
    /// Bits a second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bit_rate: Option<u32>,
    /// The picture's codec, with profile and level where known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub video_codec: Option<String>,
    /// Audio tracks.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub audio: Vec<Track>,
    /// Subtitles, inside the file and beside it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub subtitles: Vec<Track>,
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
    /// The title of the container around it, of a list or folder that was found by words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub within: Option<String>,
    /// Its `upnp:class`.
    pub class: String,
    /// The original's id, when this is another appearance of an item.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub original: Option<String>,
    /// Children, for a container.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub children: Option<u32>,
    /// Items at any depth, for a container.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub items: Option<u32>,
    /// The artist, of an album.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub artist: Option<String>,
    /// Where its picture is, below the interface's root, up to the size: `tn`, `sm` or `med`
    /// follows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub art: Option<String>,
    /// Facts, for an item.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub facts: Option<ObjectFacts>,
    /// Where the person stopped in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position: Option<Position>,
}

/// A page of a container, or of what was found in it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CataloguePage {
    /// The containers from the root to this one, this one last.
    pub path: Vec<CatalogueObject>,
    /// The objects asked for.
    pub objects: Vec<CatalogueObject>,
    /// The first object's place in the whole list.
    pub start: u32,
    /// Objects in all.
    pub total: u32,
    /// Whether a folder is still being scanned, so that more may come.
    pub incomplete: bool,
    /// Of what was found by words: the groups in which it stands, one after the other.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<FoundGroup>,
}

/// A sort of thing that was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FoundGroup {
    /// `artists`, `albums`, `lists`, `folders`, `films`, `music` or `pictures`.
    pub group: String,
    /// How many there are of it, on all pages.
    pub count: u32,
}

/// Where somebody stopped in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Position {
    /// Milliseconds from the beginning.
    pub position_ms: u64,
    /// Whether it counts as seen.
    pub seen: bool,
}

/// Files to go on with, the newest first.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Continued {
    /// The items, each with its position.
    pub objects: Vec<CatalogueObject>,
}
