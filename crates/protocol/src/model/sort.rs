//! SortCriteria (CDS-42 to CDS-44).

use crate::messages::soap::Fault;
use crate::model::property::Property;

/// One criterion.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct SortKey {
    /// What to sort by.
    pub by: Property,
    /// Whether the order is reversed.
    pub descending: bool,
}

/// Reads SortCriteria; an empty text means the default order.
///
/// # Errors
/// 709 for a name that is not in
/// [`sort_capabilities`](crate::model::property::sort_capabilities), or bad syntax.
pub fn parse(text: &str) -> Result<Vec<SortKey>, Fault> {
    if text.trim().is_empty() {
        return Ok(Vec::new());
    }
    let entries: Vec<&str> = text.split(',').collect();
    if entries.len() > KEYS {
        return Err(Fault::InvalidSort);
    }
    entries.iter().map(|entry| key(entry).ok_or(Fault::InvalidSort)).collect()
}

/// Reads SortCriteria, passing over what cannot be read or is not sorted by (IOP-23).
pub fn parse_known(text: &str) -> Vec<SortKey> {
    text.split(',').take(KEYS).filter_map(key).collect()
}

/// Criteria at most.
const KEYS: usize = 16;

fn key(entry: &str) -> Option<SortKey> {
    let entry = entry.trim();
    let descending = entry.starts_with('-');
    let by = Property::from_name(entry.strip_prefix(['+', '-']).unwrap_or(entry));
    Some(SortKey { by: by.filter(|by| by.sorts())?, descending })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn criteria_are_read_or_refused() {
        let date_title = parse("-dc:date, dc:title").unwrap();
        assert_eq!(date_title[0], SortKey { by: Property::Date, descending: true });
        assert_eq!(date_title[1], SortKey { by: Property::Title, descending: false });
        assert_eq!(parse(""), Ok(vec![]));
        assert_eq!(parse_known("+dc:mood,-dc:date,,dc:title"), date_title);
        assert_eq!(parse_known("+dc:mood"), []);
        for wrong in ["+dc:mood", "+", ",", "dc:title,,dc:date", "++dc:title", "@id"] {
            assert_eq!(parse(wrong), Err(Fault::InvalidSort), "{wrong}");
        }
    }
}
