//! Time as the state machines see it, and its form in HTTP.

use std::time::{Duration, UNIX_EPOCH};

/// A point in time: the duration since the Unix epoch by a clock that never runs backwards.
///
/// The caller owns the clock; a simulation may start anywhere.
pub type Moment = Duration;

/// Writes a moment as an IMF-fixdate (RFC 9110 §5.6.7). Beyond the year 9999, which it cannot
/// hold, the last second before that.
pub fn http_date(at: Moment) -> String {
    httpdate::fmt_http_date(UNIX_EPOCH + at.min(Duration::from_secs(253_402_300_799)))
}

/// Reads a date in any of the three forms of RFC 9110 §5.6.7; `None` for anything else and for
/// what was before 1970.
pub fn read_http_date(text: &str) -> Option<Moment> {
    httpdate::parse_http_date(text.trim()).ok()?.duration_since(UNIX_EPOCH).ok()
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
            assert_eq!(http_date(Duration::from_secs(seconds)), text);
            assert_eq!(read_http_date(text), Some(Duration::from_secs(seconds)));
        }
        assert_eq!(
            read_http_date("Sun Nov  6 08:49:37 1994").map(|m| m.as_secs()),
            Some(784_111_777)
        );
        assert_eq!(read_http_date("soon"), None);
        http_date(Duration::MAX);
    }
}
