//! The half of a stand-in that others find: it announces itself, answers searches, and has a
//! description with services that answer.

use std::net::{IpAddr, Ipv4Addr, SocketAddr, SocketAddrV4};
use std::sync::Arc;
use std::time::Duration;

use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse};
use mostra_protocol::control_point::{Message, parse_datagram};
use mostra_protocol::model::identifiers::{
    NS_DEVICE, ROOT_DEVICE, SSDP_GROUP, SSDP_PORT, split_version,
};
use mostra_protocol::model::service::{
    self, Definition, ServiceAction, av_transport, connection_manager, content_directory,
    rendering_control, wan_ip_connection,
};
use mostra_protocol::model::xml::escape;
use mostra_protocol::server::{Call, Fault, Value, read_call, write_answer};
use serde::{Deserialize, Serialize};
use socket2::{Domain, Protocol, Socket, Type};
use tokio::net::UdpSocket;

use crate::CONTROL_PORT;
use crate::persona::{Persona, PersonaMapping};
use crate::renderer;
use crate::stand_in::StandIn;

/// What a device announces.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Announces {
    /// Its device type.
    pub device: String,
    /// Its UDN.
    pub udn: String,
    /// `modelName`.
    pub model: String,
    /// `modelNumber`.
    pub version: String,
    /// The services it has, by the last word of their type.
    #[serde(default)]
    pub services: Vec<String>,
    /// Seconds that an announcement counts.
    #[serde(default = "half_an_hour")]
    pub max_age: u32,
    /// Whether it says byebye when it is switched off.
    #[serde(default = "yes")]
    pub says_byebye: bool,
}

fn half_an_hour() -> u32 {
    1800
}

fn yes() -> bool {
    true
}

/// The services that a stand-in can have.
const SERVICES: [&Definition; 5] = [
    &av_transport::DEFINITION,
    &rendering_control::DEFINITION,
    &connection_manager::DEFINITION,
    &content_directory::DEFINITION,
    &wan_ip_connection::DEFINITION,
];

fn last_word(of: &Definition) -> &'static str {
    of.name.rsplit(':').next().unwrap_or_default()
}

impl Announces {
    fn services(&self) -> impl Iterator<Item = &'static Definition> {
        let has = |of: &&'static Definition| self.services.iter().any(|s| s == last_word(of));
        SERVICES.into_iter().filter(has)
    }

    /// What it announces: (type, USN).
    fn rows(&self) -> Vec<(String, String)> {
        let udn = &self.udn;
        let mut rows = vec![(ROOT_DEVICE.to_owned(), format!("{udn}::{ROOT_DEVICE}"))];
        rows.push((udn.clone(), udn.clone()));
        rows.push((self.device.clone(), format!("{udn}::{}", self.device)));
        rows.extend(self.services().map(|of| (of.urn(), format!("{udn}::{}", of.urn()))));
        rows
    }
}

/// Where the description is.
const DESCRIPTION: &str = "/root.xml";

/// Announces a stand-in and answers searches, until the process ends.
///
/// # Errors
/// Those of the system.
pub(crate) fn run(persona: &Arc<Persona>) -> std::io::Result<()> {
    let Some(announces) = persona.announces.clone() else { return Ok(()) };
    let own = sender(persona.address)?;
    let group = receiver(persona.address)?;
    let persona = persona.clone();
    tokio::spawn(async move {
        for _ in 0..2 {
            notify(&persona, &announces, &own, "ssdp:alive").await;
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        let mut buffer = [0; 2048];
        while let Ok((length, SocketAddr::V4(from))) = group.recv_from(&mut buffer).await {
            if let Some(Message::Search(search)) = parse_datagram(&buffer[..length]) {
                answer_search(&persona, &announces, &own, from, &search.target).await;
            }
        }
    });
    Ok(())
}

/// Says that a stand-in leaves, if it is one that says so.
pub(crate) async fn leave(persona: &Persona) {
    let Some(announces) = &persona.announces else { return };
    let Ok(own) = sender(persona.address) else { return };
    if announces.says_byebye {
        notify(persona, announces, &own, "ssdp:byebye").await;
    }
}

async fn notify(persona: &Persona, announces: &Announces, own: &UdpSocket, what: &str) {
    let to = SocketAddr::V4(SocketAddrV4::new(SSDP_GROUP, SSDP_PORT));
    for (nt, usn) in announces.rows() {
        let head = "NOTIFY * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\n";
        let rest =
            format!("NT: {nt}\r\nNTS: {what}\r\nUSN: {usn}\r\n{}", about(persona, announces));
        let _ = own.send_to(format!("{head}{rest}\r\n").as_bytes(), to).await;
    }
}

async fn answer_search(
    persona: &Persona,
    announces: &Announces,
    own: &UdpSocket,
    to: SocketAddrV4,
    target: &str,
) {
    for (row, usn) in announces.rows() {
        let (wanted, version) = split_version(target);
        let (name, ours) = split_version(&row);
        let fits = target == "ssdp:all" || row == target || wanted == name && version <= ours;
        if fits {
            let st = if target == "ssdp:all" { &row } else { target };
            let about = about(persona, announces);
            let text = format!("HTTP/1.1 200 OK\r\nEXT:\r\nST: {st}\r\nUSN: {usn}\r\n{about}\r\n");
            let _ = own.send_to(text.as_bytes(), SocketAddr::V4(to)).await;
        }
    }
}

fn about(persona: &Persona, announces: &Announces) -> String {
    format!(
        "CACHE-CONTROL: max-age={}\r\nLOCATION: http://{}:{CONTROL_PORT}{DESCRIPTION}\r\nSERVER: {}\r\n",
        announces.max_age, persona.address, persona.user_agent
    )
}

/// On loopback the group is reached through 127.0.0.1, whatever address is ours.
fn leaving_by(address: Ipv4Addr) -> Ipv4Addr {
    if address.is_loopback() { Ipv4Addr::LOCALHOST } else { address }
}

fn sender(address: Ipv4Addr) -> std::io::Result<UdpSocket> {
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_nonblocking(true)?;
    socket.bind(&SocketAddrV4::new(address, 0).into())?;
    socket.set_multicast_if_v4(&leaving_by(address))?;
    socket.set_multicast_ttl_v4(if address.is_loopback() { 0 } else { 2 })?;
    UdpSocket::from_std(socket.into())
}

fn receiver(address: Ipv4Addr) -> std::io::Result<UdpSocket> {
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_reuse_address(true)?;
    socket.set_nonblocking(true)?;
    socket.bind(&SocketAddrV4::new(SSDP_GROUP, SSDP_PORT).into())?;
    socket.set_multicast_all_v4(false)?;
    socket.join_multicast_v4(&SSDP_GROUP, &leaving_by(address))?;
    UdpSocket::from_std(socket.into())
}

/// Answers a request for the description or to a service; `None` for any other.
pub(crate) fn serve(
    stand_in: &StandIn,
    request: &HttpRequest,
    body: &[u8],
) -> Option<HttpResponse> {
    let persona = &stand_in.persona;
    let announces = persona.announces.as_ref()?;
    let (method, path) = (request.method().as_str(), request.path());
    let xml =
        |text: String| HttpResponse::Ok().content_type("text/xml; charset=\"utf-8\"").body(text);
    if method == "GET" && path == DESCRIPTION {
        return Some(xml(description(persona, announces)));
    }
    let name = path.trim_start_matches('/');
    if let Some(name) = name.strip_prefix("document/").filter(|_| method == "GET") {
        return announces
            .services()
            .find(|of| last_word(of) == name)
            .map(|of| xml(service::write(of)));
    }
    let has = |name: &&str| announces.services().any(|of| last_word(of) == *name);
    if let Some(name) = name.strip_prefix("events/").filter(has) {
        return Some(subscribe(stand_in, name, request));
    }
    let name = name.strip_prefix("control/").filter(has).filter(|_| method == "POST")?;
    let call = read_call(std::str::from_utf8(body).ok()?).ok()?;
    Some(match answer(stand_in, name, &call) {
        Ok(text) => xml(text),
        Err(fault) => HttpResponse::InternalServerError()
            .content_type("text/xml; charset=\"utf-8\"")
            .body(fault.write()),
    })
}

/// Answers a SUBSCRIBE or an UNSUBSCRIBE.
fn subscribe(stand_in: &StandIn, service: &str, request: &HttpRequest) -> HttpResponse {
    let from = request.peer_addr().and_then(|peer| match peer.ip() {
        IpAddr::V4(address) => Some(address),
        IpAddr::V6(_) => None,
    });
    let field = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok());
    let (method, from) = (request.method().as_str(), from.unwrap_or(Ipv4Addr::UNSPECIFIED));
    let taken =
        stand_in.renderer().subscribe(service, method, from, field("sid"), field("callback"));
    match taken {
        Ok((sid, first)) => {
            if let Some(event) = first {
                tokio::spawn(renderer::send(stand_in.persona.address, event));
            }
            HttpResponse::Ok()
                .insert_header(("SID", sid))
                .insert_header(("TIMEOUT", "Second-1800"))
                .finish()
        }
        Err(status) => {
            HttpResponse::build(StatusCode::from_u16(status).unwrap_or_default()).finish()
        }
    }
}

fn answer(stand_in: &StandIn, service: &str, call: &Call) -> Result<String, Fault> {
    let persona = &stand_in.persona;
    match (service, &*call.action) {
        ("AVTransport" | "RenderingControl", _) => {
            let (text, events) = stand_in.renderer().call(service, call)?;
            for event in events {
                tokio::spawn(renderer::send(persona.address, event));
            }
            Ok(text)
        }
        ("ConnectionManager", "GetProtocolInfo") => {
            let sink: Vec<String> =
                persona.plays.iter().map(|mime| format!("http-get:*:{mime}:*")).collect();
            let values = [Value::from(""), Value::from(sink.join(","))];
            Ok(write_answer(call, connection_manager::Action::GetProtocolInfo.row(), &values))
        }
        ("ContentDirectory", "GetSystemUpdateID") => {
            let values = [Value::from("1")];
            Ok(write_answer(call, content_directory::Action::GetSystemUpdateID.row(), &values))
        }
        ("WANIPConnection", "GetGenericPortMappingEntry") => port_mapping(persona, call),
        _ => Err(Fault::InvalidAction),
    }
}

/// What a router lets in from outside, one at a time.
fn port_mapping(persona: &Persona, call: &Call) -> Result<String, Fault> {
    let index = call.arguments.iter().find(|(name, _)| name == "NewPortMappingIndex");
    let index: usize =
        index.and_then(|(_, value)| value.trim().parse().ok()).ok_or(Fault::InvalidArgs)?;
    let PersonaMapping { protocol, external, internal, to, description } =
        persona.port_mappings.get(index).ok_or(Fault::InvalidIndex)?;
    let values = [
        Value::from(""),
        Value::from(external.to_string()),
        Value::from(protocol.as_str()),
        Value::from(internal.to_string()),
        Value::from(to.to_string()),
        Value::from("1"),
        Value::from(description.as_str()),
        Value::from("0"),
    ];
    let row = wan_ip_connection::Action::GetGenericPortMappingEntry.row();
    Ok(write_answer(call, row, &values))
}

fn description(persona: &Persona, announces: &Announces) -> String {
    let services: String = announces
        .services()
        .map(|of| {
            let name = last_word(of);
            format!(
                "<service><serviceType>{}</serviceType><serviceId>{}</serviceId>\
                 <SCPDURL>/document/{name}</SCPDURL><controlURL>/control/{name}</controlURL>\
                 <eventSubURL>/events/{name}</eventSubURL></service>",
                of.urn(),
                of.id
            )
        })
        .collect();
    format!(
        "<?xml version=\"1.0\"?>\n<root xmlns=\"{NS_DEVICE}\"><specVersion><major>1</major>\
         <minor>0</minor></specVersion><device><deviceType>{}</deviceType>\
         <friendlyName>{}</friendlyName><manufacturer>{}</manufacturer><modelName>{}</modelName>\
         <modelNumber>{}</modelNumber><UDN>{}</UDN><serviceList>{services}</serviceList></device></root>",
        escape(&announces.device),
        escape(&persona.name),
        escape(&persona.maker),
        escape(&announces.model),
        escape(&announces.version),
        escape(&announces.udn),
    )
}
