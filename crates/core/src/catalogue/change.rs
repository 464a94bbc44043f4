//! How the catalogue changes.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::id::{Place, View};
use super::{Catalogue, Directory, File, Folder, Shelf};
use crate::{Kind, sort_key};

/// One change, as the scan and the records report it.
#[derive(Debug, Clone)]
pub enum Change {
    /// A folder is published, or its label or kinds changed.
    PutFolder(Folder),
    /// A folder is published no more; everything in it goes.
    RemoveFolder(u32),
    /// A directory is there.
    PutDirectory(Directory),
    /// A directory went, with everything in it.
    RemoveDirectory(u32),
    /// A file is there, or changed.
    PutFile(File),
    /// A file went.
    RemoveFile(u32),
}

/// What a batch of changes touched.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Touched {
    /// Ids of the containers whose children or own metadata changed, with their update ids.
    pub containers: Vec<(String, u32)>,
    /// The folders concerned.
    pub folders: BTreeSet<u32>,
}

/// Children to add to and take from one container, merged into its list in one go.
#[derive(Default)]
struct Edit {
    add: Vec<(Arc<str>, u32)>,
    take: BTreeSet<u32>,
}

/// A container whose list is edited: a view, the *Folders* menu or a directory.
#[derive(PartialEq, Eq, PartialOrd, Ord, Clone, Copy)]
enum Slot {
    View(Kind),
    Top,
    Directory(u32),
}

#[derive(Default)]
struct Edits {
    files: BTreeMap<Slot, Edit>,
    directories: BTreeMap<Slot, Edit>,
    /// Containers whose own metadata changed.
    renamed: BTreeSet<Slot>,
}

impl Catalogue {
    /// Applies a batch and says what it touched; the house's update id moves once (CDS-50).
    /// The outcome depends only on what the batch says, not on how it is cut into batches.
    pub fn apply(&mut self, changes: impl IntoIterator<Item = Change>) -> Touched {
        let mut edits = Edits::default();
        let mut touched = Touched::default();
        for change in changes {
            match change {
                Change::PutFolder(folder) => self.put_folder(folder, &mut edits, &mut touched),
                Change::RemoveFolder(serial) => {
                    if let Some(folder) = self.folder(serial).cloned() {
                        touched.folders.insert(serial);
                        self.remove_directory(folder.container, &mut edits);
                        Arc::make_mut(&mut self.folders).retain(|f| f.serial != serial);
                    }
                }
                Change::PutDirectory(directory) => {
                    touched.folders.insert(directory.folder);
                    self.put_directory(directory, &mut edits);
                }
                Change::RemoveDirectory(serial) => {
                    if let Some(directory) =
                        self.shelves.get(serial).and_then(|s| s.directory.clone())
                    {
                        touched.folders.insert(directory.folder);
                        self.remove_directory(serial, &mut edits);
                    }
                }
                Change::PutFile(file) => {
                    if let Some(folder) = self.folder_of(file.directory) {
                        touched.folders.insert(folder);
                        self.put_file(file, folder, &mut edits);
                    }
                }
                Change::RemoveFile(serial) => {
                    if let Some(file) = self.files.get(serial).cloned() {
                        touched.folders.extend(self.folder_of(file.directory));
                        self.remove_file(serial, &mut edits);
                    }
                }
            }
        }
        self.settle(edits, &mut touched);
        touched
    }

    fn folder_of(&self, directory: u32) -> Option<u32> {
        self.shelves.get(directory).and_then(|s| s.directory.as_ref()).map(|d| d.folder)
    }

    fn put_folder(&mut self, folder: Folder, edits: &mut Edits, touched: &mut Touched) {
        touched.folders.insert(folder.serial);
        let top = Directory {
            serial: folder.container,
            folder: folder.serial,
            parent: None,
            name: folder.label.clone(),
        };
        let folders = Arc::make_mut(&mut self.folders);
        folders.retain(|f| f.serial != folder.serial);
        folders.push(folder);
        folders.sort_by_cached_key(|f| (sort_key(&f.label), f.serial));
        self.put_directory(top, edits);
    }

    fn put_directory(&mut self, directory: Directory, edits: &mut Edits) {
        let serial = directory.serial;
        let slot = directory.parent.map_or(Slot::Top, Slot::Directory);
        if let Some(shelf) = self.shelves.get(serial) {
            if shelf.directory.as_deref() == Some(&directory) {
                return;
            }
            edits.directories.entry(slot).or_default().take.insert(serial);
            edits.renamed.insert(Slot::Directory(serial));
        }
        let edit = edits.directories.entry(slot).or_default();
        edit.add.retain(|(_, s)| *s != serial);
        edit.add.push((sort_key(&directory.name).into(), serial));
        let directory = Some(Arc::new(directory));
        match self.shelves.get_mut(serial) {
            Some(shelf) => shelf.directory = directory,
            None => {
                self.shelves.insert(serial, Shelf::new(directory, self.update_id));
            }
        }
    }

    fn remove_directory(&mut self, serial: u32, edits: &mut Edits) {
        // Children that this batch added and that are not in the lists yet go as well.
        let mut files: BTreeSet<u32> = BTreeSet::new();
        let mut directories: BTreeSet<u32> = BTreeSet::new();
        if let Some(shelf) = self.shelves.get(serial) {
            files.extend(shelf.files.iter().map(|(_, s)| *s));
            directories.extend(shelf.directories.iter().map(|(_, s)| *s));
        }
        if let Some(edit) = edits.files.remove(&Slot::Directory(serial)) {
            files.extend(edit.add.iter().map(|(_, s)| *s));
        }
        if let Some(edit) = edits.directories.remove(&Slot::Directory(serial)) {
            directories.extend(edit.add.iter().map(|(_, s)| *s));
        }
        for child in directories {
            self.remove_directory(child, edits);
        }
        for file in files {
            self.remove_file(file, edits);
        }
        edits.files.remove(&Slot::Directory(serial));
        edits.directories.remove(&Slot::Directory(serial));
        edits.renamed.remove(&Slot::Directory(serial));
        if let Some(directory) = self.shelves.remove(serial).and_then(|s| s.directory) {
            let edit = edits
                .directories
                .entry(directory.parent.map_or(Slot::Top, Slot::Directory))
                .or_default();
            edit.add.retain(|(_, s)| *s != serial);
            edit.take.insert(serial);
        }
    }

    fn put_file(&mut self, file: File, folder: u32, edits: &mut Edits) {
        if self.files.get(file.serial) == Some(&file) {
            return;
        }
        self.remove_file(file.serial, edits);
        let key: Arc<str> = sort_key(&super::browse::title(&file)).into();
        let (serial, kind) = (file.serial, file.facts.kind);
        for slot in [Slot::View(kind), Slot::Directory(file.directory)] {
            edits.files.entry(slot).or_default().add.push((key.clone(), serial));
        }
        self.count(file.directory, folder, kind, 1);
        self.files.insert(serial, file);
    }

    fn remove_file(&mut self, serial: u32, edits: &mut Edits) {
        let Some(file) = self.files.remove(serial) else { return };
        let kind = file.facts.kind;
        for slot in [Slot::View(kind), Slot::Directory(file.directory)] {
            let edit = edits.files.entry(slot).or_default();
            edit.add.retain(|(_, s)| *s != serial);
            edit.take.insert(serial);
        }
        if let Some(folder) = self.folder_of(file.directory) {
            self.count(file.directory, folder, kind, -1);
        }
    }

    /// Counts an item in its directory and everything around it.
    fn count(&mut self, directory: u32, folder: u32, kind: Kind, delta: i32) {
        self.views[kind.index()].cells.add(folder, kind, delta);
        self.top.cells.add(folder, kind, delta);
        let mut at = Some(directory);
        while let Some(shelf) = at.and_then(|serial| self.shelves.get_mut(serial)) {
            shelf.cells.add(folder, kind, delta);
            at = shelf.directory.as_ref().and_then(|d| d.parent);
        }
    }

    /// Merges the edits into the sorted lists and moves the update ids (CDS-46).
    fn settle(&mut self, edits: Edits, touched: &mut Touched) {
        let mut slots: BTreeSet<Slot> = edits.renamed.clone();
        slots.extend(edits.files.keys().chain(edits.directories.keys()));
        if slots.is_empty() {
            return;
        }
        self.update_id = self.update_id.wrapping_add(1);
        let update_id = self.update_id;
        let menus_before = self.menus_shown();
        for (slot, edit) in edits.files {
            if let Some(shelf) = self.shelf_mut(slot) {
                shelf.files = merge(&shelf.files, edit);
            }
        }
        for (slot, edit) in edits.directories {
            if let Some(shelf) = self.shelf_mut(slot) {
                shelf.directories = merge(&shelf.directories, edit);
            }
        }
        for slot in slots {
            let place = match slot {
                Slot::View(kind) => Place::View(View::Kind(kind)),
                Slot::Top => Place::View(View::Folders),
                Slot::Directory(serial) => Place::Directory(serial),
            };
            let Some(shelf) = self.shelf_mut(slot) else { continue };
            shelf.update_id = update_id;
            touched.containers.push((place.id(&self.epoch), update_id));
        }
        // A menu that was empty and now is not, or the other way round, changes the root.
        if menus_before != self.menus_shown() {
            self.root_update_id = update_id;
            touched.containers.push((Place::Root.id(&self.epoch), update_id));
        }
    }

    fn menus_shown(&self) -> [bool; 4] {
        let [video, music, pictures] = &self.views;
        [video, music, pictures, &self.top].map(|shelf| !shelf.cells.0.is_empty())
    }

    fn shelf_mut(&mut self, slot: Slot) -> Option<&mut Shelf> {
        match slot {
            Slot::View(kind) => Some(&mut self.views[kind.index()]),
            Slot::Top => Some(&mut self.top),
            Slot::Directory(serial) => self.shelves.get_mut(serial),
        }
    }
}

/// Takes and adds in one linear pass.
fn merge(list: &[(Arc<str>, u32)], mut edit: Edit) -> Arc<Vec<(Arc<str>, u32)>> {
    edit.add.sort();
    let mut merged = Vec::with_capacity(list.len() + edit.add.len());
    let mut add = edit.add.into_iter().peekable();
    for child in list.iter().filter(|(_, serial)| !edit.take.contains(serial)) {
        while let Some(new) = add.next_if(|new| new < child) {
            merged.push(new);
        }
        merged.push(child.clone());
    }
    merged.extend(add);
    Arc::new(merged)
}
