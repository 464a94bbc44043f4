//! Telling long work that nobody waits for its outcome any more.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Whether work should stop; clones are the same one.
#[derive(Debug, Clone, Default)]
pub struct Stop(Arc<AtomicBool>);

impl Stop {
    /// Tells the work to stop. Its outcome is then worth nothing.
    pub fn set(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Whether it should.
    pub fn is_set(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}
