//! Reading the catalogue. Everything here takes a pass; what a pass does not cover does not
//! exist.

use mostra_protocol::sort::{SortBy, SortKey};

use super::id::{Place, View};
use super::{Catalogue, File, Shelf};
use crate::access::Pass;
use crate::facts::Facts;
use crate::{Kind, sort_key};

/// Where a file is on the host. Only [`Catalogue::locate`] makes one, and that takes a pass.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Located {
    root: String,
    path: String,
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
}

/// An object as the holder of a pass sees it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Object<'a> {
    /// Its id.
    pub id: String,
    /// The id of the container around it; `-1` for the root.
    pub parent: String,
    /// Its title.
    pub title: String,
    /// What it is.
    pub node: Node<'a>,
}

/// What an object is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Node<'a> {
    /// A container, with as many children as the pass covers.
    Container {
        /// Children visible.
        children: u32,
        /// Whether it is a directory on disk and not a menu.
        directory: bool,
        /// Items below it at any depth.
        items: u32,
    },
    /// An item.
    Item(ItemView<'a>),
}

/// An item.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ItemView<'a> {
    /// The file's serial.
    pub serial: u32,
    /// Its facts.
    pub facts: &'a Facts,
    /// The original's id, when this is another appearance (CDS-6).
    pub reference: Option<String>,
    /// The name on disk.
    pub file_name: &'a str,
}

/// A page of children.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Page<'a> {
    /// The children asked for.
    pub objects: Vec<Object<'a>>,
    /// How many there are in all for this pass.
    pub total: u32,
    /// The container's update id.
    pub update_id: u32,
}

/// Most objects in one page, whatever was asked (CDS-32).
const PAGE: u32 = 1000;

#[derive(Clone, Copy)]
enum Child {
    View(View),
    Directory(u32),
    File(u32),
}

/// A file's title: from inside the file, else its name without the extension (CDS-16).
pub(super) fn title(file: &File) -> String {
    let inside = file.facts.title.as_deref().map(str::trim).filter(|t| !t.is_empty());
    let stem = || match file.name.rsplit_once('.') {
        Some((stem, _)) if !stem.is_empty() => stem,
        _ => file.name.as_str(),
    };
    inside.unwrap_or_else(stem).to_owned()
}

impl Catalogue {
    /// An object, or `None` if there is none for this pass.
    pub fn object(&self, pass: &Pass, id: &str) -> Option<Object<'_>> {
        match Place::parse(id, &self.epoch)? {
            Place::Root => Some(Object {
                id: "0".into(),
                parent: "-1".into(),
                title: "Root".into(),
                node: Node::Container {
                    children: self.menus(pass).count() as u32,
                    directory: false,
                    items: self.top.cells.total(pass),
                },
            }),
            Place::View(view) => Some(self.view_object(pass, view)),
            Place::Directory(serial) => self.directory_object(pass, serial),
            Place::File(serial, view) => self.file_object(pass, serial, view),
        }
    }

    /// A container's update id, or that of the container around an item (CDS-47).
    pub fn object_update_id(&self, pass: &Pass, id: &str) -> Option<u32> {
        self.object(pass, id)?;
        Some(match Place::parse(id, &self.epoch)? {
            Place::Root => self.update_id,
            Place::View(view) | Place::File(_, view @ View::Kind(_)) => {
                self.view_shelf(view).update_id
            }
            Place::Directory(serial) => self.shelves.get(serial)?.update_id,
            Place::File(serial, View::Folders) => {
                self.shelves.get(self.files.get(serial)?.directory)?.update_id
            }
        })
    }

    /// The children `start` to `start + count` of a container (`count` 0: all), or `None` if
    /// there is no such container for this pass. Without sort keys: containers, then items, by
    /// title (CDS-35). The order is total, so pages neither overlap nor skip (CDS-34).
    pub fn children(
        &self,
        pass: &Pass,
        id: &str,
        start: u32,
        count: u32,
        sort: &[SortKey],
    ) -> Option<Page<'_>> {
        let place = Place::parse(id, &self.epoch)?;
        self.object(pass, id)?;
        let count = if count == 0 { PAGE } else { count.min(PAGE) };
        let (mut children, update_id, view) = match place {
            Place::Root => {
                (self.menus(pass).map(Child::View).collect(), self.root_update_id, View::Folders)
            }
            Place::View(view) => {
                let shelf = self.view_shelf(view);
                (self.visible(pass, shelf), shelf.update_id, view)
            }
            Place::Directory(serial) => {
                let shelf = self.shelves.get(serial)?;
                (self.visible(pass, shelf), shelf.update_id, View::Folders)
            }
            Place::File(..) => return None,
        };
        if !sort.is_empty() {
            children.sort_by_cached_key(|child| self.rank(*child, sort));
        }
        let total = children.len() as u32;
        let wanted = children.into_iter().skip(start as usize).take(count as usize);
        let objects = wanted.filter_map(|child| match child {
            Child::View(view) => Some(self.view_object(pass, view)),
            Child::Directory(serial) => self.directory_object(pass, serial),
            Child::File(serial) => self.file_object(pass, serial, view),
        });
        Some(Page { objects: objects.collect(), total, update_id })
    }

    /// Where an item's file is, if the pass covers the item.
    pub fn locate(&self, pass: &Pass, id: &str) -> Option<Located> {
        let Place::File(serial, view) = Place::parse(id, &self.epoch)? else { return None };
        self.file_object(pass, serial, view)?;
        let file = self.files.get(serial)?;
        let mut names = vec![file.name.as_str()];
        let mut at = self.shelves.get(file.directory)?.directory.as_ref()?;
        while let Some(parent) = at.parent {
            names.push(&at.name);
            at = self.shelves.get(parent)?.directory.as_ref()?;
        }
        let root = self.folder(at.folder)?.root.clone();
        names.push(root.trim_end_matches('/'));
        names.reverse();
        let path = names.join("/");
        Some(Located { root, path })
    }

    fn menus<'a>(&'a self, pass: &'a Pass) -> impl Iterator<Item = View> + 'a {
        View::all().filter(|view| self.view_shelf(*view).cells.total(pass) > 0)
    }

    fn view_shelf(&self, view: View) -> &Shelf {
        match view {
            View::Kind(kind) => &self.views[kind.index()],
            View::Folders => &self.top,
        }
    }

    fn visible(&self, pass: &Pass, shelf: &Shelf) -> Vec<Child> {
        let seen =
            |serial: &u32| self.shelves.get(*serial).is_some_and(|s| s.cells.total(pass) > 0);
        let directories =
            shelf.directories.iter().map(|(_, s)| *s).filter(seen).map(Child::Directory);
        let covered = |serial: &u32| pass.covers_all() || self.covers(pass, *serial);
        let files = shelf.files.iter().map(|(_, s)| *s).filter(covered).map(Child::File);
        directories.chain(files).collect()
    }

    fn child_count(&self, pass: &Pass, shelf: &Shelf) -> u32 {
        let seen = |serial: u32| self.shelves.get(serial).is_some_and(|s| s.cells.total(pass) > 0);
        let directories = shelf.directories.iter().filter(|(_, s)| seen(*s)).count() as u32;
        // Items in the list itself, without walking it where nothing can be hidden.
        let files = if pass.covers_all() {
            shelf.files.len() as u32
        } else if shelf.directories.is_empty() {
            shelf.cells.total(pass)
        } else {
            shelf.files.iter().filter(|(_, s)| self.covers(pass, *s)).count() as u32
        };
        directories + files
    }

    fn covers(&self, pass: &Pass, serial: u32) -> bool {
        let Some(file) = self.files.get(serial) else { return false };
        let folder =
            self.shelves.get(file.directory).and_then(|s| s.directory.as_ref()).map(|d| d.folder);
        folder.is_some_and(|folder| pass.covers(folder, file.facts.kind))
    }

    fn view_object(&self, pass: &Pass, view: View) -> Object<'_> {
        let shelf = self.view_shelf(view);
        Object {
            id: Place::View(view).id(&self.epoch),
            parent: "0".into(),
            title: view.title().into(),
            node: Node::Container {
                children: self.child_count(pass, shelf),
                directory: false,
                items: shelf.cells.total(pass),
            },
        }
    }

    fn directory_object(&self, pass: &Pass, serial: u32) -> Option<Object<'_>> {
        let shelf = self.shelves.get(serial)?;
        let directory = shelf.directory.as_ref()?;
        let items = shelf.cells.total(pass);
        // What holds nothing for this pass is not shown, unless the pass covers everything:
        // then the person sees the folder that is still empty.
        if items == 0 && !pass.covers_all() {
            return None;
        }
        let parent = directory.parent.map_or(Place::View(View::Folders), Place::Directory);
        Some(Object {
            id: Place::Directory(serial).id(&self.epoch),
            parent: parent.id(&self.epoch),
            title: directory.name.clone(),
            node: Node::Container {
                children: self.child_count(pass, shelf),
                directory: true,
                items,
            },
        })
    }

    fn file_object(&self, pass: &Pass, serial: u32, view: View) -> Option<Object<'_>> {
        let file = self.files.get(serial)?;
        let in_view = view == View::Folders || view == View::Kind(file.facts.kind);
        if !in_view || !self.covers(pass, serial) {
            return None;
        }
        let original = Place::File(serial, View::Folders);
        let parent = match view {
            View::Folders => Place::Directory(file.directory),
            View::Kind(kind) => Place::View(View::Kind(kind)),
        };
        Some(Object {
            id: Place::File(serial, view).id(&self.epoch),
            parent: parent.id(&self.epoch),
            title: title(file),
            node: Node::Item(ItemView {
                serial,
                facts: &file.facts,
                reference: (view != View::Folders).then(|| original.id(&self.epoch)),
                file_name: &file.name,
            }),
        })
    }

    /// A key that sorts children by the criteria, then by title and serial.
    fn rank(&self, child: Child, sort: &[SortKey]) -> Vec<Rank> {
        let (title, date, serial) = match child {
            Child::View(view) => (view.title().to_owned(), None, 0),
            Child::Directory(serial) => {
                let name = self
                    .shelves
                    .get(serial)
                    .and_then(|s| s.directory.as_ref())
                    .map(|d| d.name.clone());
                (name.unwrap_or_default(), None, serial)
            }
            Child::File(serial) => {
                let file = self.files.get(serial);
                (
                    file.map(title).unwrap_or_default(),
                    file.and_then(|f| f.facts.date.clone()),
                    serial,
                )
            }
        };
        let mut ranks: Vec<Rank> = sort
            .iter()
            .map(|key| {
                let value = match key.by {
                    SortBy::Title => Some(sort_key(&title)),
                    SortBy::Date => date.clone(),
                };
                // Absent comes last in rising order, first in falling (CDS-44).
                if key.descending {
                    Rank::Down(std::cmp::Reverse((value.is_none(), value)))
                } else {
                    Rank::Up((value.is_none(), value))
                }
            })
            .collect();
        ranks.push(Rank::Up((false, Some(sort_key(&title)))));
        ranks.push(Rank::Serial(serial));
        ranks
    }

    /// The kind of an item, if the pass covers it.
    pub fn kind_of(&self, pass: &Pass, id: &str) -> Option<Kind> {
        match self.object(pass, id)?.node {
            Node::Item(item) => Some(item.facts.kind),
            Node::Container { .. } => None,
        }
    }
}

/// One comparable part of a sort key; parts at the same position have the same variant.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
enum Rank {
    Up((bool, Option<String>)),
    Down(std::cmp::Reverse<(bool, Option<String>)>),
    Serial(u32),
}
