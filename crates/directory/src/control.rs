//! Control: SOAP calls on the three services.

use actix_web::http::header::{self, HeaderValue};
use actix_web::{HttpRequest, HttpResponse, web};
use mostra_app::compute_pool::{self, ComputePool, DEADLINE};
use mostra_app::devices::Devices;
use mostra_app::foreign_text::parse;
use mostra_app::library::Library;
use mostra_core::access::Decision;
use mostra_core::ids::UpdateId;
use mostra_core::present;
use mostra_core::sighting::{Act, Attempt};
use mostra_core::stop::Stop;
use mostra_protocol::model::service::{
    ActionRow, OwnService, ServiceAction, connection_manager as connections,
    content_directory as content, registrar as registration,
};
use mostra_protocol::model::text::{NAME, tame};
use mostra_protocol::model::xml_writer::Layer;
use mostra_protocol::model::{charset, property};
use mostra_protocol::server::content_directory::{Browse, Leniency, Search};
use mostra_protocol::server::description::control_path;
use mostra_protocol::server::{
    Call, Fault, Value, connection_manager, read_call, registrar, write_answer,
};

use super::gate::{Requester, text};
use super::media::LOADING;

pub(crate) fn routes(config: &mut web::ServiceConfig, services: &[OwnService]) {
    for service in services.iter().copied() {
        let resource = web::resource(control_path(service))
            .route(web::post().to(move |request, devices, library, pool| {
                control(service, request, devices, library, pool)
            }))
            .default_service(web::to(|| async {
                HttpResponse::MethodNotAllowed().insert_header((header::ALLOW, "POST")).finish()
            }));
        config.service(resource);
    }
}

/// What the service can send to a device, as GetProtocolInfo and its event list it (CM-8).
pub(crate) fn source_list(library: &Library, requester: &Requester) -> String {
    let mimes: Vec<String> = library.catalogue().options().mimes.values().cloned().collect();
    let all = present::source_infos(&mimes, &requester.device.traits);
    connection_manager::source_list(all.iter().map(ToString::to_string))
}

async fn control(
    service: OwnService,
    request: HttpRequest,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
    pool: web::Data<ComputePool>,
) -> HttpResponse {
    let Some(requester) = Requester::of(&request) else {
        return HttpResponse::Forbidden().finish();
    };
    let kind = text(request.headers(), &header::CONTENT_TYPE);
    let Some(body) = charset::decode(kind, &requester.body) else {
        return HttpResponse::UnsupportedMediaType().finish();
    };
    let Ok(call) = parse(body, |body| read_call(body)).await else {
        return HttpResponse::BadRequest().finish();
    };
    if is_loading(service, &call, &library, &requester) {
        return HttpResponse::ServiceUnavailable()
            .insert_header((header::RETRY_AFTER, LOADING.to_string()))
            .finish();
    }
    let answered = if service.is_type(&call.namespace) {
        answer(service, &call, &devices, &library, &pool, &requester).await
    } else {
        Fault::InvalidAction.into()
    };
    match answered.outcome {
        Ok((action, values)) => {
            let document = write_answer(&call, action, &values);
            requester.answered(&devices, action.name, answered.act, document.len());
            send(HttpResponse::Ok(), document)
        }
        Err(fault) => {
            // Kept by the name that it has in our tables.
            let action = call.action.clone();
            let fault_act = Act::Faulted { action, code: fault.code() };
            devices.report(&requester.device, answered.act.unwrap_or(fault_act));
            tracing::debug!(peer = %requester.peer, action = %tame(&call.action, NAME), "fault {}", fault.code());
            send(HttpResponse::InternalServerError(), fault.write())
        }
    }
}

/// Whether a device that is let in asks for a list that is not known yet: the root alone is, until the
/// catalogue is loaded.
fn is_loading(service: OwnService, call: &Call, library: &Library, requester: &Requester) -> bool {
    let admitted = matches!(requester.device.decision, Decision::Admitted(_));
    let lists = match content::Action::from_name(&call.action) {
        Some(content::Action::Browse) => call.argument("ObjectID").is_some_and(|id| id != "0"),
        Some(content::Action::Search) => true,
        _ => false,
    };
    let content = service == OwnService::ContentDirectory;
    content && admitted && lists && !library.shared().is_loaded()
}

fn send(mut answer: actix_web::HttpResponseBuilder, document: String) -> HttpResponse {
    answer
        .insert_header(("ext", HeaderValue::from_static("")))
        .content_type("text/xml; charset=\"utf-8\"")
        .body(document)
}

/// Objects of a page that is written at once, without a turn among the long ones.
const QUICK: u32 = 1000;

/// What becomes of a call: the action with its out arguments, or a fault; and what the device did
/// by it.
struct Answered {
    outcome: Result<(&'static ActionRow, Vec<Value>), Fault>,
    act: Option<Act>,
}

impl Answered {
    fn of(action: impl ServiceAction, values: impl Into<Vec<Value>>) -> Answered {
        Answered { outcome: Ok((action.row(), values.into())), act: None }
    }
}

impl From<Fault> for Answered {
    fn from(fault: Fault) -> Answered {
        Answered { outcome: Err(fault), act: None }
    }
}

async fn answer(
    service: OwnService,
    call: &Call,
    devices: &Devices,
    library: &Library,
    pool: &ComputePool,
    requester: &Requester,
) -> Answered {
    let name = call.action.as_str();
    match service {
        OwnService::ContentDirectory => match content::Action::from_name(name) {
            Some(action) => content(action, call, devices, library, pool, requester).await,
            None => Fault::InvalidAction.into(),
        },
        OwnService::ConnectionManager => {
            let Some(action) = connections::Action::from_name(name) else {
                return Fault::InvalidAction.into();
            };
            match connection_manager::answer(action, call, &source_list(library, requester)) {
                Ok(values) => Answered::of(action, values),
                Err(fault) => fault.into(),
            }
        }
        OwnService::Registrar => {
            devices.asked_registrar(requester.device.device, *requester.peer.ip());
            let Some(action) = registration::Action::from_name(name) else {
                return Fault::InvalidAction.into();
            };
            let welcome = requester.device.decision != Decision::Refused;
            Answered::of(action, registrar::answer(action, welcome))
        }
    }
}

async fn content(
    action: content::Action,
    call: &Call,
    devices: &Devices,
    library: &Library,
    pool: &ComputePool,
    requester: &Requester,
) -> Answered {
    let catalogue = library.catalogue();
    let leniency = match requester.device.traits.pass_over_sort {
        Some(true) => Leniency::PassOverSort,
        _ => Leniency::Standard,
    };
    let who = compute_pool::WorkOwner::Device(requester.device.device);
    match action {
        content::Action::GetSearchCapabilities => {
            Answered::of(action, [property::search_capabilities().into()])
        }
        content::Action::GetSortCapabilities => {
            Answered::of(action, [property::sort_capabilities().into()])
        }
        content::Action::GetSystemUpdateID => {
            let device = &requester.device;
            let id = devices.update_id_for(&device.decision, device.offset);
            Answered::of(action, [id.to_string().into()])
        }
        content::Action::Browse => match Browse::read(call, leniency) {
            Ok(browse) => {
                let root = browse.object == "0";
                // Of few objects in the order in which they stand it takes no time to speak of.
                let quick = browse.sort.is_empty() && (1..=QUICK).contains(&browse.count);
                let decision = &requester.device.decision;
                let page = if quick {
                    present::browse(
                        &catalogue,
                        decision,
                        &browse,
                        form(requester),
                        &Stop::default(),
                    )
                } else {
                    let asking = requester.clone();
                    let work = move |stop: &Stop| {
                        let decision = &asking.device.decision;
                        present::browse(&catalogue, decision, &browse, form(&asking), stop)
                    };
                    pool.run(who, DEADLINE, work).await.unwrap_or(Err(Fault::ActionFailed))
                };
                listed(action, page, root, requester)
            }
            Err(fault) => fault.into(),
        },
        content::Action::Search => match Search::read(call, leniency) {
            Ok(search) => {
                let root = search.container == "0";
                let asking = requester.clone();
                let work = move |stop: &Stop| {
                    let decision = &asking.device.decision;
                    present::search(&catalogue, decision, &search, form(&asking), stop)
                };
                let page = pool.run(who, DEADLINE, work).await;
                listed(action, page.unwrap_or(Err(Fault::ActionFailed)), root, requester)
            }
            Err(fault) => fault.into(),
        },
    }
}

/// A page as out arguments, and what the device does by taking it.
fn listed(
    action: content::Action,
    page: Result<present::ListAnswer, Fault>,
    root: bool,
    requester: &Requester,
) -> Answered {
    let page = match page {
        Ok(page) => page,
        Err(fault) => {
            let act = in_vain(requester, Attempt::HiddenMenu);
            return Answered { act, ..fault.into() };
        }
    };
    let update_id = match requester.device.decision {
        Decision::Admitted(_) => page.update_id,
        Decision::Waiting | Decision::Refused => UpdateId(requester.device.offset),
    };
    let act = match requester.device.decision {
        Decision::Admitted(_) => {
            let (items, of, kinds, title) = (page.items, page.total, page.kinds, page.title);
            Some(Act::Listed { root, items, of, kinds, title, files: page.files })
        }
        _ => in_vain(requester, if root { Attempt::RootMenu } else { Attempt::Menu }),
    };
    let values = [
        // Written for the envelope already.
        Value::Nested(page.result),
        page.returned.to_string().into(),
        page.total.to_string().into(),
        update_id.to_string().into(),
    ];
    Answered { act, ..Answered::of(action, values) }
}

/// The form in which the catalogue is written for who asks.
fn form(requester: &Requester) -> present::AnswerForm<'_> {
    present::AnswerForm {
        base: &requester.base,
        offset: requester.device.offset,
        films_pictured: mostra_media::art::films_pictured(),
        layer: Layer::Nested,
        traits: &requester.device.traits,
        counts_files: requester.device.in_walkthrough,
    }
}

/// That a device asked for something and got nothing, if it is not let in.
fn in_vain(requester: &Requester, attempt: Attempt) -> Option<Act> {
    let admitted = matches!(requester.device.decision, Decision::Admitted(_));
    (!admitted).then_some(Act::Denied { attempt })
}
