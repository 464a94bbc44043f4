//! What a person looks for: words, of which some may say a date.

use std::ops::Range;

use crate::Locale;

/// Words that are looked at, of however many are written.
const WORDS: usize = 16;

/// What a person looks for. All words must be found, or the date that some of them say and all the
/// others.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TextQuery {
    /// The words, folded.
    pub(super) words: Vec<String>,
    /// Dates by the number by which they sort, and which words say that.
    pub(super) date: Option<(Range<u64>, Range<usize>)>,
}

impl TextQuery {
    /// Reads what was written: `fog`, `björk live`, `harbour 2024`, `March 2024`, `15 March 2024`,
    /// `2024-03`.
    pub fn read(text: &str, locale: Locale) -> TextQuery {
        let words = text.split_whitespace().take(WORDS).map(|word| locale.fold(word));
        let words: Vec<String> = words.filter(|word| !word.is_empty()).collect();
        let date = (0..words.len()).find_map(|at| date_at(&words, at));
        TextQuery { words, date }
    }

    /// Whether nothing is looked for.
    pub fn is_empty(&self) -> bool {
        self.words.is_empty()
    }
}

/// The date that the word at a place says with those beside it.
fn date_at(words: &[String], at: usize) -> Option<(Range<u64>, Range<usize>)> {
    if let Some(dates) = iso(&words[at]) {
        return Some((dates, at..at + 1));
    }
    let year = year(&words[at])?;
    let month_at = |at: usize| words.get(at).and_then(|word| month(word));
    let day_at = |at: usize| words.get(at).and_then(|word| number(word.trim_end_matches(',')));
    let is_day = |day: &u64| (1..=31).contains(day);
    let before = |by: usize| at.checked_sub(by);
    // As they are written: 2024 March, 15 March 2024, March 15 2024, March 2024.
    if let Some(month) = month_at(at + 1) {
        return Some((span(year, Some(month), None), at..at + 2));
    }
    if let Some(month) = before(1).and_then(month_at) {
        return Some(match before(2).and_then(day_at).filter(is_day) {
            Some(day) => (span(year, Some(month), Some(day)), at - 2..at + 1),
            None => (span(year, Some(month), None), at - 1..at + 1),
        });
    }
    if let (Some(month), Some(day)) =
        (before(2).and_then(month_at), before(1).and_then(day_at).filter(is_day))
    {
        return Some((span(year, Some(month), Some(day)), at - 2..at + 1));
    }
    Some((span(year, None, None), at..at + 1))
}

fn number(word: &str) -> Option<u64> {
    word.bytes().all(|b| b.is_ascii_digit()).then(|| word.parse().ok())?
}

fn year(word: &str) -> Option<u64> {
    number(word).filter(|year| word.len() == 4 && (1000..3000).contains(year))
}

/// `2024-03` or `2024-03-15`.
fn iso(word: &str) -> Option<Range<u64>> {
    let mut parts = word.split('-');
    let year = year(parts.next()?)?;
    let two = |part: &str| number(part).filter(|_| part.len() == 2);
    let month = two(parts.next()?).filter(|month| (1..=12).contains(month))?;
    let day = match parts.next() {
        Some(day) => Some(two(day).filter(|day| (1..=31).contains(day))?),
        None => None,
    };
    parts.next().is_none().then(|| span(year, Some(month), day))
}

/// A month by its name or the first letters of it.
fn month(word: &str) -> Option<u64> {
    const MONTHS: [&str; 12] = [
        "january",
        "february",
        "march",
        "april",
        "may",
        "june",
        "july",
        "august",
        "september",
        "october",
        "november",
        "december",
    ];
    let word = word.trim_end_matches(['.', ',']);
    let at = MONTHS.iter().position(|month| word.len() >= 3 && month.starts_with(word))?;
    Some(at as u64 + 1)
}

/// The dates of a year, a month or a day.
fn span(year: u64, month: Option<u64>, day: Option<u64>) -> Range<u64> {
    let key = |year: u64, month: u64, day: u64| ((year * 100 + month) * 100 + day) * 1_000_000;
    match (month, day) {
        (Some(month), Some(day)) => key(year, month, day)..key(year, month, day + 1),
        (Some(month), None) => key(year, month, 0)..key(year, month + 1, 0),
        _ => key(year, 0, 0)..key(year + 1, 0, 0),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn date(text: &str) -> Option<(u64, u64, Range<usize>)> {
        let query = TextQuery::read(text, Locale::default());
        query.date.map(|(keys, words)| (keys.start / 1_000_000, keys.end / 1_000_000, words))
    }

    #[test]
    fn dates_are_read_as_people_write_them() {
        assert_eq!(date("2024"), Some((20_240_000, 20_250_000, 0..1)));
        assert_eq!(date("harbour 2024"), Some((20_240_000, 20_250_000, 1..2)));
        assert_eq!(date("March 2024"), Some((20_240_300, 20_240_400, 0..2)));
        assert_eq!(date("2024 mar"), Some((20_240_300, 20_240_400, 0..2)));
        assert_eq!(date("fog Dec. 2024"), Some((20_241_200, 20_241_300, 1..3)));
        assert_eq!(date("15 March 2024"), Some((20_240_315, 20_240_316, 0..3)));
        assert_eq!(date("March 15, 2024"), Some((20_240_315, 20_240_316, 0..3)));
        assert_eq!(date("2024-03"), Some((20_240_300, 20_240_400, 0..1)));
        assert_eq!(date("2024-03-31 storm"), Some((20_240_331, 20_240_332, 0..1)));
        for none in ["march", "12", "20245", "2024-13", "2024-3", "ma 24", "", "2024-03-15-1"] {
            assert_eq!(date(none), None, "{none}");
        }
        assert_eq!(date("45 March 2024"), Some((20_240_300, 20_240_400, 1..3)), "no such day");
    }

    proptest! {
        #[test]
        fn anything_can_be_written(text in "\\PC{0,60}") {
            let query = TextQuery::read(&text, Locale::default());
            prop_assert!(query.words.len() <= WORDS);
            if let Some((keys, words)) = query.date {
                prop_assert!(keys.start < keys.end && words.end <= query.words.len());
            }
        }
    }
}
