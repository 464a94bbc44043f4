//! What reading the catalogue gives: objects, pages of them, and where a file is.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::Links;
use super::placement::ContainerKind;
use crate::Kind;
use crate::facts::Facts;
use crate::ids::{FileId, FolderId, UpdateId};

/// Where a file is on the host. Only [`Catalogue::locate`](super::Catalogue::locate) makes one, and that takes a pass.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Located {
    pub(super) root: String,
    pub(super) path: String,
    pub(super) links: Links,
}

impl Located {
    /// The folder's root; the real path must lie inside (SEC-13).
    pub fn root(&self) -> &str {
        &self.root
    }

    /// The file's path.
    pub fn path(&self) -> &str {
        &self.path
    }

    /// Another file in the same directory: a subtitle file, a cover.
    pub fn beside(&self, name: &str) -> Located {
        let around = self.path.rsplit_once('/').map_or("", |(around, _)| around);
        Located { path: format!("{around}/{name}"), ..self.clone() }
    }

    /// The path with the links on its way replaced by what the scan found them to lead to. It
    /// tells on which drive the file is without asking any drive.
    pub fn beyond_links(&self) -> PathBuf {
        let beneath = self.beneath();
        beneath.root.join(beneath.rest)
    }

    /// The directory beneath which it is opened, and nowhere else (SEC-13).
    pub fn beneath(&self) -> Beneath {
        let below = Path::new(&self.path).strip_prefix(&self.root).unwrap_or(Path::new(""));
        Beneath::of(Path::new(&self.root), &self.links, below)
    }
}

/// A directory beneath which something is opened: the published folder, or what a link that the scan
/// followed really leads to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Beneath {
    /// The directory; a file, where the link leads to one.
    pub root: PathBuf,
    /// Whether it is behind a link, and so must have no link in its own path any more.
    pub by_link: bool,
    /// What is opened, by its path below the directory; empty for the directory itself.
    pub rest: PathBuf,
}

impl Beneath {
    /// Of a path below a folder, by the last link on its way.
    pub fn of(root: &Path, links: &BTreeMap<String, String>, below: &Path) -> Beneath {
        let mut ways = below.ancestors().filter_map(|way| Some((way, way.to_str()?)));
        let Some((way, target)) = ways.find_map(|(way, text)| Some((way, links.get(text)?))) else {
            return Beneath { root: root.to_owned(), by_link: false, rest: below.to_owned() };
        };
        let rest = below.strip_prefix(way).unwrap_or(Path::new(""));
        Beneath { root: target.into(), by_link: true, rest: rest.to_owned() }
    }
}

/// An object as the holder of a pass sees it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Object {
    /// Its id.
    pub id: String,
    /// The id of the container around it; `-1` for the root.
    pub parent: String,
    /// Its title.
    pub title: String,
    /// What it is.
    pub node: Node,
}

/// An object in short.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Summary {
    /// Its title.
    pub title: String,
    /// Whether it is a container.
    pub is_container: bool,
}

/// What an object is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Node {
    /// A container, with as many children as the pass covers.
    Container {
        /// Children visible.
        children: u32,
        /// What sort of container.
        class: ContainerClass,
        /// Items below it at any depth.
        items: u32,
        /// The artist, of an album.
        artist: Option<String>,
        /// What shows it: the original id of an item in it that has a picture, and its facts.
        art: Option<Box<(String, Facts)>>,
    },
    /// An item.
    Item(Box<ItemView>),
}

/// What sort of container, as players know it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum ContainerClass {
    Plain,
    Directory,
    Artist,
    Album,
    Genre,
    PhotoAlbum,
    Playlist,
    /// Some of the children of a container that a device cannot show whole (IOP-15).
    Part,
}

impl ContainerClass {
    /// Its `upnp:class` (CDS-12).
    pub fn upnp(self) -> &'static str {
        match self {
            ContainerClass::Plain | ContainerClass::Part => "object.container",
            ContainerClass::Directory => "object.container.storageFolder",
            ContainerClass::Artist => "object.container.person.musicArtist",
            ContainerClass::Album => "object.container.album.musicAlbum",
            ContainerClass::Genre => "object.container.genre.musicGenre",
            ContainerClass::PhotoAlbum => "object.container.album.photoAlbum",
            ContainerClass::Playlist => "object.container.playlistContainer",
        }
    }
}

pub(super) fn container_class(kind: ContainerKind) -> ContainerClass {
    match kind {
        ContainerKind::Directory => ContainerClass::Directory,
        ContainerKind::Artist => ContainerClass::Artist,
        ContainerKind::Album => ContainerClass::Album,
        ContainerKind::Genre => ContainerClass::Genre,
        ContainerKind::PhotoAlbum => ContainerClass::PhotoAlbum,
        ContainerKind::Playlist => ContainerClass::Playlist,
        _ => ContainerClass::Plain,
    }
}

/// The `upnp:class` of an item of a kind (CDS-12).
pub(super) fn item_class(kind: Kind) -> &'static str {
    match kind {
        Kind::Video => "object.item.videoItem",
        Kind::Music => "object.item.audioItem.musicTrack",
        Kind::Picture => "object.item.imageItem.photo",
    }
}

/// The `upnp:class` of a station.
pub(super) const BROADCAST: &str = "object.item.audioItem.audioBroadcast";

/// An item.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ItemView {
    /// The file.
    pub serial: FileId,
    /// The folder that it is in, by serial.
    pub folder: FolderId,
    /// Its facts.
    pub facts: Facts,
    /// The original's id, when this is another appearance (CDS-6).
    pub reference: Option<String>,
    /// The name on disk.
    pub file_name: String,
    /// Its `upnp:class`.
    pub class: &'static str,
    /// The MIME type that the person set for its extension.
    pub mime: Option<String>,
}

/// What sort of thing a person found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FoundGroup {
    /// People: artists and composers.
    Artists,
    /// Albums, of music and of pictures.
    Albums,
    /// Genres, series, years, playlists.
    Lists,
    /// Directories.
    Folders,
    /// Films.
    Films,
    /// Tracks.
    Music,
    /// Pictures.
    Pictures,
}

impl FoundGroup {
    /// In the order in which they are shown.
    pub const ALL: [FoundGroup; 7] = [
        FoundGroup::Artists,
        FoundGroup::Albums,
        FoundGroup::Lists,
        FoundGroup::Folders,
        FoundGroup::Films,
        FoundGroup::Music,
        FoundGroup::Pictures,
    ];

    /// The word for it in the console's interface.
    pub fn word(self) -> &'static str {
        match self {
            FoundGroup::Artists => "artists",
            FoundGroup::Albums => "albums",
            FoundGroup::Lists => "lists",
            FoundGroup::Folders => "folders",
            FoundGroup::Films => "films",
            FoundGroup::Music => "music",
            FoundGroup::Pictures => "pictures",
        }
    }
}

/// A page of what a person found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// The things on this page, group after group.
    pub objects: Vec<Object>,
    /// How many there are of each group that has any, on all pages.
    pub groups: Vec<(FoundGroup, u32)>,
    /// How many there are in all.
    pub total: u32,
}

/// A page of children.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Page {
    /// The children asked for.
    pub objects: Vec<Object>,
    /// How many there are in all for this pass.
    pub total: u32,
    /// The container's update id.
    pub update_id: UpdateId,
}
