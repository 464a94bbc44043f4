//! What stands in the way of something, with the remedy.

use std::fmt;

/// What stands in the way, and what to do about it.
#[derive(Debug)]
pub struct Trouble {
    what: String,
    remedy: String,
    /// Whether the service was running already.
    running: bool,
}

impl Trouble {
    /// A trouble and its remedy, each a sentence.
    pub fn new(what: impl Into<String>, remedy: &str) -> Trouble {
        Trouble { what: what.into(), remedy: remedy.into(), running: false }
    }

    /// The same of a service that was running.
    pub fn while_running(self) -> Trouble {
        Trouble { running: true, ..self }
    }

    /// What comes before it where the service ends by it.
    pub fn heading(&self) -> &'static str {
        if self.running { "mostrad stopped" } else { "mostrad cannot start" }
    }
}

impl fmt::Display for Trouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}\n  {}", self.what, self.remedy)
    }
}

impl std::error::Error for Trouble {}
