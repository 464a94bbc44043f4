//! `TimeSeekRange.dlna.org`: a part of a resource by time (requirements 9.4).

/// A part by time, in milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TimeRange {
    /// Where it begins.
    pub from: u64,
    /// Where it ends, if it says so; never before its beginning.
    pub to: Option<u64>,
}

/// Reads `npt=a-` or `npt=a-b`, times as seconds or `H:MM:SS`, each with a fraction or not
/// (HTTP-24). `None` for bad syntax, or an end before the beginning (HTTP-27).
pub fn read(text: &str) -> Option<TimeRange> {
    let (unit, range) = text.trim().split_once('=')?;
    if !unit.trim().eq_ignore_ascii_case("npt") {
        return None;
    }
    // A second range, of bytes, may follow; only time counts here.
    let range = range.split_ascii_whitespace().next()?;
    let (from, to) = range.split_once('-')?;
    let to = match to {
        "" => None,
        to => Some(time(to)?),
    };
    let from = time(from)?;
    to.is_none_or(|to| to >= from).then_some(TimeRange { from, to })
}

/// A time in milliseconds.
fn time(text: &str) -> Option<u64> {
    let digits = |text: &str| !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
    let (whole, fraction) = text.split_once('.').unwrap_or((text, "0"));
    if !digits(fraction) || fraction.len() > 9 {
        return None;
    }
    let thousandths: String = fraction.chars().chain("00".chars()).take(3).collect();
    let mut seconds = 0u64;
    let parts: Vec<&str> = whole.split(':').collect();
    let below = |(at, part): (usize, &&str)| {
        digits(part) && (at == 0 || (part.len() == 2 && part.parse().is_ok_and(|n: u8| n < 60)))
    };
    if !matches!(parts.len(), 1 | 3) || !parts.iter().enumerate().all(below) {
        return None;
    }
    for part in parts {
        seconds = seconds.checked_mul(60)?.checked_add(part.parse().ok()?)?;
    }
    seconds.checked_mul(1000)?.checked_add(thousandths.parse().ok()?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn both_forms_of_a_time_are_read() {
        let range = |from, to| Some(TimeRange { from, to });
        assert_eq!(read("npt=10-"), range(10_000, None));
        assert_eq!(read("npt=10.5-20"), range(10_500, Some(20_000)));
        assert_eq!(read(" NPT=0:01:30.250-1:00:00 "), range(90_250, Some(3_600_000)));
        assert_eq!(read("npt=0.000-9.9999 bytes=0-1"), range(0, Some(9_999)));
        for wrong in [
            "",
            "npt",
            "npt=",
            "npt=-",
            "npt=-5",
            "npt=5",
            "npt=20-10",
            "npt=a-",
            "npt=1:2-",
            "npt=0:60:00-",
            "npt=0:1:00-",
            "npt=1.-",
            "npt=+1-",
            "bytes=0-",
            "npt=99999999999999999999-",
        ] {
            assert_eq!(read(wrong), None, "{wrong:?}");
        }
    }

    proptest! {
        #[test]
        fn any_text_is_survived(text in "(npt=)?[-0-9:. a-z]{0,30}") {
            if let Some(TimeRange { from, to: Some(to) }) = read(&text) {
                prop_assert!(from <= to);
            }
        }
    }
}
