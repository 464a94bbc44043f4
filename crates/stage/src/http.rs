//! HTTP as a device speaks it: from its own address, one connection a request.

use std::net::{Ipv4Addr, SocketAddrV4};
use std::time::Duration;

use mostra_net::http::{Bounds, Client, HeaderMap, HttpOptions, Method, RequestError, read};

/// A request.
#[derive(Debug, Clone)]
pub(crate) struct HttpRequest {
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

impl HttpRequest {
    /// A request without fields and body.
    pub(crate) fn new(method: &str, to: SocketAddrV4, path: &str) -> HttpRequest {
        HttpRequest {
            method: method.into(),
            to,
            path: path.into(),
            fields: vec![],
            body: vec![],
            patience: Duration::from_secs(15),
        }
    }

    /// Adds a field.
    pub(crate) fn field(mut self, name: &str, value: &str) -> HttpRequest {
        self.fields.push((name.into(), value.into()));
        self
    }
}

/// An answer.
#[derive(Debug)]
pub(crate) struct HttpAnswer {
    /// Its status.
    pub status: u16,
    /// Its fields.
    fields: HeaderMap,
    /// As much of the body as was wanted.
    pub body: Vec<u8>,
}

impl HttpAnswer {
    /// A field's text.
    pub(crate) fn field(&self, name: &str) -> Option<&str> {
        self.fields.get(name).and_then(|v| v.to_str().ok())
    }
}

/// Sends a request from an address and reads at most `most` bytes of the answer's body; then
/// the connection is closed, as televisions do.
///
/// # Errors
/// A sentence that says what failed.
pub(crate) async fn fetch(
    from: Ipv4Addr,
    request: HttpRequest,
    most: u64,
) -> anyhow::Result<HttpAnswer> {
    let HttpRequest { method, to, path, fields, body, patience } = request;
    let bounds = Bounds { connect: patience, whole: Some(patience), silence: None };
    let options = HttpOptions { from: Some(from.into()), ..HttpOptions::default() };
    let method = Method::from_bytes(method.as_bytes())?;
    let fields: Vec<(&str, &str)> = fields.iter().map(|(n, v)| (&**n, &**v)).collect();
    let exchange = async {
        let client = Client::new(&bounds, &options)?;
        let answer = client.send(method, &format!("http://{to}{path}"), &fields, body).await?;
        let (status, fields) = (answer.status().as_u16(), answer.headers().clone());
        let most = usize::try_from(most).unwrap_or(usize::MAX);
        let (body, _) = read(answer.bytes_stream(), most).await?;
        Ok::<_, RequestError>(HttpAnswer { status, fields, body })
    };
    Ok(exchange.await?)
}

/// Splits an `http` URL into its address and its path.
pub(crate) fn split_url(url: &str) -> Option<(SocketAddrV4, String)> {
    let rest = url.strip_prefix("http://")?;
    let (authority, path) = rest.find('/').map_or((rest, "/"), |at| rest.split_at(at));
    let address = if authority.contains(':') {
        authority.parse().ok()?
    } else {
        format!("{authority}:80").parse().ok()?
    };
    Some((address, path.to_owned()))
}
