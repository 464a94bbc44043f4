//! The device document (UDA §2.3), as we write ours.

use std::fmt::Write as _;

use crate::model::identifiers::{MEDIA_SERVER, NS_DEVICE, NS_DLNA_DEVICE};
use crate::model::service::{self, OwnService};
use crate::model::xml::escape;

/// What varies in the device document. It never varies by requester (DESC-20).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Description {
    /// The house's name as televisions show it, cut to 63 characters (DESC-7).
    pub friendly_name: String,
    /// `uuid:` and the UUID.
    pub udn: String,
    /// `modelName`, cut to 31 characters (DESC-7, REG-9).
    pub model_name: String,
    /// `modelNumber`, cut to 31 characters.
    pub model_number: String,
    /// The edition of the architecture that is named (DESC-4).
    pub edition: Edition,
    /// The services offered.
    pub services: Vec<OwnService>,
}

/// An edition of the Device Architecture.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Edition {
    /// 1.0, the form that old players know.
    #[default]
    V1_0,
    /// 1.1: the root names its CONFIGID.
    V1_1,
}

impl Edition {
    /// `1.0` or `1.1`.
    pub fn word(self) -> &'static str {
        match self {
            Edition::V1_0 => "1.0",
            Edition::V1_1 => "1.1",
        }
    }

    /// Reads [`word`](Self::word).
    pub fn from_word(word: &str) -> Option<Edition> {
        [Edition::V1_0, Edition::V1_1].into_iter().find(|e| e.word() == word)
    }
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
pub fn document_path(service: OwnService) -> String {
    format!("/about/{}.xml", service.slug())
}

/// The path of a service's actions.
pub fn control_path(service: OwnService) -> String {
    format!("/control/{}", service.slug())
}

/// The path of a service's subscriptions.
pub fn event_path(service: OwnService) -> String {
    format!("/event/{}", service.slug())
}

impl Description {
    /// CONFIGID of this document and those of its services: changes exactly when a byte of them
    /// does (SSDP-14).
    pub fn config_id(&self) -> u32 {
        let mut documents = vec![self.write_as("")];
        documents.extend(self.services.iter().map(|s| service::write(s.definition())));
        config_id(documents.iter().map(String::as_str))
    }

    /// Writes the document. All URLs are absolute paths, so its bytes are the same on every
    /// interface (DESC-5).
    pub fn write(&self) -> String {
        match self.edition {
            Edition::V1_0 => self.write_as(""),
            Edition::V1_1 => self.write_as(&format!(" configId=\"{}\"", self.config_id())),
        }
    }

    fn write_as(&self, attribute: &str) -> String {
        let cut = |text: &str, most: usize| escape(&text.chars().take(most).collect::<String>());
        let minor = self.edition as u8;
        let mut out = String::with_capacity(2500);
        let _ = write!(
            out,
            "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<root xmlns=\"{NS_DEVICE}\"{attribute}>\n\
             <specVersion><major>1</major><minor>{minor}</minor></specVersion>\n<device>\n\
             <deviceType>{MEDIA_SERVER}</deviceType>\n<friendlyName>{}</friendlyName>\n\
             <manufacturer>Mostra project</manufacturer>\n\
             <modelDescription>Media for the house</modelDescription>\n\
             <modelName>{}</modelName>{}\n<UDN>{}</UDN>\n\
             <dlna:X_DLNADOC xmlns:dlna=\"{NS_DLNA_DEVICE}\">DMS-1.50</dlna:X_DLNADOC>\n<iconList>\n",
            cut(&self.friendly_name, 63),
            cut(&self.model_name, 31),
            optional("modelNumber", &cut(&self.model_number, 31)),
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
        for service in self.services.iter().copied() {
            let _ = writeln!(
                out,
                "<service><serviceType>{}</serviceType><serviceId>{}</serviceId>\
                 <SCPDURL>{}</SCPDURL><controlURL>{}</controlURL><eventSubURL>{}</eventSubURL></service>",
                service.definition().urn(),
                service.definition().id,
                document_path(service),
                control_path(service),
                event_path(service),
            );
        }
        out.push_str("</serviceList>\n<presentationURL>/</presentationURL>\n</device>\n</root>");
        out
    }
}

fn config_id<'a>(documents: impl IntoIterator<Item = &'a str>) -> u32 {
    // FNV-1a, folded to 24 bits: stable over releases, unlike the standard hasher.
    let mut hash: u64 = 0xcbf2_9ce4_8422_2325;
    for byte in documents.into_iter().flat_map(|d| d.bytes().chain([0])) {
        hash = (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3);
    }
    ((hash ^ (hash >> 24) ^ (hash >> 48)) & 0xff_ffff) as u32
}

/// An element, if there is anything in it (DESC-8).
fn optional(name: &str, value: &str) -> String {
    match value.trim() {
        "" => String::new(),
        value => format!("<{name}>{value}</{name}>"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::control_point::{ReadDevice, read_description};

    fn read(text: &str) -> ReadDevice {
        read_description(text).unwrap().root().clone()
    }

    fn sample(name: &str) -> Description {
        Description {
            friendly_name: name.into(),
            udn: "uuid:1".into(),
            model_name: "Mostra".into(),
            model_number: "0.1".into(),
            edition: Edition::V1_0,
            services: OwnService::ALL.to_vec(),
        }
    }

    #[test]
    fn what_is_written_reads_back() {
        let read = read(&sample("Salt & <Rope>").write());
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
        let read = read(&sample(&"ü".repeat(100)).write());
        assert_eq!(read.friendly_name.chars().count(), 63);
    }

    #[test]
    fn config_id_follows_the_bytes() {
        let first = sample("A");
        assert_eq!(first.config_id(), sample("A").config_id());
        assert!(first.config_id() < 1 << 24);
        let services = vec![OwnService::ContentDirectory, OwnService::ConnectionManager];
        for other in [
            sample("B"),
            Description { model_name: "Player".into(), ..sample("A") },
            Description { edition: Edition::V1_1, ..sample("A") },
            Description { services, ..sample("A") },
        ] {
            assert_ne!(other.config_id(), first.config_id(), "{other:?}");
        }
        // The same in every release, or players would read everything anew after an update.
        assert_eq!(config_id(["a", "bc"]), 0xf2_76e5);
    }

    #[test]
    fn the_later_edition_names_its_config_id() {
        for edition in [Edition::V1_0, Edition::V1_1] {
            assert_eq!(Edition::from_word(edition.word()), Some(edition));
        }
        assert_eq!(Edition::from_word("2.0"), None);
        let later = Description { edition: Edition::V1_1, ..sample("A") };
        let root = format!("<root xmlns=\"{NS_DEVICE}\" configId=\"{}\">", later.config_id());
        assert!(later.write().contains(&root) && later.write().contains("<minor>1</minor>"));
        assert!(!sample("A").write().contains("configId"));
    }

    #[test]
    fn what_is_chosen_is_written() {
        let services = vec![OwnService::ContentDirectory, OwnService::ConnectionManager];
        let chosen = Description {
            model_name: "R&D ".repeat(20),
            model_number: "12".into(),
            services,
            ..sample("A")
        };
        let written = chosen.write();
        assert!(written.contains("<modelName>R&amp;D R&amp;D"));
        assert!(written.contains("<modelNumber>12</modelNumber>"));
        for nothing in ["", " ", "\u{1}"] {
            let bare = Description { model_number: nothing.into(), ..sample("A") }.write();
            assert!(!bare.contains("modelNumber"), "{bare}");
            let tags: Vec<&str> = bare.split('<').collect();
            for pair in tags.windows(2) {
                let opens = pair[0].ends_with('>') && !pair[0].starts_with('/');
                assert!(!opens || !pair[1].starts_with('/'), "nothing is empty: {pair:?}");
            }
        }
        let name = written.split("<modelName>").nth(1).unwrap().split('<').next().unwrap();
        assert_eq!(name.replace("&amp;", "&").chars().count(), 31);
        assert_eq!(read(&written).services.len(), 2, "no registrar (REG-1)");
    }
}
