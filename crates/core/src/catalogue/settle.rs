//! The second half of a change: bringing lists, counts and update ids to what files,
//! directories and playlists now say.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use super::Catalogue;
use super::change::{Base, Edits, Touched};
use super::id::{Fixed, NodeId, Place};
use super::list::List;
use super::record::Record;
use super::shelf::{ROOT, Shelf};
use super::spots::{Order, ShelfKind, Step};
use crate::Kind;
use crate::collate::{beginning, natural_bytes};

impl Catalogue {
    /// `old` is the catalogue before the batch: its order is the one in which lists still
    /// stand.
    pub(super) fn settle(&mut self, old: &Catalogue, base: &Base, touched: &mut Touched) {
        let mut edits = Edits::default();
        let mut ways = Vec::new();
        for serial in &base.files {
            self.leave_spots(old, *serial, &mut edits);
            self.take_spots(*serial, &mut ways, &mut edits);
        }
        self.edit_playlists(old, base, &mut edits);
        self.take_items(old, &edits);
        self.count(old, &mut edits);
        self.spell(&mut edits);
        for serial in &base.renamed {
            for step in [NodeId::directory(*serial), Step::photo_album(*serial).node] {
                edits.moved.extend(self.nodes.get(step.0));
            }
        }
        let mut changed: BTreeSet<u32> = self.edit_containers(old, &edits);
        self.add_items(base, &edits);
        changed.extend(edits.items.keys());
        changed.extend(edits.listed.keys());
        changed.extend(&edits.moved);
        if changed.is_empty() {
            return;
        }
        self.update_id = self.update_id.wrapping_add(1);
        for place in changed {
            let empty = self.shelves.get(place).is_none_or(|s| s.cells.is_empty());
            if empty && place != ROOT {
                if let Some(shelf) = self.shelves.remove(place) {
                    self.nodes.remove(shelf.node.0);
                    Arc::make_mut(&mut self.free_shelves).push(place);
                }
            } else if let Some(shelf) = self.shelves.get_mut(place) {
                shelf.update_id = self.update_id;
                let id = Place::Container(shelf.node).id(&self.epoch);
                touched.containers.push((id, self.update_id));
            }
        }
    }

    fn leave_spots(&self, old: &Catalogue, serial: u32, edits: &mut Edits) {
        let Some(record) = old.record(serial) else { return };
        old.spots(record, |way| {
            let Some(place) = way.last().and_then(|s| old.nodes.get(s.node.0)) else { return };
            edits.items.entry(place).or_default().take.push(serial);
            *edits.minus.entry((place, record.cell() as u16)).or_default() += 1;
            for step in way.iter().filter(|s| s.kind.is_named()) {
                if let Some(place) = old.nodes.get(step.node.0) {
                    *edits.spelling(place, step.subject) -= 1;
                }
            }
        });
    }

    fn take_spots(&mut self, serial: u32, ways: &mut Vec<Step>, edits: &mut Edits) {
        let Some(record) = self.record(serial) else { return };
        let cell = record.cell() as u16;
        // Ways end to end, each after its length: shelves are made once all are known.
        ways.clear();
        let mut lengths = [0; 64];
        let mut count = 0;
        self.spots(record, |way| {
            if count < lengths.len() {
                lengths[count] = way.len();
                count += 1;
                ways.extend_from_slice(way);
            }
        });
        let mut rest = ways.as_slice();
        for length in &lengths[..count] {
            let (way, after) = rest.split_at(*length);
            rest = after;
            let place = self.shelve(way, edits);
            edits.items.entry(place).or_default().add.push(serial);
            *edits.plus.entry((place, cell)).or_default() += 1;
            for step in way.iter().filter(|s| s.kind.is_named()) {
                if let Some(place) = self.nodes.get(step.node.0) {
                    *edits.spelling(place, step.subject) += 1;
                }
            }
        }
    }

    /// Finds or makes the shelves of a way; they show once something is counted in them.
    fn shelve(&mut self, way: &[Step], edits: &mut Edits) -> u32 {
        let mut around = ROOT;
        for step in way {
            let place = match self.nodes.get(step.node.0) {
                Some(place) => place,
                None => self.shelf_at(*step, around),
            };
            if self.shelves.get(place).is_some_and(|s| s.around != around) {
                // A directory that moved.
                edits.moved.insert(place);
                if let Some(shelf) = self.shelves.get_mut(place) {
                    shelf.around = around;
                }
            }
            around = place;
        }
        around
    }

    /// Playlists that changed, or that list a file that did.
    fn edit_playlists(&mut self, old: &Catalogue, base: &Base, edits: &mut Edits) {
        let mut affected = base.playlists.clone();
        if base.files.iter().any(|serial| self.listed.contains(serial)) {
            let lists = self.playlists.values();
            let hit = lists.filter(|p| p.entries.iter().any(|e| base.files.contains(e)));
            affected.extend(hit.map(|p| p.serial));
        }
        for (serial, kind) in affected.iter().flat_map(|s| Kind::ALL.map(|kind| (*s, kind))) {
            let around = Fixed::playlists(kind);
            let step = Step::playlist(around, serial);
            let (before, after) = (old.entries(serial, kind), self.entries(serial, kind));
            if let Some(place) = old.nodes.get(step.node.0) {
                for entry in &before {
                    let Some(record) = old.record(*entry) else { continue };
                    *edits.minus.entry((place, record.cell() as u16)).or_default() += 1;
                }
                edits.moved.insert(place);
                edits.listed.insert(place, Vec::new());
            }
            if !after.is_empty() {
                let way = [Step::fixed(Fixed::menu(kind)), Step::fixed(around), step];
                let place = self.shelve(&way, edits);
                for entry in &after {
                    let Some(record) = self.record(*entry) else { continue };
                    *edits.plus.entry((place, record.cell() as u16)).or_default() += 1;
                }
                edits.moved.insert(place);
                edits.listed.insert(place, after);
            }
        }
    }

    /// The entries of a playlist that are there and of a kind.
    fn entries(&self, serial: u32, kind: Kind) -> Vec<u32> {
        let entries = self.playlists.get(&serial).map(|p| p.entries.as_slice()).unwrap_or(&[]);
        let here = |serial: &&u32| self.record(**serial).is_some_and(|r| r.kind() == kind);
        entries.iter().filter(here).copied().collect()
    }

    fn take_items(&mut self, old: &Catalogue, edits: &Edits) {
        let mut all: Vec<u32> = Vec::new();
        for (place, edit) in edits.items.iter().filter(|(_, e)| !e.take.is_empty()) {
            let Some(shelf) = self.shelves.get_mut(*place) else { continue };
            let (kind, subject) = (shelf.kind, shelf.subject);
            let mut items = std::mem::take(&mut shelf.items);
            let mut other = shelf.other.take();
            let order = old.order(kind, subject);
            let mark = |serial| self.record(serial).map_or(0, Record::cell);
            items.take(&edit.take, &|a, b| old.file_order(order, a, b), &mark);
            if let Some(other) = &mut other {
                let order = second(order);
                let sorted = |a, b| old.file_order(order, a, b);
                Arc::make_mut(other).take(&edit.take, &sorted, &mark);
            }
            if kind == ShelfKind::Fixed
                && Kind::ALL.iter().any(|k| Fixed::all(*k) as u32 == subject)
            {
                all.extend(&edit.take);
            }
            if let Some(shelf) = self.shelves.get_mut(*place) {
                shelf.other = other.filter(|_| items.is_large());
                shelf.items = items;
            }
        }
        let mut everything = std::mem::take(&mut self.everything);
        let mark = |serial| self.record(serial).map_or(0, Record::cell);
        everything.take(&all, &|a, b| old.file_order(Order::Title, a, b), &mark);
        self.everything = everything;
    }

    /// Counts what came and went in each container and all around it.
    fn count(&mut self, old: &Catalogue, edits: &mut Edits) {
        let mut deltas: HashMap<(u32, u16), i32> = HashMap::new();
        let mut climb = |from: &HashMap<(u32, u16), u32>, sign: i32, catalogue: &Catalogue| {
            for ((place, cell), count) in from {
                let mut at = *place;
                loop {
                    *deltas.entry((at, *cell)).or_default() += sign * *count as i32;
                    match catalogue.shelves.get(at) {
                        Some(shelf) if at != ROOT => at = shelf.around,
                        _ => break,
                    }
                }
            }
        };
        climb(&edits.minus, -1, old);
        climb(&edits.plus, 1, self);
        let mut changed: BTreeSet<u32> = BTreeSet::new();
        // What goes first, so that a sum never runs below nothing on the way.
        for ((place, cell), delta) in deltas.into_iter().filter(|(_, delta)| *delta != 0) {
            if let Some(shelf) = self.shelves.get_mut(place)
                && shelf.cells.add(cell, delta)
            {
                changed.insert(place);
            }
        }
        for place in changed {
            let Some(shelf) = self.shelves.get(place) else { continue };
            let mark = shelf.cells.mark(&mut self.marks);
            if let Some(shelf) = self.shelves.get_mut(place) {
                shelf.mark = mark;
            }
            if place != ROOT {
                edits.moved.insert(place);
            }
        }
    }

    /// Of several spellings of one name, the one that most appearances use is shown.
    fn spell(&mut self, edits: &mut Edits) {
        for (place, deltas) in std::mem::take(&mut edits.spellings) {
            let Some(shelf) = self.shelves.get(place) else { continue };
            let foreign = deltas.iter().any(|(name, n)| *name != shelf.subject && *n != 0);
            if shelf.spellings.is_none() && !foreign {
                continue;
            }
            let mut counts: Vec<(u32, i64)> = match &shelf.spellings {
                Some(known) => known.iter().map(|(name, n)| (*name, i64::from(*n))).collect(),
                None => {
                    // Until now all appearances used the one.
                    let now = i64::from(shelf.cells.everything());
                    let came: i64 = deltas.values().map(|n| i64::from(*n)).sum();
                    vec![(shelf.subject, now - came)]
                }
            };
            for (name, delta) in deltas {
                match counts.iter_mut().find(|(n, _)| *n == name) {
                    Some((_, count)) => *count += i64::from(delta),
                    None => counts.push((name, i64::from(delta))),
                }
            }
            counts.retain(|(_, count)| *count > 0);
            let text = |name| self.names.text(name);
            counts.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| text(a.0).cmp(text(b.0))));
            let Some((best, _)) = counts.first().copied() else { continue };
            let several = counts.len() > 1;
            let counts: Vec<(u32, u32)> =
                counts.into_iter().map(|(name, count)| (name, count as u32)).collect();
            let Some(shelf) = self.shelves.get_mut(place) else { continue };
            shelf.spellings = several.then(|| counts.into());
            if shelf.subject != best {
                shelf.subject = best;
                edits.moved.insert(place);
            }
        }
    }

    fn edit_containers(&mut self, old: &Catalogue, edits: &Edits) -> BTreeSet<u32> {
        let shown = |shelf: &&Shelf| !shelf.cells.is_empty();
        let mut takes: HashMap<u32, Vec<u32>> = HashMap::new();
        let mut adds: HashMap<u32, Vec<u32>> = HashMap::new();
        for place in &edits.moved {
            if let Some(shelf) = old.shelves.get(*place).filter(shown) {
                takes.entry(shelf.around).or_default().push(*place);
            }
            if let Some(shelf) = self.shelves.get(*place).filter(shown) {
                adds.entry(shelf.around).or_default().push(*place);
            }
        }
        let places: BTreeSet<u32> = takes.keys().chain(adds.keys()).copied().collect();
        for place in &places {
            let Some(shelf) = self.shelves.get_mut(*place) else { continue };
            let mut list = std::mem::take(&mut shelf.containers);
            let mark = |place| self.shelves.get(place).map_or(0, |s| s.mark);
            let take = takes.get(place).map_or(&[][..], Vec::as_slice);
            list.take(take, &|a, b| old.shelf_order(a, b), &mark);
            if let Some(add) = adds.get_mut(place) {
                add.sort_by(|a, b| self.shelf_order(*a, *b));
                list.add(add, &|a, b| self.shelf_order(a, b), &mark);
            }
            if let Some(shelf) = self.shelves.get_mut(*place) {
                shelf.containers = list;
            }
        }
        places
    }

    fn add_items(&mut self, base: &Base, edits: &Edits) {
        let ranks = Ranks::of(self, &base.files);
        let mut all: Vec<u32> = Vec::new();
        for (place, edit) in edits.items.iter().filter(|(_, e)| !e.add.is_empty()) {
            let Some(shelf) = self.shelves.get_mut(*place) else { continue };
            let (kind, subject) = (shelf.kind, shelf.subject);
            let mut items = std::mem::take(&mut shelf.items);
            let other = shelf.other.take();
            let order = self.order(kind, subject);
            let mark = |serial| self.record(serial).map_or(0, Record::cell);
            let add = ranks.sorted(self, order, edit.add.clone());
            items.add(&add, &|a, b| self.file_order(order, a, b), &mark);
            let twofold = matches!(order, Order::Title | Order::Date) && items.is_large();
            let other = twofold.then(|| {
                let order = second(order);
                let mut list = other.map(|o| (*o).clone()).unwrap_or_default();
                let add = if list.is_empty() { items.iter().collect() } else { add };
                let add = ranks.sorted(self, order, add);
                list.add(&add, &|a, b| self.file_order(order, a, b), &mark);
                Arc::new(list)
            });
            if kind == ShelfKind::Fixed
                && Kind::ALL.iter().any(|k| Fixed::all(*k) as u32 == subject)
            {
                all.extend(&edit.add);
            }
            if let Some(shelf) = self.shelves.get_mut(*place) {
                shelf.items = items;
                shelf.other = other;
            }
        }
        let all = ranks.sorted(self, Order::Title, all);
        let mut everything = std::mem::take(&mut self.everything);
        let mark = |serial| self.record(serial).map_or(0, Record::cell);
        everything.add(&all, &|a, b| self.file_order(Order::Title, a, b), &mark);
        self.everything = everything;
        for (place, entries) in &edits.listed {
            let list = List::of(entries, &|serial| self.record(serial).map_or(0, Record::cell));
            if let Some(shelf) = self.shelves.get_mut(*place) {
                shelf.items = list;
            }
        }
    }
}

/// The order of a large container's second list.
pub(super) fn second(order: Order) -> Order {
    if order == Order::Title { Order::Date } else { Order::Title }
}

/// The places of many files in the order of titles, so that a large batch compares its titles
/// once and not in each view again.
struct Ranks(Vec<u32>);

/// From this many files on, ranks are worth their making.
const MANY: usize = 2000;

impl Ranks {
    fn of(catalogue: &Catalogue, files: &BTreeSet<u32>) -> Ranks {
        let Some(last) = files.last().filter(|_| files.len() >= MANY) else {
            return Ranks(Vec::new());
        };
        let title = |serial: u32| catalogue.titles.get(serial).unwrap_or_default();
        let mut sorted: Vec<(u64, u32)> =
            files.iter().map(|serial| (beginning(title(*serial)), *serial)).collect();
        sorted.sort_unstable_by(|(x, a), (y, b)| {
            x.cmp(y).then_with(|| natural_bytes(title(*a), title(*b))).then_with(|| a.cmp(b))
        });
        let mut ranks = vec![u32::MAX; *last as usize + 1];
        for (rank, (_, serial)) in sorted.iter().enumerate() {
            ranks[*serial as usize] = rank as u32;
        }
        Ranks(ranks)
    }

    /// Sorts files; of many, what they are compared by is looked up once for each.
    fn sorted(&self, catalogue: &Catalogue, order: Order, mut files: Vec<u32>) -> Vec<u32> {
        let rank = |serial: u32| self.0.get(serial as usize).copied().unwrap_or(u32::MAX);
        if self.0.is_empty() || files.iter().any(|serial| rank(*serial) == u32::MAX) {
            files.sort_unstable_by(|a, b| catalogue.file_order(order, *a, *b));
            return files;
        }
        let key = |serial: u32| -> u64 {
            let Some(record) = catalogue.record(serial) else { return u64::MAX };
            match order {
                Order::Title | Order::Listed => 0,
                // Unknown dates last.
                Order::Date => record.date().wrapping_sub(1),
                // Newest first; the sign turned so that numbers before 1970 come last.
                Order::Added => !(record.added() as u64 ^ 1 << 63),
                Order::Place => {
                    let (first, second) = record.place();
                    u64::from(first) << 16 | u64::from(second)
                }
            }
        };
        let second = |serial: u32| if order == Order::Added { !serial } else { rank(serial) };
        let mut keyed: Vec<(u64, u32, u32)> =
            files.into_iter().map(|serial| (key(serial), second(serial), serial)).collect();
        keyed.sort_unstable();
        keyed.into_iter().map(|(_, _, serial)| serial).collect()
    }
}
