//! The second half of a change: bringing lists, counts and update ids to what files,
//! directories and playlists now say.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use rayon::iter::{
    IndexedParallelIterator as _, IntoParallelIterator as _, IntoParallelRefIterator as _,
    IntoParallelRefMutIterator as _, ParallelIterator as _,
};
use rayon::slice::{ParallelSlice as _, ParallelSliceMut as _};

use super::Catalogue;
use super::change::{Base, Edits, Touched, pair, place_of};
use super::columns::Columns;
use super::container::{Container, ROOT};
use super::id::{Fixed, NodeId, ObjectId};
use super::list::List;
use super::placed_files::{
    AT_ONCE, Delta, FEW, IN_A_ROW, PlacedFiles, access_classes, groups, place_of_placement,
    placement, sum,
};
use super::placement::{Order, PathSegment};
use super::record::Record;
use crate::Kind;
use crate::collate::beginning;

impl Catalogue {
    /// `old` is the catalogue before the batch: its order is the one in which lists still
    /// stand.
    pub(super) fn settle(&mut self, old: &Catalogue, base: &Base, touched: &mut Touched) {
        let mut edits = Edits::default();
        for serial in &base.files {
            self.leave_placements(old, *serial, &mut edits);
        }
        self.take_placements(&base.files, &mut edits);
        edits.sort();
        self.edit_playlists(old, base, &mut edits);
        self.take_items(old, &edits);
        let columns = Columns::of(self, &base.files);
        self.count(old, &mut edits, &columns);
        self.spell(&mut edits);
        for serial in &base.renamed {
            for step in [NodeId::directory(*serial), PathSegment::photo_album(*serial).node] {
                edits.moved.extend(self.nodes.get(step.0));
            }
        }
        let mut changed: BTreeSet<u32> = self.edit_containers(old, &edits);
        self.add_items(&columns, &edits);
        changed.extend(groups(&edits.went).chain(groups(&edits.came)).map(|g| place_of(g[0])));
        changed.extend(edits.listed.keys());
        changed.extend(&edits.moved);
        if changed.is_empty() {
            return;
        }
        self.update_id = self.update_id.plus(1);
        for place in changed {
            let empty = self.containers.get(place).is_none_or(|s| s.access_counts.is_empty());
            if empty && place != ROOT {
                if let Some(container) = self.containers.remove(place) {
                    self.nodes.remove(container.node.0);
                    Arc::make_mut(&mut self.free_containers).push(place);
                }
            } else if let Some(container) = self.containers.get_mut(place) {
                container.update_id = self.update_id;
                let id = ObjectId::Container(container.node).id(&self.epoch);
                touched.containers.push((id, self.update_id));
            }
        }
    }

    fn leave_placements(&self, old: &Catalogue, serial: u32, edits: &mut Edits) {
        let Some(record) = old.record(serial) else { return };
        old.placements(record, |way| {
            let Some(place) = way.last().and_then(|s| old.nodes.get(s.node.0)) else { return };
            edits.went.push(pair(place, serial));
            for step in way.iter().filter(|s| s.kind.is_named()) {
                edits
                    .unspelt
                    .extend(old.nodes.get(step.node.0).map(|place| pair(place, step.subject)));
            }
        });
    }

    /// Where files now appear. A large batch goes in parts, as what is noted on the way is
    /// larger than what becomes of it.
    fn take_placements(&mut self, files: &[u32], edits: &mut Edits) {
        for files in files.chunks(AT_ONCE) {
            let placements = |files: &[u32]| {
                let mut taken = PlacedFiles::default();
                files.iter().for_each(|serial| taken.file(self, *serial));
                taken
            };
            let mut all: Vec<PlacedFiles> = match files.len() {
                ..=IN_A_ROW => vec![placements(files)],
                _ => files.par_chunks(IN_A_ROW).map(placements).collect(),
            };
            // Containers are made by one thread, in the order of the files.
            for taken in &all {
                let mut rest = taken.ways.as_slice();
                for length in &taken.lengths {
                    let (way, after) = rest.split_at(*length);
                    rest = after;
                    self.place_in_containers(way, edits);
                }
            }
            let met = &edits.met;
            all.par_iter_mut().with_min_len(2).for_each(|taken| taken.place(met));
            for taken in &mut all {
                edits.came.append(&mut taken.came);
                edits.spelt.append(&mut taken.spelt);
            }
        }
    }

    /// Finds or makes the containers of a way; they show once something is counted in them.
    fn place_in_containers(&mut self, way: &[PathSegment], edits: &mut Edits) -> u32 {
        if let Some(place) = way.last().and_then(|step| edits.met.get(&step.node.0)) {
            return *place;
        }
        let mut around = ROOT;
        for step in way {
            let place = match self.nodes.get(step.node.0) {
                Some(place) => place,
                None => self.container_at(*step, around),
            };
            if self.containers.get(place).is_some_and(|s| s.around != around) {
                // A directory that moved.
                edits.moved.insert(place);
                if let Some(container) = self.containers.get_mut(place) {
                    container.around = around;
                }
            }
            edits.met.insert(step.node.0, place);
            around = place;
        }
        around
    }

    /// Playlists that changed, or that list a file that did.
    fn edit_playlists(&mut self, old: &Catalogue, base: &Base, edits: &mut Edits) {
        let mut affected = base.playlists.clone();
        if base.files.iter().any(|serial| self.listed.contains(serial)) {
            let lists = self.playlists.values();
            let hit =
                lists.filter(|p| p.entries.iter().any(|e| base.files.binary_search(&e.0).is_ok()));
            affected.extend(hit.map(|p| p.serial));
        }
        for (serial, kind) in affected.iter().flat_map(|s| Kind::ALL.map(|kind| (*s, kind))) {
            let around = Fixed::playlists(kind);
            let step = PathSegment::playlist(around, serial);
            let (before, after) = (old.entries(serial, kind), self.entries(serial, kind));
            if let Some(place) = old.nodes.get(step.node.0) {
                for entry in &before {
                    let Some(record) = old.record(*entry) else { continue };
                    edits.unlisted.push((place, record.access_class() as u16));
                }
                edits.moved.insert(place);
                edits.listed.insert(place, Vec::new());
            }
            if !after.is_empty() {
                let way = [PathSegment::fixed(Fixed::menu(kind)), PathSegment::fixed(around), step];
                let place = self.place_in_containers(&way, edits);
                for entry in &after {
                    let Some(record) = self.record(*entry) else { continue };
                    edits.newly_listed.push((place, record.access_class() as u16));
                }
                edits.moved.insert(place);
                edits.listed.insert(place, after);
            }
        }
    }

    /// The entries of a playlist that are there and of a kind.
    fn entries(&self, serial: u32, kind: Kind) -> Vec<u32> {
        let entries = self.playlists.get(&serial).map(|p| p.entries.as_slice()).unwrap_or(&[]);
        let here = |serial: &u32| self.record(*serial).is_some_and(|r| r.kind() == kind);
        entries.iter().map(|entry| entry.0).filter(here).collect()
    }

    fn take_items(&mut self, old: &Catalogue, edits: &Edits) {
        let access_set = |serial| self.record(serial).map_or(0, Record::access_class);
        let groups: Vec<&[u64]> = groups(&edits.went).collect();
        let left = groups.par_iter().with_min_len(FEW).filter_map(|group| {
            let place = place_of(group[0]);
            let container = self.containers.get(place)?;
            let take: Vec<u32> = group.iter().map(|pair| *pair as u32).collect();
            let mut items = container.items.clone();
            let order = old.order(container.kind, container.subject);
            items.take(&take, &|a, b| old.file_order(order, a, b), &access_set);
            let other = container.other.as_deref().filter(|_| items.is_large()).map(|other| {
                let order = second(order);
                let mut other = other.clone();
                other.take(&take, &|a, b| old.file_order(order, a, b), &access_set);
                Arc::new(other)
            });
            Some((place, items, other))
        });
        let left: Vec<Items> = left.collect();
        let all = edits.of_all(&edits.went, old);
        let mut everything = self.everything.clone();
        everything.take(&all, &|a, b| old.file_order(Order::Title, a, b), &access_set);
        self.everything = everything;
        self.put_items(left);
    }

    /// Counts what came and went in each container and all around it.
    fn count(&mut self, old: &Catalogue, edits: &mut Edits, columns: &Columns) {
        let class_before = |serial| old.record(serial).map_or(0, Record::access_class);
        let went = access_classes(&edits.went, class_before).into_iter();
        let mut less: Vec<Delta> = went.map(|(place, count)| (place, -count)).collect();
        less.extend(
            edits
                .unlisted
                .iter()
                .map(|(place, access_class)| (placement(*place, *access_class), -1)),
        );
        let mut more = access_classes(&edits.came, |serial| columns.access_class(self, serial));
        more.extend(
            edits
                .newly_listed
                .iter()
                .map(|(place, access_class)| (placement(*place, *access_class), 1)),
        );
        let mut deltas = old.climb(less);
        deltas.append(&mut self.climb(more));
        sum(&mut deltas);
        deltas.retain(|(_, delta)| *delta != 0);
        for same in
            deltas.chunk_by(|(a, _), (b, _)| place_of_placement(*a) == place_of_placement(*b))
        {
            let place = place_of_placement(same[0].0);
            let Some(container) = self.containers.get_mut(place) else { continue };
            if !container
                .access_counts
                .add(same.iter().map(|(placement, delta)| (*placement as u16, *delta)))
            {
                continue;
            }
            container.access_set = container.access_counts.access_set(&mut self.access_sets);
            if place != ROOT {
                edits.moved.insert(place);
            }
        }
    }

    /// The same changes of counts, in the places themselves and in all around them.
    fn climb(&self, mut deltas: Vec<Delta>) -> Vec<Delta> {
        let mut all = Vec::new();
        while !deltas.is_empty() {
            sum(&mut deltas);
            all.extend_from_slice(&deltas);
            let around = |(at, delta): &Delta| {
                let place = place_of_placement(*at);
                let container = self.containers.get(place).filter(|_| place != ROOT)?;
                Some((placement(container.around, *at as u16), *delta))
            };
            deltas = deltas.iter().filter_map(around).collect();
        }
        all
    }

    /// Of several spellings of one name, the one that most appearances use is shown.
    fn spell(&mut self, edits: &mut Edits) {
        let mut deltas: Vec<(u64, i64)> = Vec::new();
        for (pairs, delta) in [(&edits.unspelt, -1), (&edits.spelt, 1)] {
            let groups = pairs.chunk_by(|a, b| a == b);
            deltas.extend(groups.map(|same| (same[0], delta * same.len() as i64)));
        }
        deltas.sort_by_key(|(pair, _)| *pair);
        for same in deltas.chunk_by(|(a, _), (b, _)| place_of(*a) == place_of(*b)) {
            let place = place_of(same[0].0);
            let names = same.chunk_by(|(a, _), (b, _)| a == b);
            let deltas = names.map(|n| (n[0].0 as u32, n.iter().map(|(_, delta)| delta).sum()));
            let deltas: Vec<(u32, i64)> = deltas.collect();
            let Some(container) = self.containers.get(place) else { continue };
            let foreign = deltas.iter().any(|(name, n)| *name != container.subject && *n != 0);
            if container.spellings.is_none() && !foreign {
                continue;
            }
            let mut counts: Vec<(u32, i64)> = match &container.spellings {
                Some(known) => known.iter().map(|(name, n)| (*name, i64::from(*n))).collect(),
                None => {
                    // Until now all appearances used the one.
                    let now = i64::from(container.access_counts.everything());
                    let came: i64 = deltas.iter().map(|(_, delta)| delta).sum();
                    vec![(container.subject, now - came)]
                }
            };
            for (name, delta) in deltas {
                match counts.iter_mut().find(|(n, _)| *n == name) {
                    Some((_, count)) => *count += delta,
                    None => counts.push((name, delta)),
                }
            }
            counts.retain(|(_, count)| *count > 0);
            let text = |name| self.names.text(name);
            counts.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| text(a.0).cmp(text(b.0))));
            let Some((best, _)) = counts.first().copied() else { continue };
            let several = counts.len() > 1;
            let counts: Vec<(u32, u32)> =
                counts.into_iter().map(|(name, count)| (name, count as u32)).collect();
            let Some(container) = self.containers.get_mut(place) else { continue };
            container.spellings = several.then(|| counts.into());
            if container.subject != best {
                container.subject = best;
                edits.moved.insert(place);
            }
        }
    }

    fn edit_containers(&mut self, old: &Catalogue, edits: &Edits) -> BTreeSet<u32> {
        let shown = |container: &&Container| !container.access_counts.is_empty();
        let mut takes: HashMap<u32, Vec<u32>> = HashMap::new();
        let mut adds: HashMap<u32, Vec<u32>> = HashMap::new();
        for place in &edits.moved {
            if let Some(container) = old.containers.get(*place).filter(shown) {
                takes.entry(container.around).or_default().push(*place);
            }
            if let Some(container) = self.containers.get(*place).filter(shown) {
                adds.entry(container.around).or_default().push(*place);
            }
        }
        let places: BTreeSet<u32> = takes.keys().chain(adds.keys()).copied().collect();
        let access_set = |place| self.containers.get(place).map_or(0, |s| s.access_set);
        let done = |place: &u32| {
            let mut list = self.containers.get(*place)?.child_containers.clone();
            let take = takes.get(place).map_or(&[][..], Vec::as_slice);
            list.take(take, &|a, b| old.shelf_order(a, b), &access_set);
            if let Some(add) = adds.get(place) {
                let mut add = add.clone();
                add.sort_by(|a, b| self.shelf_order(*a, *b));
                list.add(&add, &|a, b| self.shelf_order(a, b), &access_set);
            }
            Some((*place, list))
        };
        let at: Vec<u32> = places.iter().copied().collect();
        let done: Vec<(u32, List)> = at.par_iter().with_min_len(FEW).filter_map(done).collect();
        let mut titled = self.titled.clone();
        let take: Vec<u32> = takes.into_values().flatten().collect();
        let add = self.by_title(adds.into_values().flatten().filter(|p| *p != ROOT).collect());
        titled.take(&take, &|a, b| old.container_title_order(a, b), &access_set);
        titled.add(&add, &|a, b| self.container_title_order(a, b), &access_set);
        self.titled = titled;
        for (place, list) in done {
            if let Some(container) = self.containers.get_mut(place) {
                container.child_containers = list;
            }
        }
        places
    }

    fn add_items(&mut self, columns: &Columns, edits: &Edits) {
        // Taken out of their containers, so that nobody else holds them while they change.
        let mut taken = Vec::new();
        for group in groups(&edits.came) {
            let place = place_of(group[0]);
            let Some(container) = self.containers.get_mut(place) else { continue };
            let lists = (std::mem::take(&mut container.items), container.other.take());
            taken.push((place, group, container.kind, container.subject, lists));
        }
        let mut everything = std::mem::take(&mut self.everything);
        let access_set = |serial| columns.access_class(self, serial);
        let taken = taken.into_par_iter().with_min_len(FEW);
        let added = taken.map(|(place, group, kind, subject, (mut items, other))| {
            let order = self.order(kind, subject);
            let add: Vec<u32> = group.iter().map(|pair| *pair as u32).collect();
            let add = columns.sorted(self, order, add);
            items.add(&add, &|a, b| self.file_order(order, a, b), &access_set);
            let twofold = matches!(order, Order::Title | Order::Date) && items.is_large();
            let other = twofold.then(|| {
                let order = second(order);
                let mut list = other
                    .map(|o| Arc::try_unwrap(o).unwrap_or_else(|held| (*held).clone()))
                    .unwrap_or_default();
                let add = if list.is_empty() { items.iter().collect() } else { add };
                let add = columns.sorted(self, order, add);
                list.add(&add, &|a, b| self.file_order(order, a, b), &access_set);
                Arc::new(list)
            });
            (place, items, other)
        });
        let added: Vec<Items> = added.collect();
        let all = columns.sorted(self, Order::Title, edits.of_all(&edits.came, self));
        everything.add(&all, &|a, b| self.file_order(Order::Title, a, b), &access_set);
        self.everything = everything;
        self.put_items(added);
        for (place, entries) in &edits.listed {
            let list =
                List::of(entries, &|serial| self.record(serial).map_or(0, Record::access_class));
            if let Some(container) = self.containers.get_mut(*place) {
                container.items = list;
            }
        }
    }

    fn put_items(&mut self, lists: Vec<Items>) {
        for (place, items, other) in lists {
            if let Some(container) = self.containers.get_mut(place) {
                container.items = items;
                container.other = other;
            }
        }
    }

    /// Brings containers into the order of their titles.
    fn by_title(&self, places: Vec<u32>) -> Vec<u32> {
        let begin = |place: u32| {
            let container = self.containers.get(place);
            container.map_or(0, |s| beginning(self.folded_title(s).as_bytes()))
        };
        let mut keyed: Vec<(u128, u32)> = places.into_iter().map(|p| (begin(p), p)).collect();
        keyed.par_sort_unstable_by(|(x, a), (y, b)| {
            x.cmp(y).then_with(|| self.container_title_order(*a, *b))
        });
        keyed.into_iter().map(|(_, place)| place).collect()
    }
}

/// A container's items, and the same in its second order.
type Items = (u32, List, Option<Arc<List>>);

impl Edits {
    /// The files among pairs that stand in the lists of all of a kind: each file once.
    fn of_all(&self, pairs: &[u64], catalogue: &Catalogue) -> Vec<u32> {
        let all = Kind::ALL.into_iter().filter_map(|k| catalogue.nodes.get(Fixed::all(k).node().0));
        let here = all.flat_map(|place| {
            let from = pairs.partition_point(|pair| place_of(*pair) < place);
            let to = pairs.partition_point(|pair| place_of(*pair) <= place);
            &pairs[from..to]
        });
        here.map(|pair| *pair as u32).collect()
    }
}

/// The order of a large container's second list.
pub(super) fn second(order: Order) -> Order {
    if order == Order::Title { Order::Date } else { Order::Title }
}
