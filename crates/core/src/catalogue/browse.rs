//! Reading the catalogue. Everything here takes a pass; what a pass does not cover does not
//! exist.

use crate::ids::{FileId, FolderId, UpdateId};
use crate::stop::Stop;
use mostra_protocol::model::property::Property;
use mostra_protocol::model::sort::SortKey;

use super::access_class::Visible;
use super::change::title;
use super::container::{Container, DEPTH, ROOT};
use super::id::{Fixed, NodeId, ObjectId};
use super::object::{
    BROADCAST, ContainerClass, ItemView, Located, Node, Object, Page, Summary, container_class,
    item_class,
};
use super::placement::{ContainerKind, NEWEST, Order};
use super::record::Record;
use super::search::Window;
use super::settle::second;
use super::sorted::Entry;
use super::{Catalogue, File, Titles};
use crate::Kind;
use crate::access::Pass;

/// Most objects in one page, whatever was asked (CDS-32).
pub(super) const PAGE: u32 = 1000;

impl Catalogue {
    pub(super) fn seen(&self, pass: &Pass) -> Visible<'_> {
        Visible::new(pass, &self.slots, &self.access_sets)
    }

    /// An object, or `None` if there is none for this pass.
    pub fn object(&self, pass: &Pass, id: &str) -> Option<Object> {
        let seen = self.seen(pass);
        let entry = self.entry(&seen, ObjectId::parse(id, &self.epoch)?)?;
        self.entry_object(&seen, entry)
    }

    /// What an object is called and whether it is a container, or `None` if there is none for
    /// this pass.
    pub fn summary(&self, pass: &Pass, id: &str) -> Option<Summary> {
        match self.entry(&self.seen(pass), ObjectId::parse(id, &self.epoch)?)? {
            Entry::Container(place) => {
                let container = self.containers.get(place)?;
                let title = self.container_title(container).into_owned();
                Some(Summary { title, is_container: true })
            }
            Entry::Item { serial, .. } => {
                let tail = self.record(serial)?.tail()?;
                let title = title(tail.title, tail.name, self.titles_of(serial)).to_owned();
                Some(Summary { title, is_container: false })
            }
        }
    }

    /// How many children of a container a pass covers; `None` for an item.
    pub fn child_count(&self, pass: &Pass, id: &str) -> Option<u32> {
        let seen = self.seen(pass);
        match self.entry(&seen, ObjectId::parse(id, &self.epoch)?)? {
            Entry::Container(place) => Some(self.visible(&seen, self.containers.get(place)?)),
            Entry::Item { .. } => None,
        }
    }

    /// How many items of a kind a pass covers, the test pieces left out.
    pub fn count_of(&self, pass: &Pass, kind: Kind) -> u32 {
        self.child_count(pass, Fixed::all(kind).id()).unwrap_or(0)
    }

    /// The names of the files that are test pieces, as they are shown by now.
    pub fn test_piece_files(&self) -> Vec<String> {
        let top = self.folder(FolderId::TEST_PIECES).map(|folder| folder.container);
        let container = top.and_then(|top| self.container_of(NodeId::directory(top)));
        let serials = container.map(|(_, container)| container.items.iter());
        let name = |serial| Some(self.record(serial)?.tail()?.name.to_owned());
        serials.into_iter().flatten().filter_map(name).collect()
    }

    /// A container's update id, or that of the container around an item (CDS-47).
    pub fn object_update_id(&self, pass: &Pass, id: &str) -> Option<UpdateId> {
        match self.entry(&self.seen(pass), ObjectId::parse(id, &self.epoch)?)? {
            Entry::Container(ROOT) => Some(self.update_id),
            Entry::Container(place) | Entry::Item { at: place, .. } => {
                Some(self.containers.get(place)?.update_id)
            }
        }
    }

    /// Whether a container is there for a pass.
    pub fn is_seen(&self, pass: &Pass, id: &str) -> bool {
        let place = ObjectId::parse(id, &self.epoch);
        place.and_then(|place| self.entry(&self.seen(pass), place)).is_some()
    }

    /// What an id stands for, if the pass covers it.
    fn entry(&self, seen: &Visible<'_>, place: ObjectId) -> Option<Entry> {
        match place {
            ObjectId::Container(node) => {
                let (place, container) = self.container_of(node)?;
                (place == ROOT || container.access_counts.total(seen) > 0)
                    .then_some(Entry::Container(place))
            }
            ObjectId::File(serial) => {
                let record = self.record(serial).filter(|r| seen.covers_class(r.access_class()))?;
                let at = self.nodes.get(NodeId::directory(record.directory()).0)?;
                Some(Entry::Item { serial, at, count: 0 })
            }
            ObjectId::Reference(node, serial, count) => {
                let record = self.record(serial).filter(|r| seen.covers_class(r.access_class()))?;
                let (at, container) = self.container_of(node)?;
                let mut here = false;
                match container.kind {
                    ContainerKind::Directory => return None,
                    ContainerKind::Playlist => {
                        let times = container.items.iter().filter(|s| *s == serial).count();
                        here = (count as usize) < times;
                    }
                    _ if count == 0 => self.placements(record, |way| {
                        here |= way.last().is_some_and(|step| step.node == node);
                    }),
                    _ => {}
                }
                here.then_some(Entry::Item { serial, at, count })
            }
        }
    }

    pub(super) fn entry_object(&self, seen: &Visible<'_>, entry: Entry) -> Option<Object> {
        match entry {
            Entry::Container(place) => self.container_object(seen, place),
            Entry::Item { serial, at, count } => self.item_object(serial, at, count),
        }
    }

    /// The children `start` to `start + count` of a container (`count` 0: all), or `None` if
    /// there is no such container for this pass. Without sort keys: containers, then items, in
    /// the container's own order (CDS-35). The order is total, so pages neither overlap nor
    /// skip (CDS-34).
    pub fn children(
        &self,
        pass: &Pass,
        id: &str,
        start: u32,
        count: u32,
        sort: &[SortKey],
    ) -> Option<Page> {
        self.children_until(&Stop::default(), pass, id, Window { start, count, sort })
    }

    /// The same for somebody who may stop waiting: the page is worth nothing then.
    pub fn children_until(
        &self,
        stop: &Stop,
        pass: &Pass,
        id: &str,
        window: Window<'_>,
    ) -> Option<Page> {
        let Window { start, count, sort } = window;
        let seen = self.seen(pass);
        let place = ObjectId::parse(id, &self.epoch)?;
        let Some(Entry::Container(place)) = self.entry(&seen, place) else { return None };
        let container = self.containers.get(place)?;
        let count = if count == 0 { PAGE } else { count.min(PAGE) };
        let total = self.visible(&seen, container);
        let window = Window { start, count, sort };
        let entries = self.page(stop, &seen, place, container, window);
        let objects = entries.into_iter().filter_map(|e| self.entry_object(&seen, e)).collect();
        Some(Page { objects, total, update_id: container.update_id })
    }

    /// How many children of a container are covered.
    fn visible(&self, seen: &Visible<'_>, container: &Container) -> u32 {
        let items = container.items.count(&|access_class| seen.covers_class(access_class));
        let items = if self.is_newest(container) { items.min(NEWEST) } else { items };
        container.child_containers.count(&|access_set| seen.covers_set(access_set)) + items
    }

    fn is_newest(&self, container: &Container) -> bool {
        self.order(container.kind, container.subject) == Order::Added
    }

    fn page(
        &self,
        stop: &Stop,
        seen: &Visible<'_>,
        place: u32,
        container: &Container,
        window: Window<'_>,
    ) -> Vec<Entry> {
        let Window { start, count, sort } = window;
        let (access_set, access_class) = (
            |access_set| seen.covers_set(access_set),
            |access_class| seen.covers_class(access_class),
        );
        let access_set_of = |place| self.containers.get(place).map_or(0, |s| s.access_set);
        let access_class_of = |serial| self.record(serial).map_or(0, Record::access_class);
        let item = |serial| Entry::Item { serial, at: place, count: 0 };
        let listed = container.kind == ContainerKind::Playlist;
        if sort.is_empty() && !listed {
            let mut page =
                container.child_containers.page(&access_set, &access_set_of, start, count, false);
            let first = page.len() as u32;
            let mut entries: Vec<Entry> = page.drain(..).map(Entry::Container).collect();
            if first < count {
                let before = container.child_containers.count(&access_set);
                let start = start.saturating_sub(before);
                let mut count = count - first;
                if self.is_newest(container) {
                    count = count.min(NEWEST.saturating_sub(start));
                }
                let items =
                    container.items.page(&access_class, &access_class_of, start, count, false);
                entries.extend(items.into_iter().map(item));
            }
            return entries;
        }
        // One order that stands ready, or that turned round.
        if let [SortKey { by, descending }] = sort
            && !listed
            && container.child_containers.is_empty()
        {
            let wanted = match by {
                Property::Title => Some(Order::Title),
                Property::Date => Some(Order::Date),
                _ => None,
            };
            let own = self.order(container.kind, container.subject);
            let list = match wanted {
                Some(order) if order == own => Some(&container.items),
                Some(order) if order == second(own) => container.other.as_deref(),
                _ => None,
            };
            if let Some(list) = list {
                let page = list.page(&access_class, &access_class_of, start, count, *descending);
                return page.into_iter().map(item).collect();
            }
        }
        if *sort == [SortKey { by: Property::Title, descending: false }]
            && container.items.is_empty()
            && container.child_containers.is_large()
        {
            let page =
                container.child_containers.page(&access_set, &access_set_of, start, count, false);
            return page.into_iter().map(Entry::Container).collect();
        }
        let covered = |entry: &Entry| match entry {
            Entry::Container(place) => seen.covers_set(access_set_of(*place)),
            Entry::Item { serial, .. } => seen.covers_class(access_class_of(*serial)),
        };
        let window = |entries: &[Entry]| {
            let entries = entries.iter().copied().filter(covered);
            entries.skip(start as usize).take(count as usize).collect()
        };
        if self.is_newest(container) {
            let newest = container.items.page(&access_class, &access_class_of, 0, NEWEST, false);
            return window(&self.sort_entries(newest.into_iter().map(item).collect(), sort, stop));
        }
        if sort.is_empty() {
            return window(&self.children_of(place, container));
        }
        window(&self.sorted_children(place, container, sort, stop))
    }

    /// Where an item's file is, if the pass covers the item.
    pub fn locate(&self, pass: &Pass, id: &str) -> Option<Located> {
        let seen = self.seen(pass);
        let entry = self.entry(&seen, ObjectId::parse(id, &self.epoch)?)?;
        let Entry::Item { serial, .. } = entry else { return None };
        self.located(serial)
    }

    /// Where a file is.
    pub(super) fn located(&self, serial: u32) -> Option<Located> {
        let folder = self.directories.get(self.record(serial)?.directory())?.folder;
        let root = self.folder(folder)?.root.clone();
        let path = format!("{}/{}", root.trim_end_matches('/'), self.path_below(FileId(serial))?);
        let links = self.links.get(&folder).cloned().unwrap_or_default();
        Some(Located { root, path, links })
    }

    /// A file as it was put.
    pub(super) fn file(&self, serial: u32) -> Option<File> {
        let record = self.record(serial)?;
        let (directory, name) = (record.directory(), record.tail()?.name.to_owned());
        let facts = self.unpacked(record)?.into();
        Some(File { serial: FileId(serial), directory, name, facts })
    }

    fn container_object(&self, seen: &Visible<'_>, place: u32) -> Option<Object> {
        let container = self.containers.get(place)?;
        let around = self.containers.get(container.around)?;
        let id = |container: &Container| ObjectId::Container(container.node).id(&self.epoch);
        // In a menu a file appears many times; what counts is how many there are.
        let counted = match Fixed::from_number(container.subject)
            .filter(|_| container.kind == ContainerKind::Fixed)
        {
            Some(Fixed::Root) => Some(Fixed::Folders),
            Some(Fixed::Video) => Some(Fixed::VideoAll),
            Some(Fixed::Music) => Some(Fixed::MusicAll),
            Some(Fixed::Pictures) => Some(Fixed::PictureAll),
            _ => None,
        };
        let counted = match counted {
            Some(fixed) => self.container_of(fixed.node()).map(|(_, container)| container),
            None => Some(container),
        };
        let class = container_class(container.kind);
        let album = class == ContainerClass::Album;
        Some(Object {
            id: id(container),
            parent: if place == ROOT { "-1".into() } else { id(around) },
            title: self.container_title(container).into_owned(),
            node: Node::Container {
                children: self.visible(seen, container),
                class,
                items: counted.map_or(0, |container| container.access_counts.total(seen)),
                artist: self.album_artist(container).filter(|_| album).map(str::to_owned),
                art: self.art_of(seen, container, 2).and_then(|serial| {
                    let facts = self.unpacked(self.record(serial)?)?;
                    Some(Box::new((ObjectId::File(serial).id(&self.epoch), facts)))
                }),
            },
        })
    }

    /// The first file in a container that has a picture (CDS-57), looked for in its first few
    /// children and not deep.
    fn art_of(&self, seen: &Visible<'_>, container: &Container, depth: usize) -> Option<u32> {
        if container.kind == ContainerKind::Fixed {
            return None;
        }
        let access_class_of = |serial| self.record(serial).map_or(0, Record::access_class);
        let first = container.items.page(
            &|access_class| seen.covers_class(access_class),
            &access_class_of,
            0,
            4,
            false,
        );
        let pictured = |serial: &u32| self.record(*serial).is_some_and(|r| r.is_pictured());
        if let Some(serial) = first.into_iter().find(pictured) {
            return Some(serial);
        }
        let mut containers =
            container.child_containers.iter().take(2).filter_map(|c| self.containers.get(c));
        containers.find_map(|inner| {
            (depth > 0 && seen.covers_set(inner.access_set))
                .then(|| self.art_of(seen, inner, depth - 1))?
        })
    }

    pub(super) fn item_object(&self, serial: u32, at: u32, count: u32) -> Option<Object> {
        let record = self.record(serial)?;
        let container = self.containers.get(at)?;
        let original = container.kind == ContainerKind::Directory;
        let place = match original {
            true => ObjectId::File(serial),
            false => ObjectId::Reference(container.node, serial, count),
        };
        let tail = record.tail()?;
        let mime = Some(&self.options.mimes).filter(|mimes| !mimes.is_empty()).and_then(|mimes| {
            let (_, extension) = tail.name.rsplit_once('.')?;
            mimes.get(&extension.to_lowercase()).cloned()
        });
        let title = title(tail.title, tail.name, self.titles_of(serial)).to_owned();
        let file_name = tail.name.to_owned();
        let mut facts = tail.facts(record, &self.names);
        // The first is what players take that read only one (CDS-62).
        facts.captions.sort_by_key(|caption| match &caption.language {
            None => 0,
            Some(language) if self.options.locale.speaks(language) => 1,
            Some(_) => 2,
        });
        Some(Object {
            id: place.id(&self.epoch),
            parent: ObjectId::Container(container.node).id(&self.epoch),
            title,
            node: Node::Item(Box::new(ItemView {
                class: self.class_of(serial, record.kind()),
                serial: FileId(serial),
                folder: self
                    .directories
                    .get(record.directory())
                    .map_or(FolderId::default(), |d| d.folder),
                facts,
                reference: (!original).then(|| ObjectId::File(serial).id(&self.epoch)),
                file_name,
                mime,
            })),
        })
    }

    /// The `upnp:class` of a file.
    pub(super) fn class_of(&self, serial: u32, kind: Kind) -> &'static str {
        if self.stations.contains(&serial) { BROADCAST } else { item_class(kind) }
    }

    /// Where the title of a file comes from; a station has no name on disk.
    pub(super) fn titles_of(&self, serial: u32) -> Titles {
        if self.stations.contains(&serial) { Titles::Embedded } else { self.options.titles }
    }

    /// The kind of an item, if the pass covers it.
    pub fn kind_of(&self, pass: &Pass, id: &str) -> Option<Kind> {
        match self.object(pass, id)?.node {
            Node::Item(item) => Some(item.facts.kind),
            Node::Container { .. } => None,
        }
    }

    /// A file in its directory, if the pass covers it.
    pub fn original(&self, pass: &Pass, file: FileId) -> Option<Object> {
        let seen = self.seen(pass);
        let entry = self.entry(&seen, ObjectId::File(file.0))?;
        self.entry_object(&seen, entry)
    }

    /// The containers from the root to an object, the object itself left out (CDS-5).
    pub fn way_to(&self, pass: &Pass, id: &str) -> Vec<Object> {
        let mut way = Vec::new();
        let mut at = self.object(pass, id).map(|o| o.parent);
        while let Some(object) = at.and_then(|id| self.object(pass, &id)) {
            if way.len() > DEPTH {
                break;
            }
            at = Some(object.parent.clone());
            way.push(object);
        }
        way.reverse();
        way
    }
}
