//! Who may see what, in numbers. An *access class* is one kind in one folder: the finest thing that
//! a grant tells apart. An item has one access class. A container holds items of a set of access
//! classes; its *access set* is the number of that set.

use std::collections::HashMap;
use std::sync::Arc;

use crate::Kind;
use crate::access::Pass;
use crate::ids::FolderId;

/// The access class of a kind in the folder at this slot.
pub(super) fn access_class(slot: u16, kind: Kind) -> u16 {
    slot * 3 + kind.index() as u16
}

pub(super) fn kind_of(access_class: u32) -> Kind {
    Kind::ALL[access_class as usize % 3]
}

pub(super) fn slot_of(access_class: u32) -> usize {
    access_class as usize / 3
}

/// Most folders at one time, so that access classes fit into 16 bits.
pub(super) const SLOTS: usize = 20_000;

/// The sets of access classes in use, by number. Set 0 is empty.
#[derive(Debug, Clone)]
pub(super) struct AccessSets {
    sets: Arc<Vec<Box<[u16]>>>,
    numbers: Arc<HashMap<Box<[u16]>, u32>>,
}

impl Default for AccessSets {
    fn default() -> AccessSets {
        AccessSets {
            sets: Arc::new(vec![Box::default()]),
            numbers: Arc::new(HashMap::from([(Box::default(), 0)])),
        }
    }
}

impl AccessSets {
    /// The number of a set of access classes, which must be rising.
    pub(super) fn number(&mut self, set: &[u16]) -> u32 {
        if let Some(number) = self.numbers.get(set) {
            return *number;
        }
        let number = self.sets.len() as u32;
        Arc::make_mut(&mut self.sets).push(set.into());
        Arc::make_mut(&mut self.numbers).insert(set.into(), number);
        number
    }

    pub(super) fn set(&self, number: u32) -> &[u16] {
        self.sets.get(number as usize).map_or(&[], |s| s)
    }
}

/// What a pass covers, worked out for every access class once for a request.
pub(super) struct Visible<'a> {
    all: bool,
    /// Whether test pieces are among it.
    pub test_pieces: bool,
    access_classes: Vec<bool>,
    access_sets: &'a AccessSets,
}

impl<'a> Visible<'a> {
    pub(super) fn new(
        pass: &Pass,
        slots: &[Option<FolderId>],
        access_sets: &'a AccessSets,
    ) -> Visible<'a> {
        // The test pieces are covered by no grant.
        let all = pass.covers_all()
            && (pass.covers_test_pieces() || !slots.contains(&Some(FolderId::TEST_PIECES)));
        let access_classes = if all {
            Vec::new()
        } else {
            let covers =
                |folder: &Option<FolderId>, kind| folder.is_some_and(|f| pass.covers(f, kind));
            slots.iter().flat_map(|f| Kind::ALL.map(|kind| covers(f, kind))).collect()
        };
        let test_pieces = pass.covers_test_pieces();
        Visible { all, test_pieces, access_classes, access_sets }
    }

    pub(super) fn covers_class(&self, access_class: u32) -> bool {
        self.all || self.access_classes.get(access_class as usize).copied().unwrap_or(false)
    }

    pub(super) fn covers_set(&self, access_set: u32) -> bool {
        self.all
            || self.access_sets.set(access_set).iter().any(|c| self.covers_class(u32::from(*c)))
    }
}

/// Items below a container at any depth, by access class, rising.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct AccessCounts(Box<[(u16, u32)]>);

impl AccessCounts {
    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = (u16, u32)> + '_ {
        self.0.iter().copied()
    }

    pub(super) fn total(&self, seen: &Visible<'_>) -> u32 {
        self.iter()
            .filter(|(access_class, _)| seen.covers_class(u32::from(*access_class)))
            .map(|(_, n)| n)
            .sum()
    }

    pub(super) fn everything(&self) -> u32 {
        self.iter().map(|(_, n)| n).sum()
    }

    /// Adds to access classes, which must rise; true if the set of access classes changed.
    pub(super) fn add(&mut self, deltas: impl Iterator<Item = (u16, i32)>) -> bool {
        let mut deltas = deltas.peekable();
        let mut sums = Vec::with_capacity(self.0.len() + deltas.size_hint().0);
        let mut changed = false;
        let came = |access_class: u16, delta: i32| {
            (delta > 0).then_some((access_class, delta.unsigned_abs()))
        };
        for (access_class, count) in self.iter() {
            while let Some((new, delta)) = deltas.next_if(|(new, _)| *new < access_class) {
                let before = sums.len();
                sums.extend(came(new, delta));
                changed |= sums.len() > before;
            }
            let delta =
                deltas.next_if(|(same, _)| *same == access_class).map_or(0, |(_, delta)| delta);
            match count.saturating_add_signed(delta) {
                0 => changed = true,
                count => sums.push((access_class, count)),
            }
        }
        let before = sums.len();
        sums.extend(deltas.filter_map(|(access_class, delta)| came(access_class, delta)));
        changed |= sums.len() > before;
        self.0 = sums.into();
        changed
    }

    pub(super) fn access_set(&self, access_sets: &mut AccessSets) -> u32 {
        let set: Vec<u16> = self.iter().map(|(access_class, _)| access_class).collect();
        access_sets.number(&set)
    }
}
