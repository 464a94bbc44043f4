//! HTTP as a device speaks it: from its own address, one connection a request.

use std::net::{Ipv4Addr, SocketAddrV4};
use std::time::Duration;

use bytes::Bytes;
use http_body_util::{BodyExt, Full};
use hyper::header::HeaderMap;
use hyper_util::rt::TokioIo;
use tokio::net::TcpSocket;

/// A request.
#[derive(Debug, Clone)]
pub struct Request {
    /// Its method.
    pub method: String,
    /// Where to.
    pub to: SocketAddrV4,
    /// Path and query.
    pub path: String,
    /// Fields.
    pub fields: Vec<(String, String)>,
    /// Body.
    pub body: Vec<u8>,
    /// How long the whole may take.
    pub patience: Duration,
}

impl Request {
    /// A request without fields and body.
    pub fn new(method: &str, to: SocketAddrV4, path: &str) -> Request {
        Request {
            method: method.into(),
            to,
            path: path.into(),
            fields: vec![],
            body: vec![],
            patience: Duration::from_secs(15),
        }
    }

    /// Adds a field.
    pub fn field(mut self, name: &str, value: &str) -> Request {
        self.fields.push((name.into(), value.into()));
        self
    }
}

/// An answer.
#[derive(Debug)]
pub struct Answer {
    /// Its status.
    pub status: u16,
    /// Its fields.
    pub fields: HeaderMap,
    /// As much of the body as was wanted.
    pub body: Vec<u8>,
}

impl Answer {
    /// A field's text.
    pub fn field(&self, name: &str) -> Option<&str> {
        self.fields.get(name).and_then(|v| v.to_str().ok())
    }
}

/// Sends a request from an address and reads at most `most` bytes of the answer's body; then
/// the connection is closed, as televisions do.
///
/// # Errors
/// A sentence that says what failed.
pub async fn fetch(from: Ipv4Addr, request: Request, most: u64) -> Result<Answer, String> {
    let patience = request.patience;
    tokio::time::timeout(patience, exchange(from, request, most))
        .await
        .map_err(|_| "no answer in time".to_owned())?
}

async fn exchange(from: Ipv4Addr, request: Request, most: u64) -> Result<Answer, String> {
    let text = |e: &dyn std::fmt::Display| e.to_string();
    let socket = TcpSocket::new_v4().map_err(|e| text(&e))?;
    socket.bind(SocketAddrV4::new(from, 0).into()).map_err(|e| text(&e))?;
    let stream = socket.connect(request.to.into()).await.map_err(|e| text(&e))?;
    let (mut sender, connection) =
        hyper::client::conn::http1::handshake(TokioIo::new(stream)).await.map_err(|e| text(&e))?;
    let driver = tokio::spawn(connection);
    let mut builder = hyper::Request::builder()
        .method(request.method.as_str())
        .uri(&request.path)
        .header("Host", request.to.to_string());
    for (name, value) in &request.fields {
        builder = builder.header(name, value);
    }
    let outgoing = builder.body(Full::new(Bytes::from(request.body))).map_err(|e| text(&e))?;
    let answer = sender.send_request(outgoing).await.map_err(|e| text(&e))?;
    let (head, mut incoming) = answer.into_parts();
    let mut body = Vec::new();
    while (body.len() as u64) < most {
        match incoming.frame().await {
            Some(Ok(frame)) => body.extend_from_slice(frame.data_ref().map_or(&[][..], |d| d)),
            Some(Err(error)) => {
                return Err(format!("broke off after {} bytes: {error}", body.len()));
            }
            None => break,
        }
    }
    body.truncate(usize::try_from(most).unwrap_or(usize::MAX));
    driver.abort();
    Ok(Answer { status: head.status.as_u16(), fields: head.headers, body })
}

/// Splits an `http` URL into its address and its path.
pub fn split_url(url: &str) -> Option<(SocketAddrV4, String)> {
    let rest = url.strip_prefix("http://")?;
    let (authority, path) = rest.find('/').map_or((rest, "/"), |at| rest.split_at(at));
    let address = if authority.contains(':') {
        authority.parse().ok()?
    } else {
        format!("{authority}:80").parse().ok()?
    };
    Some((address, path.to_owned()))
}
