//! Control: SOAP calls on the three services.

use actix_web::http::header::{self, HeaderValue};
use actix_web::{HttpRequest, HttpResponse, web};
use mostra_app::compute_pool::{self, ComputePool, DEADLINE};
use mostra_app::devices::Devices;
use mostra_app::devices::sightings::Fact;
use mostra_app::library::Library;
use mostra_app::streams::Streams;
use mostra_core::access::Decision;
use mostra_core::present;
use mostra_core::proof::Step;
use mostra_core::stop::Stop;
use mostra_protocol::content_directory::{Browse, Leniency, Search};
use mostra_protocol::description::control_path;
use mostra_protocol::identifiers::Service;
use mostra_protocol::soap::{self, Call, Fault, Value};
use mostra_protocol::text::{NAME, tame};
use mostra_protocol::xml_writer::Layer;
use mostra_protocol::{charset, connection_manager, property, registrar};

use super::gate::{Requester, text};

pub fn routes(config: &mut web::ServiceConfig, services: &[Service]) {
    for service in services.iter().copied() {
        let resource = web::resource(control_path(service))
            .route(web::post().to(move |request, devices, library, streams, pool, body| {
                control(service, request, devices, library, streams, pool, body)
            }))
            .default_service(web::to(|| async {
                HttpResponse::MethodNotAllowed().insert_header((header::ALLOW, "POST")).finish()
            }));
        config.service(resource);
    }
}

/// What the service can send to a device, as GetProtocolInfo and its event list it (CM-8).
pub fn source_list(library: &Library, requester: &Requester) -> String {
    let mimes: Vec<String> = library.catalogue().options().mimes.values().cloned().collect();
    let all = present::source_infos(&mimes, &requester.device.traits);
    connection_manager::source_list(all.iter().map(ToString::to_string))
}

async fn control(
    service: Service,
    request: HttpRequest,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
    streams: web::Data<Streams>,
    pool: web::Data<ComputePool>,
    body: web::Bytes,
) -> HttpResponse {
    let Some(requester) = Requester::of(&request) else {
        return HttpResponse::Forbidden().finish();
    };
    let kind = text(request.headers(), &header::CONTENT_TYPE);
    let Some(body) = charset::decode(kind, &body) else {
        return HttpResponse::UnsupportedMediaType().finish();
    };
    let Ok(call) = soap::read_call(&body) else { return HttpResponse::BadRequest().finish() };
    let (outcome, fact) = if service.is_type(&call.namespace) {
        answer(service, &call, &devices, &library, &pool, &requester).await
    } else {
        (Err(Fault::InvalidAction), None)
    };
    match outcome {
        Ok(arguments) => {
            let value = |name: &str, text| match (name, service) {
                // Written for the envelope already.
                ("Result", Service::ContentDirectory) => Value::Nested(text),
                _ => Value::Text(text),
            };
            let arguments: Vec<(&str, Value<'_>)> =
                arguments.iter().map(|(n, text)| (*n, value(n, text.as_str()))).collect();
            let document = soap::write_answer(&call, &arguments);
            if let Some(fact) = fact {
                requester.proves(&streams, fact, document.len());
            }
            send(HttpResponse::Ok(), document)
        }
        Err(fault) => {
            if let Some(fact) = fact {
                devices.report(requester.device.device, fact);
            }
            tracing::debug!(peer = %requester.peer, action = %tame(&call.action, NAME), "fault {}", fault.code());
            send(HttpResponse::InternalServerError(), fault.write())
        }
    }
}

fn send(mut answer: actix_web::HttpResponseBuilder, document: String) -> HttpResponse {
    answer
        .insert_header(("ext", HeaderValue::from_static("")))
        .content_type("text/xml; charset=\"utf-8\"")
        .body(document)
}

/// Objects of a page that is written at once, without a turn among the long ones.
const QUICK: u32 = 1000;

type Outcome = Result<Vec<(&'static str, String)>, Fault>;

async fn answer(
    service: Service,
    call: &Call,
    devices: &Devices,
    library: &Library,
    pool: &ComputePool,
    requester: &Requester,
) -> (Outcome, Option<Fact>) {
    match service {
        Service::ContentDirectory => content(call, devices, library, pool, requester).await,
        Service::ConnectionManager => {
            (connection_manager::answer(call, &source_list(library, requester)), None)
        }
        Service::Registrar => {
            devices.asked_registrar(requester.device.device, *requester.peer.ip());
            (registrar::answer(call, requester.device.decision != Decision::Refused), None)
        }
    }
}

async fn content(
    call: &Call,
    devices: &Devices,
    library: &Library,
    pool: &ComputePool,
    requester: &Requester,
) -> (Outcome, Option<Fact>) {
    let catalogue = library.catalogue();
    let leniency = match requester.device.traits.pass_over_sort {
        Some(true) => Leniency::PassOverSort,
        _ => Leniency::Standard,
    };
    let plain = |name, value: String| (Ok(vec![(name, value)]), None);
    match call.action.as_str() {
        "GetSearchCapabilities" => plain("SearchCaps", property::search_capabilities()),
        "GetSortCapabilities" => plain("SortCaps", property::sort_capabilities()),
        "GetSystemUpdateID" => {
            let id = devices.update_id_for(&requester.device.decision, requester.device.offset);
            plain("Id", id.to_string())
        }
        "Browse" => match Browse::read(call, leniency) {
            Ok(browse) => {
                let root = browse.object == "0";
                // Of few objects in the order in which they stand it takes no time to speak of.
                let quick = browse.sort.is_empty() && (1..=QUICK).contains(&browse.count);
                let page = if quick {
                    present::browse(
                        &catalogue,
                        &requester.device.decision,
                        &browse,
                        form(requester),
                    )
                } else {
                    let requester = requester.clone();
                    let who = compute_pool::Requester::Device(requester.device.device);
                    let work = move |_: &Stop| {
                        present::browse(
                            &catalogue,
                            &requester.device.decision,
                            &browse,
                            form(&requester),
                        )
                    };
                    pool.run(who, DEADLINE, work).await.unwrap_or(Err(Fault::ActionFailed))
                };
                listed(page, root, requester)
            }
            Err(fault) => (Err(fault), None),
        },
        "Search" => match Search::read(call, leniency) {
            Ok(search) => {
                let root = search.container == "0";
                let asking = requester.clone();
                let work = move |stop: &Stop| {
                    present::search(
                        &catalogue,
                        &asking.device.decision,
                        &search,
                        form(&asking),
                        stop,
                    )
                };
                let page = pool
                    .run(compute_pool::Requester::Device(requester.device.device), DEADLINE, work)
                    .await;
                listed(page.unwrap_or(Err(Fault::ActionFailed)), root, requester)
            }
            Err(fault) => (Err(fault), None),
        },
        _ => (Err(Fault::InvalidAction), None),
    }
}

/// A page as out arguments, and what it proves of the device.
fn listed(
    page: Result<present::Answer, Fault>,
    root: bool,
    requester: &Requester,
) -> (Outcome, Option<Fact>) {
    let page = match page {
        Ok(page) => page,
        Err(fault) => return (Err(fault), in_vain(requester, "asked for a menu it does not see")),
    };
    let update_id = match requester.device.decision {
        Decision::Admitted(_) => page.update_id,
        Decision::Waiting | Decision::Refused => requester.device.offset,
    };
    let news = (root && !requester.device.has_proven(Step::Opened))
        || (page.items > 0 && !requester.device.has_proven(Step::Listed));
    let fact = match requester.device.decision {
        Decision::Admitted(_) => {
            news.then(|| Fact::Listed { root, title: page.title.clone(), items: page.items })
        }
        _ => in_vain(requester, if root { "asked for the root menu" } else { "asked for a menu" }),
    };
    let arguments = vec![
        ("Result", page.result),
        ("NumberReturned", page.returned.to_string()),
        ("TotalMatches", page.total.to_string()),
        ("UpdateID", update_id.to_string()),
    ];
    (Ok(arguments), fact)
}

/// The form in which the catalogue is written for who asks.
fn form(requester: &Requester) -> present::Form<'_> {
    present::Form {
        base: &requester.base,
        offset: requester.device.offset,
        films_pictured: mostra_media::art::films_pictured(),
        layer: Layer::Nested,
        traits: &requester.device.traits,
    }
}

/// That a device asked for something and got nothing, if it is not let in.
fn in_vain(requester: &Requester, what: &'static str) -> Option<Fact> {
    (!matches!(requester.device.decision, Decision::Admitted(_))).then_some(Fact::Denied(what))
}
