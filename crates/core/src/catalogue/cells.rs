//! Who may see what, in numbers: a *cell* is one kind in one folder, the finest thing that a
//! grant tells apart. An item lies in one cell; a container holds items of some set of cells,
//! and its *mark* is the number of that set.

use std::collections::HashMap;
use std::sync::Arc;

use crate::Kind;
use crate::access::Pass;

/// The cell of a kind in the folder at this slot.
pub(super) fn cell(slot: u16, kind: Kind) -> u16 {
    slot * 3 + kind.index() as u16
}

pub(super) fn kind_of(cell: u32) -> Kind {
    Kind::ALL[cell as usize % 3]
}

pub(super) fn slot_of(cell: u32) -> usize {
    cell as usize / 3
}

/// Most folders at one time, so that cells fit into 16 bits.
pub(super) const SLOTS: usize = 20_000;

/// The sets of cells in use, by number. Set 0 is empty.
#[derive(Debug, Clone)]
pub(super) struct Marks {
    sets: Arc<Vec<Box<[u16]>>>,
    numbers: Arc<HashMap<Box<[u16]>, u32>>,
}

impl Default for Marks {
    fn default() -> Marks {
        Marks {
            sets: Arc::new(vec![Box::default()]),
            numbers: Arc::new(HashMap::from([(Box::default(), 0)])),
        }
    }
}

impl Marks {
    /// The number of a set of cells, which must be rising.
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

/// What a pass covers, worked out for every cell once for a request.
pub(super) struct Seen<'a> {
    all: bool,
    cells: Vec<bool>,
    marks: &'a Marks,
}

impl<'a> Seen<'a> {
    pub(super) fn new(pass: &Pass, slots: &[Option<u32>], marks: &'a Marks) -> Seen<'a> {
        let all = pass.covers_all();
        let cells = if all {
            Vec::new()
        } else {
            let covers = |folder: &Option<u32>, kind| folder.is_some_and(|f| pass.covers(f, kind));
            slots.iter().flat_map(|f| Kind::ALL.map(|kind| covers(f, kind))).collect()
        };
        Seen { all, cells, marks }
    }

    pub(super) fn cell(&self, cell: u32) -> bool {
        self.all || self.cells.get(cell as usize).copied().unwrap_or(false)
    }

    pub(super) fn mark(&self, mark: u32) -> bool {
        self.all || self.marks.set(mark).iter().any(|c| self.cell(u32::from(*c)))
    }
}

/// Items below a container at any depth, by cell, rising.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Cells(Box<[(u16, u32)]>);

impl Cells {
    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = (u16, u32)> + '_ {
        self.0.iter().copied()
    }

    pub(super) fn total(&self, seen: &Seen<'_>) -> u32 {
        self.iter().filter(|(cell, _)| seen.cell(u32::from(*cell))).map(|(_, n)| n).sum()
    }

    pub(super) fn everything(&self) -> u32 {
        self.iter().map(|(_, n)| n).sum()
    }

    /// Adds to cells, which must rise; true if the set of cells changed.
    pub(super) fn add(&mut self, deltas: impl Iterator<Item = (u16, i32)>) -> bool {
        let mut deltas = deltas.peekable();
        let mut sums = Vec::with_capacity(self.0.len() + deltas.size_hint().0);
        let mut changed = false;
        let came = |cell: u16, delta: i32| (delta > 0).then_some((cell, delta.unsigned_abs()));
        for (cell, count) in self.iter() {
            while let Some((new, delta)) = deltas.next_if(|(new, _)| *new < cell) {
                let before = sums.len();
                sums.extend(came(new, delta));
                changed |= sums.len() > before;
            }
            let delta = deltas.next_if(|(same, _)| *same == cell).map_or(0, |(_, delta)| delta);
            match count.saturating_add_signed(delta) {
                0 => changed = true,
                count => sums.push((cell, count)),
            }
        }
        let before = sums.len();
        sums.extend(deltas.filter_map(|(cell, delta)| came(cell, delta)));
        changed |= sums.len() > before;
        self.0 = sums.into();
        changed
    }

    pub(super) fn mark(&self, marks: &mut Marks) -> u32 {
        let set: Vec<u16> = self.iter().map(|(cell, _)| cell).collect();
        marks.number(&set)
    }
}
