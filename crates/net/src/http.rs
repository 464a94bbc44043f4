//! Requests to other machines, bounded in time and size. No redirection is followed and no proxy
//! is asked: whoever calls decides where a request goes.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use bytes::Bytes;
use futures_util::{Stream, StreamExt as _};
pub use reqwest::header::HeaderMap;
use reqwest::header::{CONTENT_ENCODING, HeaderValue};
use reqwest::redirect::Policy;
pub use reqwest::{Method, Response, StatusCode};

/// Bounds of a client's requests.
#[derive(Debug, Clone)]
pub struct Bounds {
    /// How long connecting may take.
    pub connect: Duration,
    /// How long the whole may take; `None` for what goes on as long as something comes.
    pub whole: Option<Duration>,
    /// How long nothing may come.
    pub silence: Option<Duration>,
}

/// Why a request was not answered as it should be.
#[derive(Debug, thiserror::Error)]
pub enum RequestError {
    /// No client could be made, or the request makes no sense.
    #[error("the request cannot be sent: {0}")]
    Unsendable(#[source] reqwest::Error),
    /// Nobody answers there.
    #[error("it does not answer")]
    Unreachable(#[source] reqwest::Error),
    /// It broke off, or took too long.
    #[error("it broke off")]
    BrokenOff(#[source] reqwest::Error),
    /// The answer is no success.
    #[error("it answers {0}")]
    Status(StatusCode),
    /// The answer is compressed, which was not asked for.
    #[error("it sends what is compressed, though nobody asked for that")]
    Compressed,
    /// The answer is larger than what was to be read.
    #[error("it sends more than {0} bytes")]
    TooLarge(usize),
}

impl From<reqwest::Error> for RequestError {
    fn from(error: reqwest::Error) -> RequestError {
        if error.is_builder() {
            RequestError::Unsendable(error)
        } else if error.is_connect() {
            RequestError::Unreachable(error)
        } else {
            RequestError::BrokenOff(error)
        }
    }
}

/// Sends requests within bounds.
#[derive(Debug, Clone)]
pub struct Client(reqwest::Client);

/// What a client is made of beside its bounds.
#[derive(Debug, Clone, Default)]
pub struct HttpOptions<'a> {
    /// The address of ours that requests come from.
    pub from: Option<IpAddr>,
    /// What the client calls itself.
    pub user_agent: Option<&'a str>,
    /// A host name and the one machine that it stands for, so that nothing is looked up.
    pub resolved: Option<(&'a str, SocketAddr)>,
}

impl Client {
    /// A client. Connections are not kept, and field names have capitals, as old players look for
    /// them (SOAP-19).
    ///
    /// # Errors
    /// [`RequestError::Unsendable`] where the system allows none.
    pub fn new(bounds: &Bounds, options: &HttpOptions<'_>) -> Result<Client, RequestError> {
        let mut builder = reqwest::Client::builder()
            .redirect(Policy::none())
            .no_proxy()
            .connect_timeout(bounds.connect)
            .pool_max_idle_per_host(0)
            .http1_title_case_headers()
            .local_address(options.from);
        if let Some(whole) = bounds.whole {
            builder = builder.timeout(whole);
        }
        if let Some(silence) = bounds.silence {
            builder = builder.read_timeout(silence);
        }
        if let Some(user_agent) = options.user_agent {
            builder = builder.user_agent(user_agent);
        }
        if let Some((host, machine)) = options.resolved {
            builder = builder.resolve(host, machine);
        }
        Ok(Client(builder.build()?))
    }

    /// Sends a request; its answer's body is still to come.
    ///
    /// # Errors
    /// [`RequestError`] when there is no answer, or one that is compressed (SEC-11).
    pub async fn send(
        &self,
        method: Method,
        url: &str,
        fields: &[(&str, &str)],
        body: impl Into<Bytes>,
    ) -> Result<Response, RequestError> {
        let mut request = self.0.request(method, url);
        for (name, value) in fields {
            request = request.header(*name, *value);
        }
        let body = body.into();
        if !body.is_empty() {
            request = request.body(body);
        }
        let answer = request.send().await?;
        let is_plain = |coding: &HeaderValue| coding.as_bytes().eq_ignore_ascii_case(b"identity");
        if answer.headers().get_all(CONTENT_ENCODING).iter().all(is_plain) {
            Ok(answer)
        } else {
            Err(RequestError::Compressed)
        }
    }

    /// Gets a document of at most `most` bytes.
    ///
    /// # Errors
    /// [`RequestError`], also for an answer that is no success.
    pub async fn document(&self, url: &str, most: usize) -> Result<Vec<u8>, RequestError> {
        let answer = self.send(Method::GET, url, &[], Bytes::new()).await?;
        if !answer.status().is_success() {
            return Err(RequestError::Status(answer.status()));
        }
        let (bytes, whole) = read(answer.bytes_stream(), most).await?;
        if whole { Ok(bytes) } else { Err(RequestError::TooLarge(most)) }
    }
}

/// Reads at most `most` bytes, of none nothing; gives whether that was all.
///
/// # Errors
/// [`RequestError`] when the body breaks off.
pub async fn read(
    pieces: impl Stream<Item = reqwest::Result<Bytes>>,
    most: usize,
) -> Result<(Vec<u8>, bool), RequestError> {
    let mut pieces = std::pin::pin!(pieces);
    let mut bytes = Vec::new();
    if most == 0 {
        return Ok((bytes, true));
    }
    while let Some(piece) = pieces.next().await {
        bytes.extend_from_slice(&piece?);
        if bytes.len() > most {
            bytes.truncate(most);
            return Ok((bytes, false));
        }
    }
    Ok((bytes, true))
}

#[cfg(test)]
mod tests {
    use std::io::{Read as _, Write as _};
    use std::net::TcpListener;

    use super::*;

    const BOUNDS: Bounds = Bounds {
        connect: Duration::from_secs(3),
        whole: Some(Duration::from_secs(10)),
        silence: None,
    };

    /// What comes of a document of at most 100 bytes where one connection is answered with this; with
    /// what was asked.
    async fn got(answer: &'static str) -> (Result<Vec<u8>, RequestError>, String) {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let url = format!("http://{}/d.xml", listener.local_addr().unwrap());
        let serving = std::thread::spawn(move || {
            let (mut stream, _) = listener.accept().unwrap();
            let mut asked = [0; 2048];
            let length = stream.read(&mut asked).unwrap();
            // Whoever is refused may have left.
            let _ = stream.write_all(answer.as_bytes());
            String::from_utf8_lossy(&asked[..length]).into_owned()
        });
        let client = Client::new(&BOUNDS, &HttpOptions::default()).unwrap();
        let document = client.document(&url, 100).await;
        (document, serving.join().unwrap())
    }

    #[tokio::test]
    async fn what_is_too_large_compressed_or_elsewhere_is_not_read() {
        let (document, asked) = got("HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\n<a/>\n").await;
        assert_eq!(document.unwrap(), b"<a/>\n");
        assert!(!asked.to_lowercase().contains("accept-encoding"), "{asked}");
        let plain =
            "HTTP/1.1 200 OK\r\nContent-Encoding: Identity\r\nContent-Length: 4\r\n\r\n<a/>";
        assert_eq!(got(plain).await.0.unwrap(), b"<a/>");
        let gzip = "HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: 4\r\n\r\n<a/>";
        assert!(matches!(got(gzip).await.0, Err(RequestError::Compressed)));
        // Of no stated length: what is read ends, whatever comes.
        let long: &'static str =
            format!("HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n{}", "x".repeat(101)).leak();
        assert!(matches!(got(long).await.0, Err(RequestError::TooLarge(100))));
        let elsewhere = "HTTP/1.1 302 Found\r\nLocation: http://127.0.0.1:9/\r\n\r\n";
        assert!(matches!(got(elsewhere).await.0, Err(RequestError::Status(StatusCode::FOUND))));
    }
}
