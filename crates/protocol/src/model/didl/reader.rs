//! Reading what a player was given.

use crate::model::identifiers::NS_DIDL;
use crate::model::xml::{self, Element, Limits, XmlError};

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

/// However short a Result is, it may have so many objects; a longer one has another for each so many
/// of its bytes.
const SPARE: usize = 1000;
const BYTES_PER_OBJECT: usize = 64;

/// Reads a Result, object by object. At no time does it take more than eight times the length of
/// that and 1 MiB.
///
/// # Errors
/// [`XmlError`] when it is not a DIDL-Lite document within limits: those of
/// [`xml::read`] for each object, and one object for each 64 bytes and 1,000 more.
pub fn read(text: &str) -> Result<Vec<ReadObject>, XmlError> {
    let most = text.len() / BYTES_PER_OBJECT + SPARE;
    let mut objects = Vec::with_capacity(most.min(text.matches("</").count()));
    let mut beyond = false;
    let root = xml::read_list(text, Limits::DOCUMENT, |child| {
        if !matches!(&*child.name, "container" | "item") {
            return;
        }
        match objects.len() < most {
            true => objects.push(object(&child)),
            false => beyond = true,
        }
    })?;
    if &*root.name != "DIDL-Lite" || &*root.namespace != NS_DIDL {
        return Err(XmlError::Malformed("not DIDL-Lite".into()));
    }
    if beyond { Err(XmlError::Limit) } else { Ok(objects) }
}

fn object(read: &Element) -> ReadObject {
    let resources = read.children.iter().filter(|child| &*child.name == "res").map(|res| {
        let info = res.attribute("protocolInfo").unwrap_or_default().to_owned();
        let size = res.attribute("size").and_then(|size| size.parse().ok());
        (res.text.trim().to_owned(), info, size)
    });
    ReadObject {
        container: &*read.name == "container",
        id: read.attribute("id").unwrap_or_default().to_owned(),
        parent: read.attribute("parentID").unwrap_or_default().to_owned(),
        reference: read.attribute("refID").map(str::to_owned),
        child_count: read.attribute("childCount").and_then(|count| count.parse().ok()),
        title: read.child_text("title").unwrap_or_default().to_owned(),
        class: read.child_text("class").unwrap_or_default().to_owned(),
        resources: resources.collect(),
    }
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
