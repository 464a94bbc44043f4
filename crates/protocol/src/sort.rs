//! SortCriteria (CDS-42 to CDS-44).

use crate::property::Property;
use crate::soap::Fault;

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
/// [`sort_capabilities`](crate::property::sort_capabilities), or bad syntax.
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
        let by = Property::from_name(entry.strip_prefix(['+', '-']).unwrap_or(entry));
        let by = by.filter(|by| by.sorts()).ok_or(Fault::InvalidSort)?;
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
        assert_eq!(date_title[0], SortKey { by: Property::Date, descending: true });
        assert_eq!(date_title[1], SortKey { by: Property::Title, descending: false });
        assert_eq!(parse(""), Ok(vec![]));
        for wrong in ["+dc:mood", "+", ",", "dc:title,,dc:date", "++dc:title", "@id"] {
            assert_eq!(parse(wrong), Err(Fault::InvalidSort), "{wrong}");
        }
    }
}
