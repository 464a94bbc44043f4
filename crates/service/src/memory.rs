//! The allocator, and memory that goes back to the system.

use libmimalloc_sys::{mi_collect, mi_option_set};

/// Small pieces by the million, kept and given back: the system's own keeps four times as much
/// after the catalogue is loaded.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// `mi_option_purge_delay`; the bindings do not name it.
const PURGE_DELAY: i32 = 15;

/// Has freed memory go back soon: what loading leaves behind would stay for as long as nothing
/// else is allocated, and a house is quiet most of the time. Sooner than this, what a scan frees
/// and takes again all the time would be fetched anew each time.
pub fn set_up() {
    // SAFETY: sets a number in the allocator's own table, before any thread is started.
    #[allow(unsafe_code)]
    unsafe {
        mi_option_set(PURGE_DELAY, 100);
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
