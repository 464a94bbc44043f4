//! Art, smaller forms of pictures, and subtitles (requirements 5.8).

use std::hash::{DefaultHasher, Hash as _, Hasher as _};

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, web};
use mostra_core::access::Decision;
use mostra_core::catalogue::Node;
use mostra_core::present;
use mostra_core::profile::{self, Rendition};
use mostra_media::subtitle;
use mostra_protocol::conditions::Validators;
use mostra_protocol::xml_writer::Layer;

use super::gate::Asker;
use super::media::dlna_fields;
use crate::file_body;
use crate::house::House;
use crate::ranged::{self, Fields, put};

pub fn routes(config: &mut web::ServiceConfig) {
    for (path, handler) in [("/art/{name}", Shown::Art), ("/captions/{name}", Shown::Captions)] {
        let answer =
            move |request: HttpRequest, name: web::Path<String>, house: web::Data<House>| {
                answer(handler, request, name.into_inner(), house)
            };
        let resource = web::resource(path)
            .route(web::get().to(answer))
            .route(web::head().to(answer))
            .default_service(web::to(|| async {
                HttpResponse::MethodNotAllowed()
                    .insert_header((header::ALLOW, "GET, HEAD"))
                    .finish()
            }));
        config.service(resource);
    }
}

#[derive(Clone, Copy)]
enum Shown {
    Art,
    Captions,
}

/// Subtitles by the film's own URL with their extension in place of its own, for players that
/// know no other way (IOP-38).
pub async fn subtitles(
    request: HttpRequest,
    id: &str,
    webvtt: bool,
    house: web::Data<House>,
) -> HttpResponse {
    let number = Asker::of(&request).and_then(|asker| {
        let Decision::Admitted(pass) = &asker.met.decision else { return None };
        let Node::Item(item) = house.catalogue().object(pass, id)?.node else { return None };
        // One that has the form already, else one of which it can be made.
        let captions = &item.facts.captions;
        let ready = captions.iter().position(|caption| caption.webvtt == webvtt);
        ready.or(Some(0)).filter(|_| !captions.is_empty())
    });
    // Whoever is not let in is told so there.
    let name = format!("{id}.{}.{}", number.unwrap_or(usize::MAX), word(webvtt));
    answer(Shown::Captions, request, name, house).await
}

const WEBVTT: &str = "vtt";

fn word(webvtt: bool) -> &'static str {
    if webvtt { WEBVTT } else { "srt" }
}

async fn answer(
    shown: Shown,
    request: HttpRequest,
    name: String,
    house: web::Data<House>,
) -> HttpResponse {
    let Some(asker) = Asker::of(&request) else { return HttpResponse::Forbidden().finish() };
    // A device that is not let in learns nothing, also by a URL it knew (CDS-53).
    let Decision::Admitted(pass) = &asker.met.decision else {
        return HttpResponse::Forbidden().finish();
    };
    let missing = || HttpResponse::NotFound().finish();
    let busy =
        || HttpResponse::ServiceUnavailable().insert_header((header::RETRY_AFTER, "5")).finish();
    let mut parts = name.split('.');
    let (Some(id), Some(which), Some(word)) = (parts.next(), parts.next(), parts.next()) else {
        return missing();
    };
    let catalogue = house.catalogue();
    let Some(object) = catalogue.object(pass, id) else { return missing() };
    let (Node::Item(item), Some(located)) = (object.node, catalogue.locate(pass, id)) else {
        return missing();
    };
    let other = |info| present::other_info(info, &asker.met.traits);
    let (info, bytes) = match shown {
        Shown::Art => {
            let Some(rendition) = Rendition::from_word(word) else { return missing() };
            match house.art.of(&house.lanes, &item, located, rendition).await {
                Ok(Some(jpeg)) => (other(rendition.protocol_info()), jpeg),
                Ok(None) => return missing(),
                Err(_) => return busy(),
            }
        }
        Shown::Captions => {
            let caption = which.parse().ok().and_then(|n: usize| item.facts.captions.get(n));
            let Some(caption) = caption else { return missing() };
            let beside = located.beside(&caption.name);
            match file_body::read_small(&house.lanes, beside, subtitle::BYTES).await {
                Ok(bytes) => {
                    let webvtt = word == WEBVTT;
                    let text = subtitle::as_form(&bytes, caption.webvtt, webvtt);
                    (other(profile::caption_info(webvtt)), text.into())
                }
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => return missing(),
                Err(_) => return busy(),
            }
        }
    };
    let mut fields = Fields::new();
    if let Err(status) = dlna_fields(request.headers(), &info, &mut fields) {
        return HttpResponse::build(status).finish();
    }
    // As the listing says, to the letter (HTTP-2).
    put(&mut fields, header::CONTENT_TYPE, &info.mime);
    // The path names what it shows, so it never changes (CDS-58).
    put(&mut fields, header::CACHE_CONTROL, "max-age=2592000");
    let head_range = asker.met.traits.head_range == Some(true);
    let (size, validators) = (bytes.len() as u64, validators(&bytes));
    let answered = ranged::answer(request.head(), size, &validators, head_range, &mut fields);
    let mut answer = HttpResponse::build(answered.status);
    fields.into_iter().for_each(|field| {
        answer.insert_header(field);
    });
    match answered.piece {
        // Both lie within the bytes, which are in memory.
        Some((first, length)) => {
            answer.body(bytes.slice(first as usize..(first + length) as usize))
        }
        None => answer.finish(),
    }
}

/// What tells one state of something made from another: its bytes.
fn validators(bytes: &[u8]) -> Validators {
    let mut hasher = DefaultHasher::new();
    bytes.hash(&mut hasher);
    Validators { etag: format!("\"{:x}-{:x}\"", bytes.len(), hasher.finish()), modified: None }
}

/// The form in which the catalogue is written for who asks.
pub fn form<'a>(asker: &'a Asker) -> present::Form<'a> {
    present::Form {
        base: &asker.base,
        offset: asker.met.offset,
        films_pictured: mostra_media::art::films_pictured(),
        layer: Layer::Nested,
        traits: &asker.met.traits,
    }
}
