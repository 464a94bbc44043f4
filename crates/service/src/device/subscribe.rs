//! SUBSCRIBE and UNSUBSCRIBE (UDA §4.1).

use std::net::SocketAddrV4;

use actix_web::http::{StatusCode, header};
use actix_web::{HttpRequest, HttpResponse, web};
use mostra_core::access::Decision;
use mostra_protocol::description::event_path;
use mostra_protocol::gena::{Asked, Granted, Refusal, Subscriber, callbacks, read_timeout};
use mostra_protocol::wire::Service;
use mostra_protocol::{connection_manager, registrar};

use super::control::source_list;
use super::gate::{Asker, named};
use crate::house::House;
use crate::random::random_uuid;

pub fn routes(config: &mut web::ServiceConfig, services: &[Service]) {
    for service in services.iter().copied() {
        let handler = move |request, house| subscribe(service, request, house);
        config.service(web::resource(event_path(service)).route(web::to(handler)));
    }
}

async fn subscribe(
    service: Service,
    request: HttpRequest,
    house: web::Data<House>,
) -> HttpResponse {
    let Some(asker) = Asker::of(&request) else { return HttpResponse::Forbidden().finish() };
    // A refused device is told of nothing (SEC-22).
    if asker.met.decision == Decision::Refused {
        return HttpResponse::Forbidden().finish();
    }
    let now = house.clock.now();
    let headers = request.headers();
    let (sid, nt, callback) =
        (named(headers, "sid"), named(headers, "nt"), named(headers, "callback"));
    let source = *asker.peer.ip();
    let outcome = match request.method().as_str() {
        "SUBSCRIBE" => match Asked::read(sid, nt, callback) {
            Ok(Asked::Renew { sid }) => {
                house.publisher().renew(now, &sid, source, read_timeout(named(headers, "timeout")))
            }
            Ok(Asked::New { callback }) => {
                let own = own_addresses(&house);
                let admitted = matches!(asker.met.decision, Decision::Admitted(_));
                let callbacks = callbacks(&callback, source, &own);
                let subscriber = Subscriber { source, callbacks, admitted };
                let timeout = read_timeout(named(headers, "timeout"));
                let variables = initial(service, &house, &asker);
                let sid = format!("uuid:{}", random_uuid());
                house.publisher().subscribe(now, sid, service, subscriber, timeout, variables)
            }
            Err(status) => return status_only(status),
        },
        "UNSUBSCRIBE" => {
            let Some(sid) = sid else { return status_only(412) };
            if nt.is_some() || callback.is_some() {
                return status_only(400);
            }
            match house.publisher().unsubscribe(now, sid.trim(), source) {
                Ok(()) => return HttpResponse::Ok().finish(),
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
    house.events_due.notify_one();
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
fn initial(service: Service, house: &House, asker: &Asker) -> Vec<(&'static str, String)> {
    match service {
        Service::ContentDirectory => {
            let id = house.update_id_for(&asker.met.decision, asker.met.offset);
            vec![
                ("SystemUpdateID", id.to_string()),
                ("ContainerUpdateIDs", String::new()),
                ("TransferIDs", String::new()),
            ]
        }
        Service::ConnectionManager => {
            connection_manager::event_variables(&source_list(house, asker))
        }
        Service::Registrar => registrar::event_variables(),
    }
}

fn own_addresses(house: &House) -> Vec<SocketAddrV4> {
    let port = house.device_port.load(std::sync::atomic::Ordering::Relaxed);
    house.served().iter().map(|s| SocketAddrV4::new(s.address, port)).collect()
}

fn status_only(status: u16) -> HttpResponse {
    HttpResponse::build(StatusCode::from_u16(status).unwrap_or(StatusCode::BAD_REQUEST)).finish()
}
