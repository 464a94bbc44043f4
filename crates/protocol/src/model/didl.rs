//! DIDL-Lite (requirements 5.2, 5.3): writing what the directory offers, reading what a player
//! was given.

use crate::markup;
use crate::model::dlna::{self, ProtocolInfo};
use crate::model::identifiers::{NS_DC, NS_DIDL, NS_DLNA, NS_UPNP};
use crate::model::object_filter::Filter;
use crate::model::xml::{self, Limits, XmlError, clip};
use crate::model::xml_writer::{Layer, Markup, XmlWriter};

/// Bytes of UTF-8 that a title may have (CDS-16).
pub const TITLE_BYTES: usize = 200;
/// Bytes of UTF-8 that any other text may have (CDS-16).
pub const TEXT_BYTES: usize = 1000;

/// An object as one device sees it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Object {
    /// `@id`.
    pub id: String,
    /// `@parentID`.
    pub parent: String,
    /// `dc:title`.
    pub title: String,
    /// `upnp:class`, whole.
    pub class: &'static str,
    /// Descriptive properties in the order to write them: (`dc:date`, value).
    pub properties: Vec<(&'static str, String)>,
    /// A role in an attribute, for the property at this place: (2, `AlbumArtist`) (CDS-14).
    pub roles: Vec<(usize, &'static str)>,
    /// `upnp:albumArtURI` with its DLNA profile, smallest first (CDS-55).
    pub art: Vec<(String, &'static str)>,
    /// What only containers or only items have.
    pub body: Body,
}

/// The difference between containers and items.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Body {
    /// A container.
    Container {
        /// `@childCount`, equal to the TotalMatches that the same device would get (CDS-51).
        child_count: Option<u32>,
        /// Whether Search works on it (CDS-8).
        searchable: bool,
    },
    /// An item.
    Item {
        /// `@refID`, the original's id when this is another appearance of it (CDS-6).
        reference: Option<String>,
        /// `res`, in order.
        resources: Vec<Resource>,
        /// What only some devices know, behind them (CDS-60).
        vendor: Vec<VendorElement>,
    },
}

/// An element of a namespace of its own. Its names are written as they are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VendorElement {
    /// The namespace that its prefix stands for.
    pub namespace: String,
    /// Its name with the prefix.
    pub name: String,
    /// Attributes: (name, value).
    pub attributes: Vec<(String, String)>,
    /// What stands in it.
    pub value: String,
}

/// A `res` (CDS-22 to CDS-26). What is unknown is left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Resource {
    /// The absolute URL.
    pub url: String,
    /// Its protocolInfo.
    pub info: ProtocolInfo,
    /// Bytes.
    pub size: Option<u64>,
    /// Milliseconds.
    pub duration_ms: Option<u64>,
    /// **Bytes** a second, as the standard has it.
    pub bytes_per_second: Option<u32>,
    /// Width and height in pixels.
    pub resolution: Option<(u32, u32)>,
    /// Hertz.
    pub sample_rate: Option<u32>,
    /// Channels of sound.
    pub channels: Option<u32>,
    /// Bits a sample.
    pub bits: Option<u8>,
}

/// Writes objects as one document, holding what the filter wants.
pub fn write(objects: &[Object], filter: &Filter, layer: Layer) -> String {
    write_within(objects.iter().cloned(), filter, layer, usize::MAX).0
}

/// Writes objects up to this many bytes as one document, at least one; gives it and how many
/// are in it.
pub fn write_within(
    objects: impl ExactSizeIterator<Item = Object>,
    filter: &Filter,
    layer: Layer,
    bytes: usize,
) -> (String, usize) {
    let room = bytes.min(objects.len() * 2048);
    let mut out = XmlWriter::new(layer, 512 + room);
    out.markup(markup!("<DIDL-Lite xmlns=\"")).plain(NS_DIDL);
    out.markup(markup!("\" xmlns:dc=\"")).plain(NS_DC);
    out.markup(markup!("\" xmlns:upnp=\"")).plain(NS_UPNP);
    out.markup(markup!("\" xmlns:dlna=\"")).plain(NS_DLNA).markup(markup!("\">"));
    let mut written = 0;
    for object in objects {
        let before = out.len();
        write_object(&mut out, &object, filter);
        if out.len() + END > bytes && written > 0 {
            out.cut(before);
            break;
        }
        written += 1;
    }
    out.markup(markup!("</DIDL-Lite>"));
    (out.finish(), written)
}

/// Bytes of the end of a document, written for an envelope.
const END: usize = "&lt;/DIDL-Lite&gt;".len();

fn write_object(out: &mut XmlWriter, object: &Object, filter: &Filter) {
    let (begin, end) = match object.body {
        Body::Container { .. } => (markup!("<container id=\""), markup!("</container>")),
        Body::Item { .. } => (markup!("<item id=\""), markup!("</item>")),
    };
    out.markup(begin).token(&object.id).markup(markup!("\" parentID=\"")).token(&object.parent);
    out.markup(markup!("\" restricted=\"1\""));
    match &object.body {
        Body::Container { child_count, searchable } => {
            if filter.wants("@searchable") {
                out.markup(markup!(" searchable=\"")).number(u32::from(*searchable)).markup(QUOTE);
            }
            if let Some(count) = child_count.filter(|_| filter.wants("@childCount")) {
                out.markup(markup!(" childCount=\"")).number(count).markup(QUOTE);
            }
        }
        Body::Item { reference, .. } => {
            if let Some(reference) = reference.as_ref().filter(|_| filter.wants("@refID")) {
                out.markup(markup!(" refID=\"")).token(reference).markup(QUOTE);
            }
        }
    }
    out.markup(markup!("><dc:title>")).text(clip(&object.title, TITLE_BYTES));
    out.markup(markup!("</dc:title><upnp:class>")).plain(object.class);
    out.markup(markup!("</upnp:class>"));
    for (at, (name, value)) in object.properties.iter().enumerate() {
        // Required by the class table, whatever the filter says.
        if *name == "upnp:storageUsed" || filter.wants(name) {
            out.markup(markup!("<")).plain(name);
            if let Some((_, role)) = object.roles.iter().find(|(n, _)| *n == at) {
                out.markup(markup!(" role=\"")).plain(role).markup(QUOTE);
            }
            out.markup(CLOSE).text(clip(value, TEXT_BYTES));
            out.markup(markup!("</")).plain(name).markup(CLOSE);
        }
    }
    if filter.wants("upnp:albumArtURI") {
        for (url, profile) in &object.art {
            // The profile comes along without being named (CDS-41).
            out.markup(markup!("<upnp:albumArtURI dlna:profileID=\"")).plain(profile);
            out.markup(markup!("\">")).token(url).markup(markup!("</upnp:albumArtURI>"));
        }
    }
    if let Body::Item { resources, vendor, .. } = &object.body
        && filter.wants("res")
    {
        for resource in resources {
            write_resource(out, resource, filter);
        }
        for element in vendor {
            write_vendor(out, element);
        }
    }
    out.markup(end);
}

const QUOTE: Markup = markup!("\"");
const CLOSE: Markup = markup!(">");

fn write_resource(out: &mut XmlWriter, resource: &Resource, filter: &Filter) {
    out.markup(markup!("<res protocolInfo=\"http-get:*:")).text(&resource.info.mime).plain(":");
    resource.info.feature_parts(|part| {
        out.plain(part);
    });
    out.markup(QUOTE);
    if let Some(size) = resource.size.filter(|_| filter.wants("res@size")) {
        out.markup(markup!(" size=\"")).number(size).markup(QUOTE);
    }
    if let Some(ms) = resource.duration_ms.filter(|_| filter.wants("res@duration")) {
        out.markup(markup!(" duration=\"")).plain(&dlna::duration(ms)).markup(QUOTE);
    }
    // (what the Filter calls it, the attribute up to its value, the value)
    let numbers = [
        ("res@bitrate", markup!(" bitrate=\""), resource.bytes_per_second),
        ("res@sampleFrequency", markup!(" sampleFrequency=\""), resource.sample_rate),
        ("res@bitsPerSample", markup!(" bitsPerSample=\""), resource.bits.map(u32::from)),
        ("res@nrAudioChannels", markup!(" nrAudioChannels=\""), resource.channels),
    ];
    for (property, begin, value) in numbers {
        if let Some(value) = value.filter(|_| filter.wants(property)) {
            out.markup(begin).number(value).markup(QUOTE);
        }
    }
    if let Some((width, height)) = resource.resolution.filter(|_| filter.wants("res@resolution")) {
        out.markup(markup!(" resolution=\"")).number(width).plain("x").number(height);
        out.markup(QUOTE);
    }
    out.markup(CLOSE).token(&resource.url).markup(markup!("</res>"));
}

fn write_vendor(out: &mut XmlWriter, element: &VendorElement) {
    let prefix = element.name.split_once(':').map_or("", |(prefix, _)| prefix);
    out.markup(markup!("<")).plain(&element.name).markup(markup!(" xmlns:")).plain(prefix);
    out.markup(markup!("=\"")).text(&element.namespace).markup(QUOTE);
    for (name, value) in &element.attributes {
        out.markup(markup!(" ")).plain(name).markup(markup!("=\"")).text(value).markup(QUOTE);
    }
    out.markup(CLOSE).text(&element.value).markup(markup!("</")).plain(&element.name);
    out.markup(CLOSE);
}

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

/// Reads a Result.
///
/// # Errors
/// [`XmlError`] when it is not a DIDL-Lite document within limits.
pub fn read(text: &str) -> Result<Vec<ReadObject>, XmlError> {
    let root = xml::read(text, Limits::DOCUMENT)?;
    if root.name != "DIDL-Lite" || root.namespace != NS_DIDL {
        return Err(XmlError::Malformed("not DIDL-Lite".into()));
    }
    let objects = root.children.iter().filter(|c| c.name == "container" || c.name == "item");
    Ok(objects
        .map(|o| ReadObject {
            container: o.name == "container",
            id: o.attribute("id").unwrap_or_default().to_owned(),
            parent: o.attribute("parentID").unwrap_or_default().to_owned(),
            reference: o.attribute("refID").map(str::to_owned),
            child_count: o.attribute("childCount").and_then(|c| c.parse().ok()),
            title: o.child_text("title").unwrap_or_default().to_owned(),
            class: o.child_text("class").unwrap_or_default().to_owned(),
            resources: o
                .children
                .iter()
                .filter(|c| c.name == "res")
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
    use crate::model::dlna::FLAGS_FILE;
    use proptest::prelude::*;

    fn film(title: &str) -> Object {
        let info = ProtocolInfo {
            mime: "video/mp4".into(),
            profile: None,
            seek: crate::model::dlna::Seek::BYTES,
            converted: false,
            flags: FLAGS_FILE,
            any: false,
        };
        Object {
            id: "a".into(),
            parent: "0".into(),
            title: title.into(),
            class: "object.item.videoItem",
            properties: vec![("dc:date", "2021-06-04".into())],
            roles: vec![],
            art: vec![],
            body: Body::Item {
                reference: Some("b".into()),
                resources: vec![Resource {
                    url: "http://192.0.2.21:7640/media/a.mp4".into(),
                    info,
                    size: Some(734_003_200),
                    duration_ms: Some(2_472_480),
                    bytes_per_second: None,
                    resolution: Some((1920, 1080)),
                    sample_rate: None,
                    channels: None,
                    bits: None,
                }],
                vendor: vec![],
            },
        }
    }

    #[test]
    fn required_properties_come_whatever_the_filter() {
        let bare = write(&[film("Tidewalk")], &Filter::parse(""), Layer::Document);
        let object = &read(&bare).unwrap()[0];
        assert_eq!((object.id.as_str(), object.title.as_str()), ("a", "Tidewalk"));
        assert!(!bare.contains("dc:date") && !bare.contains("<res") && !bare.contains("refID"));
        let some = write(&[film("Tidewalk")], &Filter::parse("res@size"), Layer::Document);
        assert!(
            some.contains("size=\"734003200\"")
                && some.contains("protocolInfo")
                && !some.contains("duration")
        );
        let all = write(&[film("Tidewalk")], &Filter::ALL, Layer::Document);
        assert!(all.contains("duration=\"0:41:12.480\"") && all.contains("refID=\"b\""));
        assert!(!all.contains("bitrate"), "what is unknown is left out");
    }

    #[test]
    fn title_escaped_exactly_once_per_layer() {
        for title in ["Salt & Rope", "a<b>\"c'", "]]>", "\u{1f30a} مرفأ", "Kite\u{0}\u{fffe}s"]
        {
            let text = write(&[film(title)], &Filter::ALL, Layer::Document);
            let clean: String =
                title.chars().filter(|c| !matches!(c, '\u{0}' | '\u{fffe}')).collect();
            assert_eq!(read(&text).unwrap()[0].title, clean);
        }
        assert!(
            write(&[film("Salt & Rope")], &Filter::ALL, Layer::Document)
                .contains("Salt &amp; Rope")
        );
    }

    #[test]
    fn elements_of_vendors_are_written_whole() {
        let mut film = film("Tidewalk");
        let Body::Item { vendor, .. } = &mut film.body else { unreachable!() };
        vendor.push(VendorElement {
            namespace: "http://example.com/ns".into(),
            name: "ex:captions".into(),
            attributes: vec![("ex:form".into(), "s\"r<t".into())],
            value: "http://192.0.2.21/a&b".into(),
        });
        let text = write(&[film], &Filter::ALL, Layer::Document);
        let root = xml::read(&text, Limits::DOCUMENT).unwrap();
        let element = root.children[0].children.last().unwrap();
        assert_eq!((&*element.name, &*element.namespace), ("captions", "http://example.com/ns"));
        assert_eq!(element.attribute("ex:form"), Some("s\"r<t"));
        assert_eq!(element.text, "http://192.0.2.21/a&b");
    }

    #[test]
    fn pages_end_before_a_limit_but_hold_one_object() {
        let many: Vec<Object> = (0..10).map(|n| film(&format!("Tide {n}"))).collect();
        let page = |bytes| write_within(many.iter().cloned(), &Filter::ALL, Layer::Document, bytes);
        let (whole, all) = page(usize::MAX);
        assert_eq!((whole.len() < 10_000, all), (true, 10));
        for bytes in [1, whole.len() / 2, whole.len() - 1, whole.len() + 20] {
            let (text, written) = page(bytes);
            assert_eq!(read(&text).unwrap().len(), written);
            assert!(text.len() <= bytes || written == 1, "{bytes}: {written}");
        }
        assert_eq!(page(1).1, 1);
        assert_eq!(page(whole.len() + 20).1, 10);
    }

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

    proptest! {
        #[test]
        fn any_title_survives(title in "\\PC{1,120}") {
            let text = write(&[film(&title)], &Filter::ALL, Layer::Document);
            let objects = read(&text).unwrap();
            prop_assert_eq!(objects[0].title.as_str(), clip(&title, TITLE_BYTES).trim());
        }
    }
}
