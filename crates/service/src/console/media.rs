//! Films, sounds, pictures and subtitles for the person at the console, under their login.

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, get, web};
use mostra_core::access::Pass;
use mostra_core::catalogue::{ItemView, Located, Node};
use mostra_core::profile::Rendition;
use mostra_media::subtitle;
use utoipa_actix_web::service_config::ServiceConfig;

use super::problem::Failure;
use super::session::Caller;
use crate::file_body::{self, FileBody, Piece};
use crate::house::House;
use crate::ranged::{self, Fields, put};

pub fn routes(config: &mut ServiceConfig<'_>) {
    config.service(file).service(art).service(captions);
}

fn missing() -> Failure {
    Failure::missing("No such item")
}

fn located(caller: &Caller, house: &House, id: &str) -> Result<(ItemView, Located), Failure> {
    let pass = Pass::for_account(&caller.0);
    let catalogue = house.catalogue();
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
    caller: Caller,
    request: HttpRequest,
    id: web::Path<String>,
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    let (item, located) = located(&caller, &house, &id)?;
    if let Some(address) = &item.facts.station {
        let mut answer = HttpResponse::Ok();
        answer.insert_header((header::CACHE_CONTROL, "no-store"));
        let stations = house.settings().stations;
        let heard = house.stations.pass_on(address, &stations, None, answer, || None).await;
        return heard.map_err(|why| {
            Failure::missing("The station is not heard")
                .why(format!("{why}."))
                .next("See which hosts are allowed: mostra house stations")
        });
    }
    let mime = item.mime.unwrap_or_else(|| item.facts.format.mime().into());
    let opened = match file_body::open(&house.lanes, located).await {
        Ok(opened) => opened,
        _ => return Err(Failure::missing("The file cannot be read").next("Rescan its folder.")),
    };
    let size = opened.metadata.len();
    let validators = file_body::validators(&opened.metadata);
    let mut fields = Fields::new();
    put(&mut fields, header::CONTENT_TYPE, &mime);
    let answered = ranged::answer(request.head(), size, &validators, false, &mut fields);
    let mut answer = HttpResponse::build(answered.status);
    fields.into_iter().for_each(|field| {
        answer.insert_header(field);
    });
    Ok(match answered.piece {
        Some((first, length)) => {
            answer.body(FileBody::new(Piece { opened, first, length, transfer: None }))
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
    caller: Caller,
    path: web::Path<(String, String, String)>,
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    let (id, _, size) = path.into_inner();
    let (item, located) = located(&caller, &house, &id)?;
    let rendition = Rendition::from_word(&size).ok_or_else(missing)?;
    match house.art.of(&house.lanes, &item, located, rendition).await {
        Ok(Some(jpeg)) => Ok(HttpResponse::Ok()
            .insert_header((header::CONTENT_TYPE, "image/jpeg"))
            // The stamp in the path changes with the picture.
            .insert_header((header::CACHE_CONTROL, "private, max-age=2592000"))
            .body(jpeg)),
        Ok(None) => Err(Failure::missing("It has no picture that can be read")),
        Err(_) => Err(Failure::missing("The file cannot be read").next("Rescan its folder.")),
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
    caller: Caller,
    path: web::Path<(String, usize)>,
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    let (id, number) = path.into_inner();
    let (item, located) = located(&caller, &house, &id)?;
    let caption = item.facts.captions.get(number).ok_or_else(missing)?;
    let bytes = file_body::read_small(&house.lanes, located.beside(&caption.name), subtitle::BYTES)
        .await
        .map_err(|_| Failure::missing("The subtitles cannot be read").next("Rescan the folder."))?;
    let text = subtitle::as_form(&bytes, caption.webvtt, true);
    Ok(HttpResponse::Ok().content_type("text/vtt; charset=utf-8").body(text))
}
