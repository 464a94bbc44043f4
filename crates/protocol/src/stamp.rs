//! Time as the state machines see it, and its form in HTTP.

use std::ops::{Add, AddAssign, Sub};
use std::time::{Duration, UNIX_EPOCH};

/// A point in time, by a clock that never runs backwards, counted from the Unix epoch.
///
/// The caller owns the clock; a simulation may start anywhere.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Moment(Duration);

impl Moment {
    /// The Unix epoch.
    pub const EPOCH: Moment = Moment(Duration::ZERO);
    /// Later than any other.
    pub const NEVER: Moment = Moment(Duration::MAX);

    /// So long after the Unix epoch.
    pub const fn after_epoch(duration: Duration) -> Moment {
        Moment(duration)
    }

    /// So many seconds after the Unix epoch.
    pub const fn from_secs(seconds: u64) -> Moment {
        Moment(Duration::from_secs(seconds))
    }

    /// So many milliseconds after the Unix epoch.
    pub const fn from_millis(milliseconds: u64) -> Moment {
        Moment(Duration::from_millis(milliseconds))
    }

    /// How long after the Unix epoch.
    pub const fn since_epoch(self) -> Duration {
        self.0
    }

    /// Whole seconds after the Unix epoch.
    pub const fn as_secs(self) -> u64 {
        self.0.as_secs()
    }

    /// Whole milliseconds after the Unix epoch.
    pub fn as_millis(self) -> u64 {
        u64::try_from(self.0.as_millis()).unwrap_or(u64::MAX)
    }

    /// How long after another; nothing if it is before that.
    pub const fn since(self, earlier: Moment) -> Duration {
        self.0.saturating_sub(earlier.0)
    }

    /// How long after another; `None` if it is before that.
    pub fn checked_since(self, earlier: Moment) -> Option<Duration> {
        self.0.checked_sub(earlier.0)
    }

    /// So much earlier; the epoch if there was nothing so long ago.
    pub const fn before(self, duration: Duration) -> Moment {
        Moment(self.0.saturating_sub(duration))
    }
}

impl Add<Duration> for Moment {
    type Output = Moment;

    fn add(self, duration: Duration) -> Moment {
        Moment(self.0.saturating_add(duration))
    }
}

impl AddAssign<Duration> for Moment {
    fn add_assign(&mut self, duration: Duration) {
        *self = *self + duration;
    }
}

impl Sub<Moment> for Moment {
    type Output = Duration;

    /// Nothing if the other is later.
    fn sub(self, earlier: Moment) -> Duration {
        self.since(earlier)
    }
}

/// Writes a moment as an IMF-fixdate (RFC 9110 §5.6.7). Beyond the year 9999, which it cannot
/// hold, the last second before that.
pub fn http_date(at: Moment) -> String {
    httpdate::fmt_http_date(UNIX_EPOCH + at.0.min(Duration::from_secs(253_402_300_799)))
}

/// Reads a date in any of the three forms of RFC 9110 §5.6.7; `None` for anything else and for
/// what was before 1970.
pub fn read_http_date(text: &str) -> Option<Moment> {
    httpdate::parse_http_date(text.trim()).ok()?.duration_since(UNIX_EPOCH).ok().map(Moment)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_are_imf_fixdates() {
        for (seconds, text) in [
            (1_767_225_607, "Thu, 01 Jan 2026 00:00:07 GMT"),
            (1_709_210_096, "Thu, 29 Feb 2024 12:34:56 GMT"),
        ] {
            assert_eq!(http_date(Moment::from_secs(seconds)), text);
            assert_eq!(read_http_date(text), Some(Moment::from_secs(seconds)));
        }
        let old = read_http_date("Sun Nov  6 08:49:37 1994");
        assert_eq!(old.map(Moment::as_secs), Some(784_111_777));
        assert_eq!(read_http_date("soon"), None);
        http_date(Moment::NEVER);
    }

    #[test]
    fn what_is_later_is_no_time_ago() {
        let (early, late) = (Moment::from_secs(5), Moment::from_millis(7_500));
        assert_eq!((late - early, early - late), (Duration::from_millis(2_500), Duration::ZERO));
        assert_eq!((early.checked_since(late), late.as_secs()), (None, 7));
        assert_eq!(early.before(Duration::from_secs(9)), Moment::EPOCH);
        assert_eq!(Moment::NEVER + Duration::from_secs(1), Moment::NEVER);
    }
}
