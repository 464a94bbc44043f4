//! A container: its children in order, what lies below it, and its update id.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::sync::Arc;

use super::Catalogue;
use super::cells::Cells;
use super::id::{Fixed, NodeId};
use super::list::List;
use super::spots::{Order, ShelfKind, Step};
use crate::collate::{natural_bytes, natural_order};

/// The place of the root's shelf.
pub(super) const ROOT: u32 = 0;

/// The containers around one, at most (CDS-5).
pub(super) const DEPTH: usize = 32;

#[derive(Debug, Clone)]
pub(super) struct Shelf {
    pub node: NodeId,
    pub kind: ShelfKind,
    pub subject: u32,
    /// The shelf around it; the root's is itself.
    pub around: u32,
    /// Spellings of the subject and how many appearances use each, where there are several.
    pub spellings: Option<Box<[(u32, u32)]>>,
    pub cells: Cells,
    /// Of the set of its cells.
    pub mark: u32,
    /// Places of the shelves in it.
    pub containers: List,
    /// Serials of the files in it.
    pub items: List,
    /// The same files by title or date, whichever `items` is not, where there are many.
    pub other: Option<Arc<List>>,
    pub update_id: u32,
}

impl Catalogue {
    /// Puts an empty shelf at a place.
    pub(super) fn shelf_at(&mut self, step: Step, around: u32) -> u32 {
        let place = match Arc::make_mut(&mut self.free_shelves).pop() {
            Some(place) => place,
            None => {
                self.next_shelf += 1;
                self.next_shelf - 1
            }
        };
        let shelf = Shelf {
            node: step.node,
            kind: step.kind,
            subject: step.subject,
            around,
            spellings: None,
            cells: Cells::default(),
            mark: 0,
            containers: List::default(),
            items: List::default(),
            other: None,
            update_id: self.update_id,
        };
        self.shelves.insert(place, shelf);
        self.nodes.insert(step.node.0, place);
        place
    }

    pub(super) fn shelf_of(&self, node: NodeId) -> Option<(u32, &Shelf)> {
        let place = self.nodes.get(node.0)?;
        Some((place, self.shelves.get(place)?))
    }

    /// A container's title.
    pub(super) fn shelf_title(&self, shelf: &Shelf) -> Cow<'_, str> {
        let directory = |serial| self.directories.get(serial).map_or(0, |d| d.name);
        match shelf.kind {
            ShelfKind::Fixed => Fixed::from_number(shelf.subject).map_or("", Fixed::title).into(),
            ShelfKind::Directory | ShelfKind::PhotoAlbum => {
                self.names.text(directory(shelf.subject)).into()
            }
            ShelfKind::Year => shelf.subject.to_string().into(),
            ShelfKind::Month => {
                const MONTHS: [&str; 12] = [
                    "January",
                    "February",
                    "March",
                    "April",
                    "May",
                    "June",
                    "July",
                    "August",
                    "September",
                    "October",
                    "November",
                    "December",
                ];
                let month = (shelf.subject as usize).checked_sub(1).and_then(|m| MONTHS.get(m));
                (*month.unwrap_or(&"Undated")).into()
            }
            ShelfKind::Season if shelf.subject == 0 => "Specials".into(),
            ShelfKind::Season => format!("Season {}", shelf.subject).into(),
            ShelfKind::Playlist => match self.playlists.get(&shelf.subject) {
                Some(list) => stem(&list.name).to_owned().into(),
                None => "".into(),
            },
            _ => self.names.text(shelf.subject).into(),
        }
    }

    /// The number of the name that is a container's title, if a name is.
    pub(super) fn title_name(&self, shelf: &Shelf) -> Option<u32> {
        match shelf.kind {
            ShelfKind::Directory | ShelfKind::PhotoAlbum => {
                self.directories.get(shelf.subject).map(|d| d.name)
            }
            kind => kind.is_named().then_some(shelf.subject),
        }
    }

    pub(super) fn folded_title(&self, shelf: &Shelf) -> Cow<'_, str> {
        match self.title_name(shelf) {
            Some(name) => self.names.folded(name).into(),
            None => self.options.locale.fold(&self.shelf_title(shelf)).into(),
        }
    }

    /// The order of containers in a container: the fixed ones as they are written down, months
    /// and seasons by number, all others by title.
    pub(super) fn shelf_order(&self, a: u32, b: u32) -> Ordering {
        let (Some(a), Some(b)) = (self.shelves.get(a), self.shelves.get(b)) else {
            return a.cmp(&b);
        };
        let by_number = |shelf: &Shelf| {
            matches!(shelf.kind, ShelfKind::Fixed | ShelfKind::Month | ShelfKind::Season)
        };
        let order = if by_number(a) && by_number(b) {
            a.subject.cmp(&b.subject)
        } else {
            natural_order(&self.folded_title(a), &self.folded_title(b))
        };
        order.then_with(|| a.node.cmp(&b.node))
    }

    /// The order of containers by title alone.
    pub(super) fn shelf_title_order(&self, a: u32, b: u32) -> Ordering {
        let (Some(a), Some(b)) = (self.shelves.get(a), self.shelves.get(b)) else {
            return a.cmp(&b);
        };
        natural_order(&self.folded_title(a), &self.folded_title(b))
            .then_with(|| a.node.cmp(&b.node))
    }

    /// The order of files; total, ties broken by serial (CDS-34).
    pub(super) fn file_order(&self, order: Order, a: u32, b: u32) -> Ordering {
        let title = |serial| self.titles.get(serial).unwrap_or_default();
        let titles = || natural_bytes(title(a), title(b)).then_with(|| a.cmp(&b));
        let (Some(x), Some(y)) = (self.record(a), self.record(b)) else { return titles() };
        match order {
            Order::Title | Order::Listed => titles(),
            Order::Added => y.added().cmp(&x.added()).then_with(|| b.cmp(&a)),
            Order::Place => x.place().cmp(&y.place()).then_with(titles),
            Order::Date => {
                let date = |date: u64| (date == 0, date);
                date(x.date()).cmp(&date(y.date())).then_with(titles)
            }
        }
    }
}

/// A file's name without its extension.
pub(super) fn stem(name: &str) -> &str {
    match name.rsplit_once('.') {
        Some((stem, _)) if !stem.is_empty() => stem,
        _ => name,
    }
}
