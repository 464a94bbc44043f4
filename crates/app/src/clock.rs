//! The service's one clock.

use std::time::{Instant, SystemTime, UNIX_EPOCH};

use mostra_protocol::Moment;

/// Unix time that never runs backwards: the wall clock at the start, then the monotonic one.
#[derive(Debug, Clone, Copy)]
pub struct Clock {
    origin: Moment,
    started: Instant,
}

impl Clock {
    /// Starts the clock.
    pub fn start() -> Clock {
        Clock { origin: Clock::wall(), started: Instant::now() }
    }

    /// Now.
    pub fn now(&self) -> Moment {
        self.origin + self.started.elapsed()
    }

    /// The time on the wall, for what people plan days ahead: it goes on while the host sleeps,
    /// and is set right when it was wrong.
    pub fn wall() -> Moment {
        Moment::after_epoch(SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default())
    }

    /// The tokio instant at which `moment` comes.
    pub fn instant(&self, moment: Moment) -> tokio::time::Instant {
        tokio::time::Instant::from_std(self.started + moment.since(self.origin))
    }

    /// When the clock started.
    pub fn origin(&self) -> Moment {
        self.origin
    }
}

/// A moment in Unix milliseconds.
pub fn ms(moment: Moment) -> u64 {
    moment.as_millis()
}
