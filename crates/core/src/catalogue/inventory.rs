//! What is recorded of a folder, for the scan that compares it with the disk. It names files
//! but opens none, and no listener has a use for it.

use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

use super::record::Record;
use super::{Catalogue, File, Playlist};
use crate::facts::Caption;
use crate::ids::{FileId, FolderId};
use crate::shards::{mix, mix_text};

/// A recorded file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownFile {
    /// Its serial.
    pub serial: FileId,
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
#[derive(Debug, Default)]
pub struct KnownDirectory {
    /// Its serial.
    pub serial: u32,
    /// Its files by name, once somebody asks.
    files: OnceLock<HashMap<String, KnownFile>>,
    /// Playlists in it by name.
    pub playlists: HashMap<String, u32>,
}

/// Recorded directories by their path below the folder, names joined by `/`; the top is empty.
/// Files are looked up directory by directory: a change in one of them costs nothing for the
/// others.
pub struct Inventory {
    catalogue: Arc<Catalogue>,
    folder: FolderId,
    directories: HashMap<String, KnownDirectory>,
    /// Files by size and age, once somebody asks.
    states: OnceLock<Vec<State>>,
}

impl Inventory {
    /// What is recorded of a folder.
    pub fn of(catalogue: Arc<Catalogue>, folder: FolderId) -> Inventory {
        let mut directories = HashMap::new();
        let mut playlists: HashMap<u32, HashMap<String, u32>> = HashMap::new();
        for list in catalogue.playlists.values() {
            playlists.entry(list.directory).or_default().insert(list.name.clone(), list.serial);
        }
        let top = catalogue.folder(folder).map(|f| (f.container, String::new()));
        let mut open: Vec<(u32, String)> = top.into_iter().collect();
        while let Some((serial, path)) = open.pop() {
            let Some(kept) = catalogue.directories.get(serial) else { continue };
            for child in kept.children.iter() {
                let Some(inner) = catalogue.directories.get(*child) else { continue };
                let name = catalogue.names.text(inner.name);
                let below = if path.is_empty() { name.into() } else { format!("{path}/{name}") };
                open.push((*child, below));
            }
            let playlists = playlists.remove(&serial).unwrap_or_default();
            let known = KnownDirectory { serial, files: OnceLock::new(), playlists };
            directories.insert(path, known);
        }
        Inventory { catalogue, folder, directories, states: OnceLock::new() }
    }

    /// A directory.
    pub fn directory(&self, path: &str) -> Option<&KnownDirectory> {
        self.directories.get(path)
    }

    /// All directories.
    pub fn directories(&self) -> impl Iterator<Item = (&String, &KnownDirectory)> {
        self.directories.iter()
    }

    /// The files of one of these directories, by name.
    pub fn files<'a>(&'a self, directory: &'a KnownDirectory) -> &'a HashMap<String, KnownFile> {
        directory.files.get_or_init(|| self.catalogue.known_in(directory.serial))
    }

    /// A file by its path.
    pub fn file(&self, path: &str) -> Option<&KnownFile> {
        let (around, name) = path.rsplit_once('/').unwrap_or(("", path));
        self.files(self.directory(around)?).get(name)
    }

    /// Whether a file is recorded at a path or below it.
    pub fn holds(&self, path: &str) -> bool {
        let below = |directory: &String| crate::drives::is_below(directory, path);
        let mut directories = self.directories.iter().filter(|(directory, _)| below(directory));
        directories.any(|(_, known)| self.catalogue.serials_in(known.serial).next().is_some())
            || !path.is_empty() && self.file(path).is_some()
    }

    /// Whether no file is recorded.
    pub fn is_bare(&self) -> bool {
        self.catalogue.folder_counts(self.folder) == [0; 3]
    }

    /// Some files of a size and age, by serial: those of this name first, and at most `most` of
    /// either. Of more it cannot be told which is meant.
    pub fn alike(
        &self,
        name: &str,
        size: u64,
        modified_ms: i64,
        most: usize,
    ) -> impl Iterator<Item = FileId> {
        let states = self.states.get_or_init(|| self.all_states());
        let (state, name) = (state(size, modified_ms), hash(name));
        let from = |first: (u64, u32)| {
            let at = states.partition_point(|(state, name, _)| (*state, *name) < first);
            states[at..].iter().take_while(move |(other, ..)| *other == state)
        };
        let named = from((state, name)).take_while(move |(_, other, _)| *other == name);
        let alike =
            named.take(most).chain(from((state, 0)).take(most)).map(|found| FileId(found.2));
        // Mixed numbers may be the same by chance.
        alike.filter(move |serial| {
            let tail = self.catalogue.record(serial.0).and_then(Record::tail);
            tail.is_some_and(|tail| (tail.size, tail.modified_ms) == (size, modified_ms))
        })
    }

    fn all_states(&self) -> Vec<State> {
        let catalogue = &self.catalogue;
        let files = self.directories.values().flat_map(|d| catalogue.serials_in(d.serial));
        let states = files.filter_map(|serial| {
            let tail = catalogue.record(serial)?.tail()?;
            Some((state(tail.size, tail.modified_ms), hash(tail.name), serial))
        });
        // By one thread: whoever browses meanwhile needs the others.
        let mut states: Vec<State> = states.collect();
        states.sort_unstable();
        states
    }
}

/// Size and age in one number, a number for the name, and the serial.
type State = (u64, u32, u32);

fn state(size: u64, modified_ms: i64) -> u64 {
    mix(size, modified_ms as u64)
}

fn hash(name: &str) -> u32 {
    mix_text(0, name) as u32
}

impl Catalogue {
    fn serials_in(&self, directory: u32) -> impl Iterator<Item = u32> + '_ {
        let container = self.container_of(super::NodeId::directory(directory));
        container.into_iter().flat_map(|(_, container)| container.items.iter())
    }

    fn known_in(&self, directory: u32) -> HashMap<String, KnownFile> {
        let known = self.serials_in(directory).filter_map(|serial| {
            let tail = self.record(serial)?.tail()?;
            let file = KnownFile {
                serial: FileId(serial),
                size: tail.size,
                modified_ms: tail.modified_ms,
                reader: tail.reader,
                captions: tail.captions(&self.names),
                art: tail.art.map(str::to_owned),
            };
            Some((tail.name.to_owned(), file))
        });
        known.collect()
    }

    /// A file's path below its folder.
    pub fn path_below(&self, serial: FileId) -> Option<String> {
        let record = self.record(serial.0)?;
        let mut names = vec![record.tail()?.name];
        let mut at = self.directories.get(record.directory())?;
        while let Some(parent) = at.parent {
            names.push(self.names.text(at.name));
            at = self.directories.get(parent)?;
        }
        names.reverse();
        Some(names.join("/"))
    }

    /// A recorded playlist.
    pub fn playlist(&self, serial: u32) -> Option<Arc<Playlist>> {
        self.playlists.get(&serial).cloned()
    }

    /// A recorded file, whole.
    pub fn recorded(&self, serial: FileId) -> Option<File> {
        self.file(serial.0)
    }
}
