//! Byte strings by number, packed into copy-on-write chunks.

use std::sync::Arc;

const SIZE: usize = 64;

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

/// Byte strings by number: no allocation each, and a clone shares what did not change. An
/// empty string is the same as none.
#[derive(Debug, Clone, Default)]
pub(crate) struct Packs {
    packs: Arc<Vec<Arc<Pack>>>,
}

impl Packs {
    pub fn get(&self, number: u32) -> Option<&[u8]> {
        let pack = self.packs.get(number as usize / SIZE)?;
        Some(&pack.bytes[pack.span(number as usize % SIZE)]).filter(|b| !b.is_empty())
    }

    /// The text with this number, empty if there is none.
    pub fn text(&self, number: u32) -> &str {
        self.get(number).and_then(|b| std::str::from_utf8(b).ok()).unwrap_or_default()
    }

    pub fn put(&mut self, number: u32, value: &[u8]) {
        let (at, within) = (number as usize / SIZE, number as usize % SIZE);
        let packs = Arc::make_mut(&mut self.packs);
        if at >= packs.len() {
            if value.is_empty() {
                return;
            }
            packs.resize_with(at + 1, || Arc::new(Pack::EMPTY));
        }
        Arc::make_mut(&mut packs[at]).put(within, value);
    }

    /// Numbers of all strings, rising.
    pub fn numbers(&self) -> impl Iterator<Item = u32> + '_ {
        self.packs.iter().enumerate().flat_map(|(n, pack)| {
            let present = (0..SIZE).filter(|at| !pack.span(*at).is_empty());
            present.map(move |at| (n * SIZE + at) as u32)
        })
    }

    /// Numbers of the strings that hold `needle`, rising. Runs through the packed bytes and
    /// not string by string.
    pub fn holding<'a>(&'a self, needle: &'a [u8]) -> impl Iterator<Item = u32> + 'a {
        let finder = memchr::memmem::Finder::new(needle);
        self.packs.iter().enumerate().flat_map(move |(n, pack)| {
            let mut found = Vec::new();
            let mut from = 0;
            let mut at = 0;
            while let Some(place) = finder.find(&pack.bytes[from..]).map(|p| p + from) {
                while pack.ends[at] as usize <= place {
                    at += 1;
                }
                let end = pack.ends[at] as usize;
                // Not across the border of two strings.
                if place + needle.len() <= end {
                    found.push((n * SIZE + at) as u32);
                    from = end;
                } else {
                    from = place + 1;
                }
            }
            found
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    proptest! {
        #[test]
        fn as_a_map(steps in proptest::collection::vec((0u32..150, "[ab]{0,5}"), 0..80), needle in "[ab]{1,3}") {
            let (mut packs, mut map) = (Packs::default(), BTreeMap::new());
            for (number, text) in &steps {
                let before = packs.clone();
                let had = before.get(*number).map(<[u8]>::to_vec);
                packs.put(*number, text.as_bytes());
                prop_assert_eq!(before.get(*number).map(<[u8]>::to_vec), had);
                if text.is_empty() { map.remove(number); } else { map.insert(*number, text.clone()); }
            }
            for number in 0..150 {
                prop_assert_eq!(packs.text(number), map.get(&number).map_or("", |t| t.as_str()));
            }
            prop_assert_eq!(packs.numbers().collect::<Vec<_>>(), map.keys().copied().collect::<Vec<_>>());
            let holding: Vec<u32> = map.iter().filter(|(_, t)| t.contains(&needle)).map(|(n, _)| *n).collect();
            prop_assert_eq!(packs.holding(needle.as_bytes()).collect::<Vec<_>>(), holding);
        }
    }
}
