//! Byte strings by number, packed into copy-on-write chunks.

use std::sync::Arc;

const SIZE: usize = 64;
/// Packs in one group: a change copies the pointers of one group and not of all packs.
const GROUP: usize = 128;

/// Up to [`SIZE`] byte strings, end to end.
#[derive(Debug, Clone)]
struct Pack {
    bytes: Vec<u8>,
    /// Where each string ends; an empty one is absent.
    ends: [u32; SIZE],
}

impl Pack {
    const EMPTY: Pack = Pack { bytes: Vec::new(), ends: [0; SIZE] };

    fn span(&self, at: usize) -> std::ops::Range<usize> {
        let from = if at == 0 { 0 } else { self.ends[at - 1] as usize };
        from..self.ends[at] as usize
    }

    fn put(&mut self, at: usize, value: &[u8]) {
        let span = self.span(at);
        let (old, new) = (span.len() as u32, value.len() as u32);
        if span.end == self.bytes.len() {
            self.bytes.truncate(span.start);
            // Mostly filled in order: grow by what is left, so that nothing is wasted.
            self.bytes.reserve_exact(value.len());
            self.bytes.extend_from_slice(value);
        } else {
            self.bytes.splice(span, value.iter().copied());
        }
        for end in &mut self.ends[at..] {
            *end = *end - old + new;
        }
    }
}

type Group = Arc<Vec<Arc<Pack>>>;

/// Byte strings by number: no allocation each, and a clone shares what did not change. An
/// empty string is the same as none.
#[derive(Debug, Clone, Default)]
pub(crate) struct Packs {
    groups: Arc<Vec<Group>>,
}

impl Packs {
    pub(crate) fn get(&self, number: u32) -> Option<&[u8]> {
        let at = number as usize / SIZE;
        let pack = self.groups.get(at / GROUP)?.get(at % GROUP)?;
        Some(&pack.bytes[pack.span(number as usize % SIZE)]).filter(|b| !b.is_empty())
    }

    /// The text with this number, empty if there is none.
    pub(crate) fn text(&self, number: u32) -> &str {
        self.get(number).and_then(|b| std::str::from_utf8(b).ok()).unwrap_or_default()
    }

    pub(crate) fn put(&mut self, number: u32, value: &[u8]) {
        if value.is_empty() && self.get(number).is_none() {
            return;
        }
        let (at, within) = (number as usize / SIZE, number as usize % SIZE);
        let groups = Arc::make_mut(&mut self.groups);
        if at / GROUP >= groups.len() {
            groups.resize_with(at / GROUP + 1, Arc::default);
        }
        let group = Arc::make_mut(&mut groups[at / GROUP]);
        if at % GROUP >= group.len() {
            group.resize_with(at % GROUP + 1, || Arc::new(Pack::EMPTY));
        }
        Arc::make_mut(&mut group[at % GROUP]).put(within, value);
    }

    fn packs(&self) -> impl Iterator<Item = (u32, &Pack)> {
        let groups = self.groups.iter().enumerate();
        groups.flat_map(|(g, group)| {
            let packs = group.iter().enumerate();
            packs.map(move |(n, pack)| (((g * GROUP + n) * SIZE) as u32, &**pack))
        })
    }

    /// Numbers of all strings, rising.
    pub(crate) fn numbers(&self) -> impl Iterator<Item = u32> + '_ {
        self.packs().flat_map(|(first, pack)| {
            let present = (0..SIZE).filter(|at| !pack.span(*at).is_empty());
            present.map(move |at| first + at as u32)
        })
    }

    /// Tells the numbers of the strings that hold `needle`, rising. Runs through the packed
    /// bytes and not string by string.
    pub(crate) fn holding(&self, needle: &[u8], mut tell: impl FnMut(u32)) {
        let finder = memchr::memmem::Finder::new(needle);
        for (first, pack) in self.packs() {
            let (mut from, mut at) = (0, 0);
            while let Some(place) = finder.find(&pack.bytes[from..]).map(|p| p + from) {
                while pack.ends[at] as usize <= place {
                    at += 1;
                }
                let end = pack.ends[at] as usize;
                // Not across the border of two strings.
                if place + needle.len() <= end {
                    tell(first + at as u32);
                    from = end;
                } else {
                    from = place + 1;
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    proptest! {
        #[test]
        fn as_a_map(steps in proptest::collection::vec((0u32..20_000, "[ab]{0,5}"), 0..80), needle in "[ab]{1,3}") {
            let (mut packs, mut map) = (Packs::default(), BTreeMap::new());
            for (number, text) in &steps {
                let before = packs.clone();
                let had = before.get(*number).map(<[u8]>::to_vec);
                packs.put(*number, text.as_bytes());
                prop_assert_eq!(before.get(*number).map(<[u8]>::to_vec), had);
                if text.is_empty() { map.remove(number); } else { map.insert(*number, text.clone()); }
            }
            for number in (0..150).chain(map.keys().copied()) {
                prop_assert_eq!(packs.text(number), map.get(&number).map_or("", |t| t.as_str()));
            }
            prop_assert_eq!(packs.numbers().collect::<Vec<_>>(), map.keys().copied().collect::<Vec<_>>());
            let holding: Vec<u32> = map.iter().filter(|(_, t)| t.contains(&needle)).map(|(n, _)| *n).collect();
            let mut told = Vec::new();
            packs.holding(needle.as_bytes(), |n| told.push(n));
            prop_assert_eq!(told, holding);
        }
    }
}
