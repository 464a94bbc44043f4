//! ContentDirectory:1: what a Browse or a Search asks.

use crate::messages::soap::{Call, Fault};
use crate::model::object_filter::Filter;
use crate::model::search::{self, Criteria};
use crate::model::sort::{self, SortKey};

/// The two ways to browse.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BrowseFlag {
    /// The object itself.
    Metadata,
    /// Its children.
    DirectChildren,
}

/// How strictly sort criteria are read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Leniency {
    /// As the standard says: 709 for a name that we do not sort by (CDS-42).
    Standard,
    /// Such names are passed over, for players that show nothing on 709 (IOP-23).
    PassOverSort,
}

impl Leniency {
    fn sort(self, text: &str) -> Result<Vec<SortKey>, Fault> {
        match self {
            Leniency::Standard => sort::parse(text),
            Leniency::PassOverSort => Ok(sort::parse_known(text)),
        }
    }
}

/// A Browse call, read (CDS-29 to CDS-33).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Browse {
    /// The object.
    pub object: String,
    /// What of it.
    pub flag: BrowseFlag,
    /// Which properties.
    pub filter: Filter,
    /// First child wanted.
    pub start: u32,
    /// Most children wanted, 0 for all.
    pub count: u32,
    /// The order; empty for the default.
    pub sort: Vec<SortKey>,
}

impl Browse {
    /// Reads the arguments; a missing Filter counts as `*`, missing numbers as 0 (SOAP-6), and
    /// a count of `-1` as 0 (SOAP-7).
    ///
    /// `leniency` says what becomes of sort criteria that we do not have.
    ///
    /// # Errors
    /// 402 for bad arguments, 709 for sort criteria that we do not have.
    pub fn read(call: &Call, leniency: Leniency) -> Result<Browse, Fault> {
        let flag = match call.required("BrowseFlag")?.trim() {
            "BrowseMetadata" => BrowseFlag::Metadata,
            "BrowseDirectChildren" => BrowseFlag::DirectChildren,
            _ => return Err(Fault::InvalidArgs),
        };
        let (start, count) = window(call)?;
        Ok(Browse {
            object: call.required("ObjectID")?.trim().to_owned(),
            flag,
            filter: Filter::parse(call.argument("Filter").unwrap_or("*")),
            start,
            count,
            sort: leniency.sort(call.argument("SortCriteria").unwrap_or(""))?,
        })
    }
}

/// A Search call, read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Search {
    /// The container in which to search.
    pub container: String,
    /// What to find.
    pub criteria: Criteria,
    /// Which properties.
    pub filter: Filter,
    /// First match wanted.
    pub start: u32,
    /// Most matches wanted, 0 for all.
    pub count: u32,
    /// The order; empty for the default.
    pub sort: Vec<SortKey>,
}

impl Search {
    /// Reads the arguments, as lenient as [`Browse::read`].
    ///
    /// # Errors
    /// 402 for bad arguments, 708 for bad criteria, 709 for sort criteria that we do not have.
    pub fn read(call: &Call, leniency: Leniency) -> Result<Search, Fault> {
        let (start, count) = window(call)?;
        Ok(Search {
            container: call.required("ContainerID")?.trim().to_owned(),
            criteria: search::parse(call.required("SearchCriteria")?)?,
            filter: Filter::parse(call.argument("Filter").unwrap_or("*")),
            start,
            count,
            sort: leniency.sort(call.argument("SortCriteria").unwrap_or(""))?,
        })
    }
}

fn window(call: &Call) -> Result<(u32, u32), Fault> {
    let start = call.argument("StartingIndex").unwrap_or("0").trim();
    let count = call.argument("RequestedCount").unwrap_or("0").trim();
    let count = match count.parse::<i128>() {
        // Some players mean all by it.
        Ok(-1) => 0,
        Ok(n) => u32::try_from(n).map_err(|_| Fault::InvalidArgs)?,
        Err(_) => return Err(Fault::InvalidArgs),
    };
    Ok((start.parse().map_err(|_| Fault::InvalidArgs)?, count))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn browse(arguments: &[(&str, &str)]) -> Result<Browse, Fault> {
        let owned = |(n, v): &(&str, &str)| ((*n).to_owned(), (*v).to_owned());
        let arguments = arguments.iter().map(owned).collect();
        let call = Call { namespace: String::new(), action: "Browse".into(), arguments };
        Browse::read(&call, Leniency::Standard)
    }

    #[test]
    fn missing_and_odd_arguments() {
        let id = ("ObjectID", "0");
        let flag = ("BrowseFlag", "BrowseDirectChildren");
        assert_eq!(browse(&[id]), Err(Fault::InvalidArgs));
        assert_eq!(browse(&[flag]), Err(Fault::InvalidArgs));
        assert_eq!(browse(&[id, ("BrowseFlag", "BrowseAll")]), Err(Fault::InvalidArgs));
        assert_eq!(browse(&[id, flag]).unwrap().flag, BrowseFlag::DirectChildren);
        let metadata = browse(&[id, ("BrowseFlag", " BrowseMetadata")]).unwrap();
        assert_eq!(metadata.flag, BrowseFlag::Metadata);
        assert_eq!(browse(&[id, flag, ("StartingIndex", "x")]), Err(Fault::InvalidArgs));
        assert_eq!(browse(&[id, flag, ("RequestedCount", "-1")]).unwrap().count, 0);
        for beyond in ["4294967296", "99999999999", &"9".repeat(60)] {
            for name in ["RequestedCount", "StartingIndex"] {
                assert_eq!(
                    browse(&[id, flag, (name, beyond)]),
                    Err(Fault::InvalidArgs),
                    "{beyond}"
                );
            }
        }
        let most = browse(&[id, flag, ("RequestedCount", " 4294967295 ")]).unwrap();
        assert_eq!(most.count, u32::MAX, "blanks around it are nothing (SOAP-7)");
        assert_eq!(browse(&[id, flag, ("RequestedCount", "-2")]), Err(Fault::InvalidArgs));
        assert_eq!(browse(&[id, flag]).unwrap().filter, Filter::ALL);
        assert_eq!(browse(&[id, flag, ("SortCriteria", "+x:y")]), Err(Fault::InvalidSort));
    }
}
