//! Objects as a device is shown them, written piece by piece as the Filter wants them.

use mostra_protocol::model::didl::{
    DocumentWriter, Head, HeadNode, ObjectWriter, ResourceElement, Url, VendorElement,
};

use super::{
    AnswerForm, art_stem, caption_path, fit, is_pictured, original_info, parts, samples_path,
    upright,
};
use crate::Kind;
use crate::catalogue::{ContainerClass, ItemView, Node, Object};
use crate::facts::Facts;
use crate::profile::{self, Rendition};
use crate::samples::Samples;
use crate::traits::CaptionElement;

/// Writes an object; false if it found no room.
pub(super) fn object(
    document: &mut DocumentWriter<'_>,
    object: &Object,
    form: AnswerForm<'_>,
) -> bool {
    let Object { id, parent, title, node } = object;
    match node {
        Node::Container { children, class, artist, art, .. } => {
            let node = HeadNode::Container {
                child_count: parts::shown(*children, form.traits),
                searchable: *class != ContainerClass::Part,
            };
            let head = Head { id, parent, title, class: class.upnp(), node };
            document.object(head, |object| {
                if *class == ContainerClass::Directory {
                    object.required("upnp:storageUsed", None, "-1");
                }
                if let Some(artist) = artist {
                    object.property("dc:creator", artist);
                    object.property("upnp:artist", artist);
                }
                let art = art.as_ref().filter(|art| is_pictured(&art.1, form.films_pictured));
                if let Some(art) = art.filter(|_| object.wants("upnp:albumArtURI")) {
                    let stem = art_stem(&art.0, &art.1);
                    object.art(art_url(form.base, &stem, THUMBNAIL), THUMBNAIL.profile());
                }
            })
        }
        Node::Item(view) => {
            let title = fit::title(title, &view.facts, form.traits);
            let node = HeadNode::Item { reference: view.reference.as_deref() };
            let head = Head { id, parent, title: &title, class: view.class, node };
            let original = view.reference.as_deref().unwrap_or(id);
            document.object(head, |object| item(object, original, view, form))
        }
    }
}

const THUMBNAIL: Rendition = Rendition::Thumbnail;

fn art_url<'a>(base: &'a str, stem: &'a str, rendition: Rendition) -> Url<'a> {
    [base, stem, rendition.word(), ".jpg", ""]
}

fn item(object: &mut ObjectWriter<'_>, original: &str, view: &ItemView, form: AnswerForm<'_>) {
    properties(object, &view.facts);
    let pictured = is_pictured(&view.facts, form.films_pictured)
        && (object.wants("upnp:albumArtURI") || object.wants("res"));
    let stem = pictured.then(|| art_stem(original, &view.facts));
    if let Some(stem) = &stem {
        object.art(art_url(form.base, stem, THUMBNAIL), THUMBNAIL.profile());
        // Pictures have their smaller forms as resources.
        if view.facts.kind != Kind::Picture {
            let medium = Rendition::Medium;
            object.art(art_url(form.base, stem, medium), medium.profile());
        }
    }
    if object.wants("res") {
        resources(object, original, view, stem.as_deref(), form);
    }
}

fn properties(object: &mut ObjectWriter<'_>, facts: &Facts) {
    // Older players read only one of creator and artist (CDS-17); a plain artist comes first
    // (CDS-14).
    if let Some(artist) = facts.artist() {
        object.property("dc:creator", artist);
    }
    for artist in &facts.artists {
        object.property("upnp:artist", artist);
    }
    if let Some(artist) = &facts.album_artist {
        object.property_as("upnp:artist", Some("AlbumArtist"), artist);
    }
    for composer in &facts.composers {
        object.property_as("upnp:artist", Some("Composer"), composer);
    }
    if let Some(album) = &facts.album {
        object.property("upnp:album", album);
    }
    for genre in &facts.genres {
        object.property("upnp:genre", genre);
    }
    if let (Kind::Music, Some(track)) = (facts.kind, facts.track.0)
        && object.wants("upnp:originalTrackNumber")
    {
        object.property("upnp:originalTrackNumber", &track.to_string());
    }
    if let Some(date) = facts.date.filter(|_| object.wants("dc:date")) {
        object.property("dc:date", &date.to_string());
    }
}

/// Captions of one item that are listed, so that it has at most 8 resources (CDS-28).
const CAPTIONS: usize = 4;

fn resources(
    object: &mut ObjectWriter<'_>,
    original: &str,
    view: &ItemView,
    art_stem: Option<&str>,
    form: AnswerForm<'_>,
) {
    let facts = &view.facts;
    let fitted = |info| fit::info(info, None, form.traits);
    let captions: Vec<String> = facts
        .captions
        .iter()
        .enumerate()
        .take(CAPTIONS)
        .map(|(number, caption)| caption_path(original, number, caption.webvtt))
        .collect();
    let samples = Samples::of(facts);
    let samples_at = samples.map(|_| samples_path(original));
    let url = [form.base, "/media/", original, ".", facts.format.extension()];
    let mut resources = Vec::with_capacity(1 + Rendition::ALL.len() + captions.len());
    resources.push(ResourceElement {
        size: Some(facts.size).filter(|_| facts.station.is_none()),
        duration_ms: facts.duration_ms,
        bytes_per_second: facts.bit_rate.map(|bits| bits / 8),
        resolution: facts.resolution,
        sample_rate: facts.audio().and_then(|a| a.sample_rate),
        channels: facts.audio().and_then(|a| a.channels),
        bits: facts.audio().and_then(|a| a.bits),
        ..ResourceElement::bare(url, original_info(view, form.traits))
    });
    if let Some(stem) = art_stem.filter(|_| facts.kind == Kind::Picture) {
        let upright = facts.resolution.map(|size| upright(size, facts.orientation));
        // Largest first, so that who looks only at the second still gets a good one.
        for rendition in Rendition::ALL.into_iter().rev() {
            let smaller = upright.is_none_or(|s| rendition.fit(s) != s);
            if smaller || rendition == THUMBNAIL {
                let url = art_url(form.base, stem, rendition);
                let resolution = upright.map(|size| rendition.fit(size));
                let info = fitted(rendition.protocol_info());
                let bare = ResourceElement::bare(url, info);
                resources.push(ResourceElement { resolution, ..bare });
            }
        }
    }
    if let Some((samples, path)) = samples.zip(samples_at.as_deref()) {
        let original = resources[0].clone();
        resources.push(ResourceElement {
            url: [form.base, path, "", "", ""],
            info: fitted(samples.protocol_info()),
            size: Some(samples.length),
            bytes_per_second: Some(samples.bytes_per_second),
            ..original
        });
    }
    for (caption, path) in facts.captions.iter().zip(&captions) {
        let info = fitted(profile::caption_info(caption.webvtt));
        resources.push(ResourceElement::bare([form.base, path, "", "", ""], info));
    }
    fit::resources(&mut resources, form.traits);
    for resource in &resources {
        object.resource(resource);
    }
    if let Some(element) = &form.traits.caption_element
        && let Some((caption, path)) = facts.captions.first().zip(captions.first())
    {
        object.vendor(&vendor(element, &[form.base, path].concat(), caption.webvtt));
    }
}

fn vendor(element: &CaptionElement, url: &str, webvtt: bool) -> VendorElement {
    let filled = |text: &str| CaptionElement::filled(text, url, webvtt);
    VendorElement {
        namespace: element.namespace.clone(),
        name: element.name.clone(),
        attributes: element.attributes.iter().map(|(n, v)| (n.clone(), filled(v))).collect(),
        value: filled(&element.value),
    }
}
