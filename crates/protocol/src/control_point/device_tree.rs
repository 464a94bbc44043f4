//! Reading a device document that somebody else wrote (UDA §2.3): the root device and the devices
//! in it, and where their URLs lead.

use url::Url;

use super::address_url;
use crate::model::service::{Definition, ServiceType};
use crate::model::text::{NAME, tame};
use crate::model::xml::{self, Element, Limits, XmlError};

/// Levels of devices that are read, devices, and services of all of them (SCP-19).
const LEVELS: usize = 4;
const DEVICES: usize = 32;
const SERVICES: usize = 64;
/// Icons of one device.
const ICONS: usize = 16;

/// A service named by a device document. URLs are as written; [`resolve`] says where they lead.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadService {
    /// `serviceType`.
    pub kind: ServiceType,
    /// `controlURL`.
    pub control: String,
    /// `eventSubURL`.
    pub event: String,
    /// `SCPDURL`.
    pub document: String,
}

/// An icon named by a device document.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadIcon {
    /// Its MIME type.
    pub mime: String,
    /// Pixels across.
    pub width: u32,
    /// Pixels down.
    pub height: u32,
    /// Its URL as written.
    pub url: String,
}

/// A device of a document. What is absent is empty.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ReadDevice {
    /// `deviceType`.
    pub kind: String,
    /// `friendlyName`.
    pub friendly_name: String,
    /// `manufacturer`.
    pub manufacturer: String,
    /// `modelName`.
    pub model_name: String,
    /// `modelNumber`.
    pub model_number: String,
    /// `modelDescription`.
    pub model_description: String,
    /// `serialNumber`.
    pub serial_number: String,
    /// `UDN`, whatever form it has (SCP-17).
    pub udn: String,
    /// `presentationURL` as written.
    pub presentation: String,
    /// Its services.
    pub services: Vec<ReadService>,
    /// Its icons.
    pub icons: Vec<ReadIcon>,
}

impl ReadDevice {
    /// Its service of a table, in any version.
    pub fn service(&self, service: &Definition) -> Option<&ReadService> {
        self.services.iter().find(|read| read.kind.is(service))
    }
}

/// A device document.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadDescription {
    /// `URLBase`, of old devices.
    pub url_base: Option<String>,
    /// The root device, and after it those in it, outer ones first.
    devices: Vec<ReadDevice>,
}

impl ReadDescription {
    /// The root device.
    pub fn root(&self) -> &ReadDevice {
        &self.devices[0]
    }

    /// All devices, the root first.
    pub fn devices(&self) -> &[ReadDevice] {
        &self.devices
    }

    /// The first device with a service of a table, in any version (SCP-19).
    pub fn with(&self, service: &Definition) -> Option<(&ReadDevice, &ReadService)> {
        self.devices.iter().find_map(|device| Some((device, device.service(service)?)))
    }
}

/// Reads a device document, in the memory that [`xml::read`] takes.
///
/// # Errors
/// [`XmlError`] when it is not XML within limits, or has no device.
pub fn read(text: &str) -> Result<ReadDescription, XmlError> {
    let root = xml::read(text, Limits::DOCUMENT)?;
    let device = root.child("device").ok_or_else(|| XmlError::Malformed("no device".into()))?;
    let url_base = root.child_text("URLBase").map(|base| base.trim().to_owned());
    let mut devices = Vec::new();
    let mut services = 0;
    let mut level = vec![device];
    for _ in 0..LEVELS {
        let mut inner = Vec::new();
        for element in level {
            if devices.len() < DEVICES {
                let read = read_device(element, SERVICES - services);
                services += read.services.len();
                devices.push(read);
                inner.extend(children(element, "deviceList"));
            }
        }
        level = inner;
    }
    Ok(ReadDescription { url_base: url_base.filter(|base| !base.is_empty()), devices })
}

fn children<'a>(element: &'a Element, list: &str) -> &'a [Element] {
    element.child(list).map(|list| list.children.as_slice()).unwrap_or_default()
}

fn read_device(device: &Element, services: usize) -> ReadDevice {
    let text = |element: &Element, name: &str| {
        tame(element.child_text(name).unwrap_or_default().trim(), NAME).into_owned()
    };
    let url = |element: &Element, name: &str| {
        let url = element.child_text(name).unwrap_or_default().trim();
        if url.len() <= address_url::BYTES { url.to_owned() } else { String::new() }
    };
    let service = |entry: &Element| ReadService {
        kind: text(entry, "serviceType").parse().unwrap_or_else(|never| match never {}),
        control: url(entry, "controlURL"),
        event: url(entry, "eventSubURL"),
        document: url(entry, "SCPDURL"),
    };
    let icon = |entry: &Element| {
        let number = |name| text(entry, name).parse().unwrap_or(0);
        ReadIcon {
            mime: text(entry, "mimetype"),
            width: number("width"),
            height: number("height"),
            url: url(entry, "url"),
        }
    };
    ReadDevice {
        kind: text(device, "deviceType"),
        friendly_name: text(device, "friendlyName"),
        manufacturer: text(device, "manufacturer"),
        model_name: text(device, "modelName"),
        model_number: text(device, "modelNumber"),
        model_description: text(device, "modelDescription"),
        serial_number: text(device, "serialNumber"),
        udn: text(device, "UDN"),
        presentation: url(device, "presentationURL"),
        services: children(device, "serviceList").iter().take(services).map(service).collect(),
        icons: children(device, "iconList").iter().take(ICONS).map(icon).collect(),
    }
}

/// Where a URL of a document leads that was read at `location`: relative ones against URLBase where
/// there is a usable one, else against the location (SCP-18). `None` for what leads to another
/// host, or elsewhere than to a web server at an address (SCP-11).
pub fn resolve(location: &str, url_base: Option<&str>, written: &str) -> Option<Url> {
    let (location, host) = address_url::read(location)?;
    let on_it = |(url, own)| (own == host).then_some(url);
    let base = url_base.and_then(address_url::read).and_then(on_it).unwrap_or(location);
    address_url::join(&base, written).and_then(on_it)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::service::{av_transport, content_directory};

    const BOX: &str = "<root xmlns='urn:schemas-upnp-org:device-1-0'>\
        <URLBase>http://192.0.2.7:8080/base/</URLBase><device>\
        <deviceType>urn:x:device:Box:1</deviceType><friendlyName> Lounge box </friendlyName>\
        <UDN>box-7</UDN><deviceList><device>\
        <deviceType>urn:schemas-upnp-org:device:MediaRenderer:2</deviceType>\
        <friendlyName>Lounge box player</friendlyName><UDN>uuid:8</UDN><serviceList><service>\
        <serviceType>urn:schemas-upnp-org:service:AVTransport:2</serviceType>\
        <controlURL>av/control</controlURL><eventSubURL>/av/event</eventSubURL>\
        <SCPDURL>http://192.0.2.9/av.xml</SCPDURL></service></serviceList></device></deviceList>\
        </device></root>";

    #[test]
    fn a_renderer_inside_another_device_is_found() {
        let read = read(BOX).unwrap();
        assert_eq!(read.devices().len(), 2);
        assert_eq!((&*read.root().friendly_name, &*read.root().udn), ("Lounge box", "box-7"));
        let (device, service) = read.with(&av_transport::DEFINITION).unwrap();
        assert_eq!((&*device.udn, service.kind.version), ("uuid:8", 2));
        assert!(read.with(&content_directory::DEFINITION).is_none());
    }

    #[test]
    fn urls_lead_to_the_host_of_the_document_and_nowhere_else() {
        let (read, location) = (read(BOX).unwrap(), "http://192.0.2.7:8080/desc/root.xml");
        let (_, service) = read.with(&av_transport::DEFINITION).unwrap();
        let resolved = |written: &str, base: Option<&str>| {
            resolve(location, base, written).map(|url| url.to_string())
        };
        let base = read.url_base.as_deref();
        let control = Some("http://192.0.2.7:8080/base/av/control".to_owned());
        assert_eq!(resolved(&service.control, base), control);
        let by_location = Some("http://192.0.2.7:8080/desc/av/control".to_owned());
        assert_eq!(resolved(&service.control, None), by_location);
        let event = Some("http://192.0.2.7:8080/av/event".to_owned());
        assert_eq!(resolved(&service.event, base), event);
        assert_eq!(resolved(&service.document, base), None, "another host");
        // A base that leads elsewhere is none.
        for base in ["http://192.0.2.9/", "file:///", "https://192.0.2.7/", "nonsense"] {
            assert_eq!(resolved("av/control", Some(base)), by_location, "{base}");
        }
        for other in
            ["http://box.example/", "ftp://192.0.2.7/", "http://u@192.0.2.7/", "//192.0.2.9/x"]
        {
            assert_eq!(resolved(other, None), None, "{other}");
        }
        assert_eq!(resolve("http://box.example/", None, "/x"), None);
        assert_eq!(resolved(&"x".repeat(2000), None), None);
    }

    #[test]
    fn deep_and_wide_documents_are_read_as_far_as_is_useful() {
        let mut deep = "<device><UDN>x</UDN></device>".to_owned();
        for _ in 0..10 {
            deep = format!("<device><UDN>x</UDN><deviceList>{deep}</deviceList></device>");
        }
        assert_eq!(read(&format!("<root>{deep}</root>")).unwrap().devices().len(), LEVELS);
        let filler = " ".repeat(128);
        let service = format!("<service><serviceType>a</serviceType>{filler}</service>").repeat(50);
        let device = format!("<device><serviceList>{service}</serviceList></device>");
        let wide =
            format!("<root><device><deviceList>{}</deviceList></device></root>", device.repeat(50));
        let read = read(&wide).unwrap();
        assert_eq!(read.devices().len(), DEVICES);
        assert_eq!(read.devices().iter().map(|d| d.services.len()).sum::<usize>(), SERVICES);
        assert!(super::read("<root/>").is_err() && super::read("").is_err());
    }
}
