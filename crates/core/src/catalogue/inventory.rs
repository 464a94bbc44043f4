//! What is recorded of a folder, for the scan that compares it with the disk. It names files
//! but opens none, and no listener has a use for it.

use std::collections::HashMap;
use std::sync::Arc;

use super::{Catalogue, File, Playlist};
use crate::facts::Caption;

/// A recorded file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownFile {
    /// Its serial.
    pub serial: u32,
    /// Bytes.
    pub size: u64,
    /// Last modification, Unix time in milliseconds.
    pub modified_ms: i64,
    /// Which reader read it.
    pub reader: u16,
    /// The subtitle files beside it.
    pub captions: Vec<Caption>,
    /// The picture file beside it.
    pub art: Option<String>,
}

/// A recorded directory.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KnownDirectory {
    /// Its serial.
    pub serial: u32,
    /// Its files by name.
    pub files: HashMap<String, KnownFile>,
    /// Playlists in it by name.
    pub playlists: HashMap<String, u32>,
}

/// Recorded directories by their path below the folder, names joined by `/`; the top is empty.
pub type Inventory = HashMap<String, KnownDirectory>;

impl Catalogue {
    /// What is recorded of a folder.
    pub fn inventory(&self, folder: u32) -> Inventory {
        let mut inventory = Inventory::new();
        let Some(top) = self.folder(folder).map(|f| f.container) else { return inventory };
        let mut paths: HashMap<u32, String> = HashMap::from([(top, String::new())]);
        let mut open = vec![top];
        while let Some(serial) = open.pop() {
            let Some(kept) = self.directories.get(serial) else { continue };
            let path = paths.get(&serial).cloned().unwrap_or_default();
            for child in kept.children.iter() {
                let Some(inner) = self.directories.get(*child) else { continue };
                let name = self.names.text(inner.name);
                let below = if path.is_empty() { name.into() } else { format!("{path}/{name}") };
                paths.insert(*child, below);
                open.push(*child);
            }
            let mut known = KnownDirectory { serial, ..KnownDirectory::default() };
            let shelf = self.shelf_of(super::NodeId::directory(serial));
            for file in shelf.iter().flat_map(|(_, shelf)| shelf.items.iter()) {
                let Some(record) = self.record(file) else { continue };
                let Some(tail) = record.tail() else { continue };
                let captions = tail.captions(&self.names);
                let found = KnownFile {
                    serial: file,
                    size: tail.size,
                    modified_ms: tail.modified_ms,
                    reader: tail.reader,
                    captions,
                    art: tail.art.map(str::to_owned),
                };
                known.files.insert(tail.name.to_owned(), found);
            }
            inventory.insert(path, known);
        }
        for playlist in self.playlists.values() {
            if let Some(path) = paths.get(&playlist.directory)
                && let Some(known) = inventory.get_mut(path)
            {
                known.playlists.insert(playlist.name.clone(), playlist.serial);
            }
        }
        inventory
    }

    /// A recorded playlist.
    pub fn playlist(&self, serial: u32) -> Option<Arc<Playlist>> {
        self.playlists.get(&serial).cloned()
    }

    /// A recorded file, whole.
    pub fn recorded(&self, serial: u32) -> Option<File> {
        self.file(serial)
    }
}
