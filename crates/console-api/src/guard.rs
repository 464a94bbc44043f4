//! Checks before every console request, and fields on every answer.

use std::net::{IpAddr, Ipv4Addr, SocketAddr};

use actix_web::body::{BoxBody, EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{self, HeaderName, HeaderValue};
use actix_web::http::{Method, StatusCode};
use actix_web::middleware::Next;
use actix_web::{ResponseError, web};
use mostra_net::{Interfaces, ServedInterface};

use super::Side;
use super::host_socket::{GROUP, PeerUser};
use super::problem::ApiFailure;

/// Where this listener is.
#[derive(Debug, Clone, Copy)]
pub(crate) struct ListenerAddress {
    /// Loopback or the house.
    pub side: Side,
    /// Its own address.
    pub address: SocketAddr,
}

/// The gate in front of every path of the console.
pub(crate) async fn check<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<BoxBody, B>>, actix_web::Error> {
    let place = request.app_data::<web::Data<ListenerAddress>>().map(|p| *p.get_ref());
    let verdict =
        place.ok_or_else(|| ApiFailure::new(StatusCode::INTERNAL_SERVER_ERROR, "No place"));
    let mut answer = match verdict.and_then(|place| inspect(&request, place)) {
        Ok(()) => next.call(request).await?.map_into_right_body(),
        Err(failure) => request.into_response(failure.error_response()).map_into_left_body(),
    };
    for (name, value) in [
        (
            "content-security-policy",
            "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
        ),
        ("x-content-type-options", "nosniff"),
        ("x-frame-options", "DENY"),
        ("referrer-policy", "no-referrer"),
        ("cross-origin-opener-policy", "same-origin"),
        ("cross-origin-resource-policy", "same-origin"),
        ("permissions-policy", "camera=(), microphone=(), geolocation=()"),
    ] {
        // What a handler says of its own answer is stricter.
        if !answer.headers().contains_key(name) {
            let name = HeaderName::from_static(name);
            answer.headers_mut().insert(name, HeaderValue::from_static(value));
        }
    }
    if !answer.headers().contains_key(header::CACHE_CONTROL) {
        answer.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    Ok(answer)
}

fn inspect(request: &ServiceRequest, place: ListenerAddress) -> Result<(), ApiFailure> {
    let forbidden = |title: &str| ApiFailure::new(StatusCode::FORBIDDEN, title);
    if place.side == Side::Host {
        let peer = request.conn_data::<PeerUser>();
        return match peer.and_then(|peer| peer.signed_in()) {
            Some(_) => Ok(()),
            None => Err(forbidden("You may not see to this house").next(format!(
                "Have the administrator let you: sudo adduser NAME {GROUP}, and log in again."
            ))),
        };
    }
    let peer = request.peer_addr().ok_or_else(|| forbidden("Unknown sender"))?;
    let near = match (place.side, peer.ip()) {
        (Side::Loopback, address) => address.is_loopback(),
        (Side::House, IpAddr::V4(peer)) => peer.is_loopback() || is_in_house(peer, place.address),
        (Side::House, IpAddr::V6(_)) | (Side::Host, _) => false,
    };
    if !near {
        return Err(forbidden("Only the house's own network may use the console"));
    }
    let host =
        request.headers().get(header::HOST).and_then(|h| h.to_str().ok()).unwrap_or_default();
    if !is_ours(host, place) {
        // A name that is not ours points at us by somebody else's doing (DNS rebinding).
        return Err(ApiFailure::new(StatusCode::MISDIRECTED_REQUEST, "This is not that host")
            .next(format!("Open the console by its address: {}.", place.address)));
    }
    let changing = !matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS);
    if let Some(origin) = request.headers().get(header::ORIGIN)
        && (changing || request.path().starts_with("/api/"))
    {
        let origin = origin.to_str().unwrap_or_default();
        let authority = origin.split_once("://").map(|(_, a)| a).unwrap_or_default();
        if !is_ours(authority, place) || authority != host {
            return Err(forbidden("Another site's page asked for this"));
        }
    }
    Ok(())
}

/// Whether somebody is in the subnet of the interface at which this listener is: not in a network that
/// only leads here, such as those of containers and tunnels.
fn is_in_house(peer: Ipv4Addr, listener: SocketAddr) -> bool {
    let at = Interfaces::Listed(vec![listener.ip().to_string()]);
    let interfaces = ServedInterface::present(&at).unwrap_or_default();
    interfaces.iter().any(|interface| interface.address == peer || interface.holds(peer))
}

/// Whether a Host or an Origin's authority names this listener.
fn is_ours(authority: &str, place: ListenerAddress) -> bool {
    let (name, port) = match authority.rsplit_once(':') {
        // Port 0 is nobody's: what is no port is not ours.
        Some((name, port)) => (name, Some(port.parse().unwrap_or(0))),
        None => (authority, None),
    };
    let name_fits = name == place.address.ip().to_string()
        || (place.side == Side::Loopback
            && (name.eq_ignore_ascii_case("localhost") || name == "127.0.0.1"));
    name_fits && port.is_none_or(|p: u16| p == place.address.port())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_our_own_names() {
        let loopback =
            ListenerAddress { side: Side::Loopback, address: "127.0.0.1:7641".parse().unwrap() };
        for ours in ["127.0.0.1:7641", "localhost:7641", "LOCALHOST:7641", "127.0.0.1"] {
            assert!(is_ours(ours, loopback), "{ours}");
        }
        for other in
            ["evil.example:7641", "127.0.0.1:80", "127.0.0.1.evil.example", "", "localhost:x@y"]
        {
            assert!(!is_ours(other, loopback), "{other}");
        }
        let house =
            ListenerAddress { side: Side::House, address: "192.0.2.21:7642".parse().unwrap() };
        assert!(is_ours("192.0.2.21:7642", house) && !is_ours("localhost:7642", house));
    }
}
