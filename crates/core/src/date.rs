//! Dates of things, as precise as they are known (CDS-15).

use std::fmt;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A date taken or released, with time of day and offset where known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Date {
    /// `YYYYMMDDhhmmss` as a number, so that dates compare as their ISO text does; the time of
    /// day is 0 when unknown.
    key: u64,
    timed: bool,
    /// Minutes east of Greenwich.
    offset: Option<i16>,
}

impl Date {
    /// Reads the beginning of a text: a year, a year and month, a day, or a day and time, with
    /// `-` or `:` between numbers; `None` for what is no date.
    pub fn parse(text: &str) -> Option<Date> {
        let text = text.trim();
        let number = |from: usize, to: usize| -> Option<u64> {
            let digits = text.get(from..to).filter(|t| t.bytes().all(|b| b.is_ascii_digit()))?;
            digits.parse().ok()
        };
        let after =
            |at: usize, marks: &[u8]| text.as_bytes().get(at).is_some_and(|b| marks.contains(b));
        let year = number(0, 4).filter(|y| *y > 0)?;
        let month = number(5, 7).filter(|m| after(4, b"-:") && (1..=12).contains(m));
        let day = month.and(number(8, 10)).filter(|d| after(7, b"-:") && (1..=31).contains(d));
        let clock = || -> Option<u64> {
            day?;
            let hour = number(11, 13).filter(|h| after(10, b"T ") && *h < 24)?;
            let minute = number(14, 16).filter(|m| after(13, b":") && *m < 60)?;
            let second = number(17, 19).filter(|s| after(16, b":") && *s <= 60).unwrap_or(0);
            Some(hour * 10_000 + minute * 100 + second)
        };
        let time = clock();
        let offset = time.and_then(|_| text.get(19..)).and_then(read_offset);
        let key = ((year * 100 + month.unwrap_or(1)) * 100 + day.unwrap_or(1)) * 1_000_000;
        Some(Date { key: key + time.unwrap_or(0), timed: time.is_some(), offset })
    }

    /// The same date with an offset in minutes east of Greenwich.
    pub fn with_offset(self, text: &str) -> Date {
        Date { offset: read_offset(text).or(self.offset), ..self }
    }

    /// The year.
    pub fn year(self) -> u16 {
        (self.key / 10_000_000_000) as u16
    }

    /// The month, 1 to 12.
    pub fn month(self) -> u8 {
        (self.key / 100_000_000 % 100) as u8
    }

    /// A number by which dates sort.
    pub fn sort_key(self) -> u64 {
        self.key
    }

    /// Its parts for a compact record: the number by which it sorts, whether the time of day
    /// is known, and the offset.
    pub(crate) fn parts(self) -> (u64, bool, Option<i16>) {
        (self.key, self.timed, self.offset)
    }

    pub(crate) fn from_parts(key: u64, timed: bool, offset: Option<i16>) -> Date {
        Date { key, timed, offset }
    }
}

fn read_offset(text: &str) -> Option<i16> {
    let text = text.trim();
    if text == "Z" {
        return Some(0);
    }
    let sign = match text.as_bytes().first()? {
        b'+' => 1,
        b'-' => -1,
        _ => return None,
    };
    let hours: i16 = text.get(1..3)?.parse().ok().filter(|h| (0..=14).contains(h))?;
    let minutes: i16 = text.get(4..6)?.parse().ok().filter(|m| (0..60).contains(m))?;
    Some(sign * (hours * 60 + minutes))
}

impl fmt::Display for Date {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // Digit by digit: every file's record and every listing has one.
        let mut text = *b"0000-00-00T00:00:00+00:00";
        let mut put = |at: usize, number: u64| {
            text[at] = b'0' + (number / 10 % 10) as u8;
            text[at + 1] = b'0' + (number % 10) as u8;
        };
        let powers = [10_000_000_000 * 100, 10_000_000_000, 100_000_000, 1_000_000, 10_000, 100, 1];
        for (at, power) in [0, 2, 5, 8, 11, 14, 17].into_iter().zip(powers) {
            put(at, self.key / power % 100);
        }
        let length = match self.offset {
            _ if !self.timed => 10,
            None => 19,
            Some(0) => {
                text[19] = b'Z';
                20
            }
            Some(minutes) => {
                let east = u64::from(minutes.unsigned_abs());
                put(20, east / 60);
                put(23, east % 60);
                text[19] = if minutes < 0 { b'-' } else { b'+' };
                25
            }
        };
        f.write_str(std::str::from_utf8(&text[..length]).map_err(|_| fmt::Error)?)
    }
}

impl Serialize for Date {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Date {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Date, D::Error> {
        let text = String::deserialize(deserializer)?;
        Date::parse(&text).ok_or_else(|| serde::de::Error::custom("not a date"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn dates_are_as_precise_as_they_are_known() {
        for (text, told) in [
            ("2021", "2021-01-01"),
            ("2021-06", "2021-06-01"),
            ("2021-06-04", "2021-06-04"),
            ("2021:06:04 05:12:30", "2021-06-04T05:12:30"),
            ("2021-06-04T05:12:30+02:00", "2021-06-04T05:12:30+02:00"),
            ("2021-06-04T05:12:30Z", "2021-06-04T05:12:30Z"),
            ("2021-13-04", "2021-01-01"),
            ("1987 remastered", "1987-01-01"),
        ] {
            assert_eq!(Date::parse(text).unwrap().to_string(), told, "{text}");
        }
        for text in ["", "0000:00:00 00:00:00", "soon", "21-06-04"] {
            assert_eq!(Date::parse(text), None, "{text}");
        }
        let taken = Date::parse("2021:06:04 05:12:30").unwrap().with_offset("-03:30");
        assert_eq!(taken.to_string(), "2021-06-04T05:12:30-03:30");
        assert_eq!((taken.year(), taken.month()), (2021, 6));
    }

    proptest! {
        #[test]
        fn what_is_written_reads_back(text in "[0-9]{4}-[01][0-9]-[0-3][0-9]T[0-2][0-9]:[0-5][0-9]:[0-5][0-9]([+-]0[0-9]:[0-5][0-9])?") {
            if let Some(date) = Date::parse(&text) {
                prop_assert_eq!(Date::parse(&date.to_string()), Some(date));
            }
        }
    }
}
