//! The ordered children of a container.
//!
//! A list is cut into blocks. Each block stores how many of its entries belong to which *group*: the
//! access class of an item, the access set of a container. The total under any pass is a sum over
//! blocks, and a page is found without walking the entries before it.

use std::cmp::Ordering;
use std::collections::HashSet;
use std::sync::Arc;

/// Most entries in one block.
const FULL: usize = 512;

/// `[groups, (group, count)…, entries…]` in one allocation: most containers are small, and there
/// are many of them.
#[derive(Debug, Clone)]
pub(super) struct Block(Arc<[u32]>);

impl Block {
    fn of(entries: &[u32], group: &impl Fn(u32) -> u32) -> Block {
        let mut sums: Vec<(u32, u32)> = Vec::new();
        for entry in entries {
            let group = group(*entry);
            match sums.iter_mut().find(|(m, _)| *m == group) {
                Some((_, count)) => *count += 1,
                None => sums.push((group, 1)),
            }
        }
        let head = std::iter::once(sums.len() as u32);
        let sums = sums.iter().flat_map(|(group, count)| [*group, *count]);
        Block(head.chain(sums).chain(entries.iter().copied()).collect())
    }

    fn entries(&self) -> &[u32] {
        &self.0[1 + 2 * self.0[0] as usize..]
    }

    fn first(&self) -> u32 {
        self.entries()[0]
    }

    fn count(&self, seen: &impl Fn(u32) -> bool) -> u32 {
        let sums = self.0[1..1 + 2 * self.0[0] as usize].chunks_exact(2);
        sums.filter(|pair| seen(pair[0])).map(|pair| pair[1]).sum()
    }
}

/// Entries in order; a clone shares the blocks that did not change.
#[derive(Debug, Clone, Default)]
pub(super) enum List {
    #[default]
    Empty,
    One(Block),
    Many(Arc<Vec<Block>>),
}

impl List {
    fn blocks(&self) -> &[Block] {
        match self {
            List::Empty => &[],
            List::One(block) => std::slice::from_ref(block),
            List::Many(blocks) => blocks,
        }
    }

    fn from_blocks(mut blocks: Vec<Block>) -> List {
        match blocks.len() {
            0 => List::Empty,
            1 => blocks.pop().map_or(List::Empty, List::One),
            _ => {
                blocks.shrink_to_fit();
                List::Many(Arc::new(blocks))
            }
        }
    }

    /// A list of entries that are in order already.
    pub(super) fn of(entries: &[u32], group: &impl Fn(u32) -> u32) -> List {
        // Blocks begin with room for what comes later.
        List::from_blocks(entries.chunks(FULL * 3 / 4).map(|c| Block::of(c, group)).collect())
    }

    pub(super) fn is_empty(&self) -> bool {
        self.blocks().is_empty()
    }

    /// Whether it has more entries than one block holds.
    pub(super) fn is_large(&self) -> bool {
        matches!(self, List::Many(_))
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = u32> + '_ {
        self.blocks().iter().flat_map(|b| b.entries().iter().copied())
    }

    /// How many entries have a group that is seen.
    pub(super) fn count(&self, seen: &impl Fn(u32) -> bool) -> u32 {
        self.blocks().iter().map(|b| b.count(seen)).sum()
    }

    /// The entries `start` to `start + count` of those seen, from the last one back if
    /// `reverse`.
    pub(super) fn page(
        &self,
        seen: &impl Fn(u32) -> bool,
        group: &impl Fn(u32) -> u32,
        start: u32,
        count: u32,
        reverse: bool,
    ) -> Vec<u32> {
        let mut skip = start;
        let mut page = Vec::new();
        let mut take = |block: &Block| {
            let visible = block.count(seen);
            if visible <= skip {
                skip -= visible;
                return page.len() < count as usize;
            }
            let whole = visible as usize == block.entries().len();
            let wanted = |entry: &&u32| whole || seen(group(**entry));
            let room = count as usize - page.len();
            let entries = block.entries().iter();
            if reverse {
                page.extend(entries.rev().filter(wanted).skip(skip as usize).take(room));
            } else {
                page.extend(entries.filter(wanted).skip(skip as usize).take(room));
            }
            skip = 0;
            page.len() < count as usize
        };
        if reverse {
            let _ = self.blocks().iter().rev().all(&mut take);
        } else {
            let _ = self.blocks().iter().all(&mut take);
        }
        page
    }

    /// Tells each entry whose group is wanted, in order.
    pub(super) fn each(
        &self,
        wanted: &impl Fn(u32) -> bool,
        group: &impl Fn(u32) -> u32,
        mut tell: impl FnMut(u32),
    ) {
        for block in self.blocks() {
            let (count, entries) = (block.count(wanted) as usize, block.entries());
            if count == entries.len() {
                entries.iter().for_each(|entry| tell(*entry));
            } else if count > 0 {
                entries.iter().filter(|e| wanted(group(**e))).for_each(|entry| tell(*entry));
            }
        }
    }

    /// Takes entries out. `order` must be the one in which the list stands.
    pub(super) fn take(
        &mut self,
        entries: &[u32],
        order: &impl Fn(u32, u32) -> Ordering,
        group: &impl Fn(u32) -> u32,
    ) {
        if entries.is_empty() || self.is_empty() {
            return;
        }
        let gone: HashSet<u32> = entries.iter().copied().collect();
        let blocks = self.blocks();
        let mut touched: HashSet<usize> = HashSet::new();
        if !self.is_large() || entries.len() > blocks.len() {
            touched.extend(0..blocks.len());
        } else {
            for entry in entries {
                let after = blocks.partition_point(|b| order(b.first(), *entry).is_le());
                touched.insert(after.saturating_sub(1));
            }
        }
        let kept = blocks.iter().enumerate().filter_map(|(n, block)| {
            let hit = touched.contains(&n) && block.entries().iter().any(|e| gone.contains(e));
            if !hit {
                return Some(block.clone());
            }
            let left: Vec<u32> =
                block.entries().iter().copied().filter(|e| !gone.contains(e)).collect();
            (!left.is_empty()).then(|| Block::of(&left, group))
        });
        *self = List::from_blocks(kept.collect());
    }

    /// Adds a few entries to many blocks. A list that nobody else holds is changed where it is:
    /// merely counting who holds each of thousands of blocks would take longer.
    fn add_few(
        &mut self,
        entries: &[u32],
        order: &impl Fn(u32, u32) -> Ordering,
        group: &impl Fn(u32) -> u32,
    ) {
        let mut blocks = match std::mem::take(self) {
            List::Empty => Vec::new(),
            List::One(block) => vec![block],
            List::Many(blocks) => Arc::try_unwrap(blocks).unwrap_or_else(|held| (*held).clone()),
        };
        for entry in entries {
            let after = blocks.partition_point(|b| order(b.first(), *entry).is_le());
            let at = after.saturating_sub(1);
            let merged = merge(blocks[at].entries(), &[*entry], order);
            blocks.splice(at..=at, cut(&merged, group));
        }
        *self = List::from_blocks(blocks);
    }

    /// Adds entries, which stand in `order` as the list does.
    pub(super) fn add(
        &mut self,
        entries: &[u32],
        order: &impl Fn(u32, u32) -> Ordering,
        group: &impl Fn(u32) -> u32,
    ) {
        if entries.is_empty() {
            return;
        }
        if self.is_empty() {
            *self = List::of(entries, group);
            return;
        }
        if entries.len() * 8 < self.blocks().len() {
            self.add_few(entries, order, group);
            return;
        }
        let blocks = self.blocks();
        let mut result = Vec::with_capacity(blocks.len() + 1);
        let mut rest = entries;
        let mut from = 0;
        while let Some(first) = rest.first() {
            // The block into which the next entry belongs, and all entries that go there too.
            let ahead = blocks[from..].partition_point(|b| order(b.first(), *first).is_le());
            let at = (from + ahead).saturating_sub(1).max(from);
            result.extend_from_slice(&blocks[from..at]);
            let here = match blocks.get(at + 1) {
                Some(next) => rest.partition_point(|e| order(*e, next.first()).is_lt()),
                None => rest.len(),
            };
            let merged = merge(blocks[at].entries(), &rest[..here], order);
            result.extend(cut(&merged, group));
            rest = &rest[here..];
            from = at + 1;
        }
        result.extend_from_slice(&blocks[from..]);
        *self = List::from_blocks(result);
    }
}

/// Entries in as many blocks as they need.
fn cut(entries: &[u32], group: &impl Fn(u32) -> u32) -> Vec<Block> {
    if entries.len() <= FULL {
        return vec![Block::of(entries, group)];
    }
    let pieces = entries.len().div_ceil(FULL * 3 / 4);
    let size = entries.len().div_ceil(pieces);
    entries.chunks(size).map(|piece| Block::of(piece, group)).collect()
}

fn merge(a: &[u32], b: &[u32], order: &impl Fn(u32, u32) -> Ordering) -> Vec<u32> {
    let mut merged = Vec::with_capacity(a.len() + b.len());
    if b.len() * 8 < a.len() {
        // Few into many: find the place of each.
        let mut from = 0;
        for entry in b {
            let ahead = a[from..].partition_point(|e| order(*e, *entry).is_lt());
            merged.extend_from_slice(&a[from..from + ahead]);
            merged.push(*entry);
            from += ahead;
        }
        merged.extend_from_slice(&a[from..]);
        return merged;
    }
    let (mut a, mut b) = (a.iter().copied().peekable(), b.iter().copied().peekable());
    while let (Some(x), Some(y)) = (a.peek(), b.peek()) {
        let next = if order(*x, *y).is_le() { a.next() } else { b.next() };
        merged.extend(next);
    }
    merged.extend(a);
    merged.extend(b);
    merged
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    proptest! {
        #[test]
        fn as_a_sorted_set(
            steps in proptest::collection::vec((any::<bool>(), proptest::collection::btree_set(0u32..3000, 0..900)), 0..6),
            start in 0u32..2500, count in 1u32..60, hidden in 0u32..4, reverse in any::<bool>(),
        ) {
            let (mut list, mut set) = (List::default(), BTreeSet::new());
            let (order, group) = (|a: u32, b: u32| a.cmp(&b), |e: u32| e % 3);
            for (adds, entries) in &steps {
                let entries: Vec<u32> = entries.iter().copied().filter(|e| set.contains(e) != *adds).collect();
                if *adds {
                    list.add(&entries, &order, &group);
                    set.extend(entries);
                } else {
                    list.take(&entries, &order, &group);
                    set.retain(|e| !entries.contains(e));
                }
            }
            let seen = |group: u32| group != hidden;
            prop_assert_eq!(list.iter().collect::<Vec<_>>(), set.iter().copied().collect::<Vec<_>>());
            let mut visible: Vec<u32> = set.iter().copied().filter(|e| seen(group(*e))).collect();
            prop_assert_eq!(list.count(&seen), visible.len() as u32);
            let mut told = Vec::new();
            list.each(&seen, &group, |e| told.push(e));
            prop_assert_eq!(&told, &visible);
            if reverse { visible.reverse(); }
            let page: Vec<u32> = visible.into_iter().skip(start as usize).take(count as usize).collect();
            prop_assert_eq!(list.page(&seen, &group, start, count, reverse), page);
            prop_assert!(list.blocks().iter().all(|b| !b.entries().is_empty() && b.entries().len() <= FULL));
        }
    }
}
