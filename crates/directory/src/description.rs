//! Description, service documents, icons, and the page for a person who opens the address.

use actix_web::http::header::{self, HeaderValue};
use actix_web::{HttpRequest, HttpResponse, Responder, web};
use mostra_core::sighting::Act;
use mostra_protocol::model::service::{self, OwnService};
use mostra_protocol::server::description::{DEVICE_PATH, ICONS, document_path};

use mostra_app::devices::Devices;
use mostra_app::network::Network;

use super::DeviceConnection;
use super::gate::{Requester, named};

const XML: &str = "text/xml; charset=\"utf-8\"";

const ICON_FILES: [(&str, &[u8]); 4] = [
    ("house-120.png", include_bytes!("../assets/house-120.png")),
    ("house-120.jpg", include_bytes!("../assets/house-120.jpg")),
    ("house-48.png", include_bytes!("../assets/house-48.png")),
    ("house-48.jpg", include_bytes!("../assets/house-48.jpg")),
];

pub(crate) fn routes(config: &mut web::ServiceConfig, services: &[OwnService]) {
    config.service(readable(DEVICE_PATH, device));
    for service in services.iter().copied() {
        let path = document_path(service);
        config.service(readable(&path, move || async move {
            HttpResponse::Ok().content_type(XML).body(service::write(service.definition()))
        }));
    }
    config.service(readable("/about/{icon}", icon));
    config.service(readable("/", page));
}

/// A resource for GET and HEAD; anything else is 405.
fn readable<F, Args>(path: &str, handler: F) -> actix_web::Resource
where
    F: actix_web::Handler<Args> + Clone,
    Args: actix_web::FromRequest + 'static,
    F::Output: Responder + 'static,
{
    web::resource(path.to_owned())
        .route(web::get().to(handler.clone()))
        .route(web::head().to(handler))
        .default_service(web::to(|| async {
            HttpResponse::MethodNotAllowed().insert_header((header::ALLOW, "GET, HEAD")).finish()
        }))
}

async fn device(
    request: HttpRequest,
    network: web::Data<Network>,
    devices: web::Data<Devices>,
) -> impl Responder {
    let document = network.description().write();
    if let Some(requester) = Requester::of(&request).filter(|_| request.method() == "GET") {
        requester.answered(&devices, "description", Some(Act::Described), document.len());
    }
    HttpResponse::Ok().content_type(XML).body(document)
}

async fn icon(request: HttpRequest, name: web::Path<String>) -> impl Responder {
    let Some((file, bytes)) = ICON_FILES.iter().find(|(file, _)| *file == name.as_str()) else {
        return HttpResponse::NotFound().finish();
    };
    let declared = ICONS.iter().find(|(icon, _, _)| icon == file);
    let Some((_, mime, side)) = declared else { return HttpResponse::NotFound().finish() };
    let mut answer = HttpResponse::Ok();
    answer.insert_header((header::CACHE_CONTROL, "max-age=86400"));
    if named(request.headers(), "getcontentfeatures.dlna.org") == Some("1") {
        let form = if *mime == "image/png" { "PNG" } else { "JPEG" };
        let size = if *side > 48 { "LRG" } else { "SM" };
        let features = format!("DLNA.ORG_PN={form}_{size}_ICO;DLNA.ORG_OP=01;DLNA.ORG_CI=0");
        if let Ok(value) = HeaderValue::from_str(&features) {
            answer.insert_header(("contentfeatures.dlna.org", value));
        }
    }
    answer.content_type(*mime).body(bytes.to_vec())
}

/// What a person sees who opens the server's address (DESC-12): the console where it is open to
/// them, else a page that says that they reach the house, and how the console is opened.
async fn page(request: HttpRequest, network: web::Data<Network>) -> impl Responder {
    let place = request.conn_data::<DeviceConnection>();
    let console = place.and_then(|at| network.console.url(*at.peer.ip(), *at.local.ip()));
    if let Some(console) = console {
        return HttpResponse::Found()
            .insert_header((header::LOCATION, console.as_str()))
            .insert_header((header::CACHE_CONTROL, "no-store"))
            .content_type("text/html; charset=utf-8")
            .body(format!("<!doctype html><a href=\"{console}\">The console</a>"));
    }
    let name = mostra_protocol::model::xml::escape(&network.name());
    let way = place.map(|at| format!(" from {} at {}", at.peer.ip(), at.local.ip()));
    let way = way.unwrap_or_default();
    HttpResponse::Ok().content_type("text/html; charset=utf-8").body(format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\">\
         <meta name=\"viewport\" content=\"width=device-width\"><title>{name}</title>\
         <body style=\"font:18px/1.5 sans-serif;max-width:36em;margin:3em auto;padding:0 1em\">\
         <h1>{name}</h1><p><b>You reach the house</b>{way}. Whoever sets it up sees that in \
         its preflight.</p><p>This is a media server. Look for it in the menu of your television, \
         player or speaker.</p><p>Its console is closed to other machines. Whoever manages it opens it on \
         the host it runs on: in Settings, or by <code>mostra console open</code>.</p>"
    ))
}
