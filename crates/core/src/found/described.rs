//! What a found thing says of itself in its documents (DESC, SCP-17 to SCP-20).

use std::collections::BTreeSet;

use mostra_protocol::control_point::{ReadDescription, ReadDevice, resolve};
use mostra_protocol::model::identifiers::versioned;
use mostra_protocol::model::service::{
    Definition, ReadDocument, ServiceType, av_transport, connection_manager, content_directory,
    rendering_control,
};

/// Formats kept of one renderer, and bytes of one; longer ones are none.
const FORMATS: usize = 128;
const FORMAT: usize = 128;

/// What a thing on the network is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Role {
    /// It plays what it is sent (MediaRenderer).
    Renderer,
    /// It offers a content directory (MediaServer).
    Server,
    /// It asks this house for content.
    Player,
    /// It connects networks.
    Router,
    /// None of these.
    Other,
}

impl Role {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Role::Renderer => "renderer",
            Role::Server => "server",
            Role::Player => "player",
            Role::Router => "router",
            Role::Other => "other",
        }
    }

    /// Whether it has to do with media; what has not is kept apart.
    pub fn is_media(self) -> bool {
        matches!(self, Role::Renderer | Role::Server | Role::Player)
    }
}

/// A service of a thing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundService {
    /// Its type.
    pub kind: ServiceType,
    /// Where its actions are called; `None` where that leads to another host (SCP-18).
    pub control: Option<String>,
    /// Where one subscribes to it.
    pub event: Option<String>,
    /// Where its document is.
    pub document: Option<String>,
}

/// What a renderer can do.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Abilities {
    /// The MIME types that it says it plays (GetProtocolInfo, Sink); empty where it did not answer.
    pub formats: Vec<String>,
    /// Whether it pauses.
    pub pauses: bool,
    /// Whether it goes to a place in what it plays.
    pub seeks: bool,
    /// Whether the next item can be handed over before the current one ends.
    pub next: bool,
    /// Whether its volume can be set.
    pub volume: bool,
    /// Whether it can be muted.
    pub mute: bool,
}

/// What the documents of a thing say.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Described {
    /// `friendlyName` of its root device.
    pub name: String,
    /// `manufacturer`.
    pub maker: String,
    /// `modelName`.
    pub model: String,
    /// `modelNumber`.
    pub version: String,
    /// The type of its root device.
    pub device_type: String,
    /// The UDNs of all its devices, that of the root first.
    pub udns: Vec<String>,
    /// What it is for.
    pub roles: BTreeSet<Role>,
    /// Its services, those of all its devices.
    pub services: Vec<FoundService>,
    /// Where its page for people is.
    pub presentation: Option<String>,
    /// Where its icon is, with its MIME type.
    pub icon: Option<(String, String)>,
    /// What it can do, of a renderer.
    pub abilities: Option<Abilities>,
    /// Whether its content directory answers, of a server.
    pub directory_answers: Option<bool>,
}

impl Described {
    /// What the device document says that was read at `location`.
    pub fn of(location: &str, read: &ReadDescription) -> Described {
        let resolved = |url: &str| {
            let written = Some(url).filter(|url| !url.is_empty())?;
            resolve(location, read.url_base.as_deref(), written).map(|url| url.to_string())
        };
        let root = read.root();
        let services = read.devices().iter().flat_map(|device| &device.services);
        let services = services.map(|service| FoundService {
            kind: service.kind.clone(),
            control: resolved(&service.control),
            event: resolved(&service.event),
            document: resolved(&service.document),
        });
        let roles = roles(read);
        Described {
            name: root.friendly_name.clone(),
            maker: root.manufacturer.clone(),
            model: root.model_name.clone(),
            version: root.model_number.clone(),
            device_type: root.kind.clone(),
            udns: udns(read.devices()),
            abilities: roles.contains(&Role::Renderer).then(Abilities::default),
            roles,
            services: services.collect(),
            presentation: resolved(&root.presentation),
            icon: icon(root).and_then(|icon| Some((resolved(&icon.0)?, icon.1))),
            directory_answers: None,
        }
    }

    /// Its service of a table, in any version.
    pub fn service(&self, of: &Definition) -> Option<&FoundService> {
        self.services.iter().find(|service| service.kind.is(of))
    }

    /// Notes what one of a renderer's service documents says that it can do.
    pub fn note_document(&mut self, of: &Definition, document: &ReadDocument) {
        let Some(abilities) = &mut self.abilities else { return };
        let has = |name: &str| document.action(name).is_some();
        if of.name == av_transport::DEFINITION.name {
            abilities.pauses = has("Pause");
            abilities.seeks = has("Seek");
            abilities.next = has("SetNextAVTransportURI");
        } else if of.name == rendering_control::DEFINITION.name {
            abilities.volume = has("SetVolume");
            abilities.mute = has("SetMute");
        }
    }

    /// Notes that a renderer's service document cannot be read: then it can do what every one must
    /// be able to do (SCP-20).
    pub fn note_no_document(&mut self, of: &Definition) {
        let Some(abilities) = &mut self.abilities else { return };
        if of.name == av_transport::DEFINITION.name {
            abilities.seeks = true;
        }
    }

    /// Notes what a renderer says it plays, as the Sink of GetProtocolInfo.
    pub fn note_formats(&mut self, sink: &str) {
        let Some(abilities) = &mut self.abilities else { return };
        let mut formats = BTreeSet::new();
        for info in mostra_protocol::control_point::protocol_info::read_list(sink) {
            let mime = info.mime.split(';').next().unwrap_or_default().trim();
            if info.protocol == "http-get" && formats.len() < FORMATS && mime.len() <= FORMAT {
                formats.insert(mime.to_ascii_lowercase());
            }
        }
        abilities.formats = formats.into_iter().collect();
    }
}

fn udns(devices: &[ReadDevice]) -> Vec<String> {
    let mut udns: Vec<String> = Vec::new();
    for udn in devices.iter().map(|device| device.udn.trim()) {
        if !udn.is_empty() && !udns.iter().any(|known| known.eq_ignore_ascii_case(udn)) {
            udns.push(udn.to_owned());
        }
    }
    udns
}

/// A device type without its version, such as `MediaRenderer`.
fn short(device_type: &str) -> &str {
    let name = versioned(device_type).map_or(device_type, |(name, _)| name);
    name.rsplit(':').next().unwrap_or_default()
}

/// Device types of what connects networks.
const ROUTERS: [&str; 5] = [
    "InternetGatewayDevice",
    "WANDevice",
    "WANConnectionDevice",
    "LANDevice",
    "WLANAccessPointDevice",
];

/// What a thing is for, from the types of its devices and their services: some renderers call
/// themselves basic devices.
fn roles(read: &ReadDescription) -> BTreeSet<Role> {
    let mut roles = BTreeSet::new();
    for device in read.devices() {
        let has = |service: &Definition| device.service(service).is_some();
        if short(&device.kind) == "MediaRenderer"
            || has(&av_transport::DEFINITION) && has(&connection_manager::DEFINITION)
        {
            roles.insert(Role::Renderer);
        }
        if short(&device.kind) == "MediaServer" || has(&content_directory::DEFINITION) {
            roles.insert(Role::Server);
        }
        if ROUTERS.contains(&short(&device.kind)) {
            roles.insert(Role::Router);
        }
    }
    if roles.is_empty() {
        roles.insert(Role::Other);
    }
    roles
}

/// The icon to show: of those that browsers show the largest up to 120 pixels, else the smallest.
fn icon(device: &ReadDevice) -> Option<(String, String)> {
    let shown = device.icons.iter().filter(|icon| {
        matches!(icon.mime.as_str(), "image/png" | "image/jpeg" | "image/jpg")
            && !icon.url.is_empty()
    });
    let best = shown.min_by_key(|icon| (icon.width > 120, icon.width.abs_diff(120)))?;
    let mime = if best.mime == "image/png" { "image/png" } else { "image/jpeg" };
    Some((best.url.clone(), mime.to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use mostra_protocol::control_point::read_description;

    fn described(devices: &str) -> Described {
        let text = format!("<root><device>{devices}</device></root>");
        Described::of("http://192.0.2.7:80/d.xml", &read_description(&text).unwrap())
    }

    fn service(name: &str) -> String {
        format!(
            "<service><serviceType>urn:schemas-upnp-org:service:{name}:1</serviceType>\
             <controlURL>/c/{name}</controlURL><SCPDURL>//192.0.2.9/{name}</SCPDURL></service>"
        )
    }

    fn device(kind: &str, services: &[&str]) -> String {
        let services: String = services.iter().map(|name| service(name)).collect();
        format!(
            "<deviceType>urn:schemas-upnp-org:device:{kind}:2</deviceType><UDN>uuid:{kind}</UDN>\
             <friendlyName>Hall</friendlyName><serviceList>{services}</serviceList>"
        )
    }

    #[test]
    fn roles_come_from_types_and_from_services() {
        let roles = |devices: &str| described(devices).roles.into_iter().collect::<Vec<_>>();
        assert_eq!(roles(&device("MediaRenderer", &[])), [Role::Renderer]);
        assert_eq!(roles(&device("MediaServer", &["ContentDirectory"])), [Role::Server]);
        let basic = device("Basic", &["AVTransport", "ConnectionManager"]);
        assert_eq!(roles(&basic), [Role::Renderer], "whatever it calls itself");
        let nested = format!(
            "{}<deviceList><device>{}</device></deviceList>",
            device("InternetGatewayDevice", &[]),
            device("MediaServer", &["ContentDirectory"])
        );
        assert_eq!(roles(&nested), [Role::Server, Role::Router]);
        assert_eq!(roles(&device("Printer", &["Print"])), [Role::Other]);
    }

    #[test]
    fn what_it_says_is_kept_and_what_leads_elsewhere_is_not() {
        let mut hall = described(&device("MediaRenderer", &["AVTransport", "RenderingControl"]));
        assert_eq!((&*hall.name, hall.udns.len()), ("Hall", 1));
        let transport = hall.service(&av_transport::DEFINITION).unwrap();
        assert_eq!(transport.control.as_deref(), Some("http://192.0.2.7/c/AVTransport"));
        assert_eq!(transport.document, None, "another host");
        hall.note_formats(
            "http-get:*:audio/mpeg:*,http-get:*:AUDIO/MPEG:DLNA.ORG_PN=MP3,rtsp:*:x/y:*,\
             http-get:*:audio/L16;rate=44100:*",
        );
        assert_eq!(hall.abilities.as_ref().unwrap().formats, ["audio/l16", "audio/mpeg"]);
        hall.note_no_document(&av_transport::DEFINITION);
        assert!(hall.abilities.as_ref().unwrap().seeks, "version 1 demands it (SCP-20)");
    }
}
