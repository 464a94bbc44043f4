//! How many tests run at one time: as many as there are places.
//!
//! Tests wait a lot, so that one more than there are processors runs them in less time. What a test
//! measures would then be wrong, so one that measures time has that one's place too.

use std::num::NonZero;
use std::sync::{Condvar, Mutex};
use std::thread::available_parallelism;

/// The places taken, and whose turn it is to take one: they are given in the order of asking, so
/// that a test that needs two is not passed over for ever.
struct Places {
    taken: usize,
    asked: u64,
    given: u64,
}

static PLACES: Mutex<Places> = Mutex::new(Places { taken: 0, asked: 0, given: 0 });
static CHANGED: Condvar = Condvar::new();

/// What a test holds while it runs.
pub(crate) struct Place(usize);

/// Waits for a place. A test that measures time leaves no more tests beside it than there are other
/// processors.
pub(crate) fn take(measures_time: bool) -> Place {
    let processors = available_parallelism().map_or(1, NonZero::get);
    let all = std::env::var("RUST_TEST_THREADS").ok().and_then(|set| set.parse().ok());
    let all = all.unwrap_or(processors).max(1);
    let needed = if measures_time { (all + 1).saturating_sub(processors).max(1) } else { 1 };
    let mut places = PLACES.lock().expect("places");
    let turn = places.asked;
    places.asked += 1;
    while places.given != turn || places.taken + needed > all {
        places = CHANGED.wait(places).expect("places");
    }
    places.given += 1;
    places.taken += needed;
    CHANGED.notify_all();
    Place(needed)
}

impl Drop for Place {
    fn drop(&mut self) {
        if let Ok(mut places) = PLACES.lock() {
            places.taken -= self.0;
        }
        CHANGED.notify_all();
    }
}
