//! Orders that a player asks for (CDS-42 to CDS-44).

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use mostra_protocol::model::property::Property;
use mostra_protocol::model::sort::SortKey;
use rayon::iter::{
    IndexedParallelIterator as _, IntoParallelRefIterator as _, ParallelIterator as _,
};
use rayon::slice::ParallelSliceMut as _;

use super::Catalogue;
use super::container::Container;
use super::id::NodeId;
use super::placement::ContainerKind;
use super::property_values::PropertyValue;
use crate::collate::natural_order;
use crate::ids::UpdateId;
use crate::stop::Stop;

/// A child of a container, or something found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) enum Entry {
    /// A container, by place.
    Container(u32),
    /// A file's appearance.
    Item {
        /// The file.
        serial: u32,
        /// The container at which it appears.
        at: u32,
        /// Its count in a playlist.
        count: u32,
    },
}

type Key = (NodeId, UpdateId, Vec<SortKey>);
type Kept = (Key, Arc<Vec<Entry>>);

/// Containers sorted in other orders than their own, kept while they do not change; all
/// snapshots share them.
#[derive(Debug, Clone, Default)]
pub(super) struct Sorted(Arc<Mutex<Vec<Kept>>>);

/// Sorted containers kept, and entries in all of them together.
const KEPT: usize = 16;
const ENTRIES: usize = 2_000_000;

impl Sorted {
    fn get(&self, key: &Key) -> Option<Arc<Vec<Entry>>> {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let at = kept.iter().position(|(k, _)| k == key)?;
        let found = kept.remove(at);
        kept.push(found);
        kept.last().map(|(_, list)| list.clone())
    }

    fn put(&self, key: Key, list: Arc<Vec<Entry>>) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.push((key, list));
        let too_many = |kept: &Vec<Kept>| {
            kept.len() > KEPT || kept.iter().map(|(_, l)| l.len()).sum::<usize>() > ENTRIES
        };
        while kept.len() > 1 && too_many(&kept) {
            kept.remove(0);
        }
    }
}

/// Titles of containers rank below this, those of items above.
const CONTAINERS: u64 = 1 << 30;

/// Brings a column's values into 32 bits, their order kept; the greatest stays the greatest.
fn narrow(column: &mut [u64]) {
    let fits = |value: &u64| *value == u64::MAX || *value < u64::from(u32::MAX);
    if !column.iter().all(fits) {
        let mut distinct: Vec<u64> = column.iter().copied().filter(|v| *v != u64::MAX).collect();
        distinct.sort_unstable();
        distinct.dedup();
        for value in column.iter_mut().filter(|v| **v != u64::MAX) {
            *value = distinct.partition_point(|d| d < value) as u64;
        }
    }
    column.iter_mut().for_each(|value| *value = (*value).min(u64::from(u32::MAX)));
}

/// From this many items on, containers stand before them, so that titles need not be compared
/// one by one.
const MANY: usize = 20_000;

impl Catalogue {
    /// All children of a container in an order asked for, whoever may see them.
    pub(super) fn sorted_children(
        &self,
        place: u32,
        container: &Container,
        sort: &[SortKey],
        stop: &Stop,
    ) -> Arc<Vec<Entry>> {
        let key = (container.node, container.update_id, sort.to_vec());
        if let Some(list) = self.sorted.get(&key) {
            return list;
        }
        let list = Arc::new(self.sort_entries(self.children_of(place, container), sort, stop));
        // What nobody waited for is not whole.
        if !stop.is_set() {
            self.sorted.put(key, list.clone());
        }
        list
    }

    /// All children of a container in its own order.
    pub(super) fn children_of(&self, place: u32, container: &Container) -> Vec<Entry> {
        let mut counts: HashMap<u32, u32> = HashMap::new();
        let listed = container.kind == ContainerKind::Playlist;
        let items = container.items.iter().map(|serial| {
            let mut count = 0;
            if listed {
                let met = counts.entry(serial).or_default();
                count = *met;
                *met += 1;
            }
            Entry::Item { serial, at: place, count }
        });
        container.child_containers.iter().map(Entry::Container).chain(items).collect()
    }

    /// Sorts by criteria, then by title, then by serial. It gives nothing to whoever stopped waiting.
    pub(super) fn sort_entries(
        &self,
        entries: Vec<Entry>,
        sort: &[SortKey],
        stop: &Stop,
    ) -> Vec<Entry> {
        let items = entries.iter().filter(|e| matches!(e, Entry::Item { .. })).count();
        let mut columns: Vec<Vec<u64>> = Vec::with_capacity(sort.len() + 1);
        let titles = if items > MANY {
            self.title_ranks(&entries)
        } else {
            self.text_ranks(&entries, |entry| Some(self.entry_title(entry)))
        };
        for key in sort {
            if stop.is_set() {
                return Vec::new();
            }
            let mut column = match key.by {
                Property::Title => titles.clone(),
                by => self.column(&entries, by),
            };
            narrow(&mut column);
            if key.descending {
                // Absent comes last in rising order, first in falling.
                column.iter_mut().for_each(|value| *value = u64::from(!(*value as u32)));
            }
            columns.push(column);
        }
        let mut titles = titles;
        narrow(&mut titles);
        columns.push(titles);
        if stop.is_set() {
            return Vec::new();
        }
        if columns.len() <= 4 {
            // Side by side in one number, which compares at once.
            let key =
                |at: usize| columns.iter().fold(0u128, |key, c| key << 32 | u128::from(c[at]));
            let mut order: Vec<(u128, Entry)> =
                entries.par_iter().enumerate().map(|(at, entry)| (key(at), *entry)).collect();
            order.par_sort_unstable();
            return order.into_iter().map(|(_, entry)| entry).collect();
        }
        let mut order: Vec<u32> = (0..entries.len() as u32).collect();
        order.par_sort_unstable_by(|a, b| {
            let (a, b) = (*a as usize, *b as usize);
            let by_columns = columns.iter().map(|c| c[a].cmp(&c[b])).find(|o| o.is_ne());
            by_columns.unwrap_or_else(|| entries[a].cmp(&entries[b]))
        });
        order.into_iter().map(|at| entries[at as usize]).collect()
    }

    fn entry_title(&self, entry: &Entry) -> String {
        match entry {
            Entry::Container(place) => {
                let container = self.containers.get(*place);
                container.map(|s| self.folded_title(s).into_owned()).unwrap_or_default()
            }
            Entry::Item { serial, .. } => self.titles.text(*serial).to_owned(),
        }
    }

    /// The place of each entry's title among all titles; containers before items.
    fn title_ranks(&self, entries: &[Entry]) -> Vec<u64> {
        let last = entries.iter().map(|e| match e {
            Entry::Item { serial, .. } => *serial as usize,
            Entry::Container(_) => 0,
        });
        let mut ranks = vec![0; last.max().unwrap_or(0) + 1];
        for (rank, serial) in self.everything.iter().enumerate() {
            if let Some(place) = ranks.get_mut(serial as usize) {
                *place = rank as u64 + CONTAINERS;
            }
        }
        let containers: Vec<Entry> =
            entries.iter().copied().filter(|e| matches!(e, Entry::Container(_))).collect();
        let order = self.text_ranks(&containers, |entry| Some(self.entry_title(entry)));
        let order: HashMap<Entry, u64> = containers.into_iter().zip(order).collect();
        let rank = |entry: &Entry| match entry {
            Entry::Item { serial, .. } => ranks[*serial as usize],
            container @ Entry::Container(_) => order.get(container).copied().unwrap_or(0),
        };
        entries.iter().map(rank).collect()
    }

    /// Numbers that compare as the values of a property do; absent ones are the greatest.
    fn column(&self, entries: &[Entry], by: Property) -> Vec<u64> {
        match by {
            Property::Date | Property::TrackNumber | Property::Size | Property::Duration => {
                let value = |entry| match self.first_value(entry, by) {
                    Some(PropertyValue::Number(number)) => number,
                    _ => u64::MAX,
                };
                entries.par_iter().map(value).collect()
            }
            Property::Artist | Property::Creator | Property::Album | Property::Genre
                if entries.iter().all(|e| matches!(e, Entry::Item { .. })) =>
            {
                self.name_ranks(entries, by)
            }
            // Each one by its name: whoever adds a property has to say here how it is sorted.
            Property::Artist
            | Property::Creator
            | Property::Album
            | Property::Genre
            | Property::Title
            | Property::Class
            | Property::Id
            | Property::ParentId
            | Property::RefId
            | Property::Actor
            | Property::ProtocolInfo
            | Property::Resolution => {
                self.text_ranks(entries, |entry| match self.first_value(entry, by)? {
                    PropertyValue::Text(text) => Some(self.options.locale.fold(&text)),
                    // A number among texts stands where it would among numbers.
                    PropertyValue::Number(number) => Some(format!("{number:020}")),
                })
            }
        }
    }

    /// As [`text_ranks`](Self::text_ranks) of names, each of which is folded and compared
    /// only once.
    fn name_ranks(&self, entries: &[Entry], by: Property) -> Vec<u64> {
        let name = |entry: &Entry| match entry {
            Entry::Item { serial, .. } => self.first_name(*serial, by),
            Entry::Container(_) => None,
        };
        let rows: Vec<Option<u32>> = entries.par_iter().map(name).collect();
        let mut distinct: Vec<u32> = rows.iter().copied().flatten().collect();
        distinct.par_sort_unstable();
        distinct.dedup();
        let folded = |name: u32| self.names.folded(name);
        distinct.sort_by(|a, b| natural_order(folded(*a), folded(*b)));
        let mut ranks: HashMap<u32, u64> = HashMap::with_capacity(distinct.len());
        let mut rank = 0;
        for (at, name) in distinct.iter().enumerate() {
            if at > 0 && folded(distinct[at - 1]) != folded(*name) {
                rank = at as u64;
            }
            ranks.insert(*name, rank);
        }
        let rank = |row: Option<u32>| row.and_then(|name| ranks.get(&name).copied());
        rows.into_iter().map(|row| rank(row).unwrap_or(u64::MAX)).collect()
    }

    fn text_ranks(&self, entries: &[Entry], text: impl Fn(&Entry) -> Option<String>) -> Vec<u64> {
        let mut numbers: HashMap<String, u32> = HashMap::new();
        let mut rows: Vec<Option<u32>> = Vec::with_capacity(entries.len());
        for entry in entries {
            rows.push(text(entry).map(|text| {
                let next = numbers.len() as u32;
                *numbers.entry(text).or_insert(next)
            }));
        }
        let mut distinct: Vec<(&String, &u32)> = numbers.iter().collect();
        distinct.sort_unstable_by(|a, b| natural_order(a.0, b.0));
        let mut ranks = vec![0u64; distinct.len()];
        for (rank, (_, number)) in distinct.iter().enumerate() {
            ranks[**number as usize] = rank as u64;
        }
        rows.into_iter().map(|row| row.map_or(u64::MAX, |n| ranks[n as usize])).collect()
    }
}
