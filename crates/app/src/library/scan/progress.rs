//! How far a scan is.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Instant;

/// Files in one commit at most, and towards the end at least.
const MOST: usize = 10_000;
const LAST: usize = 1500;

/// A scan's progress, counted as it goes.
#[derive(Debug)]
pub struct Progress {
    started: Instant,
    /// Files found so far.
    pub found: AtomicU64,
    /// Files looked at.
    pub done: AtomicU64,
    /// Files left out.
    pub left_out: AtomicU64,
    /// Whether everything has been found.
    pub listed: AtomicBool,
    pub(super) cancelled: AtomicBool,
    /// Whether it looks at a few places only, which is not worth telling.
    small: bool,
}

impl Progress {
    pub(super) fn start(small: bool) -> Progress {
        Progress {
            started: Instant::now(),
            found: AtomicU64::new(0),
            done: AtomicU64::new(0),
            left_out: AtomicU64::new(0),
            listed: AtomicBool::new(false),
            cancelled: AtomicBool::new(false),
            small,
        }
    }

    /// Files that may wait for one commit. Fewer and fewer towards the end, so that little is left
    /// to do when the last one has been looked at.
    pub(super) fn to_record_at_once(&self) -> usize {
        if !self.listed.load(Ordering::Relaxed) {
            return MOST;
        }
        let done = self.done.load(Ordering::Relaxed);
        let left = self.found.load(Ordering::Relaxed).saturating_sub(done);
        usize::try_from(left / 3).unwrap_or(MOST).clamp(LAST, MOST)
    }

    /// How far it is now; nothing of a small one.
    pub fn now(&self) -> Option<ScanProgress> {
        if self.small {
            return None;
        }
        let done = self.done.load(Ordering::Relaxed);
        let to_do = self.found.load(Ordering::Relaxed).saturating_sub(done);
        let listed = self.listed.load(Ordering::Relaxed);
        let rate = done as f64 / self.started.elapsed().as_secs_f64().max(0.001);
        let remaining_ms = (listed && rate > 0.0).then(|| (to_do as f64 / rate * 1000.0) as u64);
        let left_out = self.left_out.load(Ordering::Relaxed);
        Some(ScanProgress { done, to_do, listed, left_out, rate, remaining_ms })
    }
}

/// How far a scan is at a moment.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ScanProgress {
    /// Files looked at.
    pub done: u64,
    /// Files still to look at, as far as listed.
    pub to_do: u64,
    /// Whether listing has ended, so that `to_do` is all.
    pub listed: bool,
    /// Files left out so far.
    pub left_out: u64,
    /// Files a second.
    pub rate: f64,
    /// Milliseconds left at this rate, once listed.
    pub remaining_ms: Option<u64>,
}
