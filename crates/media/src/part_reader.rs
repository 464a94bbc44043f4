//! A file read by headers and index: little at a time, here and there.

use std::cell::Cell;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::FileExt;

/// Bytes fetched at a time: at first only as many as most headers have.
const FIRST: usize = 4 << 10;
const WINDOW: usize = 16 << 10;

thread_local! {
    /// The window of the file before: a scan reads a hundred thousand.
    static SPARE: Cell<Vec<u8>> = const { Cell::new(Vec::new()) };
}

impl Drop for PartReader {
    fn drop(&mut self) {
        SPARE.set(std::mem::take(&mut self.window));
    }
}

/// A file with one window of it in memory, so that neither small reads nor steps cost a call
/// of the system.
pub(crate) struct PartReader {
    file: File,
    size: u64,
    at: u64,
    window: Vec<u8>,
    /// Where the window lies in the file, and how much of it is filled.
    from: u64,
    filled: usize,
}

impl PartReader {
    pub fn new(file: File, size: u64) -> PartReader {
        let mut window = SPARE.take();
        window.resize(WINDOW, 0);
        PartReader { file, size, at: 0, window, from: 0, filled: 0 }
    }

    /// The first bytes, at most as many as a window has.
    pub fn head(&mut self) -> io::Result<&[u8]> {
        self.at = 0;
        self.fill()?;
        Ok(&self.window[..self.filled])
    }

    /// The part of the file that is in the window.
    fn within(&self) -> std::ops::Range<u64> {
        self.from..self.from + self.filled as u64
    }

    fn fill(&mut self) -> io::Result<()> {
        if self.within().contains(&self.at) {
            return Ok(());
        }
        let count = if self.at == 0 && self.filled == 0 { FIRST } else { WINDOW };
        self.filled = 0;
        self.filled = self.file.read_at(&mut self.window[..count], self.at)?;
        self.from = self.at;
        Ok(())
    }
}

impl Read for PartReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = if buffer.len() >= WINDOW && !self.within().contains(&self.at) {
            self.file.read_at(buffer, self.at)?
        } else {
            self.fill()?;
            let here = &self.window[(self.at - self.from) as usize..self.filled];
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
