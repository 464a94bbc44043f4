//! A map from well-mixed 64-bit keys whose clones share what did not change.

use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};
use std::sync::Arc;

const SHARDS: usize = 1024;

/// Keys are mixed already.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct AsIs(u64);

impl Hasher for AsIs {
    fn finish(&self) -> u64 {
        self.0
    }
    fn write(&mut self, _: &[u8]) {}
    fn write_u64(&mut self, key: u64) {
        self.0 = key;
    }
}

type Shard = HashMap<u64, u32, BuildHasherDefault<AsIs>>;

/// Numbers by key, in copy-on-write shards.
#[derive(Debug, Clone, Default)]
pub(crate) struct Shards {
    shards: Arc<Vec<Arc<Shard>>>,
}

impl Shards {
    pub(crate) fn get(&self, key: u64) -> Option<u32> {
        self.shards.get(key as usize % SHARDS)?.get(&key).copied()
    }

    pub(crate) fn insert(&mut self, key: u64, value: u32) {
        let shards = Arc::make_mut(&mut self.shards);
        if shards.is_empty() {
            shards.resize_with(SHARDS, Arc::default);
        }
        Arc::make_mut(&mut shards[key as usize % SHARDS]).insert(key, value);
    }

    pub(crate) fn remove(&mut self, key: u64) {
        if self.get(key).is_some() {
            let shards = Arc::make_mut(&mut self.shards);
            Arc::make_mut(&mut shards[key as usize % SHARDS]).remove(&key);
        }
    }
}

/// Mixes a number into a well-spread key, the same on every machine and in every version:
/// object ids are made of it.
pub(crate) fn mix(seed: u64, value: u64) -> u64 {
    let mut x = seed.rotate_left(23) ^ value.wrapping_mul(0x9e37_79b9_7f4a_7c15);
    for factor in [0xbf58_476d_1ce4_e5b9, 0x94d0_49bb_1331_11eb] {
        x = (x ^ (x >> 30)).wrapping_mul(factor);
        x ^= x >> 27;
    }
    x ^ (x >> 31)
}

/// Mixes a text as [`mix`] does a number.
pub(crate) fn mix_text(seed: u64, text: &str) -> u64 {
    let words = text.as_bytes().chunks(8).map(|chunk| {
        let mut word = [0; 8];
        word[..chunk.len()].copy_from_slice(chunk);
        u64::from_le_bytes(word)
    });
    words.fold(mix(seed, text.len() as u64), mix)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn clones_keep_what_they_had() {
        let mut map = Shards::default();
        let keys: Vec<u64> = (0..5000).map(|n| mix(7, n)).collect();
        for (n, key) in keys.iter().enumerate() {
            map.insert(*key, n as u32);
        }
        let before = map.clone();
        map.remove(keys[3]);
        assert_eq!(
            (before.get(keys[3]), map.get(keys[3]), map.get(keys[4])),
            (Some(3), None, Some(4))
        );
    }

    #[test]
    fn keys_never_change_between_versions() {
        assert_eq!(mix_text(1, "Pellworth"), 2_419_678_908_711_582_402);
        assert_ne!(mix_text(1, "a"), mix_text(1, "a\0"));
    }
}
