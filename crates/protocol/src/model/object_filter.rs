//! The Filter argument: which properties an answer holds (CDS-38 to CDS-41).

/// A parsed Filter.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Filter {
    all: bool,
    names: Vec<String>,
}

impl Filter {
    /// Everything.
    pub const ALL: Filter = Filter { all: true, names: Vec::new() };

    /// Reads a Filter; unknown names, blanks and empty entries do no harm (CDS-40).
    pub fn parse(text: &str) -> Filter {
        let names: Vec<String> = text
            .split(',')
            .map(str::trim)
            .filter(|n| !n.is_empty())
            .take(256)
            .map(str::to_owned)
            .collect();
        if names.iter().any(|n| n == "*") {
            return Filter::ALL;
        }
        Filter { all: false, names }
    }

    /// Whether a property is wanted: `dc:date`, `@childCount`, `res@size`.
    pub fn wants(&self, property: &str) -> bool {
        self.all
            || self.names.iter().any(|name| {
                // `container@childCount` and `@childCount` name the same attribute, and
                // `res@size` implies `res`.
                name == property
                    || name.split_once('@').is_some_and(|(element, attribute)| {
                        element == property
                            || (property.strip_prefix('@') == Some(attribute)
                                && matches!(element, "container" | "item" | ""))
                    })
            })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_select() {
        let filter = Filter::parse("dc:date, res@size,,x:odd");
        assert!(filter.wants("dc:date") && filter.wants("res") && filter.wants("res@size"));
        assert!(!filter.wants("res@duration") && !filter.wants("upnp:artist"));
        assert!(Filter::parse("a,*").wants("anything"));
        assert!(!Filter::parse("").wants("res"));
        assert!(Filter::parse("container@childCount").wants("@childCount"));
        assert!(!Filter::parse("DC:DATE").wants("dc:date"), "case matters");
    }
}
