//! What stands in the way of the service, with the remedy.

use std::fmt;

use mostra_net::{InterfaceError, ListenError};

/// What stands in the way, and what to do about it.
#[derive(Debug)]
pub(crate) struct StartupError {
    what: String,
    remedy: String,
    /// Whether the service was running already.
    running: bool,
}

impl StartupError {
    /// What stands in the way and its remedy, each a sentence.
    pub(crate) fn new(what: impl Into<String>, remedy: &str) -> StartupError {
        StartupError { what: what.into(), remedy: remedy.into(), running: false }
    }

    /// The same of a service that was running.
    pub(crate) fn while_running(self) -> StartupError {
        StartupError { running: true, ..self }
    }

    /// What stands in the way and its remedy, in one line.
    pub(crate) fn one_line(&self) -> String {
        format!("{}. {}", self.what, self.remedy)
    }

    /// What comes before it where the service ends by it.
    pub(crate) fn heading(&self) -> &'static str {
        if self.running { "mostrad stopped" } else { "mostrad cannot start" }
    }
}

impl fmt::Display for StartupError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}\n  {}", self.what, self.remedy)
    }
}

impl std::error::Error for StartupError {}

impl From<ListenError> for StartupError {
    fn from(error: ListenError) -> StartupError {
        StartupError::new(error.to_string(), &error.remedy())
    }
}

impl From<InterfaceError> for StartupError {
    fn from(error: InterfaceError) -> StartupError {
        StartupError::new(error.to_string(), &error.remedy())
    }
}
