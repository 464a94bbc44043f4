//! SUBSCRIBE and UNSUBSCRIBE (UDA §4.1).

use actix_web::http::{StatusCode, header};
use actix_web::{HttpRequest, HttpResponse, web};
use mostra_app::Clock;
use mostra_app::devices::Devices;
use mostra_app::library::Library;
use mostra_app::network::{Network, Subscriptions};
use mostra_app::random::random_uuid;
use mostra_core::access::Decision;
use mostra_core::sighting::Act;
use mostra_protocol::model::service::OwnService;
use mostra_protocol::server::description::event_path;
use mostra_protocol::server::{Asked, Granted, Receiver, Refusal, callbacks, read_timeout};
use mostra_protocol::server::{connection_manager, registrar};

use super::control::source_list;
use super::gate::{Requester, named};

pub(crate) fn routes(config: &mut web::ServiceConfig, services: &[OwnService]) {
    for service in services.iter().copied() {
        let handler = move |request, clock, devices, library, network, subscriptions| {
            subscribe(service, request, clock, devices, library, network, subscriptions)
        };
        config.service(web::resource(event_path(service)).route(web::to(handler)));
    }
}

async fn subscribe(
    service: OwnService,
    request: HttpRequest,
    clock: web::Data<Clock>,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
    network: web::Data<Network>,
    subscriptions: web::Data<Subscriptions>,
) -> HttpResponse {
    let Some(requester) = Requester::of(&request) else {
        return HttpResponse::Forbidden().finish();
    };
    // A refused device is told of nothing (SEC-22).
    if requester.device.decision == Decision::Refused {
        return HttpResponse::Forbidden().finish();
    }
    let now = clock.now();
    let headers = request.headers();
    let (sid, nt, callback) =
        (named(headers, "sid"), named(headers, "nt"), named(headers, "callback"));
    let source = *requester.peer.ip();
    let outcome = match request.method().as_str() {
        "SUBSCRIBE" => match Asked::read(sid, nt, callback) {
            Ok(Asked::Renew { sid }) => subscriptions.publisher().renew(
                now,
                &sid,
                source,
                read_timeout(named(headers, "timeout")),
            ),
            Ok(Asked::New { callback }) => {
                let own = network.own_addresses();
                let admitted = matches!(requester.device.decision, Decision::Admitted(_));
                let callbacks = callbacks(&callback, source, &own);
                let subscriber = Receiver { source, callbacks, admitted };
                let timeout = read_timeout(named(headers, "timeout"));
                let variables = initial(service, &devices, &library, &requester);
                let sid = format!("uuid:{}", random_uuid());
                subscriptions
                    .publisher()
                    .subscribe(now, sid, service, subscriber, timeout, variables)
            }
            Err(error) => return status_only(error.status()),
        },
        "UNSUBSCRIBE" => {
            let Some(sid) = sid else { return status_only(412) };
            if nt.is_some() || callback.is_some() {
                return status_only(400);
            }
            let ended = subscriptions.publisher().unsubscribe(now, sid.trim(), source);
            match ended {
                Ok(()) => {
                    let service = service.slug().to_owned();
                    devices.report(&requester.device, Act::Unsubscribed { service });
                    return HttpResponse::Ok().finish();
                }
                Err(refusal) => Err(refusal),
            }
        }
        _ => {
            let allowed = (header::ALLOW, "SUBSCRIBE, UNSUBSCRIBE");
            return HttpResponse::build(StatusCode::METHOD_NOT_ALLOWED)
                .insert_header(allowed)
                .finish();
        }
    };
    subscriptions.wake();
    let act = match &outcome {
        Ok(_) => Act::Subscribed { service: service.slug().to_owned() },
        Err(Refusal::Precondition) => Act::Refused { status: 412 },
        Err(Refusal::TooMany) => Act::Refused { status: 503 },
    };
    devices.report(&requester.device, act);
    match outcome {
        Ok(Granted { sid, timeout }) => HttpResponse::Ok()
            .insert_header(("sid", sid))
            .insert_header(("timeout", format!("Second-{}", timeout.as_secs())))
            .finish(),
        Err(Refusal::Precondition) => status_only(412),
        Err(Refusal::TooMany) => status_only(503),
    }
}

/// All evented variables of a service, for this device (GENA-3).
fn initial(
    service: OwnService,
    devices: &Devices,
    library: &Library,
    requester: &Requester,
) -> Vec<(&'static str, String)> {
    match service {
        OwnService::ContentDirectory => {
            let id = devices.update_id_for(&requester.device.decision, requester.device.offset);
            vec![
                ("SystemUpdateID", id.to_string()),
                ("ContainerUpdateIDs", String::new()),
                ("TransferIDs", String::new()),
            ]
        }
        OwnService::ConnectionManager => {
            connection_manager::event_variables(&source_list(library, requester))
        }
        OwnService::Registrar => registrar::event_variables(),
    }
}

/// An answer of a status and nothing else.
pub(crate) fn status_only(status: u16) -> HttpResponse {
    HttpResponse::build(StatusCode::from_u16(status).unwrap_or(StatusCode::BAD_REQUEST)).finish()
}
