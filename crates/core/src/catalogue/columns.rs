//! What a large batch compares its files by, side by side: looked up once for each, and not in
//! each view again.

use rayon::iter::{IntoParallelRefIterator as _, ParallelIterator as _};
use rayon::slice::ParallelSliceMut as _;

use super::Catalogue;
use super::placement::Order;
use super::record::Record;
use crate::collate::{beginning, natural_bytes};

/// What is kept of each file.
#[derive(Clone, Copy)]
struct ColumnRow {
    /// Its place in the order of titles.
    rank: u32,
    access_class: u32,
    /// Unknown dates last.
    date: u64,
    /// Newest first; the sign turned so that times before 1970 come last.
    added: u64,
    /// Disc and track, or season and episode.
    place: u32,
}

const ABSENT: u32 = u32::MAX;

/// The files of a large batch, by serial; nothing of a small one.
pub(super) struct Columns {
    first: u32,
    /// Where the row of a file is, by its serial less the first one; serials may lie far apart.
    places: Vec<u32>,
    rows: Vec<ColumnRow>,
}

/// From this many files on, columns are worth their making.
const MANY: usize = 2000;

impl Columns {
    /// `files` stand in rising order. Those that went have no row.
    pub(super) fn of(catalogue: &Catalogue, files: &[u32]) -> Columns {
        let (Some(first), Some(last)) =
            (files.first(), files.last().filter(|_| files.len() >= MANY))
        else {
            return Columns { first: 0, places: Vec::new(), rows: Vec::new() };
        };
        let looked_up = files.par_iter().filter_map(|serial| {
            let record = catalogue.record(*serial)?;
            let title = catalogue.titles.get(*serial).unwrap_or_default();
            let (disc, track) = record.place();
            let row = ColumnRow {
                rank: 0,
                access_class: record.access_class(),
                date: record.date().wrapping_sub(1),
                added: !(record.added() as u64 ^ 1 << 63),
                place: u32::from(disc) << 16 | u32::from(track),
            };
            Some((beginning(title), *serial, row))
        });
        let looked_up: Vec<(u128, u32, ColumnRow)> = looked_up.collect();
        let mut places = vec![ABSENT; (last - first) as usize + 1];
        let mut rows = Vec::with_capacity(looked_up.len());
        let mut sorted = Vec::with_capacity(looked_up.len());
        for (beginning, serial, row) in looked_up {
            places[(serial - first) as usize] = rows.len() as u32;
            rows.push(row);
            sorted.push((beginning, serial));
        }
        let title = |serial: u32| catalogue.titles.get(serial).unwrap_or_default();
        sorted.par_sort_unstable_by(|(x, a), (y, b)| {
            x.cmp(y).then_with(|| natural_bytes(title(*a), title(*b))).then_with(|| a.cmp(b))
        });
        for (rank, (_, serial)) in sorted.iter().enumerate() {
            rows[places[(serial - first) as usize] as usize].rank = rank as u32;
        }
        Columns { first: *first, places, rows }
    }

    fn row(&self, serial: u32) -> Option<&ColumnRow> {
        let place = self.places.get(serial.checked_sub(self.first)? as usize)?;
        self.rows.get(*place as usize)
    }

    /// The access class of a file.
    pub(super) fn access_class(&self, catalogue: &Catalogue, serial: u32) -> u32 {
        let looked_up = self.row(serial).map(|row| row.access_class);
        looked_up.unwrap_or_else(|| catalogue.record(serial).map_or(0, Record::access_class))
    }

    /// Sorts files.
    pub(super) fn sorted(
        &self,
        catalogue: &Catalogue,
        order: Order,
        mut files: Vec<u32>,
    ) -> Vec<u32> {
        let key = |serial: &u32| {
            let row = self.row(*serial)?;
            let (first, second) = match order {
                Order::Title | Order::Listed => (0, row.rank),
                Order::Date => (row.date, row.rank),
                Order::Added => (row.added, !serial),
                Order::ObjectId => (u64::from(row.place), row.rank),
            };
            Some((first, second, *serial))
        };
        match files.iter().map(key).collect::<Option<Vec<(u64, u32, u32)>>>() {
            Some(mut keyed) => {
                keyed.par_sort_unstable();
                files.clear();
                files.extend(keyed.into_iter().map(|(_, _, serial)| serial));
            }
            // Some are not of the batch.
            None => files.sort_unstable_by(|a, b| catalogue.file_order(order, *a, *b)),
        }
        files
    }
}
