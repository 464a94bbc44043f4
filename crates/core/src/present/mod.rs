//! What a device is shown: the decision and its traits applied to its Browse.

mod fit;
mod parts;
mod requested_object;
mod urls;

use mostra_protocol::model::didl::{self, Body, Resource, VendorElement};
use mostra_protocol::model::dlna::ProtocolInfo;
use mostra_protocol::model::object_filter::Filter;
use mostra_protocol::model::xml_writer::Layer;
use mostra_protocol::server::Fault;
use mostra_protocol::server::content_directory::{Browse, BrowseFlag, Search};

pub use parts::ids_of_parts;
use requested_object::RequestedObject;
use urls::art_stem;
pub use urls::{
    RequestedResource, art_path, art_stamp, caption_field, caption_path, media_path, resource,
    wanted,
};

use crate::access::Decision;
use crate::catalogue::{Catalogue, ContainerClass, ItemView, Node, Object, Page, Window};
use crate::facts::Facts;
use crate::ids::UpdateId;
use crate::profile::Rendition;
use crate::stop::Stop;
use crate::traits::{CaptionElement, Traits};
use crate::{Kind, Kinds, profile};
use parts::{ContainerListing, Part};

/// An answered Browse or Search.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListAnswer {
    /// The DIDL-Lite document, written as the form says.
    pub result: String,
    /// NumberReturned.
    pub returned: u32,
    /// TotalMatches.
    pub total: u32,
    /// UpdateID, with the device's own offset.
    pub update_id: UpdateId,
    /// Granted items in the answer.
    pub items: u32,
    /// Their kinds.
    pub kinds: Kinds,
    /// The title of the container or item requested_object for.
    pub title: String,
}

/// The one container that a waiting device sees (CDS-53).
const WAITING_ID: &str = "waiting";
const WAITING_TITLE: &str = "Not let in yet: please ask the house";

/// How an answer is written for the device that asks.
#[derive(Debug, Clone, Copy)]
pub struct AnswerForm<'a> {
    /// `http://address:port` as this device reaches us (CDS-22).
    pub base: &'a str,
    /// The device's own update-id offset (CDS-45).
    pub offset: u32,
    /// Whether pictures can be taken from films.
    pub films_pictured: bool,
    /// Whether the answer is written by itself or for an envelope.
    pub layer: Layer,
    /// What this device needs done differently.
    pub traits: &'a Traits,
}

/// Objects and bytes of a page for who asks for all there is, or for more than that (CDS-32).
const WHOLE: (u32, usize) = (5000, 4 << 20);
/// The same for who counts (IOP-16).
const COUNTED: (u32, usize) = (1000, 200 << 10);

impl AnswerForm<'_> {
    /// Objects and bytes that a page requested_object for with this count may have.
    fn page(&self, count: u32) -> (u32, usize) {
        let asks_all = count == 0 || count >= WHOLE.0;
        let (objects, bytes) = if asks_all { WHOLE } else { COUNTED };
        let objects = objects.min(if asks_all { WHOLE.0 } else { count });
        let most = self.traits.page_bytes.map_or(bytes, |most| bytes.min(most as usize));
        (objects.min(self.traits.page_objects.unwrap_or(u32::MAX)), most)
    }
}

/// Answers a Browse for a device.
///
/// # Errors
/// 701 for an object that does not exist for this device, 710 for the children of an item.
pub fn browse(
    catalogue: &Catalogue,
    decision: &Decision,
    browse: &Browse,
    form: AnswerForm<'_>,
) -> Result<ListAnswer, Fault> {
    let pass = match decision {
        Decision::Admitted(pass) => pass,
        Decision::Waiting => return threshold(catalogue, browse, form, Some(WAITING_TITLE)),
        Decision::Refused => return threshold(catalogue, browse, form, None),
    };
    let (part, id) = Part::asked(&browse.object, form.traits);
    let (requested_object, object) =
        RequestedObject::of(catalogue, pass, id, &browse.sort, form.traits)
            .ok_or(Fault::NoSuchObject)?;
    let title = object.as_ref().map(|o| o.title.clone()).unwrap_or_default();
    let children = match object.as_ref().map(|o| &o.node) {
        Some(Node::Item(_)) => None,
        Some(Node::Container { children, .. }) => Some(*children),
        None => Some(0),
    };
    let (count, bytes) = form.page(browse.count);
    let listing =
        || children.map(|children| ContainerListing::of(&requested_object, children, form.traits));
    let page = match browse.flag {
        BrowseFlag::Metadata => {
            let object = match part {
                Some(part) => listing().and_then(|listing| listing.object(part)),
                None => object,
            };
            let update_id = requested_object.update_id();
            let page = object.map(|object| Page { objects: vec![object], total: 1, update_id });
            let numbered = |page| fit::numbered(catalogue, pass, page, form.traits);
            page.map(numbered).ok_or(Fault::NoSuchObject)?
        }
        BrowseFlag::DirectChildren => {
            let listing = listing().ok_or(Fault::NoSuchContainer)?;
            listing.page(part, browse.start, count).ok_or(Fault::NoSuchObject)?
        }
    };
    Ok(written(page, &browse.filter, title, bytes, form))
}

/// Answers a Search for a device.
///
/// # Errors
/// 710 for a container that does not exist for this device.
pub fn search(
    catalogue: &Catalogue,
    decision: &Decision,
    search: &Search,
    form: AnswerForm<'_>,
    stop: &Stop,
) -> Result<ListAnswer, Fault> {
    let Decision::Admitted(pass) = decision else {
        // What a device sees that is not let in holds nothing that could be found.
        let known = search.container == "0"
            || (search.container == WAITING_ID && *decision == Decision::Waiting);
        if !known {
            return Err(Fault::NoSuchContainer);
        }
        let update_id = catalogue.update_id();
        let page = Page { objects: vec![], total: 0, update_id };
        return Ok(written(page, &search.filter, "Root".into(), usize::MAX, form));
    };
    let (count, bytes) = form.page(search.count);
    let scope = fit::SearchRequest::of(catalogue, pass, search, form.traits);
    let title = catalogue.object(pass, &scope.container).map(|o| o.title).unwrap_or_default();
    let window = Window { start: search.start, count, sort: &search.sort };
    let page = catalogue
        .search_until(stop, pass, &scope.container, &scope.criteria, window)
        .ok_or(Fault::NoSuchContainer)?;
    let page = fit::numbered(catalogue, pass, page, form.traits);
    let page = scope.renamed(page, &search.container);
    Ok(written(page, &search.filter, title, bytes, form))
}

fn written(
    page: Page,
    filter: &Filter,
    title: String,
    bytes: usize,
    form: AnswerForm<'_>,
) -> ListAnswer {
    let kind = |object: &Object| match &object.node {
        Node::Item(item) => Some(item.facts.kind),
        Node::Container { .. } => None,
    };
    let kinds: Vec<Option<Kind>> = page.objects.iter().map(kind).collect();
    let objects = page.objects.into_iter().map(|o| object(o, form));
    let (result, returned) = didl::write_within(objects, filter, form.layer, bytes);
    let items = || kinds[..returned].iter().copied().flatten();
    ListAnswer {
        result,
        returned: returned as u32,
        total: page.total,
        update_id: page.update_id.plus(form.offset),
        items: items().count() as u32,
        kinds: Kinds::of(items()),
        title,
    }
}

/// The protocolInfo of an item's file, as listed for a device and as sent to it (HTTP-2): with
/// a MIME type that the person set, no profile is claimed.
fn original_info(item: &ItemView, traits: &Traits) -> ProtocolInfo {
    let info = profile::protocol_info(&item.facts);
    match &item.mime {
        Some(mime) => {
            fit::info(ProtocolInfo { mime: mime.clone(), profile: None, ..info }, None, traits)
        }
        None => fit::info(info, Some(item.facts.format), traits),
    }
}

/// Every protocolInfo that can stand in a `res` for a device (CM-4, IOP-4).
pub fn source_infos(mimes: &[String], traits: &Traits) -> Vec<ProtocolInfo> {
    let mut all = profile::all();
    all.extend(mimes.iter().flat_map(|mime| profile::replaced(mime)));
    let fitted: Vec<ProtocolInfo> =
        all.iter().map(|info| fit::info(info.clone(), None, traits)).collect();
    all.extend(fitted);
    all
}

/// Whether a picture can be shown for an item; `films` says whether one can be taken of films.
pub fn is_pictured(facts: &Facts, films: bool) -> bool {
    let beside = facts.embedded_art || facts.art.is_some();
    beside
        || match facts.kind {
            // Decoded by the same program that takes pictures from films.
            Kind::Picture if facts.format.row().demuxer.is_some() => films,
            Kind::Picture => true,
            Kind::Video => films,
            Kind::Music => false,
        }
}

/// What a device sees that is not let in: the root, and in it a notice or nothing.
fn threshold(
    catalogue: &Catalogue,
    browse: &Browse,
    form: AnswerForm<'_>,
    notice: Option<&'static str>,
) -> Result<ListAnswer, Fault> {
    let container = |id: &str, parent: &str, title: &str, children: u32| didl::Object {
        id: id.into(),
        parent: parent.into(),
        title: title.into(),
        class: "object.container",
        properties: vec![],
        roles: vec![],
        art: vec![],
        body: Body::Container { child_count: Some(children), searchable: true },
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
    Ok(ListAnswer {
        result: didl::write(&objects, &browse.filter, form.layer),
        returned: objects.len() as u32,
        total,
        update_id: catalogue.update_id().plus(form.offset),
        items: 0,
        kinds: Kinds::NONE,
        title: "Root".into(),
    })
}

fn object(object: Object, form: AnswerForm<'_>) -> didl::Object {
    let Object { id, parent, title, node } = object;
    match node {
        Node::Container { children, class, artist, art, .. } => {
            let mut properties = Vec::new();
            if class == ContainerClass::Directory {
                properties.push(("upnp:storageUsed", "-1".to_owned()));
            }
            if let Some(artist) = artist {
                properties.push(("dc:creator", artist.clone()));
                properties.push(("upnp:artist", artist));
            }
            let art = art.filter(|art| is_pictured(&art.1, form.films_pictured));
            let thumbnail = Rendition::Thumbnail;
            let art = art.map(|art| {
                let path = art_path(&art.0, &art.1, thumbnail);
                (format!("{}{path}", form.base), thumbnail.profile())
            });
            didl::Object {
                id,
                parent,
                title,
                class: class.upnp(),
                properties,
                roles: vec![],
                art: art.into_iter().collect(),
                body: Body::Container {
                    child_count: Some(parts::shown(children, form.traits)),
                    searchable: class != ContainerClass::Part,
                },
            }
        }
        Node::Item(view) => item(id, parent, title, *view, form),
    }
}

fn item(
    id: String,
    parent: String,
    title: String,
    view: ItemView,
    form: AnswerForm<'_>,
) -> didl::Object {
    let original = view.reference.clone().unwrap_or_else(|| id.clone());
    let path = media_path(&id, &view);
    let info = original_info(&view, form.traits);
    let title = fit::title(title, &view.facts, form.traits);
    let facts = view.facts;
    let mut properties: Vec<(&'static str, String)> = Vec::new();
    let mut roles = Vec::new();
    // Older players read only one of creator and artist (CDS-17); a plain artist comes first
    // (CDS-14).
    properties.extend(facts.artist().map(|a| ("dc:creator", a.to_owned())));
    properties.extend(facts.artists.iter().map(|a| ("upnp:artist", a.clone())));
    if let Some(artist) = &facts.album_artist {
        roles.push((properties.len(), "AlbumArtist"));
        properties.push(("upnp:artist", artist.clone()));
    }
    for composer in &facts.composers {
        roles.push((properties.len(), "Composer"));
        properties.push(("upnp:artist", composer.clone()));
    }
    properties.extend(facts.album.iter().map(|a| ("upnp:album", a.clone())));
    properties.extend(facts.genres.iter().map(|genre| ("upnp:genre", genre.clone())));
    if let (Kind::Music, Some(track)) = (facts.kind, facts.track.0) {
        properties.push(("upnp:originalTrackNumber", track.to_string()));
    }
    properties.extend(facts.date.map(|d| ("dc:date", d.to_string())));
    let url = |path: String| [form.base, &path].concat();
    let bare = |url, info| Resource {
        url,
        info,
        size: None,
        duration_ms: None,
        bytes_per_second: None,
        resolution: None,
        sample_rate: None,
        channels: None,
        bits: None,
    };
    let mut resources = vec![Resource {
        size: Some(facts.size).filter(|_| facts.station.is_none()),
        duration_ms: facts.duration_ms,
        bytes_per_second: facts.bit_rate.map(|bits| bits / 8),
        resolution: facts.resolution,
        sample_rate: facts.audio().and_then(|a| a.sample_rate),
        channels: facts.audio().and_then(|a| a.channels),
        bits: facts.audio().and_then(|a| a.bits),
        ..bare(url(path), info)
    }];
    let pictured = is_pictured(&facts, form.films_pictured);
    let art_stem = pictured.then(|| url(art_stem(&original, &facts)));
    let art_url = |rendition: Rendition| {
        [art_stem.as_deref().unwrap_or_default(), rendition.word(), ".jpg"].concat()
    };
    let mut art = Vec::new();
    if pictured {
        art.push((art_url(Rendition::Thumbnail), Rendition::Thumbnail.profile()));
    }
    if pictured && facts.kind == Kind::Picture {
        // Largest first, so that who looks only at the second still gets a good one.
        for rendition in Rendition::ALL.into_iter().rev() {
            let upright = facts.resolution.map(|size| upright(size, facts.orientation));
            let smaller = upright.is_none_or(|s| rendition.fit(s) != s);
            if smaller || rendition == Rendition::Thumbnail {
                let info = fit::info(rendition.protocol_info(), None, form.traits);
                let resolution = upright.map(|size| rendition.fit(size));
                resources.push(Resource { resolution, ..bare(art_url(rendition), info) });
            }
        }
    } else if pictured {
        art.push((art_url(Rendition::Medium), Rendition::Medium.profile()));
    }
    // At most 8 in all (CDS-28).
    for (number, caption) in facts.captions.iter().enumerate().take(4) {
        let path = caption_path(&original, number, caption.webvtt);
        let info = fit::info(profile::caption_info(caption.webvtt), None, form.traits);
        resources.push(bare(url(path), info));
    }
    fit::resources(&mut resources, form.traits);
    let vendor = form.traits.caption_element.as_ref().zip(facts.captions.first());
    let vendor = vendor.map(|(element, caption)| {
        let url = url(caption_path(&original, 0, caption.webvtt));
        let filled = |text: &str| CaptionElement::filled(text, &url, caption.webvtt);
        VendorElement {
            namespace: element.namespace.clone(),
            name: element.name.clone(),
            attributes: element.attributes.iter().map(|(n, v)| (n.clone(), filled(v))).collect(),
            value: filled(&element.value),
        }
    });
    let vendor = vendor.into_iter().collect();
    let body = Body::Item { reference: view.reference, resources, vendor };
    let class = view.class;
    didl::Object { id, parent, title, class, properties, roles, art, body }
}

/// A picture's size once it is turned upright by its Exif orientation.
pub fn upright((width, height): (u32, u32), orientation: Option<u8>) -> (u32, u32) {
    match orientation {
        Some(5..=8) => (height, width),
        _ => (width, height),
    }
}
