//! The catalogue as a value.
//!
//! A [`Catalogue`] holds every object of the content directory in memory. Cloning one is cheap
//! and makes a snapshot: readers keep theirs while [`apply`](Catalogue::apply) makes the next.
//! PostgreSQL keeps the durable record; the serials used here are its keys.
//!
//! ```text
//!  0 ─┬─ Video ──── every video, by title         (references)
//!     ├─ Music ──── every track                   (references)
//!     ├─ Pictures ─ every picture                 (references)
//!     └─ Folders ┬─ Films ─┬─ Harbour at dawn     (originals)
//!                └─ …      └─ Fog signal ─ …
//! ```

mod browse;
mod change;
mod id;

use std::sync::Arc;

pub use browse::{ItemView, Located, Node, Object, Page};
pub use change::{Change, Touched};
pub use id::{Place, View};

use crate::chunks::Chunks;
use crate::facts::Facts;
use crate::kind::{Kind, Kinds};

/// A published folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Folder {
    /// The folder's serial.
    pub serial: u32,
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
    pub folder: u32,
    /// The directory around it; `None` for a folder's top.
    pub parent: Option<u32>,
    /// Its name on disk; a folder's label for its top.
    pub name: String,
}

/// A published file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct File {
    /// The file's serial.
    pub serial: u32,
    /// The directory it lies in.
    pub directory: u32,
    /// Its name on disk.
    pub name: String,
    /// What was read from it.
    pub facts: Arc<Facts>,
}

/// Items below a container, by folder and kind: totals under any grant are sums of these.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct Cells(Vec<(u32, [u32; 3])>);

impl Cells {
    fn add(&mut self, folder: u32, kind: Kind, delta: i32) {
        let at = match self.0.iter().position(|(f, _)| *f == folder) {
            Some(at) => at,
            None => {
                self.0.push((folder, [0; 3]));
                self.0.len() - 1
            }
        };
        let cell = &mut self.0[at].1[kind.index()];
        *cell = cell.saturating_add_signed(delta);
        if self.0[at].1 == [0; 3] {
            self.0.swap_remove(at);
        }
    }

    fn total(&self, pass: &crate::access::Pass) -> u32 {
        let cells = self.0.iter().flat_map(|(folder, counts)| {
            Kind::ALL.into_iter().map(move |kind| (*folder, kind, counts[kind.index()]))
        });
        cells.filter(|(folder, kind, _)| pass.covers(*folder, *kind)).map(|(_, _, n)| n).sum()
    }
}

/// A container's node: children in their default order, counts and update id.
#[derive(Debug, Clone)]
struct Shelf {
    directory: Option<Arc<Directory>>,
    directories: Arc<Vec<(Arc<str>, u32)>>,
    files: Arc<Vec<(Arc<str>, u32)>>,
    cells: Cells,
    update_id: u32,
}

impl Shelf {
    fn new(directory: Option<Arc<Directory>>, update_id: u32) -> Shelf {
        Shelf {
            directory,
            directories: Arc::default(),
            files: Arc::default(),
            cells: Cells::default(),
            update_id,
        }
    }
}

/// Everything the content directory offers, as a value.
#[derive(Debug, Clone)]
pub struct Catalogue {
    epoch: Arc<str>,
    update_id: u32,
    folders: Arc<Vec<Folder>>,
    /// Directories by serial.
    shelves: Chunks<Shelf>,
    /// Video, Music, Pictures.
    views: [Shelf; 3],
    /// The *Folders* menu; its children are the folders' top containers.
    top: Shelf,
    root_update_id: u32,
    files: Chunks<File>,
}

impl Catalogue {
    /// An empty catalogue. `epoch` marks every id of this database; `update_id` must be beyond
    /// any given out before (CDS-48).
    pub fn new(epoch: &str, update_id: u32) -> Catalogue {
        let shelf = || Shelf::new(None, update_id);
        Catalogue {
            epoch: epoch.into(),
            update_id,
            folders: Arc::default(),
            shelves: Chunks::default(),
            views: [shelf(), shelf(), shelf()],
            top: shelf(),
            root_update_id: update_id,
            files: Chunks::default(),
        }
    }

    /// The house's update id, before a device's own offset (CDS-45).
    pub fn update_id(&self) -> u32 {
        self.update_id
    }

    /// The published folders, by label.
    pub fn folders(&self) -> &[Folder] {
        &self.folders
    }

    /// Items of a folder, by kind.
    pub fn folder_counts(&self, folder: u32) -> [u32; 3] {
        let cells = self.top.cells.0.iter().find(|(f, _)| *f == folder);
        cells.map(|(_, counts)| *counts).unwrap_or_default()
    }

    /// Items in all.
    pub fn item_count(&self) -> usize {
        self.files.len()
    }

    fn folder(&self, serial: u32) -> Option<&Folder> {
        self.folders.iter().find(|f| f.serial == serial)
    }
}
