//! Why the service cannot start, with the remedy.

use std::fmt;

/// What stands in the way, and what to do about it.
#[derive(Debug)]
pub struct Trouble {
    what: String,
    remedy: String,
}

impl Trouble {
    /// A trouble and its remedy, each a sentence.
    pub fn new(what: impl Into<String>, remedy: &str) -> Trouble {
        Trouble { what: what.into(), remedy: remedy.into() }
    }
}

impl fmt::Display for Trouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "mostrad cannot start: {}\n  {}", self.what, self.remedy)
    }
}

impl std::error::Error for Trouble {}
