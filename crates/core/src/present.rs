//! What a device is shown: the decision applied to its Browse.

use mostra_protocol::content_directory::{Browse, BrowseFlag};
use mostra_protocol::didl::{self, Body, Resource};
use mostra_protocol::soap::Fault;

use crate::access::Decision;
use crate::catalogue::{Catalogue, ItemView, Node, Object};
use crate::{Kind, profile};

/// An answered Browse.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// The DIDL-Lite document.
    pub result: String,
    /// NumberReturned.
    pub returned: u32,
    /// TotalMatches.
    pub total: u32,
    /// UpdateID, with the device's own offset.
    pub update_id: u32,
    /// Granted items in the answer.
    pub items: u32,
    /// The title of the container or item asked for.
    pub title: String,
}

/// The one container that a waiting device sees (CDS-53).
const WAITING_ID: &str = "waiting";
const WAITING_TITLE: &str = "Not let in yet: please ask the house";

/// Answers a Browse for a device. `base` is `http://address:port` as this device reaches us;
/// `offset` is the device's own update-id offset.
///
/// # Errors
/// 701 for an object that does not exist for this device, 710 for the children of an item.
pub fn browse(
    catalogue: &Catalogue,
    decision: &Decision,
    browse: &Browse,
    base: &str,
    offset: u32,
) -> Result<Answer, Fault> {
    let pass = match decision {
        Decision::Admitted(pass) => pass,
        Decision::Waiting => return threshold(catalogue, browse, offset, Some(WAITING_TITLE)),
        Decision::Refused => return threshold(catalogue, browse, offset, None),
    };
    let asked = catalogue.object(pass, &browse.object).ok_or(Fault::NoSuchObject)?;
    let title = asked.title.clone();
    let (objects, total, update_id) = match browse.flag {
        BrowseFlag::Metadata => {
            let update_id = catalogue.object_update_id(pass, &browse.object).unwrap_or_default();
            (vec![asked], 1, update_id)
        }
        BrowseFlag::DirectChildren => {
            let page = catalogue
                .children(pass, &browse.object, browse.start, browse.count, &browse.sort)
                .ok_or(Fault::NoSuchContainer)?;
            (page.objects, page.total, page.update_id)
        }
    };
    let items = objects.iter().filter(|o| matches!(o.node, Node::Item(_))).count() as u32;
    let objects: Vec<didl::Object> = objects.into_iter().map(|o| object(o, base)).collect();
    Ok(Answer {
        result: didl::write(&objects, &browse.filter),
        returned: objects.len() as u32,
        total,
        update_id: update_id.wrapping_add(offset),
        items,
        title,
    })
}

/// The path at which an item's file is served.
pub fn media_path(id: &str, item: &ItemView<'_>) -> String {
    let original = item.reference.as_deref().unwrap_or(id);
    format!("/media/{original}.{}", item.facts.format.extension())
}

/// The object id in the last segment of a media path: what stands before the extension.
pub fn media_id(segment: &str) -> &str {
    segment.split('.').next().unwrap_or(segment)
}

/// What a device sees that is not let in: the root, and in it a notice or nothing.
fn threshold(
    catalogue: &Catalogue,
    browse: &Browse,
    offset: u32,
    notice: Option<&'static str>,
) -> Result<Answer, Fault> {
    let container = |id: &str, parent: &str, title: &str, children: u32| didl::Object {
        id: id.into(),
        parent: parent.into(),
        title: title.into(),
        class: "object.container",
        properties: vec![],
        body: Body::Container { child_count: Some(children) },
    };
    let waiting = notice.map(|title| container(WAITING_ID, "0", title, 0));
    let count = u32::from(notice.is_some());
    let (objects, total) = match (browse.object.as_str(), browse.flag) {
        ("0", BrowseFlag::Metadata) => (vec![container("0", "-1", "Root", count)], 1),
        ("0", BrowseFlag::DirectChildren) => {
            let all: Vec<_> = waiting.into_iter().collect();
            (if browse.start == 0 { all } else { vec![] }, count)
        }
        (WAITING_ID, flag) if notice.is_some() => match flag {
            BrowseFlag::Metadata => (waiting.into_iter().collect(), 1),
            BrowseFlag::DirectChildren => (vec![], 0),
        },
        _ => return Err(Fault::NoSuchObject),
    };
    Ok(Answer {
        result: didl::write(&objects, &browse.filter),
        returned: objects.len() as u32,
        total,
        update_id: catalogue.update_id().wrapping_add(offset),
        items: 0,
        title: "Root".into(),
    })
}

fn object(object: Object<'_>, base: &str) -> didl::Object {
    let Object { id, parent, title, node } = object;
    match node {
        Node::Container { children, directory, .. } => didl::Object {
            id,
            parent,
            title,
            class: if directory { "object.container.storageFolder" } else { "object.container" },
            properties: if directory { vec![("upnp:storageUsed", "-1".into())] } else { vec![] },
            body: Body::Container { child_count: Some(children) },
        },
        Node::Item(item) => {
            let facts = item.facts;
            let class = match facts.kind {
                Kind::Video => "object.item.videoItem",
                Kind::Music => "object.item.audioItem.musicTrack",
                Kind::Picture => "object.item.imageItem.photo",
            };
            let mut properties = Vec::new();
            let mut add = |name, value: &Option<String>| {
                if let Some(value) = value {
                    properties.push((name, value.clone()));
                }
            };
            // Older players read only one of creator and artist (CDS-17).
            add("dc:creator", &facts.artist);
            if facts.kind == Kind::Music {
                add("upnp:artist", &facts.artist);
                add("upnp:album", &facts.album);
            }
            add("dc:date", &facts.date);
            let url = format!("{base}{}", media_path(&id, &item));
            let resource = Resource {
                url,
                info: profile::protocol_info(facts),
                size: Some(facts.size),
                duration_ms: facts.duration_ms,
                bytes_per_second: facts.bit_rate.map(|bits| bits / 8),
                resolution: facts.resolution,
                sample_rate: facts.audio.as_ref().and_then(|a| a.sample_rate),
                channels: facts.audio.as_ref().and_then(|a| a.channels),
            };
            let body = Body::Item { reference: item.reference, resources: vec![resource] };
            didl::Object { id, parent, title, class, properties, body }
        }
    }
}
