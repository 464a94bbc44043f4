//! Memory that goes back to the system. The allocator itself is the program's: mimalloc.

use std::sync::atomic::{AtomicUsize, Ordering};

use libmimalloc_sys::{mi_collect, mi_option_set};

/// `mi_option_purge_delay`; the bindings do not name it.
const PURGE_DELAY: i32 = 15;

/// How long freed memory is kept, in milliseconds: what is left behind would stay for as long as
/// nothing else is allocated, and a house is quiet most of the time.
const SOON: i64 = 10;
/// The same while a scan runs, which frees and takes again all the time.
const LATER: i64 = 1000;

/// Has freed memory go back soon, and memory come in small pages.
pub fn set_up() {
    keep_freed(SOON);
    large_pages(false);
}

/// In large pages the heap of each thread, and every gap in the catalogue, would take 2 MiB.
fn large_pages(allowed: bool) {
    // A kernel that has none refuses, which is just as well.
    let _ = nix::sys::prctl::set_thp_disable(!allowed);
}

fn keep_freed(milliseconds: i64) {
    // SAFETY: sets a number in the allocator's own table, which it reads at any time.
    #[allow(unsafe_code)]
    unsafe {
        mi_option_set(PURGE_DELAY, milliseconds);
    }
}

/// Scans that run.
static BUSY: AtomicUsize = AtomicUsize::new(0);

/// As long as one of these is there, freed memory is kept longer, and more comes in large pages,
/// which are quicker to get.
pub struct Busy(());

impl Busy {
    /// Begins.
    pub fn begin() -> Busy {
        if BUSY.fetch_add(1, Ordering::SeqCst) == 0 {
            keep_freed(LATER);
            large_pages(true);
        }
        Busy(())
    }
}

impl Drop for Busy {
    fn drop(&mut self) {
        if BUSY.fetch_sub(1, Ordering::SeqCst) == 1 {
            keep_freed(SOON);
            large_pages(false);
        }
    }
}

/// Gives back what the thread that calls it and those that work beside it have freed, after
/// that was much.
pub fn give_back() {
    let collect = || {
        // SAFETY: takes no argument that could be wrong and may be called from any thread.
        #[allow(unsafe_code)]
        unsafe {
            mi_collect(true);
        }
    };
    rayon::broadcast(|_| collect());
    collect();
}
