//! A file read by headers and index: little at a time, here and there.

use std::cell::Cell;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::FileExt;

/// Bytes fetched at a time: at first only as many as most headers have.
const FIRST: usize = 4 << 10;
const WINDOW: usize = 16 << 10;

thread_local! {
    /// The buffer of the file before: a scan reads a hundred thousand.
    static SPARE: Cell<Vec<u8>> = const { Cell::new(Vec::new()) };
}

impl Drop for PartReader {
    fn drop(&mut self) {
        SPARE.set(std::mem::take(&mut self.buffer));
    }
}

/// A file with its first bytes and one window of it in memory, so that neither small reads nor
/// steps cost a call of the system: readers look at the end, and come back to the beginning.
pub(crate) struct PartReader {
    file: File,
    size: u64,
    at: u64,
    /// The first bytes, and behind them the window.
    buffer: Vec<u8>,
    /// How many first bytes there are.
    head: usize,
    /// Where the window lies in the file, and how much of it is filled.
    from: u64,
    filled: usize,
}

impl PartReader {
    pub(crate) fn new(file: File, size: u64) -> PartReader {
        let mut buffer = SPARE.take();
        buffer.resize(FIRST + WINDOW, 0);
        PartReader { file, size, at: 0, buffer, head: 0, from: 0, filled: 0 }
    }

    /// The file itself.
    pub(crate) fn inner(&self) -> &File {
        &self.file
    }

    /// The first bytes.
    pub(crate) fn head(&mut self) -> io::Result<&[u8]> {
        self.at = 0;
        self.here()
    }

    /// What is in memory from the place on where it is read next, if anything is.
    fn in_memory(&self) -> Option<std::ops::Range<usize>> {
        if self.at < self.head as u64 {
            return Some(self.at as usize..self.head);
        }
        let into = self.at.checked_sub(self.from).filter(|into| *into < self.filled as u64)?;
        Some(FIRST + into as usize..FIRST + self.filled)
    }

    /// The same, fetched if need be; nothing at the end of the file.
    fn here(&mut self) -> io::Result<&[u8]> {
        if self.in_memory().is_none() {
            if self.at < FIRST as u64 {
                self.head = self.file.read_at(&mut self.buffer[..FIRST], 0)?;
            } else {
                self.filled = 0;
                self.filled = self.file.read_at(&mut self.buffer[FIRST..], self.at)?;
                self.from = self.at;
            }
        }
        Ok(self.in_memory().map_or(&[], |range| &self.buffer[range]))
    }
}

impl Read for PartReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = if buffer.len() >= WINDOW && self.in_memory().is_none() {
            self.file.read_at(buffer, self.at)?
        } else {
            let here = self.here()?;
            let count = here.len().min(buffer.len());
            buffer[..count].copy_from_slice(&here[..count]);
            count
        };
        self.at += count as u64;
        Ok(count)
    }
}

impl Seek for PartReader {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(step) => self.size.checked_add_signed(step),
            SeekFrom::Current(step) => self.at.checked_add_signed(step),
        };
        self.at = at.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::Write;

    proptest! {
        #[test]
        fn reads_as_the_file_itself(steps in proptest::collection::vec((0u64..60_000, 0usize..40_000), 1..20)) {
            let bytes: Vec<u8> = (0..50_000u32).map(|n| (n * 7 / 3) as u8).collect();
            let mut file = tempfile::tempfile().unwrap();
            file.write_all(&bytes).unwrap();
            let mut source = PartReader::new(file.try_clone().unwrap(), bytes.len() as u64);
            for (at, count) in steps {
                let (mut ours, mut theirs) = (Vec::new(), Vec::new());
                source.seek(SeekFrom::Start(at)).unwrap();
                source.by_ref().take(count as u64).read_to_end(&mut ours).unwrap();
                file.seek(SeekFrom::Start(at)).unwrap();
                (&mut file).take(count as u64).read_to_end(&mut theirs).unwrap();
                prop_assert_eq!(ours, theirs);
            }
        }
    }
}
