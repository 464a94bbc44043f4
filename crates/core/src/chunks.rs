//! A table indexed by serial numbers whose clones share what did not change.

use std::sync::Arc;

const SIZE: usize = 256;

type Chunk<T> = Arc<Vec<Option<T>>>;

/// Values by serial, in copy-on-write chunks: a clone costs one pointer for each 256 values,
/// and a change to the clone copies only the chunk it touches.
#[derive(Debug, Clone)]
pub(crate) struct Chunks<T> {
    chunks: Vec<Option<Chunk<T>>>,
}

impl<T> Default for Chunks<T> {
    fn default() -> Self {
        Chunks { chunks: Vec::new() }
    }
}

impl<T: Clone> Chunks<T> {
    pub(crate) fn get(&self, serial: u32) -> Option<&T> {
        let chunk = self.chunks.get(serial as usize / SIZE)?.as_ref()?;
        chunk.get(serial as usize % SIZE)?.as_ref()
    }

    pub(crate) fn get_mut(&mut self, serial: u32) -> Option<&mut T> {
        self.get(serial)?;
        let chunk = self.chunks.get_mut(serial as usize / SIZE)?.as_mut()?;
        Arc::make_mut(chunk).get_mut(serial as usize % SIZE)?.as_mut()
    }

    pub(crate) fn insert(&mut self, serial: u32, value: T) -> Option<T> {
        let (at, within) = (serial as usize / SIZE, serial as usize % SIZE);
        if at >= self.chunks.len() {
            self.chunks.resize(at + 1, None);
        }
        let chunk = self.chunks[at].get_or_insert_with(|| Arc::new(vec![None; SIZE]));
        Arc::make_mut(chunk)[within].replace(value)
    }

    pub(crate) fn remove(&mut self, serial: u32) -> Option<T> {
        self.get(serial)?;
        let chunk = self.chunks.get_mut(serial as usize / SIZE)?.as_mut()?;
        Arc::make_mut(chunk)[serial as usize % SIZE].take()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn clones_keep_what_they_had() {
        let mut table = Chunks::default();
        table.insert(3, "a");
        table.insert(700, "b");
        let before = table.clone();
        table.insert(3, "c");
        table.remove(700);
        assert_eq!((before.get(3), before.get(700)), (Some(&"a"), Some(&"b")));
        assert_eq!((table.get(3), table.get(700)), (Some(&"c"), None));
    }
}
