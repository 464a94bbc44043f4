//! A house that is switched off: devices do not find it, and nothing is streamed.

use std::time::Duration;

use mostra_protocol::Moment;
use serde::{Deserialize, Serialize};

/// For how long ahead a house can be switched off: ten years.
const LONGEST: Duration = Duration::from_secs(10 * 366 * 86_400);

/// Since when a house is off, and until when. It is kept over restarts as it is serialized.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Off {
    /// When it was switched off, Unix milliseconds.
    pub since_ms: u64,
    /// When it is on again by itself, Unix milliseconds; without it, when somebody says so.
    pub until_ms: Option<u64>,
}

/// Why a house cannot be off until a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum OffError {
    /// It is over already.
    #[error("that moment has passed")]
    Passed,
    /// It is further ahead than can be planned.
    #[error("that is more than ten years ahead")]
    TooFar,
}

impl Off {
    /// Off from `now` on.
    ///
    /// # Errors
    /// [`OffError`] when `until_ms` is no moment that can be waited for.
    pub fn new(now: Moment, until_ms: Option<u64>) -> Result<Off, OffError> {
        let since_ms = now.as_millis();
        match until_ms {
            Some(until) if until <= since_ms => return Err(OffError::Passed),
            Some(until) if until > (now + LONGEST).as_millis() => return Err(OffError::TooFar),
            _ => {}
        }
        Ok(Off { since_ms, until_ms })
    }

    /// Whether the house is to be on again.
    pub fn is_over(&self, now: Moment) -> bool {
        self.until_ms.is_some_and(|until| until <= now.as_millis())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_ends_at_its_moment_and_not_before() {
        let now = Moment::after_epoch(Duration::from_secs(1_000));
        let at = |seconds: u64| Moment::after_epoch(Duration::from_secs(seconds));
        let off = Off::new(now, Some(2_000_000)).unwrap();
        assert!(!off.is_over(at(1_999)) && off.is_over(at(2_000)) && off.is_over(at(9_000)));
        assert!(!Off::new(now, None).unwrap().is_over(at(999_999_999)));
        assert_eq!(Off::new(now, Some(1_000_000)), Err(OffError::Passed));
        assert_eq!(Off::new(now, Some(u64::MAX)), Err(OffError::TooFar));
    }
}
