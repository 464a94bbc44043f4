//! Names that many things share, kept once.

use super::search::BitSet;
use crate::Locale;
use crate::packs::Packs;
use crate::shards::{Shards, mix_text};

/// Names by number. A name once given a number keeps it as long as the process runs.
#[derive(Debug, Clone, Default)]
pub(super) struct Names {
    texts: Packs,
    folded: Packs,
    /// What [`Locale::fold`] gives, mixed: equal for names that people take for the same.
    keys: std::sync::Arc<Vec<std::sync::Arc<Vec<u64>>>>,
    index: Shards,
    next: u32,
    locale: Locale,
}

const KEYS: usize = 1024;

impl Names {
    /// No names yet; they will be compared by this alphabet.
    pub(super) fn by(locale: Locale) -> Names {
        Names { locale, ..Names::default() }
    }

    pub(super) fn text(&self, number: u32) -> &str {
        self.texts.text(number)
    }

    pub(super) fn folded(&self, number: u32) -> &str {
        self.folded.text(number)
    }

    /// Equal for names that differ only in case and accents.
    pub(super) fn key(&self, number: u32) -> u64 {
        let chunk = self.keys.get(number as usize / KEYS);
        chunk.and_then(|c| c.get(number as usize % KEYS)).copied().unwrap_or(0)
    }

    /// The names whose folded form holds a text.
    pub(super) fn holding(&self, needle: &str) -> BitSet {
        let mut bits = BitSet::default();
        self.folded.holding(needle.as_bytes(), |number| bits.put(number));
        bits
    }

    pub(super) fn number(&mut self, text: &str) -> u32 {
        // Two different texts with one key would share a number only if this were not checked.
        let mut key = mix_text(0, text);
        while let Some(number) = self.index.get(key) {
            if self.text(number) == text {
                return number;
            }
            key = key.wrapping_add(1);
        }
        let number = self.next;
        self.next += 1;
        let folded = self.locale.fold(text);
        self.texts.put(number, text.as_bytes());
        self.folded.put(number, folded.as_bytes());
        let keys = std::sync::Arc::make_mut(&mut self.keys);
        if number as usize / KEYS >= keys.len() {
            keys.push(std::sync::Arc::default());
        }
        std::sync::Arc::make_mut(&mut keys[number as usize / KEYS]).push(mix_text(1, &folded));
        self.index.insert(key, number);
        number
    }
}
