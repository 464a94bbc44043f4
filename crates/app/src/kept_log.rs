//! The latest lines of the log, for whoever helps.

use std::collections::VecDeque;
use std::io::{self, Write};
use std::sync::{Mutex, PoisonError};

/// Lines that are kept, and bytes of each.
const LINES: usize = 2000;
const BYTES: usize = 1000;

static KEPT: Mutex<VecDeque<String>> = Mutex::new(VecDeque::new());

/// Takes the lines that are logged.
#[derive(Debug, Clone, Copy, Default)]
pub struct KeptLog;

impl Write for KeptLog {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let text = String::from_utf8_lossy(&bytes[..bytes.len().min(BYTES)]);
        let mut kept = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() >= LINES {
            kept.pop_front();
        }
        kept.push_back(text.trim_end().to_owned());
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// The lines, the latest last.
pub fn lines() -> Vec<String> {
    KEPT.lock().unwrap_or_else(PoisonError::into_inner).iter().cloned().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_latest_lines_are_kept_and_no_more() {
        for number in 0..LINES + 10 {
            KeptLog.write_all(format!("line {number}\n").as_bytes()).unwrap();
        }
        KeptLog.write_all(&[b'x'; 5000]).unwrap();
        let lines = lines();
        assert_eq!(lines.len(), LINES);
        assert_eq!(lines[0], "line 11");
        assert_eq!(lines[LINES - 1].len(), BYTES);
    }
}
