//! Raw sockets of the tests' own: bytes out, bytes in, so that no misreading of ours can hide
//! on both sides.

use std::io::{self, Read, Write};
use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4, TcpStream};
use std::time::Duration;

use socket2::{Domain, Protocol, Socket, Type};

/// An HTTP answer, taken apart by hand.
#[derive(Debug, Clone)]
pub struct Answer {
    /// The status.
    pub status: u16,
    /// The head as sent.
    pub head: String,
    /// The body.
    pub body: Vec<u8>,
}

impl Answer {
    /// A field's value, by its name without case.
    pub fn field(&self, name: &str) -> Option<&str> {
        self.head.lines().skip(1).find_map(|line| {
            let (key, value) = line.split_once(':')?;
            key.trim().eq_ignore_ascii_case(name).then(|| value.trim())
        })
    }

    /// The body as text.
    pub fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }
}

/// Connects from an address, which is how the house tells devices apart.
///
/// # Errors
/// Those of the sockets.
pub fn connect(from: &str, to: &str) -> io::Result<TcpStream> {
    connect_with(from, to, None)
}

/// Connects with a receive buffer of a certain size.
///
/// # Errors
/// Those of the sockets.
pub fn connect_with(from: &str, to: &str, receive_buffer: Option<usize>) -> io::Result<TcpStream> {
    let bad = |_| io::Error::new(io::ErrorKind::InvalidInput, "an address");
    let socket = Socket::new(Domain::IPV4, Type::STREAM, Some(Protocol::TCP))?;
    if let Some(size) = receive_buffer {
        socket.set_recv_buffer_size(size)?;
    }
    let from: Ipv4Addr = from.parse().map_err(bad)?;
    socket.bind(&SocketAddrV4::new(from, 0).into())?;
    let to: SocketAddr = to.parse().map_err(bad)?;
    socket.connect(&to.into())?;
    let stream: TcpStream = socket.into();
    stream.set_read_timeout(Some(Duration::from_secs(30)))?;
    Ok(stream)
}

/// Reads one answer from a connection, with its body by Content-Length.
///
/// # Errors
/// Those of the socket, or a head that is none.
pub fn read_answer(stream: &mut TcpStream, with_body: bool) -> io::Result<Answer> {
    let mut bytes = Vec::new();
    let mut byte = [0; 1];
    while !bytes.ends_with(b"\r\n\r\n") {
        if stream.read(&mut byte)? == 0 {
            return Err(io::Error::new(
                io::ErrorKind::UnexpectedEof,
                format!("{} bytes of a head", bytes.len()),
            ));
        }
        bytes.push(byte[0]);
    }
    let head = String::from_utf8_lossy(&bytes).into_owned();
    let status = head.split(' ').nth(1).and_then(|s| s.parse().ok());
    let status = status.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidData, head.clone()))?;
    let mut answer = Answer { status, head, body: Vec::new() };
    if with_body && status != 304 && status != 204 {
        if let Some(length) = answer.field("content-length").and_then(|l| l.parse().ok()) {
            answer.body = vec![0; length];
            stream.read_exact(&mut answer.body)?;
        } else {
            stream.read_to_end(&mut answer.body)?;
        }
    }
    Ok(answer)
}

/// Sends bytes from an address and reads one answer.
///
/// # Errors
/// Those of the sockets.
pub fn exchange(from: &str, to: &str, request: &str) -> io::Result<Answer> {
    let mut stream = connect(from, to)?;
    stream.write_all(request.as_bytes())?;
    read_answer(&mut stream, !request.starts_with("HEAD"))
}

/// GET from 127.0.0.1, as programs on the host do.
///
/// # Errors
/// Those of the sockets.
pub fn get(to: &str, path: &str) -> io::Result<Answer> {
    exchange(
        "127.0.0.1",
        to,
        &format!("GET {path} HTTP/1.1\r\nHost: {to}\r\nConnection: close\r\n\r\n"),
    )
}

/// A request of a device: method, path and further field lines, each ended by CRLF.
///
/// # Panics
/// When the service does not answer.
pub fn ask(from: &str, method: &str, path: &str, fields: &str) -> Answer {
    let request = format!("{method} {path} HTTP/1.1\r\nHost: {}\r\n{fields}\r\n", crate::SERVER);
    exchange(from, crate::SERVER, &request).expect("an answer")
}

/// A SOAP call as a device sends it, written by hand.
///
/// # Panics
/// When the service does not answer.
pub fn call(from: &str, service: &str, action: &str, arguments: &str) -> Answer {
    exchange(from, crate::SERVER, &soap(service, action, arguments)).expect("an answer")
}

/// The request of a SOAP call, head and body.
pub fn soap(service: &str, action: &str, arguments: &str) -> String {
    let (path, kind) = match service {
        "content" => ("/control/content", "urn:schemas-upnp-org:service:ContentDirectory:1"),
        "connection" => ("/control/connection", "urn:schemas-upnp-org:service:ConnectionManager:1"),
        _ => ("/control/registrar", "urn:microsoft.com:service:X_MS_MediaReceiverRegistrar:1"),
    };
    let body = format!(
        "<?xml version=\"1.0\"?><s:Envelope xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\" \
         s:encodingStyle=\"http://schemas.xmlsoap.org/soap/encoding/\"><s:Body>\
         <u:{action} xmlns:u=\"{kind}\">{arguments}</u:{action}></s:Body></s:Envelope>"
    );
    let fields = format!(
        "Content-Type: text/xml; charset=\"utf-8\"\r\nContent-Length: {}\r\nSOAPACTION: \"{kind}#{action}\"\r\n",
        body.len()
    );
    format!("POST {path} HTTP/1.1\r\nHost: {}\r\n{fields}\r\n{body}", crate::SERVER)
}

/// Browse of a container's children, whole.
pub fn browse(from: &str, id: &str) -> Answer {
    call(
        from,
        "content",
        "Browse",
        &format!(
            "<ObjectID>{id}</ObjectID><BrowseFlag>BrowseDirectChildren</BrowseFlag><Filter>*</Filter>\
         <StartingIndex>0</StartingIndex><RequestedCount>0</RequestedCount><SortCriteria></SortCriteria>"
        ),
    )
}

/// Text as it was before it was escaped once.
pub fn unescaped(text: &str) -> String {
    text.replace("&lt;", "<").replace("&gt;", ">").replace("&quot;", "\"").replace("&amp;", "&")
}

/// The text between two marks, taken from a body by hand.
pub fn between<'a>(text: &'a str, from: &str, to: &str) -> Option<&'a str> {
    let start = text.find(from)? + from.len();
    let length = text[start..].find(to)?;
    Some(&text[start..start + length])
}

/// The path of the first media URL in a Browse answer whose title is this.
///
/// # Panics
/// When there is none.
pub fn media_path(browsed: &Answer, title: &str) -> String {
    let text = unescaped(&browsed.text());
    let at = text
        .find(&format!("<dc:title>{title}</dc:title>"))
        .unwrap_or_else(|| panic!("{title} in {text}"));
    let media = format!("http://{}/media/", crate::SERVER);
    let url = between(&text[at..], &media, "</res>").expect("a URL");
    format!("/media/{url}")
}

/// Searches for media servers by multicast from an address, with MX 1, by hand; gives the first
/// answer within some seconds and where it came from.
///
/// # Panics
/// When the socket cannot be used.
pub fn search(from: &str, seconds: u64) -> Option<(String, String)> {
    let socket = searching(from);
    socket.set_read_timeout(Some(Duration::from_secs(seconds))).expect("a timeout");
    let mut buffer = [0; 2048];
    let (length, from) = socket.recv_from(&mut buffer).ok()?;
    Some((String::from_utf8_lossy(&buffer[..length]).into_owned(), from.to_string()))
}

/// The same; gives all answers that come, each within some seconds of the one before.
///
/// # Panics
/// When the socket cannot be used.
pub fn search_all(from: &str, seconds: u64) -> Vec<String> {
    let socket = searching(from);
    socket.set_read_timeout(Some(Duration::from_secs(seconds))).expect("a timeout");
    let mut buffer = [0; 2048];
    let mut all = Vec::new();
    while let Ok((length, _)) = socket.recv_from(&mut buffer) {
        all.push(String::from_utf8_lossy(&buffer[..length]).into_owned());
    }
    all
}

/// A listener at the group on loopback.
///
/// # Panics
/// When the socket cannot be made.
pub fn ear() -> std::net::UdpSocket {
    let group: Ipv4Addr = [239, 255, 255, 250].into();
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, None).expect("a socket");
    socket.set_reuse_address(true).expect("a socket");
    socket.bind(&SocketAddrV4::new(group, 1900).into()).expect("a socket");
    let loopback = socket2::InterfaceIndexOrAddress::Index(1);
    socket.join_multicast_v4_n(&group, &loopback).expect("the group");
    let socket: std::net::UdpSocket = socket.into();
    socket.set_read_timeout(Some(Duration::from_secs(5))).expect("a timeout");
    socket
}

/// A socket that has just searched.
fn searching(from: &str) -> std::net::UdpSocket {
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP)).expect("a socket");
    let from: Ipv4Addr = from.parse().expect("an address");
    socket.bind(&SocketAddrV4::new(from, 0).into()).expect("bound");
    socket.set_multicast_if_v4(&Ipv4Addr::LOCALHOST).expect("an interface");
    let text = "M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nMAN: \"ssdp:discover\"\r\nMX: 1\r\n\
                ST: urn:schemas-upnp-org:device:MediaServer:1\r\n\r\n";
    let socket: std::net::UdpSocket = socket.into();
    socket.send_to(text.as_bytes(), "239.255.255.250:1900").expect("sent");
    socket
}
