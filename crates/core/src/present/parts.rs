//! Large containers in parts, for devices that show only so many objects of one (IOP-15).
//!
//! A container of more objects than the device takes holds *parts* instead: the first so many
//! of its children, the next, and so on; where there would be too many parts, parts of parts.
//! Their ids say which they are, so they stay while the container grows, and nothing is kept.

use mostra_protocol::model::xml::clip;

use super::requested_object::RequestedObject;
use crate::access::Pass;
use crate::catalogue::{Catalogue, ContainerClass, Node, Object, Page};
use crate::traits::Traits;

/// One part of a container.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Part {
    /// 1 for one that holds the container's children, 2 for one that holds such parts …
    level: u32,
    /// Its number among those of its level, from 0.
    index: u32,
}

impl Part {
    /// What an id asks for: a part, if this device is shown any, and the container that it is of.
    pub(super) fn asked<'a>(id: &'a str, traits: &Traits) -> (Option<Part>, &'a str) {
        match Part::parse(id).filter(|_| traits.container_objects.is_some()) {
            Some((part, container)) => (Some(part), container),
            None => (None, id),
        }
    }

    fn parse(id: &str) -> Option<(Part, &str)> {
        let (level, rest) = id.strip_prefix('p')?.split_once('_')?;
        let (index, container) = rest.split_once('_')?;
        let number = |text: &str| {
            let digits = text.bytes().all(|b| b.is_ascii_digit()) && !text.starts_with('0');
            (digits || text == "0").then(|| text.parse().ok()).flatten()
        };
        Some((Part { level: number(level)?, index: number(index)? }, container))
    }

    fn id(self, container: &str) -> String {
        format!("p{}_{}_{container}", self.level, self.index)
    }
}

/// How a container of some size is cut for a device.
#[derive(Debug, Clone, Copy)]
struct Cut {
    /// Children in all.
    total: u32,
    /// Most objects in a container.
    most: u32,
    /// The level of the parts that stand in the container itself; 0 if it is whole.
    top: u32,
}

impl Cut {
    fn of(total: u32, traits: &Traits) -> Cut {
        // One object at a time would lead to parts of parts without end.
        let most = traits.container_objects.map_or(u32::MAX, |most| most.max(2));
        let mut cut = Cut { total, most, top: 0 };
        while total.div_ceil(cut.size(cut.top)) > most {
            cut.top += 1;
        }
        cut
    }

    /// Children in a whole part of a level.
    fn size(self, level: u32) -> u32 {
        self.most.checked_pow(level).unwrap_or(u32::MAX)
    }

    /// What the container itself holds: parts, or its children.
    fn shown(self) -> u32 {
        self.total.div_ceil(self.size(self.top))
    }

    fn is_there(self, part: Part) -> bool {
        let first = u64::from(part.index) * u64::from(self.size(part.level));
        part.level >= 1 && part.level <= self.top && first < u64::from(self.total)
    }

    /// The first child in a part, and how many there are.
    fn range(self, part: Part) -> (u32, u32) {
        let size = self.size(part.level);
        let first = part.index.saturating_mul(size).min(self.total);
        (first, size.min(self.total - first))
    }

    /// Ids of all parts of a container.
    fn parts(self) -> impl Iterator<Item = Part> {
        (1..=self.top).flat_map(move |level| {
            let count = self.total.div_ceil(self.size(level));
            (0..count).map(move |index| Part { level, index })
        })
    }
}

/// A container as a device that takes so many objects sees it.
pub(super) struct ContainerListing<'a> {
    asked: &'a RequestedObject<'a>,
    cut: Cut,
}

impl ContainerListing<'_> {
    pub(super) fn of<'a>(asked: &'a RequestedObject<'a>, traits: &Traits) -> ContainerListing<'a> {
        // How many children there are matters only to who is shown parts.
        let children = traits.container_objects.map_or(0, |_| asked.child_count());
        ContainerListing { asked, cut: Cut::of(children, traits) }
    }

    /// What stands in the container itself (`None`) or in a part of it: `start` to
    /// `start + count` of that. `None` if there is no such part.
    pub(super) fn page(&self, part: Option<Part>, start: u32, count: u32) -> Option<Page> {
        let (level, (first, length)) = match part {
            None => (self.cut.top + 1, (0, self.cut.total)),
            Some(part) => (self.cut.is_there(part).then_some(part.level)?, self.cut.range(part)),
        };
        let level = level - 1;
        if level > 0 {
            let here = length.div_ceil(self.cut.size(level));
            let before = first / self.cut.size(level);
            let indexes = (start..here).take(count as usize);
            let objects = indexes.filter_map(|at| self.object(Part { level, index: before + at }));
            return Some(self.page_of(objects.collect(), here));
        }
        let Some(part) = part else { return self.asked.children(start, count) };
        let count = count.min(length.saturating_sub(start));
        if count == 0 {
            return Some(self.page_of(vec![], length));
        }
        let mut page = self.asked.children(first + start, count)?;
        page.total = length;
        let id = part.id(self.asked.id);
        page.objects.iter_mut().for_each(|object| object.parent.clone_from(&id));
        Some(page)
    }

    fn page_of(&self, objects: Vec<Object>, total: u32) -> Page {
        Page { objects, total, update_id: self.asked.update_id() }
    }

    /// A part as an object.
    pub(super) fn object(&self, part: Part) -> Option<Object> {
        if !self.cut.is_there(part) {
            return None;
        }
        let (first, length) = self.cut.range(part);
        let title = |at: u32| {
            let page = self.asked.children(at, 1)?;
            Some(clip(&page.objects.first()?.title, TITLE).to_owned())
        };
        let (from, to) = (title(first)?, title(first + length - 1)?);
        // Numbers of one length, as some devices sort by themselves.
        let digits = self.cut.total.ilog10() as usize + 1;
        let (low, high) = (first + 1, first + length);
        let children = match part.level {
            1 => length,
            level => length.div_ceil(self.cut.size(level - 1)),
        };
        let parent = match part.level == self.cut.top {
            true => self.asked.id.to_owned(),
            false => {
                Part { level: part.level + 1, index: part.index / self.cut.most }.id(self.asked.id)
            }
        };
        Some(Object {
            id: part.id(self.asked.id),
            parent,
            title: format!("{low:0digits$}-{high:0digits$} {from} … {to}"),
            node: Node::Container {
                children,
                class: ContainerClass::Part,
                items: 0,
                artist: None,
                art: None,
            },
        })
    }
}

/// Most bytes of each of the two titles by which a part is called.
const TITLE: usize = 40;

/// How many objects a container of so many children shows to a device.
pub(super) fn shown(children: u32, traits: &Traits) -> u32 {
    match traits.container_objects {
        None => children,
        Some(_) => Cut::of(children, traits).shown(),
    }
}

/// Ids of the parts in which a device sees a container: they change when it does (CDS-49).
pub fn ids_of_parts(catalogue: &Catalogue, pass: &Pass, id: &str, traits: &Traits) -> Vec<String> {
    if traits.container_objects.is_none() {
        return Vec::new();
    }
    let Some(Node::Container { children, .. }) = catalogue.object(pass, id).map(|o| o.node) else {
        return Vec::new();
    };
    Cut::of(children, traits).parts().take(PARTS).map(|part| part.id(id)).collect()
}

/// Most parts of one container that an event names.
const PARTS: usize = 200;
