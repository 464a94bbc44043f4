//! Writing what the directory offers, object by object: what the Filter does not want is never
//! made, and nothing is held that is only written.

use crate::markup;
use crate::model::dlna::{self, ProtocolInfo};
use crate::model::identifiers::{NS_DC, NS_DIDL, NS_DLNA, NS_UPNP};
use crate::model::object_filter::Filter;
use crate::model::xml::clip;
use crate::model::xml_writer::{Layer, Markup, XmlWriter};

use super::{TEXT_BYTES, TITLE_BYTES};

/// What every object has, as one device sees it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Head<'a> {
    /// `@id`.
    pub id: &'a str,
    /// `@parentID`.
    pub parent: &'a str,
    /// `dc:title`.
    pub title: &'a str,
    /// `upnp:class`, whole.
    pub class: &'static str,
    /// Whether it is a container or an item.
    pub node: HeadNode<'a>,
}

/// The difference between containers and items.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HeadNode<'a> {
    /// A container.
    Container {
        /// `@childCount`, equal to the TotalMatches that the same device would get (CDS-51).
        child_count: u32,
        /// Whether Search works on it (CDS-8).
        searchable: bool,
    },
    /// An item.
    Item {
        /// `@refID`, the original's id when this is another appearance of it (CDS-6).
        reference: Option<&'a str>,
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

/// A URL of ours in pieces that follow each other. There is nothing in it that needs escaping.
pub type Url<'a> = [&'a str; 5];

/// A `res` (CDS-22 to CDS-26). What is unknown is left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ResourceElement<'a> {
    /// The absolute URL.
    pub url: Url<'a>,
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

impl<'a> ResourceElement<'a> {
    /// One of which nothing more is known.
    pub fn bare(url: Url<'a>, info: ProtocolInfo) -> ResourceElement<'a> {
        ResourceElement {
            url,
            info,
            size: None,
            duration_ms: None,
            bytes_per_second: None,
            resolution: None,
            sample_rate: None,
            channels: None,
            bits: None,
        }
    }
}

/// Bytes of the end of a document, written for an envelope.
const END: usize = "&lt;/DIDL-Lite&gt;".len();

/// A document in the making.
#[derive(Debug)]
pub struct DocumentWriter<'f> {
    out: XmlWriter,
    filter: &'f Filter,
    bytes: usize,
    written: usize,
    infos: WrittenInfos,
}

/// The beginnings of `res` with their protocolInfo as they were written: in one page there are
/// few that differ.
type WrittenInfos = Vec<(ProtocolInfo, String)>;

/// How many of these are kept.
const INFOS: usize = 16;

impl<'f> DocumentWriter<'f> {
    /// An empty document, for about so many objects, of at most so many bytes; one object is
    /// written whatever it takes.
    pub fn new(
        filter: &'f Filter,
        layer: Layer,
        objects: usize,
        bytes: usize,
    ) -> DocumentWriter<'f> {
        let mut out = XmlWriter::new(layer, 512 + bytes.min(objects * 2048));
        out.markup(markup!("<DIDL-Lite xmlns=\"")).plain(NS_DIDL);
        out.markup(markup!("\" xmlns:dc=\"")).plain(NS_DC);
        out.markup(markup!("\" xmlns:upnp=\"")).plain(NS_UPNP);
        out.markup(markup!("\" xmlns:dlna=\"")).plain(NS_DLNA).markup(markup!("\">"));
        DocumentWriter { out, filter, bytes, written: 0, infos: Vec::new() }
    }

    /// Writes an object: what every object has, and `rest`. False if it found no room; then
    /// nothing of it is written, and nothing should follow.
    pub fn object(&mut self, head: Head<'_>, rest: impl FnOnce(&mut ObjectWriter<'_>)) -> bool {
        let before = self.out.len();
        let (out, filter) = (&mut self.out, self.filter);
        let mut object = ObjectWriter { out, filter, infos: &mut self.infos };
        let end = object.head(head);
        rest(&mut object);
        self.out.markup(end);
        if self.out.len() + END > self.bytes && self.written > 0 {
            self.out.cut(before);
            return false;
        }
        self.written += 1;
        true
    }

    /// The document, and how many objects are in it.
    pub fn finish(mut self) -> (String, usize) {
        self.out.markup(markup!("</DIDL-Lite>"));
        (self.out.finish(), self.written)
    }
}

/// An object in the making. Of all that it is given it writes what the Filter wants.
#[derive(Debug)]
pub struct ObjectWriter<'w> {
    out: &'w mut XmlWriter,
    filter: &'w Filter,
    infos: &'w mut WrittenInfos,
}

const QUOTE: Markup = markup!("\"");
const CLOSE: Markup = markup!(">");

impl ObjectWriter<'_> {
    /// Whether the Filter wants a property; what it does not want need not be given.
    pub fn wants(&self, property: &str) -> bool {
        self.filter.wants(property)
    }

    /// Gives what ends the object.
    fn head(&mut self, head: Head<'_>) -> Markup {
        let (begin, end) = match head.node {
            HeadNode::Container { .. } => (markup!("<container id=\""), markup!("</container>")),
            HeadNode::Item { .. } => (markup!("<item id=\""), markup!("</item>")),
        };
        let (out, filter) = (&mut *self.out, self.filter);
        out.markup(begin).token(head.id).markup(markup!("\" parentID=\"")).token(head.parent);
        out.markup(markup!("\" restricted=\"1\""));
        match head.node {
            HeadNode::Container { child_count, searchable } => {
                if filter.wants("@searchable") {
                    let searchable = u32::from(searchable);
                    out.markup(markup!(" searchable=\"")).number(searchable).markup(QUOTE);
                }
                if filter.wants("@childCount") {
                    out.markup(markup!(" childCount=\"")).number(child_count).markup(QUOTE);
                }
            }
            HeadNode::Item { reference } => {
                if let Some(reference) = reference.filter(|_| filter.wants("@refID")) {
                    out.markup(markup!(" refID=\"")).token(reference).markup(QUOTE);
                }
            }
        }
        out.markup(markup!("><dc:title>")).text(clip(head.title, TITLE_BYTES));
        out.markup(markup!("</dc:title><upnp:class>")).plain(head.class);
        out.markup(markup!("</upnp:class>"));
        end
    }

    /// A descriptive property, as `dc:date`.
    pub fn property(&mut self, name: &str, value: &str) {
        self.property_as(name, None, value);
    }

    /// A descriptive property with a role: `upnp:artist` as `AlbumArtist` (CDS-14).
    pub fn property_as(&mut self, name: &str, role: Option<&str>, value: &str) {
        if self.wants(name) {
            self.required(name, role, value);
        }
    }

    /// A property that the class table requires, whatever the Filter says.
    pub fn required(&mut self, name: &str, role: Option<&str>, value: &str) {
        self.out.markup(markup!("<")).plain(name);
        if let Some(role) = role {
            self.out.markup(markup!(" role=\"")).plain(role).markup(QUOTE);
        }
        self.out.markup(CLOSE).text(clip(value, TEXT_BYTES));
        self.out.markup(markup!("</")).plain(name).markup(CLOSE);
    }

    /// A `upnp:albumArtURI` with its DLNA profile, the smallest first (CDS-55).
    pub fn art(&mut self, url: Url<'_>, profile: &str) {
        if self.wants("upnp:albumArtURI") {
            // The profile comes along without being named (CDS-41).
            self.out.markup(markup!("<upnp:albumArtURI dlna:profileID=\"")).plain(profile);
            self.out.markup(markup!("\">"));
            self.url(url);
            self.out.markup(markup!("</upnp:albumArtURI>"));
        }
    }

    fn url(&mut self, url: Url<'_>) {
        for piece in url {
            self.out.plain(piece);
        }
    }

    /// A `res`, behind all properties.
    pub fn resource(&mut self, resource: &ResourceElement<'_>) {
        let (out, filter) = (&mut *self.out, self.filter);
        if !filter.wants("res") {
            return;
        }
        match self.infos.iter().find(|(info, _)| *info == resource.info) {
            Some((_, written)) => out.written(written),
            None => {
                let before = out.len();
                let mime = &resource.info.mime;
                out.markup(markup!("<res protocolInfo=\"http-get:*:")).text(mime).plain(":");
                resource.info.feature_parts(|part| {
                    out.plain(part);
                });
                out.markup(QUOTE);
                if self.infos.len() < INFOS {
                    self.infos.push((resource.info.clone(), out.since(before).to_owned()));
                }
            }
        }
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
        if let Some((width, height)) =
            resource.resolution.filter(|_| filter.wants("res@resolution"))
        {
            out.markup(markup!(" resolution=\"")).number(width).plain("x").number(height);
            out.markup(QUOTE);
        }
        out.markup(CLOSE);
        self.url(resource.url);
        self.out.markup(markup!("</res>"));
    }

    /// What only some devices know, behind the `res` (CDS-60).
    pub fn vendor(&mut self, element: &VendorElement) {
        if !self.wants("res") {
            return;
        }
        let out = &mut *self.out;
        let prefix = element.name.split_once(':').map_or("", |(prefix, _)| prefix);
        out.markup(markup!("<")).plain(&element.name).markup(markup!(" xmlns:")).plain(prefix);
        out.markup(markup!("=\"")).text(&element.namespace).markup(QUOTE);
        for (name, value) in &element.attributes {
            out.markup(markup!(" ")).plain(name).markup(markup!("=\"")).text(value).markup(QUOTE);
        }
        out.markup(CLOSE).text(&element.value).markup(markup!("</")).plain(&element.name);
        out.markup(CLOSE);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::didl::read;
    use crate::model::dlna::FLAGS_FILE;
    use crate::model::xml::{self, Limits};
    use proptest::prelude::*;
    use std::borrow::Cow;

    const INFO: ProtocolInfo = ProtocolInfo {
        mime: Cow::Borrowed("video/mp4"),
        profile: None,
        seek: dlna::Seek::BYTES,
        converted: false,
        flags: FLAGS_FILE,
        any: false,
    };

    fn film(document: &mut DocumentWriter<'_>, title: &str) -> bool {
        let node = HeadNode::Item { reference: Some("b") };
        let head = Head { id: "a", parent: "0", title, class: "object.item.videoItem", node };
        document.object(head, |object| {
            object.property("dc:date", "2021-06-04");
            let url = ["http://192.0.2.21:7640", "/media/", "a", ".", "mp4"];
            object.resource(&ResourceElement {
                size: Some(734_003_200),
                duration_ms: Some(2_472_480),
                resolution: Some((1920, 1080)),
                ..ResourceElement::bare(url, INFO)
            });
        })
    }

    fn write(title: &str, filter: &Filter) -> String {
        let mut document = DocumentWriter::new(filter, Layer::Document, 1, usize::MAX);
        assert!(film(&mut document, title));
        document.finish().0
    }

    #[test]
    fn required_properties_come_whatever_the_filter() {
        let bare = write("Tidewalk", &Filter::parse(""));
        let object = &read(&bare).unwrap()[0];
        assert_eq!((object.id.as_str(), object.title.as_str()), ("a", "Tidewalk"));
        assert!(!bare.contains("dc:date") && !bare.contains("<res") && !bare.contains("refID"));
        let some = write("Tidewalk", &Filter::parse("res@size"));
        assert!(
            some.contains("size=\"734003200\"")
                && some.contains("protocolInfo")
                && !some.contains("duration")
        );
        let all = write("Tidewalk", &Filter::ALL);
        assert!(all.contains("duration=\"0:41:12.480\"") && all.contains("refID=\"b\""));
        assert!(!all.contains("bitrate"), "what is unknown is left out");
    }

    #[test]
    fn title_escaped_exactly_once_per_layer() {
        for title in ["Salt & Rope", "a<b>\"c'", "]]>", "\u{1f30a} مرفأ", "Kite\u{0}\u{fffe}s"]
        {
            let text = write(title, &Filter::ALL);
            let clean: String =
                title.chars().filter(|c| !matches!(c, '\u{0}' | '\u{fffe}')).collect();
            assert_eq!(read(&text).unwrap()[0].title, clean);
        }
        assert!(write("Salt & Rope", &Filter::ALL).contains("Salt &amp; Rope"));
    }

    #[test]
    fn elements_of_vendors_are_written_whole() {
        let element = VendorElement {
            namespace: "http://example.com/ns".into(),
            name: "ex:captions".into(),
            attributes: vec![("ex:form".into(), "s\"r<t".into())],
            value: "http://192.0.2.21/a&b".into(),
        };
        let filter = Filter::ALL;
        let mut document = DocumentWriter::new(&filter, Layer::Document, 1, usize::MAX);
        let node = HeadNode::Item { reference: None };
        let head = Head { id: "a", parent: "0", title: "Tidewalk", class: "object.item", node };
        document.object(head, |object| object.vendor(&element));
        let (text, _) = document.finish();
        let root = xml::read(&text, Limits::DOCUMENT).unwrap();
        let element = root.children[0].children.last().unwrap();
        assert_eq!((&*element.name, &*element.namespace), ("captions", "http://example.com/ns"));
        assert_eq!(element.attribute("ex:form"), Some("s\"r<t"));
        assert_eq!(element.text, "http://192.0.2.21/a&b");
    }

    #[test]
    fn pages_end_before_a_limit_but_hold_one_object() {
        let filter = Filter::ALL;
        let page = |bytes| {
            let mut document = DocumentWriter::new(&filter, Layer::Document, 10, bytes);
            let mut numbers = 0..10;
            while numbers.next().is_some_and(|n| film(&mut document, &format!("Tide {n}"))) {}
            document.finish()
        };
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

    proptest! {
        #[test]
        fn any_title_survives(title in "\\PC{1,120}") {
            let text = write(&title, &Filter::ALL);
            let objects = read(&text).unwrap();
            prop_assert_eq!(objects[0].title.as_str(), clip(&title, TITLE_BYTES).trim());
        }
    }
}
