//! What is recorded of a folder while a scan goes on: which serial a path has, and what has
//! been seen of it.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use mostra_core::catalogue::{Change, Directory, File, Folder, Inventory, Playlist};
use mostra_core::facts::Facts;
use mostra_core::ids::{FileId, FolderId};
use mostra_store::{Batch, Counter, StoreError};

use super::look::{WalkedDirectories, join};
use crate::library::Library;

/// Serials taken from the counter at a time: twice as many each time, up to the most, as each
/// is a commit of its own. What one scan does not need is there for the next.
const SERIALS: u32 = 64;
const MOST_SERIALS: u32 = 16_000;

/// Serials that are taken and not used yet.
#[derive(Debug, Default)]
pub struct Serials {
    left: std::ops::Range<u32>,
    taken: u32,
}

impl Serials {
    async fn next(&mut self, library: &Library) -> Result<u32, StoreError> {
        if let Some(serial) = self.left.next() {
            return Ok(serial);
        }
        let count = (self.taken * 2).clamp(SERIALS, MOST_SERIALS);
        let first = library.context.records.reserve(Counter::Serial, count).await?;
        self.left = first..first.saturating_add(count);
        self.taken = count;
        self.left.next().ok_or_else(|| StoreError::Damaged("no serials".into()))
    }
}

pub(super) struct Reconciliation {
    folder: FolderId,
    top: u32,
    recorded: Arc<Inventory>,
    /// Directories that this scan made, by path.
    made: HashMap<String, u32>,
    /// The directory of the file put last: files come directory by directory.
    last: Option<(String, u32)>,
    /// Files that this scan put, with their paths.
    put: Vec<(String, FileId)>,
    /// The same by path, once somebody asks.
    put_by_path: HashMap<String, FileId>,
    /// Recorded files that are still there, or elsewhere.
    seen: HashSet<FileId>,
    /// Recorded directories that have another name now.
    moved_directories: HashSet<String>,
    playlists: HashSet<String>,
    /// Other folders in which entries of playlists lie, by serial.
    others: HashMap<FolderId, Inventory>,
}

impl Reconciliation {
    pub(super) fn new(folder: &Folder, recorded: Arc<Inventory>) -> Reconciliation {
        Reconciliation {
            folder: folder.serial,
            top: folder.container,
            made: HashMap::new(),
            last: None,
            recorded,
            put: Vec::new(),
            put_by_path: HashMap::new(),
            seen: HashSet::new(),
            moved_directories: HashSet::new(),
            playlists: HashSet::new(),
            others: HashMap::new(),
        }
    }

    /// A recorded file is still there.
    pub(super) fn see(&mut self, serial: FileId) {
        self.seen.insert(serial);
    }

    async fn serial(&self, library: &Library) -> Result<u32, StoreError> {
        library.serials.lock().await.next(library).await
    }

    /// Puts a file. One that is known keeps its serial, and so its object ids.
    pub(super) async fn put(
        &mut self,
        library: &Library,
        path: String,
        facts: Arc<Facts>,
        serial: Option<FileId>,
        moved_from: Option<String>,
        batch: &mut Batch,
    ) -> Result<(), StoreError> {
        let (around, name) = path.rsplit_once('/').unwrap_or(("", &path));
        let before = moved_from.as_ref().map(|from| from.rsplit_once('/').map_or("", |f| f.0));
        let directory = match &self.last {
            Some((path, serial)) if path == around => *serial,
            _ => {
                let serial = self.directory(library, around, before, batch).await?;
                self.last = Some((around.to_owned(), serial));
                serial
            }
        };
        let name = name.to_owned();
        let serial = match serial {
            Some(serial) => {
                self.seen.insert(serial);
                batch.files.push(File { serial, directory, name, facts });
                serial
            }
            None => {
                let serial = self.serial(library).await?;
                batch.new_files.push(File { serial: FileId(serial), directory, name, facts });
                FileId(serial)
            }
        };
        self.put.push((path, serial));
        Ok(())
    }

    /// The serial of a directory, made if need be. If the files that come into it were in one
    /// that is there no more, it is that one under another name.
    async fn directory(
        &mut self,
        library: &Library,
        path: &str,
        before: Option<&str>,
        batch: &mut Batch,
    ) -> Result<u32, StoreError> {
        let mut at = self.top;
        let mut walked = String::new();
        for name in path.split('/').filter(|n| !n.is_empty()) {
            walked = join(&walked, name);
            let known = self.recorded.directory(&walked).map(|directory| directory.serial);
            at = match self.made.get(&walked).copied().or(known) {
                Some(serial) => serial,
                None => {
                    let renamed = before.filter(|_| walked == path).and_then(|b| self.renamed(b));
                    let serial = match renamed {
                        Some(serial) => serial,
                        None => self.serial(library).await?,
                    };
                    batch.directories.push(Directory {
                        serial,
                        folder: self.folder,
                        parent: Some(at),
                        name: name.to_owned(),
                    });
                    self.made.insert(walked.clone(), serial);
                    serial
                }
            };
        }
        Ok(at)
    }

    /// The serial of a recorded directory that is there no more, if nothing has taken it yet.
    fn renamed(&mut self, before: &str) -> Option<u32> {
        let serial =
            self.recorded.directory(before).map(|d| d.serial).filter(|_| !before.is_empty())?;
        self.moved_directories.insert(before.to_owned()).then_some(serial)
    }

    /// Puts a playlist if its entries are others than recorded; gives how many of them are not
    /// published.
    pub(super) async fn put_playlist(
        &mut self,
        library: &Library,
        root: &Path,
        path: &str,
        entries: &[PathBuf],
        batch: &mut Batch,
    ) -> Result<usize, StoreError> {
        let (around, name) = path.rsplit_once('/').unwrap_or(("", path));
        self.put_by_path.extend(self.put.drain(..));
        let found: Vec<FileId> =
            entries.iter().filter_map(|e| self.resolve(library, root, e)).collect();
        let missing = entries.len() - found.len();
        self.playlists.insert(path.to_owned());
        let directory = self.directory(library, around, None, batch).await?;
        let known = self.recorded.directory(around).and_then(|d| d.playlists.get(name)).copied();
        let serial = match known {
            Some(serial) => serial,
            None => self.serial(library).await?,
        };
        let list = Playlist { serial, directory, name: name.to_owned(), entries: found };
        if library.catalogue().playlist(serial).as_deref() != Some(&list) {
            batch.playlists.push(list);
        }
        Ok(missing)
    }

    /// The serial of a file on disk, in this folder or in another that is published (CDS-67).
    fn resolve(&mut self, library: &Library, root: &Path, entry: &Path) -> Option<FileId> {
        let within = |recorded: &Inventory, path| recorded.file(path).map(|file| file.serial);
        if let Ok(below) = entry.strip_prefix(root) {
            let path = below.to_str()?;
            return self.put_by_path.get(path).copied().or_else(|| within(&self.recorded, path));
        }
        let catalogue = library.catalogue();
        let other = catalogue.folders().iter().find(|f| entry.starts_with(&f.root))?;
        let below = entry.strip_prefix(&other.root).ok()?.to_str()?;
        let others = self.others.entry(other.serial);
        within(others.or_insert_with(|| Inventory::of(catalogue.clone(), other.serial)), below)
    }

    /// What hides a recorded directory or file without forgetting it.
    pub(super) fn hiding(&self, path: &str) -> Option<Change> {
        if let Some(directory) = self.recorded.directory(path) {
            return Some(Change::RemoveDirectory(directory.serial));
        }
        Some(Change::RemoveFile(self.recorded.file(path)?.serial))
    }

    /// Takes out what was looked for and not found; gives the files' paths.
    pub(super) fn remove_unseen(
        &self,
        seen: &WalkedDirectories,
        whole: bool,
        batch: &mut Batch,
    ) -> Vec<String> {
        let below = |path: &str, around: &str| {
            around.is_empty()
                || path == around
                || path.strip_prefix(around).is_some_and(|rest| rest.starts_with('/'))
        };
        let mut gone = Vec::new();
        for (path, directory) in self.recorded.directories() {
            if seen.unreadable.iter().any(|out| below(path, out)) {
                continue;
            }
            let listed = seen.directories.contains(path);
            let absent = seen.absent.iter().any(|out| below(path, out));
            if !listed && !absent && !whole {
                continue;
            }
            // What is around something that is away stays with it.
            let holds = seen.unreadable.iter().any(|out| below(out, path));
            let goes =
                !listed && !holds && !path.is_empty() && !self.moved_directories.contains(path);
            for (name, file) in self.recorded.files(directory) {
                if self.seen.contains(&file.serial) {
                    continue;
                }
                let whole_path = join(path, name);
                if goes || !seen.unreadable.contains(&whole_path) {
                    batch.gone_files.push(file.serial);
                    gone.push(whole_path);
                }
            }
            for (name, serial) in &directory.playlists {
                if !self.playlists.contains(&join(path, name)) {
                    batch.gone_playlists.push(*serial);
                }
            }
            if goes {
                batch.gone_directories.push(directory.serial);
            }
        }
        gone.sort();
        gone
    }
}
