//! Where a batch of files belongs, and by how much counts change with it.

use std::collections::HashSet;
use std::hash::BuildHasherDefault;

use rayon::iter::{
    IndexedParallelIterator as _, IntoParallelRefIterator as _, ParallelIterator as _,
};
use rayon::slice::ParallelSliceMut as _;

use super::Catalogue;
use super::change::{ContainersMet, pair, place_of};
use super::placement::PathSegment;
use crate::shards::AsIs;

/// Files that one thread looks at in a row.
pub(super) const IN_A_ROW: usize = 4096;

/// Files whose appearances are noted at one time.
pub(super) const AT_ONCE: usize = 32 * IN_A_ROW;

/// Where some files belong: containers by node at first, by place once there are containers.
#[derive(Default)]
pub(super) struct PlacedFiles {
    /// The ways to these containers, each container once, end to end; and their lengths.
    pub(super) ways: Vec<PathSegment>,
    pub(super) lengths: Vec<usize>,
    known: HashSet<u64, BuildHasherDefault<AsIs>>,
    /// Appearances as (node, file), and names of containers as (node, name).
    appearances: Vec<(u64, u32)>,
    names: Vec<(u64, u32)>,
    pub(super) came: Vec<u64>,
    pub(super) spelt: Vec<u64>,
}

impl PlacedFiles {
    pub(super) fn file(&mut self, catalogue: &Catalogue, serial: u32) {
        let Some(record) = catalogue.record(serial) else { return };
        catalogue.placements(record, |way| {
            let Some(last) = way.last() else { return };
            self.appearances.push((last.node.0, serial));
            let named = way.iter().filter(|step| step.kind.is_named());
            self.names.extend(named.map(|step| (step.node.0, step.subject)));
            if self.known.insert(last.node.0) {
                self.lengths.push(way.len());
                self.ways.extend_from_slice(way);
            }
        });
    }

    pub(super) fn place(&mut self, met: &ContainersMet) {
        let placed = |pairs: Vec<(u64, u32)>| {
            let pairs = pairs.into_iter();
            pairs.filter_map(|(node, number)| Some(pair(*met.get(&node)?, number))).collect()
        };
        self.came = placed(std::mem::take(&mut self.appearances));
        self.spelt = placed(std::mem::take(&mut self.names));
    }
}

/// Containers that one thread edits in a row: a small batch is not worth a second one.
pub(super) const FEW: usize = 32;

/// Pairs of one place each.
pub(super) fn groups(pairs: &[u64]) -> impl Iterator<Item = &[u64]> {
    pairs.chunk_by(|a, b| place_of(*a) == place_of(*b))
}

/// A [`placement`], and by how much its count changes.
pub(super) type Delta = (u64, i32);

/// An access class in a container, so that all of one container stand together and rise.
pub(super) fn placement(place: u32, access_class: u16) -> u64 {
    u64::from(place) << 16 | u64::from(access_class)
}

pub(super) fn place_of_placement(placement: u64) -> u32 {
    (placement >> 16) as u32
}

/// Brings changes into order and adds up those of one placement.
pub(super) fn sum(deltas: &mut Vec<Delta>) {
    deltas.par_sort_unstable_by_key(|(placement, _)| *placement);
    deltas.dedup_by(|(next, more), (placement, delta)| {
        let same = next == placement;
        *delta += if same { *more } else { 0 };
        same
    });
}

/// How many appearances of each access class are at each place.
pub(super) fn access_classes(
    pairs: &[u64],
    access_class: impl Fn(u32) -> u32 + Sync,
) -> Vec<Delta> {
    let groups: Vec<&[u64]> = groups(pairs).collect();
    let access_classes = groups.par_iter().with_min_len(FEW).flat_map_iter(|group| {
        let mut counts: Vec<(u16, i32)> = Vec::new();
        // Files of one place are mostly of one access class, many in a row.
        let mut last = 0;
        for pair in *group {
            let access_class = access_class(*pair as u32) as u16;
            if counts.get(last).is_none_or(|(c, _)| *c != access_class) {
                last = counts.iter().position(|(c, _)| *c == access_class).unwrap_or(counts.len());
                if last == counts.len() {
                    counts.push((access_class, 0));
                }
            }
            counts[last].1 += 1;
        }
        let place = place_of(group[0]);
        counts.into_iter().map(move |(access_class, count)| (placement(place, access_class), count))
    });
    access_classes.collect()
}
