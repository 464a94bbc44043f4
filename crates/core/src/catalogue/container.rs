//! A container: its children in order, what lies below it, and its update id.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::sync::Arc;

use super::Catalogue;
use super::access_class::AccessCounts;
use super::id::{Fixed, NodeId};
use super::list::List;
use super::placement::{ContainerKind, Order, PathSegment};
use crate::collate::{natural_bytes, natural_order};
use crate::ids::UpdateId;

/// The number of the root.
pub(super) const ROOT: u32 = 0;

/// The containers around one, at most (CDS-5).
pub(super) const DEPTH: usize = 32;

#[derive(Debug, Clone)]
pub(super) struct Container {
    pub node: NodeId,
    pub kind: ContainerKind,
    pub subject: u32,
    /// The container around it; the root's is itself.
    pub around: u32,
    /// Spellings of the subject and how many appearances use each, where there are several.
    pub spellings: Option<Box<[(u32, u32)]>>,
    /// Items below it, by access class.
    pub access_counts: AccessCounts,
    /// The number of the set of its access classes.
    pub access_set: u32,
    /// Numbers of the containers in it.
    pub child_containers: List,
    /// Serials of the files in it.
    pub items: List,
    /// The same files by title or date, whichever `items` is not, where there are many.
    pub other: Option<Arc<List>>,
    pub update_id: UpdateId,
}

impl Catalogue {
    /// Puts an empty container at a place.
    pub(super) fn container_at(&mut self, step: PathSegment, around: u32) -> u32 {
        let place = match Arc::make_mut(&mut self.free_containers).pop() {
            Some(place) => place,
            None => {
                self.next_container += 1;
                self.next_container - 1
            }
        };
        let container = Container {
            node: step.node,
            kind: step.kind,
            subject: step.subject,
            around,
            spellings: None,
            access_counts: AccessCounts::default(),
            access_set: 0,
            child_containers: List::default(),
            items: List::default(),
            other: None,
            update_id: self.update_id,
        };
        self.containers.insert(place, container);
        self.nodes.insert(step.node.0, place);
        place
    }

    pub(super) fn container_of(&self, node: NodeId) -> Option<(u32, &Container)> {
        let place = self.nodes.get(node.0)?;
        Some((place, self.containers.get(place)?))
    }

    /// A container's title.
    pub(super) fn container_title(&self, container: &Container) -> Cow<'_, str> {
        let directory = |serial| self.directories.get(serial).map_or(0, |d| d.name);
        match container.kind {
            ContainerKind::Fixed => {
                Fixed::from_number(container.subject).map_or("", Fixed::title).into()
            }
            ContainerKind::Directory | ContainerKind::PhotoAlbum => {
                self.names.text(directory(container.subject)).into()
            }
            ContainerKind::Year => container.subject.to_string().into(),
            ContainerKind::Month => {
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
                let month = (container.subject as usize).checked_sub(1).and_then(|m| MONTHS.get(m));
                (*month.unwrap_or(&"Undated")).into()
            }
            ContainerKind::Season if container.subject == 0 => "Specials".into(),
            ContainerKind::Season => format!("Season {}", container.subject).into(),
            ContainerKind::Playlist => match self.playlists.get(&container.subject) {
                Some(list) => stem(&list.name).to_owned().into(),
                None => "".into(),
            },
            _ => self.names.text(container.subject).into(),
        }
    }

    /// The number of the name that is a container's title, if a name is.
    pub(super) fn title_name(&self, container: &Container) -> Option<u32> {
        match container.kind {
            ContainerKind::Directory | ContainerKind::PhotoAlbum => {
                self.directories.get(container.subject).map(|d| d.name)
            }
            kind => kind.is_named().then_some(container.subject),
        }
    }

    pub(super) fn folded_title(&self, container: &Container) -> Cow<'_, str> {
        match self.title_name(container) {
            Some(name) => self.names.folded(name).into(),
            None => self.options.locale.fold(&self.container_title(container)).into(),
        }
    }

    /// The order of containers in a container: the fixed ones as they are written down, months
    /// and seasons by number, all others by title.
    pub(super) fn shelf_order(&self, a: u32, b: u32) -> Ordering {
        let (Some(a), Some(b)) = (self.containers.get(a), self.containers.get(b)) else {
            return a.cmp(&b);
        };
        let by_number = |container: &Container| {
            matches!(
                container.kind,
                ContainerKind::Fixed | ContainerKind::Month | ContainerKind::Season
            )
        };
        // In the root, the test pieces stand before the menus.
        let of_folder = |container: &Container| container.kind == ContainerKind::Directory;
        let of_menu = |container: &Container| container.kind == ContainerKind::Fixed;
        let order = if of_folder(a) && of_menu(b) {
            Ordering::Less
        } else if of_menu(a) && of_folder(b) {
            Ordering::Greater
        } else if by_number(a) && by_number(b) {
            a.subject.cmp(&b.subject)
        } else {
            natural_order(&self.folded_title(a), &self.folded_title(b))
        };
        order.then_with(|| a.node.cmp(&b.node))
    }

    /// The order of containers by title alone.
    pub(super) fn container_title_order(&self, a: u32, b: u32) -> Ordering {
        let (Some(a), Some(b)) = (self.containers.get(a), self.containers.get(b)) else {
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
            Order::ObjectId => x.place().cmp(&y.place()).then_with(titles),
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
