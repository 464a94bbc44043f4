//! How the catalogue changes.

use std::collections::{BTreeSet, HashMap};
use std::hash::BuildHasherDefault;
use std::sync::Arc;

use crate::ids::{FileId, FolderId, UpdateId};
use rayon::slice::ParallelSliceMut as _;

use super::access_class::{SLOTS, access_class};
use super::container::stem;
use super::id::NodeId;
use super::names::Names;
use super::record::pack;
use super::{
    Catalogue, CatalogueOptions, Directory, File, Folder, KeptDirectory, Links, Playlist, Titles,
};
use crate::Kind;
use crate::collate::natural_order;
use crate::shards::AsIs;

/// One change, as the scan and the records report it.
#[derive(Debug, Clone)]
pub enum Change {
    /// A folder is published, or its label or kinds changed.
    PutFolder(Folder),
    /// A folder is published no more; everything in it goes.
    RemoveFolder(FolderId),
    /// A folder is away: it stays published, and everything in it is hidden until it is put
    /// again.
    HideFolder(FolderId),
    /// The links that were followed in a folder, all of them.
    PutLinks(FolderId, Links),
    /// A directory is there, or has another name or place.
    PutDirectory(Directory),
    /// A directory went, with everything in it.
    RemoveDirectory(u32),
    /// A file is there, or changed.
    PutFile(File),
    /// A file went.
    RemoveFile(FileId),
    /// A playlist is there, or changed.
    PutPlaylist(Playlist),
    /// A playlist went.
    RemovePlaylist(u32),
}

/// What a batch of changes touched.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Touched {
    /// Ids of the containers whose children or own metadata changed, with their update ids.
    pub containers: Vec<(String, UpdateId)>,
    /// The folders concerned.
    pub folders: BTreeSet<FolderId>,
}

/// What a batch does to files, directories and playlists, before any list is edited.
#[derive(Default)]
pub(super) struct Base {
    /// In order and each once only when [`sorted`](Base::sort).
    pub files: Vec<u32>,
    pub renamed: BTreeSet<u32>,
    pub playlists: BTreeSet<u32>,
}

/// Places of containers by node.
pub(super) type ContainersMet = HashMap<u64, u32, BuildHasherDefault<AsIs>>;

/// What a batch does to containers, by place of the container.
#[derive(Default)]
pub(super) struct Edits {
    /// Files that leave containers, each a [`pair`] of place and serial.
    pub went: Vec<u64>,
    /// Files that come to containers.
    pub came: Vec<u64>,
    /// Names by which containers are spelt once less, each a [`pair`] of place and name.
    pub unspelt: Vec<u64>,
    /// Names by which they are spelt once more.
    pub spelt: Vec<u64>,
    /// Appearances in playlists that went and came: place, access class.
    pub unlisted: Vec<(u32, u16)>,
    pub newly_listed: Vec<(u32, u16)>,
    /// Playlists' items, whole.
    pub listed: HashMap<u32, Vec<u32>>,
    /// Containers that must be put into the list around them anew: they came, went, moved,
    /// have another title, or hold items of other access classes.
    pub moved: BTreeSet<u32>,
    /// Containers met in this batch, by node: the way to them is as it should be.
    pub met: ContainersMet,
}

impl Base {
    /// Brings files into order, each once.
    pub(super) fn sort(&mut self) {
        self.files.par_sort_unstable();
        self.files.dedup();
    }
}

/// Two numbers as one that sorts by the first.
pub(super) fn pair(place: u32, number: u32) -> u64 {
    u64::from(place) << 32 | u64::from(number)
}

/// The first of a [`pair`].
pub(super) fn place_of(pair: u64) -> u32 {
    (pair >> 32) as u32
}

impl Edits {
    /// Brings all pairs into order, so that those of one place stand together.
    pub(super) fn sort(&mut self) {
        for pairs in [&mut self.went, &mut self.came, &mut self.unspelt, &mut self.spelt] {
            pairs.par_sort_unstable();
        }
    }
}

/// A batch that is too large to be held at once: changes are taken in one by one, and the
/// lists are made at the end.
pub struct BulkLoad {
    old: Catalogue,
    next: Catalogue,
    base: Base,
    touched: Touched,
}

impl BulkLoad {
    /// Takes a change in.
    pub fn put(&mut self, change: Change) {
        self.next.change(change, &mut self.base, &mut self.touched);
    }

    /// The catalogue with all of it, and what it touched.
    pub fn finish(mut self) -> (Catalogue, Touched) {
        self.base.sort();
        self.next.settle(&self.old, &self.base, &mut self.touched);
        (self.next, self.touched)
    }
}

impl Catalogue {
    /// Begins a batch upon this catalogue, which itself stays as it is.
    pub fn batch(&self) -> BulkLoad {
        BulkLoad {
            old: self.clone(),
            next: self.clone(),
            base: Base::default(),
            touched: Touched::default(),
        }
    }

    /// Applies a batch and says what it touched; the house's update id moves once (CDS-50).
    /// The outcome depends only on what the batch says, not on how it is cut into batches.
    pub fn apply(&mut self, changes: impl IntoIterator<Item = Change>) -> Touched {
        let mut batch = self.batch();
        changes.into_iter().for_each(|change| batch.put(change));
        let (next, touched) = batch.finish();
        *self = next;
        touched
    }

    /// The same files in another manner.
    pub fn with_options(&self, options: CatalogueOptions) -> Catalogue {
        let mut next = Catalogue::new(&self.epoch, self.update_id.plus(1));
        next.names = Names::by(options.locale);
        next.options = Arc::new(options);
        next.links = self.links.clone();
        let folders = self.folders.iter().cloned().map(Change::PutFolder);
        let mut open: Vec<u32> = self.folders.iter().map(|f| f.container).collect();
        let mut directories = Vec::new();
        while let Some(serial) = open.pop() {
            let Some(kept) = self.directories.get(serial) else { continue };
            open.extend(kept.children.iter());
            let name = self.names.text(kept.name).to_owned();
            let (folder, parent) = (kept.folder, kept.parent);
            directories.extend(
                parent.map(|_| Change::PutDirectory(Directory { serial, folder, parent, name })),
            );
        }
        let files = self.files.numbers().filter_map(|serial| self.file(serial));
        let playlists = self.playlists.values().map(|p| Change::PutPlaylist((**p).clone()));
        next.apply(folders.chain(directories).chain(files.map(Change::PutFile)).chain(playlists));
        next
    }

    fn change(&mut self, change: Change, base: &mut Base, touched: &mut Touched) {
        match change {
            Change::PutFolder(folder) => {
                touched.folders.insert(folder.serial);
                self.put_folder(folder, base);
            }
            Change::RemoveFolder(serial) => {
                let Some(folder) = self.folder(serial).cloned() else { return };
                touched.folders.insert(serial);
                self.remove_directory(folder.container, base);
                Arc::make_mut(&mut self.folders).retain(|f| f.serial != serial);
                Arc::make_mut(&mut self.links).remove(&serial);
                for slot in Arc::make_mut(&mut self.slots) {
                    if *slot == Some(serial) {
                        *slot = None;
                    }
                }
            }
            Change::PutLinks(folder, links) => {
                Arc::make_mut(&mut self.links).insert(folder, links);
            }
            Change::HideFolder(serial) => {
                let Some(folder) = self.folder(serial).cloned() else { return };
                touched.folders.insert(serial);
                self.remove_directory(folder.container, base);
                self.put_folder(folder, base);
            }
            Change::PutDirectory(directory) => {
                let folder = directory.parent.and_then(|p| self.directories.get(p));
                if let Some(folder) = folder.map(|p| p.folder) {
                    touched.folders.insert(folder);
                    self.put_directory(Directory { folder, ..directory }, base);
                }
            }
            Change::RemoveDirectory(serial) => {
                touched.folders.extend(self.directories.get(serial).map(|d| d.folder));
                self.remove_directory(serial, base);
            }
            Change::PutFile(file) => {
                if let Some(folder) = self.directories.get(file.directory).map(|d| d.folder) {
                    touched.folders.insert(folder);
                    self.put_file(&file, folder, base);
                }
            }
            Change::RemoveFile(serial) => {
                let directory = self.record(serial.0).map(|r| r.directory());
                let kept = directory.and_then(|d| self.directories.get(d));
                touched.folders.extend(kept.map(|d| d.folder));
                self.remove_file(serial.0, base);
            }
            Change::PutPlaylist(playlist) => {
                if let Some(directory) = self.directories.get(playlist.directory) {
                    touched.folders.insert(directory.folder);
                    base.playlists.insert(playlist.serial);
                    Arc::make_mut(&mut self.listed)
                        .extend(playlist.entries.iter().map(|entry| entry.0));
                    Arc::make_mut(&mut self.playlists).insert(playlist.serial, Arc::new(playlist));
                }
            }
            Change::RemovePlaylist(serial) => self.remove_playlist(serial, base),
        }
    }

    fn put_folder(&mut self, folder: Folder, base: &mut Base) {
        if !self.slots.contains(&Some(folder.serial)) {
            let slots = Arc::make_mut(&mut self.slots);
            match slots.iter().position(Option::is_none) {
                Some(free) => slots[free] = Some(folder.serial),
                None if slots.len() < SLOTS => slots.push(Some(folder.serial)),
                None => return,
            }
        }
        let top = Directory {
            serial: folder.container,
            folder: folder.serial,
            parent: None,
            name: folder.label.clone(),
        };
        let folders = Arc::make_mut(&mut self.folders);
        folders.retain(|f| f.serial != folder.serial);
        folders.push(folder);
        let locale = self.options.locale;
        let is_last = |folder: &Folder| folder.serial == FolderId::TEST_PIECES;
        folders.sort_by(|a, b| {
            is_last(a)
                .cmp(&is_last(b))
                .then_with(|| natural_order(&locale.fold(&a.label), &locale.fold(&b.label)))
                .then_with(|| a.serial.cmp(&b.serial))
        });
        self.put_directory(top, base);
    }

    fn put_directory(&mut self, directory: Directory, base: &mut Base) {
        let Directory { serial, folder, parent, name } = directory;
        let name = self.names.number(&name);
        let Some(kept) = self.directories.get(serial).cloned() else {
            let children = Arc::default();
            self.directories.insert(serial, KeptDirectory { folder, parent, name, children });
            self.adopt(parent, serial);
            return;
        };
        if kept.name != name {
            base.renamed.insert(serial);
        }
        if kept.parent != parent {
            // A directory cannot come to lie inside itself.
            let mut at = parent;
            while let Some(around) = at {
                if around == serial {
                    return;
                }
                at = self.directories.get(around).and_then(|d| d.parent);
            }
            self.abandon(kept.parent, serial);
            self.adopt(parent, serial);
            self.move_below(serial, folder, base);
        }
        if let Some(kept) = self.directories.get_mut(serial) {
            kept.name = name;
            kept.parent = parent;
            kept.folder = folder;
        }
    }

    fn adopt(&mut self, parent: Option<u32>, child: u32) {
        if let Some(parent) = parent.and_then(|p| self.directories.get_mut(p)) {
            Arc::make_mut(&mut parent.children).push(child);
        }
    }

    fn abandon(&mut self, parent: Option<u32>, child: u32) {
        if let Some(parent) = parent.and_then(|p| self.directories.get_mut(p)) {
            Arc::make_mut(&mut parent.children).retain(|c| *c != child);
        }
    }

    /// All that lies below a directory has moved, perhaps to another folder.
    fn move_below(&mut self, directory: u32, folder: FolderId, base: &mut Base) {
        for serial in self.files_in(directory, base) {
            if let Some(file) = self.file(serial) {
                base.files.push(serial);
                let access_class = self.access_class(folder, file.facts.kind);
                let record = pack(&file, access_class, &mut self.names);
                self.files.put(serial, &record);
            }
        }
        let Some(kept) = self.directories.get_mut(directory) else { return };
        kept.folder = folder;
        for child in kept.children.clone().iter() {
            self.move_below(*child, folder, base);
        }
    }

    /// Files right in a directory: those on its container, and those that this batch put there.
    fn files_in(&self, directory: u32, base: &Base) -> Vec<u32> {
        let container = self.container_of(NodeId::directory(directory));
        let on_shelf = container.iter().flat_map(|(_, s)| s.items.iter());
        let here = |serial: &u32| self.record(*serial).is_some_and(|r| r.directory() == directory);
        let all: BTreeSet<u32> = on_shelf.chain(base.files.iter().copied()).filter(here).collect();
        all.into_iter().collect()
    }

    fn remove_directory(&mut self, serial: u32, base: &mut Base) {
        let Some(kept) = self.directories.get(serial).cloned() else { return };
        for child in kept.children.iter() {
            self.remove_directory(*child, base);
        }
        for file in self.files_in(serial, base) {
            self.remove_file(file, base);
        }
        let lists = self.playlists.values().filter(|p| p.directory == serial);
        for list in lists.map(|p| p.serial).collect::<Vec<_>>() {
            self.remove_playlist(list, base);
        }
        self.abandon(kept.parent, serial);
        self.directories.remove(serial);
    }

    fn access_class(&self, folder: FolderId, kind: Kind) -> u16 {
        let slot = self.slots.iter().position(|s| *s == Some(folder)).unwrap_or(0);
        access_class(slot as u16, kind)
    }

    fn put_file(&mut self, file: &File, folder: FolderId, base: &mut Base) {
        let access_class = self.access_class(folder, file.facts.kind);
        let record = pack(file, access_class, &mut self.names);
        let old = self.files.get(file.serial.0);
        if old == Some(&record) {
            return;
        }
        self.count += usize::from(old.is_none());
        base.files.push(file.serial.0);
        self.files.put(file.serial.0, &record);
        if file.facts.station.is_some() {
            Arc::make_mut(&mut self.stations).insert(file.serial.0);
        }
        let titles = self.titles_of(file.serial.0);
        let title = title(file.facts.title.as_deref(), &file.name, titles);
        let title = self.options.locale.fold(title);
        // An empty text would count as absent.
        let title = if title.is_empty() { " " } else { &title };
        self.titles.put(file.serial.0, title.as_bytes());
    }

    fn remove_file(&mut self, serial: u32, base: &mut Base) {
        if self.files.get(serial).is_some() {
            self.count -= 1;
            base.files.push(serial);
            self.files.put(serial, &[]);
            self.titles.put(serial, &[]);
            if self.stations.contains(&serial) {
                Arc::make_mut(&mut self.stations).remove(&serial);
            }
        }
    }

    fn remove_playlist(&mut self, serial: u32, base: &mut Base) {
        if Arc::make_mut(&mut self.playlists).remove(&serial).is_some() {
            base.playlists.insert(serial);
        }
    }
}

/// The title that a file is shown by (CDS-16).
pub(super) fn title<'a>(embedded: Option<&'a str>, name: &'a str, titles: Titles) -> &'a str {
    let inside = embedded.map(str::trim).filter(|t| !t.is_empty() && titles == Titles::Embedded);
    inside.unwrap_or_else(|| stem(name))
}
