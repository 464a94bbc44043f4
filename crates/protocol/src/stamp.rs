//! Time as the state machines see it, and its form in HTTP.

use std::time::Duration;

/// A point in time: the duration since the Unix epoch by a clock that never runs backwards.
///
/// The caller owns the clock; a simulation may start anywhere.
pub type Moment = Duration;

const DAYS: [&str; 7] = ["Thu", "Fri", "Sat", "Sun", "Mon", "Tue", "Wed"];
const MONTHS: [&str; 12] =
    ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

/// Writes a moment as an IMF-fixdate (RFC 9110 §5.6.7).
pub fn http_date(at: Moment) -> String {
    let seconds = at.as_secs();
    let days = seconds / 86_400;
    let (year, month, day) = civil_from_days(days as i64);
    let rest = seconds % 86_400;
    format!(
        "{}, {day:02} {} {year} {:02}:{:02}:{:02} GMT",
        DAYS[(days % 7) as usize],
        MONTHS[month as usize - 1],
        rest / 3600,
        rest / 60 % 60,
        rest % 60
    )
}

/// Year, month and day of a count of days since 1970-01-01 (proleptic Gregorian).
pub(crate) fn civil_from_days(days: i64) -> (i64, u32, u32) {
    let z = days + 719_468;
    let era = z.div_euclid(146_097);
    let doe = z.rem_euclid(146_097);
    let yoe = (doe - doe / 1460 + doe / 36_524 - doe / 146_096) / 365;
    let doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
    let mp = (5 * doy + 2) / 153;
    let day = (doy - (153 * mp + 2) / 5 + 1) as u32;
    let month = if mp < 10 { mp + 3 } else { mp - 9 } as u32;
    (yoe + era * 400 + i64::from(month <= 2), month, day)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_are_imf_fixdates() {
        assert_eq!(http_date(Duration::from_secs(1_767_225_607)), "Thu, 01 Jan 2026 00:00:07 GMT");
        assert_eq!(http_date(Duration::from_secs(1_709_210_096)), "Thu, 29 Feb 2024 12:34:56 GMT");
    }
}
