//! The device document (UDA §2.3), and reading one.

use std::fmt::Write as _;

use crate::wire::{MEDIA_SERVER, NS_DEVICE, NS_DLNA_DEVICE, Service};
use crate::xml::{self, Element, Limits, XmlError, clip, escape};

/// What varies in the device document. It never varies by requester (DESC-20).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Description {
    /// The house's name as televisions show it, cut to 63 characters (DESC-7).
    pub friendly_name: String,
    /// `uuid:` and the UUID.
    pub udn: String,
    /// The product's version.
    pub model_number: String,
}

/// The four icons: file name, MIME type, side in pixels (DESC-10).
pub const ICONS: [(&str, &str, u32); 4] = [
    ("house-120.png", "image/png", 120),
    ("house-120.jpg", "image/jpeg", 120),
    ("house-48.png", "image/png", 48),
    ("house-48.jpg", "image/jpeg", 48),
];

/// The path of the device document.
pub const DEVICE_PATH: &str = "/about/device.xml";

/// The path of a service's document.
pub fn document_path(service: Service) -> String {
    format!("/about/{}.xml", service.slug())
}

/// The path of a service's actions.
pub fn control_path(service: Service) -> String {
    format!("/control/{}", service.slug())
}

/// The path of a service's subscriptions.
pub fn event_path(service: Service) -> String {
    format!("/event/{}", service.slug())
}

impl Description {
    /// Writes the document. All URLs are absolute paths, so its bytes are the same on every
    /// interface (DESC-5).
    pub fn write(&self) -> String {
        let name: String = self.friendly_name.chars().take(63).collect();
        let mut out = String::with_capacity(2500);
        let _ = write!(
            out,
            "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<root xmlns=\"{NS_DEVICE}\">\n\
             <specVersion><major>1</major><minor>0</minor></specVersion>\n<device>\n\
             <deviceType>{MEDIA_SERVER}</deviceType>\n<friendlyName>{}</friendlyName>\n\
             <manufacturer>Mostra project</manufacturer>\n\
             <modelDescription>Media for the house</modelDescription>\n\
             <modelName>Mostra</modelName><modelNumber>{}</modelNumber>\n<UDN>{}</UDN>\n\
             <dlna:X_DLNADOC xmlns:dlna=\"{NS_DLNA_DEVICE}\">DMS-1.50</dlna:X_DLNADOC>\n<iconList>\n",
            escape(&name),
            escape(clip(&self.model_number, 31)),
            escape(&self.udn),
        );
        for (file, mime, side) in ICONS {
            let _ = writeln!(
                out,
                "<icon><mimetype>{mime}</mimetype><width>{side}</width><height>{side}</height>\
                 <depth>24</depth><url>/about/{file}</url></icon>"
            );
        }
        out.push_str("</iconList>\n<serviceList>\n");
        for service in Service::ALL {
            let _ = writeln!(
                out,
                "<service><serviceType>{}</serviceType><serviceId>{}</serviceId>\
                 <SCPDURL>{}</SCPDURL><controlURL>{}</controlURL><eventSubURL>{}</eventSubURL></service>",
                service.urn(),
                service.id(),
                document_path(service),
                control_path(service),
                event_path(service),
            );
        }
        out.push_str("</serviceList>\n<presentationURL>/</presentationURL>\n</device>\n</root>");
        out
    }
}

/// CONFIGID of a set of documents: changes exactly when a byte does (SSDP-14).
pub fn config_id<'a>(documents: impl IntoIterator<Item = &'a str>) -> u32 {
    // FNV-1a, folded to 24 bits: stable over releases, unlike the standard hasher.
    let mut hash: u64 = 0xcbf2_9ce4_8422_2325;
    for byte in documents.into_iter().flat_map(|d| d.bytes().chain([0])) {
        hash = (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3);
    }
    ((hash ^ (hash >> 24) ^ (hash >> 48)) & 0xff_ffff) as u32
}

/// A service named by a device document that was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadService {
    /// `serviceType`.
    pub kind: String,
    /// `controlURL` as written.
    pub control: String,
    /// `eventSubURL` as written.
    pub event: String,
    /// `SCPDURL` as written.
    pub document: String,
}

/// What a player takes from a device document.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadDescription {
    /// `friendlyName`.
    pub friendly_name: String,
    /// `UDN`.
    pub udn: String,
    /// `manufacturer`.
    pub manufacturer: String,
    /// Services of the root device.
    pub services: Vec<ReadService>,
    /// Icons as (MIME type, width, height, URL as written).
    pub icons: Vec<(String, u32, u32, String)>,
}

/// Reads a device document.
///
/// # Errors
/// [`XmlError`] when it is not XML within limits, or has no device.
pub fn read(text: &str) -> Result<ReadDescription, XmlError> {
    let root = xml::read(text, Limits::DOCUMENT)?;
    let device = root.child("device").ok_or_else(|| XmlError::Malformed("no device".into()))?;
    let text_of = |e: &Element, name: &str| e.child_text(name).unwrap_or_default().to_owned();
    let services = device.child("serviceList").map(|l| l.children.as_slice()).unwrap_or_default();
    let icons = device.child("iconList").map(|l| l.children.as_slice()).unwrap_or_default();
    Ok(ReadDescription {
        friendly_name: text_of(device, "friendlyName"),
        udn: text_of(device, "UDN"),
        manufacturer: text_of(device, "manufacturer"),
        services: services
            .iter()
            .map(|s| ReadService {
                kind: text_of(s, "serviceType"),
                control: text_of(s, "controlURL"),
                event: text_of(s, "eventSubURL"),
                document: text_of(s, "SCPDURL"),
            })
            .collect(),
        icons: icons
            .iter()
            .map(|i| {
                let number = |name| text_of(i, name).parse().unwrap_or(0);
                (text_of(i, "mimetype"), number("width"), number("height"), text_of(i, "url"))
            })
            .collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample(name: &str) -> Description {
        Description { friendly_name: name.into(), udn: "uuid:1".into(), model_number: "0.1".into() }
    }

    #[test]
    fn what_is_written_reads_back() {
        let read = read(&sample("Salt & <Rope>").write()).unwrap();
        assert_eq!(read.friendly_name, "Salt & <Rope>");
        assert_eq!(read.services.len(), 3);
        let mut urls: Vec<_> =
            read.services.iter().flat_map(|s| [&s.control, &s.event, &s.document]).collect();
        urls.sort();
        urls.dedup();
        assert_eq!(urls.len(), 9, "every URL is distinct (DESC-13)");
        assert_eq!(read.icons.len(), 4);
    }

    #[test]
    fn long_names_are_cut_at_a_character() {
        let read = read(&sample(&"ü".repeat(100)).write()).unwrap();
        assert_eq!(read.friendly_name.chars().count(), 63);
    }

    #[test]
    fn config_id_follows_the_bytes() {
        let (a, b) = (sample("A").write(), sample("B").write());
        assert_eq!(config_id([a.as_str()]), config_id([a.as_str()]));
        assert_ne!(config_id([a.as_str()]), config_id([b.as_str()]));
        assert!(config_id([a.as_str()]) < 1 << 24);
    }
}
