//! Search (requirements 6): from criteria to the objects that match.

use std::collections::{BTreeMap, HashSet};

use mostra_protocol::model::property::Property;
use mostra_protocol::model::search::{Criteria, Operator};
use mostra_protocol::model::sort::SortKey;

use super::Catalogue;
use super::access_class::Visible;
use super::browse::PAGE;
use super::container::{Container, ROOT};
use super::id::{Fixed, NodeId, ObjectId};
use super::list::List;
use super::object::{BROADCAST, Page, item_class};
use super::placement::{ContainerKind, Order};
use super::record::Record;
use super::sorted::Entry;
use crate::access::Pass;
use crate::ids::FolderId;
use crate::stop::Stop;
use crate::{Kind, Locale};

/// Which of the objects found are wanted, and in what order.
#[derive(Debug, Clone, Copy)]
pub struct Window<'a> {
    /// The first, from 0.
    pub start: u32,
    /// How many; 0 for as many as a page holds.
    pub count: u32,
    /// The order; by title if empty.
    pub sort: &'a [SortKey],
}

/// What criteria say at their top, where all of it must hold.
#[derive(Default)]
struct Outline {
    /// The kinds of items that can match at all.
    kinds: Option<HashSet<Kind>>,
    /// Whether containers cannot match.
    items_only: bool,
    /// Folded texts that the title must hold.
    needles: Vec<String>,
    /// What remains to be tested one by one.
    rest: Vec<Criteria>,
    /// Whether single appearances are asked for, and not items (SRCH-14).
    appearances: bool,
    /// Whether nobody waits for what is found any more.
    stop: Stop,
}

impl Outline {
    fn of(criteria: &Criteria, stations: bool, locale: Locale) -> Outline {
        let mut outline = Outline::default();
        let all = match criteria {
            Criteria::And(all) => all.as_slice(),
            one => std::slice::from_ref(one),
        };
        for one in all {
            match one {
                Criteria::Everything => {}
                Criteria::Test(Property::Class, Operator::DerivedFrom, class) => {
                    // Stations are of another class than the rest of their kind.
                    let broadcasts = stations && within(BROADCAST, class);
                    let holds = |kind: &Kind| {
                        within(item_class(*kind), class) || (*kind == Kind::Music && broadcasts)
                    };
                    let kinds: HashSet<Kind> = Kind::ALL.into_iter().filter(holds).collect();
                    outline.items_only |= class.starts_with("object.item");
                    let mixed = stations
                        && kinds.contains(&Kind::Music)
                        && broadcasts != within(item_class(Kind::Music), class);
                    let exact = class.starts_with("object.item") && !mixed;
                    if !exact || kinds.is_empty() {
                        outline.rest.push(one.clone());
                    }
                    outline.kinds = Some(match outline.kinds.take() {
                        Some(before) => before.intersection(&kinds).copied().collect(),
                        None => kinds,
                    });
                }
                Criteria::Test(Property::Title, Operator::Contains, text) if !text.is_empty() => {
                    outline.needles.push(locale.fold(text));
                }
                // Originals only, as players ask to see nothing twice.
                Criteria::Exists(Property::RefId, false) => {}
                one => {
                    outline.appearances |= names_appearance(one);
                    outline.rest.push(one.clone());
                }
            }
        }
        outline
    }
}

/// A list, by title, that holds each item of a scope once.
struct SearchScope<'a> {
    list: &'a List,
    /// The container at which its items appear; `None` for their directories.
    at: Option<u32>,
    /// Whether it holds nothing else than items of the kinds asked for.
    exact: bool,
}

/// Whether a class is another or derived from it.
fn within(class: &str, of: &str) -> bool {
    class.strip_prefix(of).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
}

fn names_appearance(criteria: &Criteria) -> bool {
    match criteria {
        Criteria::Everything => false,
        Criteria::Or(all) | Criteria::And(all) => all.iter().any(names_appearance),
        Criteria::Exists(property, _) | Criteria::Test(property, ..) => {
            matches!(property, Property::RefId | Property::Id | Property::ParentId)
        }
    }
}

impl Catalogue {
    /// The objects below a container that match, containers first, each by title unless `sort`
    /// says otherwise; `None` if there is no such container for this pass (SRCH-6).
    pub fn search(
        &self,
        pass: &Pass,
        container: &str,
        criteria: &Criteria,
        start: u32,
        count: u32,
        sort: &[SortKey],
    ) -> Option<Page> {
        let window = Window { start, count, sort };
        self.search_until(&Stop::default(), pass, container, criteria, window)
    }

    /// The same, given up as soon as `stop` says so; what is found then is worth nothing.
    pub fn search_until(
        &self,
        stop: &Stop,
        pass: &Pass,
        container: &str,
        criteria: &Criteria,
        window: Window<'_>,
    ) -> Option<Page> {
        let Window { start, count, sort } = window;
        let ObjectId::Container(node) = ObjectId::parse(container, &self.epoch)? else {
            return None;
        };
        let seen = self.seen(pass);
        let (place, container) = self.container_of(node)?;
        if place != ROOT && container.access_counts.total(&seen) == 0 {
            return None;
        }
        let count = if count == 0 { PAGE } else { count.min(PAGE) };
        let outline = Outline {
            stop: stop.clone(),
            ..Outline::of(criteria, !self.stations.is_empty(), self.options.locale)
        };
        let update_id = if place == ROOT { self.update_id } else { container.update_id };
        let page = |entries: Vec<Entry>, total: u32| Page {
            objects: entries.into_iter().filter_map(|e| self.entry_object(&seen, e)).collect(),
            total,
            update_id,
        };
        let containers = if outline.items_only {
            Vec::new()
        } else {
            self.find_containers(&seen, place, &outline)
        };
        let list = self.whole_list(place, &outline);
        // Test pieces are in no list of all, and come before what is.
        let pieces = match place == ROOT && seen.test_pieces {
            true => self.find_test_pieces(&seen, &outline),
            false => Vec::new(),
        };
        // The usual question of players: everything of one kind. Its list stands ready.
        let all_match = outline.needles.is_empty() && outline.rest.is_empty();
        if let Some(SearchScope { list, at, exact: true }) = list
            && all_match
            && sort.is_empty()
            && outline.items_only
            && pieces.is_empty()
        {
            let (access_class, access_set) =
                (|c| seen.covers_class(c), |s| self.record(s).map_or(0, Record::access_class));
            let serials = list.page(&access_class, &access_set, start, count, false);
            let entries = serials.into_iter().filter_map(|s| self.appearance(s, at)).collect();
            return Some(page(entries, list.count(&access_class)));
        }
        // Of a long list only the page is made into objects.
        if let (Some(scope), true) = (&list, sort.is_empty() && pieces.is_empty()) {
            let serials = self.find_in_list(&seen, scope, &outline);
            let total = (containers.len() + serials.len()) as u32;
            let items = serials.iter().filter_map(|serial| self.appearance(*serial, scope.at));
            let skipped = (start as usize).saturating_sub(containers.len());
            let wanted = containers.iter().copied().skip(start as usize);
            let items = items.skip(skipped).take(count as usize);
            return Some(page(wanted.chain(items).take(count as usize).collect(), total));
        }
        let mut items = match list {
            Some(scope) => {
                let serials = self.find_in_list(&seen, &scope, &outline).into_iter();
                serials.filter_map(|serial| self.appearance(serial, scope.at)).collect()
            }
            None => self.find_below(&seen, place, &outline),
        };
        items.splice(0..0, pieces);
        let total = (containers.len() + items.len()) as u32;
        let mut all = containers;
        all.extend(items);
        if !sort.is_empty() {
            all = self.sort_entries(all, sort, stop);
        }
        let wanted = all.into_iter().skip(start as usize).take(count as usize).collect();
        Some(page(wanted, total))
    }

    /// The test pieces that match.
    fn find_test_pieces(&self, seen: &Visible<'_>, outline: &Outline) -> Vec<Entry> {
        let top = self.folder(FolderId::TEST_PIECES).map(|folder| folder.container);
        let place = top.and_then(|top| self.nodes.get(NodeId::directory(top).0));
        place.map(|place| self.find_below(seen, place, outline)).unwrap_or_default()
    }

    /// A list that holds each item of a scope once: the root's, or a menu's.
    fn whole_list(&self, place: u32, outline: &Outline) -> Option<SearchScope<'_>> {
        let scope = self.containers.get(place).filter(|_| !outline.appearances)?;
        if place == ROOT || scope.node == Fixed::Folders.node() {
            let mut kinds = outline.kinds.iter().flatten();
            let of_kind = match (kinds.next(), kinds.next()) {
                (Some(kind), None) => self.list_by_title(*kind),
                _ => None,
            };
            return Some(match of_kind {
                Some((list, _)) => SearchScope { list, at: None, exact: true },
                None => {
                    let exact = outline.kinds.as_ref().is_none_or(|k| k.len() == Kind::ALL.len());
                    SearchScope { list: &self.everything, at: None, exact }
                }
            });
        }
        let kind = Kind::ALL.into_iter().find(|kind| {
            [Fixed::menu(*kind), Fixed::all(*kind)].iter().any(|f| f.node() == scope.node)
        })?;
        let (list, at) = self.list_by_title(kind)?;
        let exact = outline.kinds.as_ref().is_none_or(|kinds| kinds.contains(&kind));
        Some(SearchScope { list, at: Some(at), exact })
    }

    /// Every item of a kind by title, and the container on which that list stands.
    fn list_by_title(&self, kind: Kind) -> Option<(&List, u32)> {
        let (place, container) = self.container_of(Fixed::all(kind).node())?;
        if self.order(container.kind, container.subject) == Order::Title {
            return Some((&container.items, place));
        }
        Some((container.other.as_deref()?, place))
    }

    /// An item's appearance at a container, or in its directory.
    pub(super) fn appearance(&self, serial: u32, at: Option<u32>) -> Option<Entry> {
        let at = match at {
            Some(at) => at,
            None => {
                let directory = self.record(serial)?.directory();
                self.nodes.get(NodeId::directory(directory).0)?
            }
        };
        Some(Entry::Item { serial, at, count: 0 })
    }

    fn find_in_list(
        &self,
        seen: &Visible<'_>,
        scope: &SearchScope<'_>,
        outline: &Outline,
    ) -> Vec<u32> {
        let hits = self.holding(outline);
        let wanted = |access_class: u32| {
            let kind = super::access_class::kind_of(access_class);
            seen.covers_class(access_class)
                && outline.kinds.as_ref().is_none_or(|kinds| kinds.contains(&kind))
        };
        let access_class_of = |serial| self.record(serial).map_or(0, Record::access_class);
        let mut found = Vec::new();
        scope.list.each(&wanted, &access_class_of, |serial| {
            if hits.as_ref().is_none_or(|hits| hits.holds(serial))
                && (outline.rest.is_empty()
                    || self
                        .appearance(serial, scope.at)
                        .is_some_and(|entry| self.rest_matches(&entry, outline)))
            {
                found.push(serial);
            }
        });
        found
    }

    /// The files whose titles hold all needles.
    fn holding(&self, outline: &Outline) -> Option<BitSet> {
        let mut needles = outline.needles.iter();
        let mut bits = BitSet::default();
        self.titles.holding(needles.next()?.as_bytes(), |serial| bits.put(serial));
        for needle in needles {
            let mut both = BitSet::default();
            self.titles.holding(needle.as_bytes(), |serial| {
                if bits.holds(serial) {
                    both.put(serial);
                }
            });
            bits = both;
        }
        Some(bits)
    }

    fn may_match(&self, seen: &Visible<'_>, serial: u32, outline: &Outline) -> bool {
        let Some(record) = self.record(serial) else { return false };
        seen.covers_class(record.access_class())
            && outline.kinds.as_ref().is_none_or(|k| k.contains(&record.kind()))
    }

    /// Of what takes long in a search, all of it; so it is asked here whether to go on.
    fn rest_matches(&self, entry: &Entry, outline: &Outline) -> bool {
        if outline.stop.is_set() {
            return false;
        }
        let values = |property| self.values(entry, property);
        outline.rest.iter().all(|criteria| criteria.matches(&values))
    }

    /// Items below a container: each once, its original if that is in scope, else its first
    /// reference; or every appearance, if the criteria ask for those.
    fn find_below(&self, seen: &Visible<'_>, place: u32, outline: &Outline) -> Vec<Entry> {
        let hits = self.holding(outline);
        let mut once: BTreeMap<u32, Entry> = BTreeMap::new();
        let mut all = Vec::new();
        self.below(seen, place, &mut |at, container| {
            let original = container.kind == ContainerKind::Directory;
            for entry in self.children_of(at, container) {
                let Entry::Item { serial, .. } = entry else { continue };
                if hits.as_ref().is_some_and(|hits| !hits.holds(serial))
                    || !self.may_match(seen, serial, outline)
                    || !self.rest_matches(&entry, outline)
                {
                    continue;
                }
                if outline.appearances {
                    all.push(entry);
                } else if original {
                    once.insert(serial, entry);
                } else {
                    once.entry(serial).or_insert(entry);
                }
            }
        });
        let found = if outline.appearances { all } else { once.into_values().collect() };
        self.sort_entries(found, &[], &outline.stop)
    }

    /// Calls `visit` for a container and each one below it that is seen.
    pub(super) fn below(
        &self,
        seen: &Visible<'_>,
        place: u32,
        visit: &mut impl FnMut(u32, &Container),
    ) {
        let Some(container) = self.containers.get(place) else { return };
        visit(place, container);
        for child in container.child_containers.iter() {
            if self.containers.get(child).is_some_and(|s| seen.covers_set(s.access_set)) {
                self.below(seen, child, visit);
            }
        }
    }

    /// The containers below one that match, by title.
    fn find_containers(&self, seen: &Visible<'_>, place: u32, outline: &Outline) -> Vec<Entry> {
        let names: Vec<BitSet> = outline.needles.iter().map(|n| self.names.holding(n)).collect();
        let finders: Vec<_> =
            outline.needles.iter().map(|n| memchr::memmem::Finder::new(n.as_bytes())).collect();
        let holds = |container: &Container| match self.title_name(container) {
            Some(name) => names.iter().all(|names| names.holds(name)),
            None => {
                let title = self.folded_title(container);
                finders.iter().all(|finder| finder.find(title.as_bytes()).is_some())
            }
        };
        let access_set = |place| self.containers.get(place).map_or(0, |s| s.access_set);
        let mut found = Vec::new();
        self.titled.each(&|access_set| seen.covers_set(access_set), &access_set, |at| {
            let entry = Entry::Container(at);
            if self
                .containers
                .get(at)
                .is_some_and(|container| holds(container) && self.lies_in(container, place))
                && self.rest_matches(&entry, outline)
            {
                found.push(entry);
            }
        });
        found
    }

    /// Whether a container lies somewhere in another.
    pub(super) fn lies_in(&self, container: &Container, place: u32) -> bool {
        let mut around = container.around;
        while around != place && around != ROOT {
            around = self.containers.get(around).map_or(ROOT, |s| s.around);
        }
        around == place
    }
}

/// A set of serials.
#[derive(Default)]
pub(super) struct BitSet(Vec<u64>);

impl BitSet {
    pub(super) fn put(&mut self, serial: u32) {
        let at = serial as usize / 64;
        if at >= self.0.len() {
            self.0.resize(at + 1, 0);
        }
        self.0[at] |= 1 << (serial % 64);
    }

    pub(super) fn holds(&self, serial: u32) -> bool {
        self.0.get(serial as usize / 64).is_some_and(|bits| bits & 1 << (serial % 64) != 0)
    }
}
