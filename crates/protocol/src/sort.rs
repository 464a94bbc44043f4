//! SortCriteria (CDS-42 to CDS-44).

use crate::soap::Fault;

/// A property to sort by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SortBy {
    /// `dc:title`.
    Title,
    /// `dc:date`.
    Date,
}

/// One criterion.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SortKey {
    /// What to sort by.
    pub by: SortBy,
    /// Whether the order is reversed.
    pub descending: bool,
}

/// What GetSortCapabilities answers: the names we do sort by.
pub const SORT_CAPABILITIES: &str = "dc:title,dc:date";

/// Reads SortCriteria; an empty text means the default order.
///
/// # Errors
/// 709 for a name that is not in [`SORT_CAPABILITIES`], or bad syntax.
pub fn parse(text: &str) -> Result<Vec<SortKey>, Fault> {
    if text.trim().is_empty() {
        return Ok(Vec::new());
    }
    let entries: Vec<&str> = text.split(',').map(str::trim).collect();
    if entries.len() > 16 {
        return Err(Fault::InvalidSort);
    }
    let read = |entry: &&str| {
        let descending = entry.starts_with('-');
        let by = match entry.strip_prefix(['+', '-']).unwrap_or(entry) {
            "dc:title" => SortBy::Title,
            "dc:date" => SortBy::Date,
            _ => return Err(Fault::InvalidSort),
        };
        Ok(SortKey { by, descending })
    };
    entries.iter().map(read).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn criteria_are_read_or_refused() {
        let date_title = parse("-dc:date, dc:title").unwrap();
        assert_eq!(date_title[0], SortKey { by: SortBy::Date, descending: true });
        assert_eq!(date_title[1], SortKey { by: SortBy::Title, descending: false });
        assert_eq!(parse(""), Ok(vec![]));
        for wrong in ["+dc:mood", "+", ",", "dc:title,,dc:date", "++dc:title"] {
            assert_eq!(parse(wrong), Err(Fault::InvalidSort), "{wrong}");
        }
    }
}
