//! How many tests run at one time.
//!
//! Tests mostly wait, so all of them end sooner when one more runs than there are processors. A time
//! that is measured meanwhile would be wrong. So beside a test that measures time run no more than
//! there are other processors.

use std::num::NonZero;
use std::sync::{Condvar, Mutex};
use std::thread::available_parallelism;

struct Running {
    /// What the tests that run take of the room there is.
    taken: usize,
    /// Room is given in the order of asking, so that nobody who needs much is passed over for ever.
    asked: u64,
    given: u64,
}

static RUNNING: Mutex<Running> = Mutex::new(Running { taken: 0, asked: 0, given: 0 });
static CHANGED: Condvar = Condvar::new();

/// What a test holds while it runs.
pub(crate) struct Place(usize);

/// Waits until a test may run. Of those that measure time there is room for as many as there are
/// processors, of the others for as many as run at one time.
pub(crate) fn take(measures_time: bool) -> Place {
    let processors = available_parallelism().map_or(1, NonZero::get);
    let set = std::env::var("RUST_TEST_THREADS").ok().and_then(|set| set.parse().ok());
    let threads = set.unwrap_or(processors).max(1);
    let room = threads * processors;
    let needed = if measures_time { threads } else { processors };
    let mut running = RUNNING.lock().expect("what runs");
    let turn = running.asked;
    running.asked += 1;
    while running.given != turn || running.taken + needed > room {
        running = CHANGED.wait(running).expect("what runs");
    }
    running.given += 1;
    running.taken += needed;
    CHANGED.notify_all();
    Place(needed)
}

impl Drop for Place {
    fn drop(&mut self) {
        if let Ok(mut running) = RUNNING.lock() {
            running.taken -= self.0;
        }
        CHANGED.notify_all();
    }
}
