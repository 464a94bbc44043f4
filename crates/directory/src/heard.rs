//! Events of things on the network that this house subscribed at.

use actix_web::dev::ServiceRequest;
use actix_web::http::header::HeaderMap;
use actix_web::{HttpResponse, web};
use bytes::Bytes;
use mostra_app::Clock;
use mostra_app::foreign_text::parse;
use mostra_app::network::Network;
use mostra_app::network::watching::HEARD;
use mostra_protocol::control_point::{Notification, read_properties};

use super::DeviceConnection;
use super::gate::named;
use super::subscribe::status_only;

/// Whether a request is an event for us. It is sent because we asked for it: whoever sends it asks
/// for nothing, and gets no record by it.
pub(crate) fn is_event(request: &ServiceRequest) -> bool {
    request.path().starts_with(HEARD)
}

/// Takes an event with its body, and answers it (GENA-22).
pub(crate) async fn take(request: &ServiceRequest, body: Bytes) -> HttpResponse {
    if request.method().as_str() != "NOTIFY" {
        return status_only(405);
    }
    let network = request.app_data::<web::Data<Network>>();
    let clock = request.app_data::<web::Data<Clock>>();
    let connection = request.conn_data::<DeviceConnection>();
    let (Some(network), Some(clock), Some(connection)) = (network, clock, connection) else {
        return status_only(500);
    };
    // What cannot be read still counts as an event that came: the next one is no gap.
    let read = |body: &Bytes| read_properties(&String::from_utf8_lossy(body)).unwrap_or_default();
    let variables = parse(body, read).await;
    let headers: &HeaderMap = request.headers();
    let notification = Notification {
        path: request.path(),
        source: *connection.peer.ip(),
        nt: named(headers, "nt"),
        nts: named(headers, "nts"),
        sid: named(headers, "sid"),
        seq: named(headers, "seq").and_then(|seq| seq.trim().parse().ok()),
    };
    status_only(network.watching.notify(clock.now(), notification, variables))
}
