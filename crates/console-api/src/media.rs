//! Films, sounds, pictures and subtitles for the person at the console, under their login.

use actix_web::body::SizedStream;
use actix_web::http::header::{self, HeaderName, HeaderValue};
use actix_web::http::{Method, StatusCode};
use actix_web::{HttpRequest, HttpResponse, get, web};
use mostra_app::library::Library;
use mostra_app::library::files::ResourcePart;
use mostra_core::access::Pass;
use mostra_core::catalogue::{ItemView, Located, Node};
use mostra_core::delivery::{self, ResourceRequest};
use mostra_core::profile::Rendition;
use mostra_core::resource::Length;
use mostra_media::subtitle;
use utoipa_actix_web::service_config::ServiceConfig;

use super::problem::ApiFailure;
use super::session::CallerOrKey;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(file).service(art).service(captions);
}

fn missing() -> ApiFailure {
    ApiFailure::missing("No such item")
}

fn located(
    caller: &CallerOrKey,
    library: &Library,
    id: &str,
) -> Result<(ItemView, Located), ApiFailure> {
    let pass = Pass::for_account(&caller.0);
    let catalogue = library.catalogue();
    let missing = || ApiFailure::not_in(library, "No such item");
    let object = catalogue.object(&pass, id).ok_or_else(missing)?;
    let Node::Item(item) = object.node else { return Err(missing()) };
    Ok((*item, catalogue.locate(&pass, id).ok_or_else(missing)?))
}

#[utoipa::path(
    operation_id = "getFile",
    summary = "An item's file",
    responses(
        (status = 200, description = "All of it", content(
            (Vec<u8> = "video/*"), (Vec<u8> = "audio/*"), (Vec<u8> = "image/*")
        )),
        (status = 206, description = "The part asked for by Range", content(
            (Vec<u8> = "video/*"), (Vec<u8> = "audio/*"), (Vec<u8> = "image/*")
        )),
        (status = 304, description = "As it was"),
        (status = 416, description = "No such part"),
    )
)]
#[get("/catalogue/{id}/file")]
async fn file(
    caller: CallerOrKey,
    request: HttpRequest,
    id: web::Path<String>,
    library: web::Data<Library>,
) -> Result<HttpResponse, ApiFailure> {
    let (item, located) = located(&caller, &library, &id)?;
    if let Some(address) = &item.facts.station {
        let mut answer = HttpResponse::Ok();
        answer.insert_header((header::CACHE_CONTROL, "no-store"));
        let heard = library.stations.hear(address, &library.allowed_stations()).await;
        let broadcast = heard.map_err(|why| {
            ApiFailure::missing("The station is not heard")
                .why(format!("{why}."))
                .next("See which hosts are allowed: mostra house stations")
        })?;
        answer.insert_header((header::CONTENT_TYPE, broadcast.mime.clone()));
        return Ok(answer.streaming(Box::pin(broadcast.sound(()))));
    }
    let mime = item.mime.unwrap_or_else(|| item.facts.format.mime().into());
    let opened = match library.files.open(located).await {
        Ok(opened) => opened,
        Err(_) => {
            return Err(ApiFailure::missing("The file cannot be read").next("Rescan its folder."));
        }
    };
    let field = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok());
    let head = request.method() == Method::HEAD;
    let asked = ResourceRequest { head, head_range: false, field: &field };
    let length = Length::Known(opened.metadata.len());
    let delivery = delivery::plain(asked, length, Some(&opened.validators()));
    let status = StatusCode::from_u16(delivery.status).unwrap_or(StatusCode::BAD_REQUEST);
    let mut answer = HttpResponse::build(status);
    answer.insert_header((header::CONTENT_TYPE, mime));
    for (name, value) in &delivery.fields {
        if let (Ok(name), Ok(value)) = (HeaderName::try_from(&**name), HeaderValue::from_str(value))
        {
            answer.insert_header((name, value));
        }
    }
    Ok(match delivery.bytes() {
        Some((first, length)) => {
            let piece = ResourcePart { opened, first, length, swapped: false, transfer: None };
            answer.body(SizedStream::new(length, Box::pin(piece.chunks())))
        }
        None => answer.finish(),
    })
}

#[utoipa::path(
    operation_id = "getArt",
    summary = "A picture that shows an item",
    responses((status = 200, content_type = "image/jpeg"))
)]
#[get("/catalogue/{id}/art/{stamp}/{size}")]
async fn art(
    caller: CallerOrKey,
    path: web::Path<(String, String, String)>,
    library: web::Data<Library>,
) -> Result<HttpResponse, ApiFailure> {
    let (id, _, size) = path.into_inner();
    let (item, located) = located(&caller, &library, &id)?;
    let rendition = Rendition::from_word(&size).ok_or_else(missing)?;
    match library.pictures.of(&library.files, &item, located, rendition).await {
        Ok(Some(jpeg)) => Ok(HttpResponse::Ok()
            .insert_header((header::CONTENT_TYPE, "image/jpeg"))
            // The stamp in the path changes with the picture.
            .insert_header((header::CACHE_CONTROL, "private, max-age=2592000"))
            .body(jpeg)),
        Ok(None) => Err(ApiFailure::missing("It has no picture that can be read")),
        Err(_) => Err(ApiFailure::missing("The file cannot be read").next("Rescan its folder.")),
    }
}

/// Subtitles as browsers read them.
#[utoipa::path(
    operation_id = "getCaptions",
    summary = "Subtitles beside an item, as WebVTT",
    responses((status = 200, content_type = "text/vtt"))
)]
#[get("/catalogue/{id}/captions/{number}")]
async fn captions(
    caller: CallerOrKey,
    path: web::Path<(String, usize)>,
    library: web::Data<Library>,
) -> Result<HttpResponse, ApiFailure> {
    let (id, number) = path.into_inner();
    let (item, located) = located(&caller, &library, &id)?;
    let caption = item.facts.captions.get(number).ok_or_else(missing)?;
    let bytes =
        library.files.read_small(located.beside(&caption.name), subtitle::BYTES).await.map_err(
            |_| ApiFailure::missing("The subtitles cannot be read").next("Rescan the folder."),
        )?;
    let text = subtitle::as_form(&bytes, caption.webvtt, true);
    Ok(HttpResponse::Ok().content_type("text/vtt; charset=utf-8").body(text))
}
