//! How far a scan is.

use std::io;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use nix::errno::Errno;

/// Files in one commit at most, and towards the end at least.
const MOST: usize = 10_000;
const LAST: usize = 1500;

/// Milliseconds that files which come out damaged may take in one scan.
const ODD_MS: u64 = 600_000;

/// Whether an error says that the system lacks descriptors, threads or memory.
pub(super) fn is_shortage(error: &io::Error) -> bool {
    let lacks = [Errno::EMFILE, Errno::ENFILE, Errno::ENOMEM, Errno::EAGAIN, Errno::ENOBUFS];
    error.raw_os_error().is_some_and(|code| lacks.contains(&Errno::from_raw(code)))
}

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
    /// Whether it ends early because the system lacks something now.
    put_off: AtomicBool,
    /// Milliseconds taken by files that came out damaged.
    odd_ms: AtomicU64,
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
            put_off: AtomicBool::new(false),
            odd_ms: AtomicU64::new(0),
            small,
        }
    }

    /// Ends it, where an error says that the system has no descriptors, threads or memory left now:
    /// nothing counts as gone for that. True if so.
    pub(super) fn put_off_by(&self, error: &io::Error) -> bool {
        let lacks = is_shortage(error);
        if lacks {
            self.put_off.store(true, Ordering::Relaxed);
            self.cancelled.store(true, Ordering::Relaxed);
        }
        lacks
    }

    /// Whether it was ended by a shortage.
    pub(super) fn is_put_off(&self) -> bool {
        self.put_off.load(Ordering::Relaxed)
    }

    /// Notes how long a file took that came out damaged.
    pub(super) fn note_odd(&self, took: Duration) {
        let took = u64::try_from(took.as_millis()).unwrap_or(u64::MAX);
        self.odd_ms.fetch_add(took, Ordering::Relaxed);
    }

    /// Whether damaged files took as long as they may.
    pub(super) fn is_odd_time_over(&self) -> bool {
        self.odd_ms.load(Ordering::Relaxed) > ODD_MS
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
