//! How a device's traits change what it is shown (requirements 12).

use std::borrow::Cow;

use mostra_protocol::model::didl::{ResourceElement, TITLE_BYTES};
use mostra_protocol::model::dlna::ProtocolInfo;
use mostra_protocol::model::search::Criteria;
use mostra_protocol::model::xml::clip;
use mostra_protocol::server::content_directory::Search;

use super::parts::Part;
use super::requested_object::{of_class, renamed};
use super::{Page, Traits};
use crate::access::Pass;
use crate::catalogue::{Catalogue, ContainerClass, Node};
use crate::facts::Facts;
use crate::format::Format;
use crate::profile::{self, Rendition};
use crate::traits::Features;

/// A protocolInfo as this device needs it. `format` is that of an original.
pub(super) fn info(info: ProtocolInfo, format: Option<Format>, traits: &Traits) -> ProtocolInfo {
    let mut info = info;
    match traits.features {
        Some(Features::Any) => info.any = true,
        Some(Features::Nearest) if info.profile.is_none() => {
            info.profile = format.and_then(profile::nearest);
        }
        _ => {}
    }
    if let Some(mime) = traits.mimes.get(&*info.mime) {
        info.mime = mime.clone().into();
    }
    info
}

/// An item's title.
pub(super) fn title<'a>(title: &'a str, facts: &Facts, traits: &Traits) -> Cow<'a, str> {
    let bytes = traits.title_bytes.map_or(TITLE_BYTES, |b| TITLE_BYTES.min(b.into()));
    match traits.title_extension {
        Some(true) => {
            let extension = facts.format.extension();
            let room = bytes.saturating_sub(extension.len() + 1);
            [clip(title, room), ".", extension].concat().into()
        }
        _ => clip(title, bytes).into(),
    }
}

/// Puts track numbers before the titles of tracks in albums, where that is wanted (IOP-22).
pub(super) fn numbered(catalogue: &Catalogue, pass: &Pass, page: Page, traits: &Traits) -> Page {
    let mut page = page;
    if traits.title_track != Some(true) {
        return page;
    }
    let mut last: Option<(String, bool)> = None;
    for object in &mut page.objects {
        let Node::Item(item) = &object.node else { continue };
        let Some(track) = item.facts.track.0 else { continue };
        if last.as_ref().is_none_or(|(id, _)| *id != object.parent) {
            let around = catalogue.object(pass, &object.parent).map(|o| o.node);
            let album =
                matches!(around, Some(Node::Container { class: ContainerClass::Album, .. }));
            last = Some((object.parent.clone(), album));
        }
        if last.as_ref().is_some_and(|(_, album)| *album) {
            // With the disc, or the tracks of two discs would mingle.
            let disc = match item.facts.disc {
                (Some(disc), Some(2..)) | (Some(disc @ 2..), None) => format!("{disc}-"),
                _ => String::new(),
            };
            object.title = format!("{disc}{track:02} {}", object.title);
        }
    }
    page
}

/// The `res` of an item in the order and number that are wanted (CDS-27, CDS-28).
pub(super) fn resources(resources: &mut Vec<ResourceElement<'_>>, traits: &Traits) {
    if traits.thumbnails == Some(false) {
        let thumbnail = Rendition::Thumbnail.profile();
        resources.retain(|r| !(r.info.converted && r.info.profile == Some(thumbnail)));
    }
    if !traits.first.is_empty() {
        let place = |r: &ResourceElement<'_>| traits.first.iter().position(|m| *m == r.info.mime);
        resources.sort_by_key(|r| place(r).unwrap_or(usize::MAX));
    }
    if traits.one_resource == Some(true) {
        resources.truncate(1);
    }
    if let Some(largest) = traits.largest_size {
        for resource in resources {
            resource.size = resource.size.filter(|size| *size <= largest);
        }
    }
}

/// Where and what a device searches, with its fixed ids replaced.
pub(super) struct SearchRequest {
    pub container: String,
    pub criteria: Criteria,
    is_alias: bool,
}

impl SearchRequest {
    pub(super) fn of(
        catalogue: &Catalogue,
        pass: &Pass,
        search: &Search,
        traits: &Traits,
    ) -> SearchRequest {
        let plain = |container: &str| SearchRequest {
            container: container.to_owned(),
            criteria: search.criteria.clone(),
            is_alias: false,
        };
        let in_part = Part::asked(&search.container, traits).0.is_some();
        if in_part
            || traits.aliases.is_empty()
            || catalogue.object(pass, &search.container).is_some()
        {
            return plain(&search.container);
        }
        let Some(alias) = traits.aliases.get(&search.container) else { return plain("0") };
        let criteria = match &alias.class {
            Some(class) => Criteria::And(vec![search.criteria.clone(), of_class(class)]),
            None => search.criteria.clone(),
        };
        // A view with nothing in it is not there; then nothing matches.
        let there = catalogue.object(pass, &alias.container).is_some();
        match there {
            true => SearchRequest { container: alias.container.clone(), criteria, is_alias: true },
            false => SearchRequest {
                container: "0".into(),
                criteria: Criteria::Or(vec![]),
                is_alias: false,
            },
        }
    }

    /// The page with the id that was asked for.
    pub(super) fn renamed(&self, page: Page, id: &str) -> Page {
        if self.is_alias { renamed(page, &self.container, id) } else { page }
    }
}
