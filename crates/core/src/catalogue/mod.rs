//! The catalogue as a value.
//!
//! A [`Catalogue`] holds every object of the content directory in memory. Cloning one is cheap
//! and makes a snapshot: readers keep theirs while [`apply`](Catalogue::apply) makes the next.
//! PostgreSQL keeps the durable record; the serials used here are its keys.
//!
//! ```text
//!  0 ─┬─ Video ────┬─ All videos, Newest          (references)
//!     │            ├─ Series ── seasons
//!     │            └─ By year
//!     ├─ Music ────── Artists ── albums ── tracks …
//!     ├─ Pictures ─── By date taken, Albums …
//!     └─ Folders ──┬─ Films ─┬─ Harbour at dawn    (originals)
//!                  └─ …      └─ Fog signal ─ …
//! ```
//!
//! What is kept of a file is packed (`record`), what files share is kept once (`names`).
//! Each container (`container`) has its children in order (`list`) and knows how many of them
//! any pass covers (`access_class`). The files decide by themselves where they appear (`placement`),
//! so a change to one touches only the containers on the way to its placements.

mod access_class;
mod browse;
mod change;
mod columns;
mod container;
mod find;
mod id;
mod inventory;
mod list;
mod names;
mod object;
mod pictured;
mod placed_files;
mod placement;
mod property_values;
mod record;
mod search;
mod settle;
mod sorted;
mod text_query;

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

use crate::ids::{FileId, FolderId, UpdateId};
pub use change::{BulkLoad, Change, Touched};
pub use id::{Fixed, NodeId, ObjectId};
pub use inventory::{Inventory, KnownDirectory, KnownFile};
pub use object::{
    Beneath, ContainerClass, Found, FoundGroup, ItemView, Located, Node, Object, Page, Summary,
};
pub use search::Window;
pub use text_query::TextQuery;

use crate::chunks::Chunks;
use crate::facts::Facts;
use crate::kind::Kinds;
use crate::locale::Locale;
use crate::packs::Packs;
use crate::shards::Shards;

/// A published folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Folder {
    /// The folder's serial.
    pub serial: FolderId,
    /// Its label, shown under *Folders*.
    pub label: String,
    /// The kinds it holds.
    pub kinds: Kinds,
    /// Where it is on the host.
    pub root: String,
    /// The serial of its top container.
    pub container: u32,
}

/// A directory inside a folder, or the folder itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Directory {
    /// The container's serial.
    pub serial: u32,
    /// The folder it belongs to.
    pub folder: FolderId,
    /// The directory around it; `None` for a folder's top.
    pub parent: Option<u32>,
    /// Its name on disk; a folder's label for its top.
    pub name: String,
}

/// A published file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct File {
    /// The file's serial.
    pub serial: FileId,
    /// The directory it lies in.
    pub directory: u32,
    /// Its name on disk.
    pub name: String,
    /// What was read from it.
    pub facts: Arc<Facts>,
}

/// A playlist file, its entries resolved.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Playlist {
    /// Its serial.
    pub serial: u32,
    /// The directory it lies in.
    pub directory: u32,
    /// Its name on disk.
    pub name: String,
    /// Serials of the files it lists, in order, duplicates kept (CDS-63).
    pub entries: Vec<FileId>,
}

/// Where titles come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Titles {
    /// From inside the file; from its name where there is none.
    #[default]
    Embedded,
    /// From the file's name.
    FileNames,
}

impl Titles {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Titles::Embedded => "embedded",
            Titles::FileNames => "file-names",
        }
    }

    /// Reads [`word`](Self::word).
    pub fn from_word(word: &str) -> Option<Titles> {
        [Titles::Embedded, Titles::FileNames].into_iter().find(|t| t.word() == word)
    }
}

impl PictureOrder {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            PictureOrder::Date => "date",
            PictureOrder::Title => "title",
        }
    }

    /// Reads [`word`](Self::word).
    pub fn from_word(word: &str) -> Option<PictureOrder> {
        [PictureOrder::Date, PictureOrder::Title].into_iter().find(|o| o.word() == word)
    }
}

/// How pictures stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum PictureOrder {
    /// By the date taken.
    #[default]
    Date,
    /// By title.
    Title,
}

/// What the person chose for the whole catalogue.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CatalogueOptions {
    /// Where titles come from.
    pub titles: Titles,
    /// How pictures stand.
    pub pictures: PictureOrder,
    /// By whose alphabet names stand.
    pub locale: Locale,
    /// MIME types by file-name extension, in lower case, that replace the usual ones.
    pub mimes: BTreeMap<String, String>,
}

/// A directory as kept.
#[derive(Debug, Clone, PartialEq, Eq)]
struct KeptDirectory {
    folder: FolderId,
    parent: Option<u32>,
    name: u32,
    children: Arc<Vec<u32>>,
}

/// Links in a folder that the scan followed: path below the folder to the real path behind it.
pub type Links = Arc<BTreeMap<String, String>>;

/// Everything the content directory offers, as a value.
#[derive(Debug, Clone)]
pub struct Catalogue {
    epoch: Arc<str>,
    update_id: UpdateId,
    options: Arc<CatalogueOptions>,
    folders: Arc<Vec<Folder>>,
    /// Folders' serials by slot; see [`access_class`].
    slots: Arc<Vec<Option<FolderId>>>,
    /// By folder.
    links: Arc<BTreeMap<FolderId, Links>>,
    directories: Chunks<KeptDirectory>,
    playlists: Arc<BTreeMap<u32, Arc<Playlist>>>,
    /// Files that some playlist lists.
    listed: Arc<HashSet<u32>>,
    /// Files that are none: stations.
    stations: Arc<HashSet<u32>>,
    /// Records by serial.
    files: Packs,
    /// Folded titles by serial.
    titles: Packs,
    count: usize,
    names: names::Names,
    access_sets: access_class::AccessSets,
    containers: Chunks<container::Container>,
    free_containers: Arc<Vec<u32>>,
    next_container: u32,
    /// Places of containers by [`NodeId`].
    nodes: Shards,
    /// Every file by title.
    everything: list::List,
    /// Every container but the root by title.
    titled: list::List,
    sorted: sorted::Sorted,
}

impl Catalogue {
    /// An empty catalogue. `epoch` marks every id of this database; `update_id` must be beyond
    /// any given out before (CDS-48).
    pub fn new(epoch: &str, update_id: UpdateId) -> Catalogue {
        let mut catalogue = Catalogue {
            epoch: epoch.into(),
            update_id,
            options: Arc::default(),
            folders: Arc::default(),
            slots: Arc::default(),
            links: Arc::default(),
            directories: Chunks::default(),
            playlists: Arc::default(),
            listed: Arc::default(),
            stations: Arc::default(),
            files: Packs::default(),
            titles: Packs::default(),
            count: 0,
            names: names::Names::default(),
            access_sets: access_class::AccessSets::default(),
            containers: Chunks::default(),
            free_containers: Arc::default(),
            next_container: 0,
            nodes: Shards::default(),
            everything: list::List::default(),
            titled: list::List::default(),
            sorted: sorted::Sorted::default(),
        };
        let root = placement::PathSegment::fixed(Fixed::Root);
        catalogue.container_at(root, container::ROOT);
        catalogue
    }

    /// The house's update id, before a device's own offset (CDS-45).
    pub fn update_id(&self) -> UpdateId {
        self.update_id
    }

    /// What the person chose.
    pub fn options(&self) -> &CatalogueOptions {
        &self.options
    }

    /// The folders that persons published, by label.
    pub fn folders(&self) -> &[Folder] {
        // The test pieces come last.
        match self.folders.split_last() {
            Some((last, others)) if last.serial == FolderId::TEST_PIECES => others,
            _ => &self.folders,
        }
    }

    /// The same, and the folder with the test pieces where there is one.
    pub fn all_folders(&self) -> &[Folder] {
        &self.folders
    }

    /// Items of a folder, by kind.
    pub fn folder_counts(&self, folder: FolderId) -> [u32; 3] {
        let slot = self.slots.iter().position(|s| *s == Some(folder));
        let mut counts = [0; 3];
        // In the folder view each file appears once.
        let menu = self.nodes.get(Fixed::Folders.node().0).and_then(|at| self.containers.get(at));
        if let Some(menu) = menu {
            for (access_class, count) in menu.access_counts.iter() {
                if Some(access_class::slot_of(u32::from(access_class))) == slot {
                    counts[access_class::kind_of(u32::from(access_class)).index()] += count;
                }
            }
        }
        counts
    }

    /// Items of a folder that are stations, and no files.
    pub fn folder_stations(&self, folder: FolderId) -> u32 {
        let here = |serial: &&u32| {
            let directory = self.record(**serial).and_then(|r| self.directories.get(r.directory()));
            directory.is_some_and(|d| d.folder == folder)
        };
        self.stations.iter().filter(here).count() as u32
    }

    /// Items in all.
    pub fn item_count(&self) -> usize {
        self.count
    }

    /// A published folder.
    pub fn folder(&self, serial: FolderId) -> Option<&Folder> {
        self.folders.iter().find(|f| f.serial == serial)
    }

    fn record(&self, serial: u32) -> Option<record::Record<'_>> {
        self.files.get(serial).map(record::Record)
    }
}
