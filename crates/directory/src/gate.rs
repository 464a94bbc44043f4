//! Who is asking, and may they.

use std::net::SocketAddrV4;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use actix_web::body::{BodySize, BoxBody, EitherBody, MessageBody};
use actix_web::dev::{RequestHead, ResponseHead, ServiceRequest, ServiceResponse};
use actix_web::http::header::{self, HeaderMap, HeaderName, HeaderValue};
use actix_web::http::{Method, StatusCode, Version};
use actix_web::middleware::Next;
use actix_web::{HttpMessage, HttpRequest, HttpResponse, web};
use bytes::{Bytes, BytesMut};
use futures_util::StreamExt as _;
use mostra_app::devices::{Devices, Recognised};
use mostra_app::network::{Network, server_field};
use mostra_app::streams::{Load, Streams, Transfer};
use mostra_core::found::OutsideAct;
use mostra_core::sighting::Act;
use mostra_net::TcpProbe;
use mostra_protocol::model::service::OwnService;
use tokio::time::timeout;

use super::recorder::Recorder;
use super::{DeviceConnection, HEAD_TIME, heard};

/// Who asks, decided once for the request.
#[derive(Clone)]
pub(crate) struct Requester {
    /// Who it is, and what it may.
    pub device: Recognised,
    /// `http://address:port` by which it reached us (CDS-22).
    pub base: String,
    /// Its end of the connection.
    pub peer: SocketAddrV4,
    /// What it sent as a body; nothing on GET.
    pub body: Bytes,
    probe: Arc<TcpProbe>,
    /// Whether it may pause in the answer.
    pauses: Arc<AtomicBool>,
}

impl Requester {
    /// The requester of a request that came through the gate.
    pub(crate) fn of(request: &HttpRequest) -> Option<Requester> {
        request.extensions().get::<Requester>().cloned()
    }

    /// The device may leave the answer to this request unread for so long, and has no least rate: it
    /// may pause.
    pub(crate) fn may_pause(&self, longest: Duration) {
        self.pauses.store(true, Ordering::Relaxed);
        self.probe.limit(longest);
    }

    /// Ends the connection where an answer that lies in memory is read at less than the least rate.
    fn hold_to_least_rate(&self, length: u64) {
        let probe = self.probe.clone();
        let begin = probe.read().acked;
        actix_web::rt::spawn(async move {
            let began = Instant::now();
            while probe.is_open() {
                actix_web::rt::time::sleep(LOOK).await;
                let taken = probe.read().acked.saturating_sub(begin);
                if taken >= length {
                    return;
                }
                if is_too_slow(taken, began.elapsed()) {
                    tracing::debug!(taken, length, "an answer is read too slowly");
                    probe.end();
                    return;
                }
            }
        });
    }

    /// Watches the answer to this request until the device has acknowledged it.
    pub(crate) fn watch(&self, streams: &Streams, load: Load, length: u64) -> Arc<Transfer> {
        let who = (self.device.device, self.device.contact);
        streams.transfers.begin(&self.probe, who, load, length)
    }

    /// Reports an answer of so many bytes: `act` once it is delivered, if that says anything new;
    /// else that `action` was answered.
    pub(crate) fn answered(
        &self,
        devices: &Devices,
        action: &str,
        act: Option<Act>,
        length: usize,
    ) {
        devices.report_answer(&self.device, &self.probe, action, act, length);
    }
}

/// Bytes of a request's target and of its fields (HTTP-9). The library bounds their number.
const LINE: usize = 8 << 10;
const FIELDS: usize = 32 << 10;

/// How long an answer may lie unread that nobody has a reason to pause at: lists, subtitles,
/// broadcasts.
const UNREAD: Duration = Duration::from_secs(30);

/// Bytes of an answer that the kernel keeps by itself; a longer one that lies in our memory is read at
/// a least rate, in bytes a second, once its time of grace is over. How often that is looked at.
const SMALL: u64 = 64 << 10;
const LEAST_RATE: u64 = 8 << 10;
const LOOK: Duration = Duration::from_secs(5);

/// Whether so many bytes in such a time are less than the least rate allows.
fn is_too_slow(taken: u64, time: Duration) -> bool {
    let counted = time.saturating_sub(UNREAD);
    taken < counted.as_secs() * LEAST_RATE
}

/// Bytes of a body (SOAP-13), and of one that nobody asked for.
const BODY: usize = 256 << 10;
const UNASKED: usize = 64 << 10;

/// The gate in front of every path.
pub(crate) async fn pass_through<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<BoxBody, B>>, actix_web::Error> {
    if heard::is_event(&request) {
        return Ok(take_event(request).await.map_into_left_body());
    }
    let network = request.app_data::<web::Data<Network>>();
    let devices = request.app_data::<web::Data<Devices>>();
    let admitted = match (network, devices, request.conn_data::<DeviceConnection>()) {
        (Some(network), Some(devices), Some(connection)) => {
            admit(network, devices, connection, request.head())
        }
        _ => Err(StatusCode::INTERNAL_SERVER_ERROR),
    };
    let mut request = request;
    let admitted = match admitted {
        Ok(requester) => take_body(&mut request).await.map(|body| Requester { body, ..requester }),
        refused => refused,
    };
    let answer = match admitted {
        Ok(requester) => {
            requester.probe.limit(UNREAD);
            let asking = requester.clone();
            let recorder = Recorder::begin(&requester, &request);
            request.extensions_mut().insert(requester);
            let answer = match recorder {
                None => next.call(request).await?.map_into_right_body(),
                Some(recorder) => {
                    let answer = next.call(request).await?.map_into_boxed_body();
                    recorder.end(answer).map_into_left_body()
                }
            };
            match answer.response().body().size() {
                BodySize::Sized(length)
                    if length > SMALL && !asking.pauses.load(Ordering::Relaxed) =>
                {
                    asking.hold_to_least_rate(length);
                }
                _ => {}
            }
            answer
        }
        Err(status) => {
            let answer = HttpResponse::build(status).finish();
            request.into_response(answer).map_into_left_body()
        }
    };
    let mut answer = answer;
    dress(answer.response_mut().head_mut());
    Ok(answer)
}

/// Takes an event that a thing on the network sends because we subscribed at it.
async fn take_event(mut request: ServiceRequest) -> ServiceResponse<BoxBody> {
    let network = request.app_data::<web::Data<Network>>();
    let checked = match (network, request.conn_data::<DeviceConnection>()) {
        (Some(network), Some(connection)) => check(network, connection, request.head()).and_then(
            // The body of what nobody asked for is not read.
            |()| match network.watching.expects(request.path()) {
                true => Ok(()),
                false => Err(StatusCode::PRECONDITION_FAILED),
            },
        ),
        _ => Err(StatusCode::INTERNAL_SERVER_ERROR),
    };
    let body = match checked {
        Ok(()) => take_body(&mut request).await,
        Err(status) => Err(status),
    };
    let answer = match body {
        Ok(body) => heard::take(&request, body).await,
        Err(status) => HttpResponse::build(status).finish(),
    };
    let mut answer = request.into_response(answer);
    dress(answer.response_mut().head_mut());
    answer
}

/// Reads a body before anybody waits for it: as long as a head may take, and not for ever. On
/// GET it is dropped, or the connection could not be used again (HTTP-36).
async fn take_body(request: &mut ServiceRequest) -> Result<Bytes, StatusCode> {
    let dropped = matches!(*request.method(), Method::GET | Method::HEAD);
    let mut body = request.take_payload();
    let read = async {
        let (mut whole, mut left) = (BytesMut::new(), if dropped { UNASKED } else { BODY });
        while let Some(piece) = body.next().await {
            let piece = piece.map_err(|_| StatusCode::BAD_REQUEST)?;
            left = left.checked_sub(piece.len()).ok_or(StatusCode::PAYLOAD_TOO_LARGE)?;
            if !dropped {
                whole.extend_from_slice(&piece);
            }
        }
        Ok::<_, StatusCode>(whole.freeze())
    };
    timeout(HEAD_TIME, read).await.map_err(|_| StatusCode::REQUEST_TIMEOUT)?
}

/// Fields that every answer has, names capitalised as old players want them (SOAP-19).
pub(crate) fn dress(head: &mut ResponseHead) {
    head.set_camel_case_headers(true);
    head.headers_mut().insert(header::SERVER, HeaderValue::from_static(server_field()));
}

/// Whether a request came from where this house serves, and is one that it takes.
///
/// # Errors
/// The status with which it is refused.
fn check(
    network: &Network,
    connection: &DeviceConnection,
    request: &RequestHead,
) -> Result<(), StatusCode> {
    if request.uri.path_and_query().is_some_and(|target| target.as_str().len() > LINE) {
        return Err(StatusCode::URI_TOO_LONG);
    }
    let fields = request.headers.iter().map(|(name, value)| name.as_str().len() + value.len());
    if fields.sum::<usize>() > FIELDS {
        return Err(StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE);
    }
    let refused = StatusCode::FORBIDDEN;
    // The address the connection really came from, inside the subnet it arrived in (SEC-3).
    let (peer, local) = (*connection.peer.ip(), *connection.local.ip());
    if !network.may_come(peer, local) {
        let ours = network.served().iter().any(|served| served.address == local);
        let act = if ours { OutsideAct::Connected } else { OutsideAct::Elsewhere(local) };
        network.note_outsider(peer, act);
        return Err(refused);
    }
    if !host_is_ours(&request.headers, request.version, connection.local) {
        return Err(StatusCode::MISDIRECTED_REQUEST);
    }
    // Of expectations, only the one that the server answers by itself is known (SOAP-15).
    let expected = text(&request.headers, &header::EXPECT);
    if expected.is_some_and(|e| !e.trim().eq_ignore_ascii_case("100-continue")) {
        return Err(StatusCode::EXPECTATION_FAILED);
    }
    // A web page elsewhere cannot make a browser act here (SEC-6).
    if request.headers.contains_key(header::ORIGIN)
        && request.method != Method::GET
        && request.method != Method::HEAD
    {
        return Err(refused);
    }
    Ok(())
}

/// Whether a request is let through to be answered, and who asks.
///
/// # Errors
/// The status with which it is refused.
pub(crate) fn admit(
    network: &Network,
    devices: &Devices,
    connection: &DeviceConnection,
    request: &RequestHead,
) -> Result<Requester, StatusCode> {
    check(network, connection, request)?;
    network.note_reached(*connection.peer.ip(), *connection.local.ip());
    let user_agent = text(&request.headers, &header::USER_AGENT);
    let field = |name: &str| request.headers.contains_key(name);
    let asks = asks_for_content(request.uri.path());
    let device = devices.recognise(*connection.peer.ip(), user_agent, &field, asks);
    let device = device.ok_or(StatusCode::FORBIDDEN)?;
    devices.report(&device, Act::Connected);
    Ok(Requester {
        device,
        base: format!("http://{}", connection.local),
        peer: connection.peer,
        body: Bytes::new(),
        probe: connection.probe.clone(),
        pauses: Arc::default(),
    })
}

/// Whether a request is for content, and not for what this house is: routers and control points read
/// the description of whatever announces itself.
fn asks_for_content(path: &str) -> bool {
    let called = path.strip_prefix("/control/");
    !(path == "/"
        || path.starts_with("/about/")
        || path.starts_with("/event/")
        || called == Some(OwnService::ConnectionManager.slug()))
}

/// Whether Host names us (SEC-5). It may be missing only before HTTP/1.1; the library refuses
/// other requests without it, and those with two, as malformed (HTTP-7).
fn host_is_ours(headers: &HeaderMap, version: Version, local: SocketAddrV4) -> bool {
    let Some(host) = headers.get(header::HOST) else { return version < Version::HTTP_11 };
    let host = host.to_str().unwrap_or_default();
    let name = host.rsplit_once(':').map_or(host, |(name, _)| name);
    name == local.ip().to_string() || name.eq_ignore_ascii_case("localhost")
}

/// A field's text, if it is text.
pub(crate) fn text<'a>(headers: &'a HeaderMap, name: &HeaderName) -> Option<&'a str> {
    headers.get(name).and_then(|v| v.to_str().ok())
}

/// A field's text by a name that the HTTP library does not know.
pub(crate) fn named<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    headers.get(name).and_then(|v| v.to_str().ok())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_in_memory_has_a_least_rate_after_its_grace() {
        let seconds = Duration::from_secs;
        assert!(!is_too_slow(0, seconds(30)), "a set that thinks for a while");
        assert!(is_too_slow(100, seconds(35)));
        // The largest answer at ten times the least rate, and at a byte a second.
        assert!(!is_too_slow(50 * 10 * LEAST_RATE, seconds(50)));
        assert!(is_too_slow(60, seconds(60)));
        // Whoever keeps to the rate is never too slow.
        for second in 0..1000 {
            assert!(!is_too_slow(second * LEAST_RATE, seconds(second)));
        }
    }
}
