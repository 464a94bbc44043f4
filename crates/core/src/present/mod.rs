//! What a device is shown: the decision and its traits applied to its Browse.

mod fit;
mod parts;
mod requested_object;
mod urls;
mod write;

use mostra_protocol::model::didl::{DocumentWriter, Head, HeadNode};
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
    samples_path, wanted,
};

use crate::access::Decision;
use crate::catalogue::{Catalogue, ContainerClass, ItemView, Node, Page, Window};
use crate::facts::Facts;
use crate::ids::{FileId, FolderId, UpdateId};
use crate::stop::Stop;
use crate::traits::Traits;
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
    /// The items but test pieces, where a walkthrough counts them.
    pub files: Vec<(FileId, Kind)>,
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
    /// Whether the items are counted one by one.
    pub counts_files: bool,
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
    stop: &Stop,
) -> Result<ListAnswer, Fault> {
    let pass = match decision {
        Decision::Admitted(pass) => pass,
        Decision::Waiting => return threshold(catalogue, browse, form, Some(WAITING_TITLE)),
        Decision::Refused => return threshold(catalogue, browse, form, None),
    };
    let (part, id) = Part::asked(&browse.object, form.traits);
    let (asked, summary) =
        RequestedObject::of(catalogue, pass, id, &browse.sort, form.traits, stop)
            .ok_or(Fault::NoSuchObject)?;
    let (count, bytes) = form.page(browse.count);
    let listing = || summary.is_container.then(|| ContainerListing::of(&asked, form.traits));
    let page = match browse.flag {
        BrowseFlag::Metadata => {
            let object = match part {
                Some(part) => listing().and_then(|listing| listing.object(part)),
                None => asked.object(),
            };
            let update_id = asked.update_id();
            let page = object.map(|object| Page { objects: vec![object], total: 1, update_id });
            let numbered = |page| fit::numbered(catalogue, pass, page, form.traits);
            page.map(numbered).ok_or(Fault::NoSuchObject)?
        }
        BrowseFlag::DirectChildren => {
            let listing = listing().ok_or(Fault::NoSuchContainer)?;
            listing.page(part, browse.start, count).ok_or(Fault::NoSuchObject)?
        }
    };
    Ok(written(page, &browse.filter, summary.title, bytes, form))
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
    let title = catalogue.summary(pass, &scope.container).map(|o| o.title).unwrap_or_default();
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
    let mut document = DocumentWriter::new(filter, form.layer, page.objects.len(), bytes);
    let mut kinds: Vec<Kind> = Vec::new();
    let mut files = Vec::new();
    for object in &page.objects {
        if !write::object(&mut document, object, form) {
            break;
        }
        if let Node::Item(item) = &object.node {
            kinds.push(item.facts.kind);
            if form.counts_files && item.folder != FolderId::TEST_PIECES {
                files.push((item.serial, item.facts.kind));
            }
        }
    }
    let (result, returned) = document.finish();
    ListAnswer {
        result,
        returned: returned as u32,
        total: page.total,
        update_id: page.update_id.plus(form.offset),
        items: kinds.len() as u32,
        kinds: Kinds::of(kinds),
        title,
        files,
    }
}

/// The protocolInfo of an item's file, as listed for a device and as sent to it (HTTP-2): with
/// a MIME type that the person set, no profile is claimed.
fn original_info(item: &ItemView, traits: &Traits) -> ProtocolInfo {
    let info = profile::protocol_info(&item.facts);
    match &item.mime {
        Some(mime) => {
            let mime = mime.clone().into();
            fit::info(ProtocolInfo { mime, profile: None, ..info }, None, traits)
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
    let container = |id, parent, title, child_count| Head {
        id,
        parent,
        title,
        class: ContainerClass::Plain.upnp(),
        node: HeadNode::Container { child_count, searchable: true },
    };
    let waiting = notice.map(|title| container(WAITING_ID, "0", title, 0));
    let count = u32::from(notice.is_some());
    let (object, total) = match (browse.object.as_str(), browse.flag) {
        ("0", BrowseFlag::Metadata) => (Some(container("0", "-1", "Root", count)), 1),
        ("0", BrowseFlag::DirectChildren) => (waiting.filter(|_| browse.start == 0), count),
        (WAITING_ID, BrowseFlag::Metadata) if notice.is_some() => (waiting, 1),
        (WAITING_ID, BrowseFlag::DirectChildren) if notice.is_some() => (None, 0),
        _ => return Err(Fault::NoSuchObject),
    };
    let mut document = DocumentWriter::new(&browse.filter, form.layer, 1, usize::MAX);
    if let Some(object) = object {
        document.object(object, |_| {});
    }
    let (result, returned) = document.finish();
    Ok(ListAnswer {
        result,
        returned: returned as u32,
        total,
        update_id: catalogue.update_id().plus(form.offset),
        items: 0,
        kinds: Kinds::NONE,
        title: "Root".into(),
        files: Vec::new(),
    })
}

/// A picture's size once it is turned upright by its Exif orientation.
pub fn upright((width, height): (u32, u32), orientation: Option<u8>) -> (u32, u32) {
    match orientation {
        Some(5..=8) => (height, width),
        _ => (width, height),
    }
}
