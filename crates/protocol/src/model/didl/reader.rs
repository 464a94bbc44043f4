//! Reading what a player was given.

use crate::model::identifiers::NS_DIDL;
use crate::model::xml::{self, Limits, XmlError};

/// An object as a player reads it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadObject {
    /// Whether it is a container.
    pub container: bool,
    /// `@id`.
    pub id: String,
    /// `@parentID`.
    pub parent: String,
    /// `@refID`.
    pub reference: Option<String>,
    /// `@childCount`.
    pub child_count: Option<u32>,
    /// `dc:title`.
    pub title: String,
    /// `upnp:class`.
    pub class: String,
    /// `res` as (URL, protocolInfo, size).
    pub resources: Vec<(String, String, Option<u64>)>,
}

/// Reads a Result, in the memory that [`xml::read`] takes.
///
/// # Errors
/// [`XmlError`] when it is not a DIDL-Lite document within limits.
pub fn read(text: &str) -> Result<Vec<ReadObject>, XmlError> {
    let root = xml::read(text, Limits::DOCUMENT)?;
    if &*root.name != "DIDL-Lite" || &*root.namespace != NS_DIDL {
        return Err(XmlError::Malformed("not DIDL-Lite".into()));
    }
    let objects = root.children.into_iter().filter(|c| matches!(&*c.name, "container" | "item"));
    Ok(objects
        .map(|o| ReadObject {
            container: &*o.name == "container",
            id: o.attribute("id").unwrap_or_default().to_owned(),
            parent: o.attribute("parentID").unwrap_or_default().to_owned(),
            reference: o.attribute("refID").map(str::to_owned),
            child_count: o.attribute("childCount").and_then(|c| c.parse().ok()),
            title: o.child_text("title").unwrap_or_default().to_owned(),
            class: o.child_text("class").unwrap_or_default().to_owned(),
            resources: o
                .children
                .iter()
                .filter(|c| &*c.name == "res")
                .map(|r| {
                    let info = r.attribute("protocolInfo").unwrap_or_default().to_owned();
                    let size = r.attribute("size").and_then(|s| s.parse().ok());
                    (r.text.trim().to_owned(), info, size)
                })
                .collect(),
        })
        .collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_didl_lite_is_read_and_of_it_only_objects() {
        let document = |root: &str, namespace: &str| {
            read(&format!(
                "<{root} xmlns='{namespace}'><desc/><item id='a'/><container id='b'/></{root}>"
            ))
        };
        let objects = document("DIDL-Lite", NS_DIDL).unwrap();
        let ids: Vec<_> = objects.iter().map(|o| (o.id.as_str(), o.container)).collect();
        assert_eq!(ids, [("a", false), ("b", true)]);
        assert!(document("DIDL-Lite", "urn:x").is_err() && document("list", NS_DIDL).is_err());
    }
}
