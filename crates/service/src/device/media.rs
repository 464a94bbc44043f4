//! Media: GET and HEAD with ranges and the DLNA fields (requirements 9).

use actix_web::http::StatusCode;
use actix_web::http::header::{self, HeaderMap};
use actix_web::{HttpRequest, HttpResponse, web};
use mostra_core::access::Decision;
use mostra_core::catalogue::Node;
use mostra_core::present;
use mostra_protocol::dlna::{ProtocolInfo, TransferMode};
use mostra_protocol::range::{self, Selection};

use super::gate::{Asker, named, text};
use crate::file_body::{self, FileBody, Validators};
use crate::house::House;
use crate::stations::NotHeard;
use crate::transfers::Load;

pub fn routes(config: &mut web::ServiceConfig) {
    let resource = web::resource("/media/{name}")
        .route(web::get().to(media))
        .route(web::head().to(media))
        .default_service(web::to(|| async {
            HttpResponse::MethodNotAllowed().insert_header((header::ALLOW, "GET, HEAD")).finish()
        }));
    config.service(resource);
}

async fn media(
    request: HttpRequest,
    name: web::Path<String>,
    house: web::Data<House>,
) -> HttpResponse {
    let Some(asker) = Asker::of(&request) else { return HttpResponse::Forbidden().finish() };
    // A device that is not let in learns nothing, also by a URL it knew (CDS-53).
    let Decision::Admitted(pass) = &asker.met.decision else {
        return HttpResponse::Forbidden().finish();
    };
    let catalogue = house.catalogue();
    let id = present::media_id(&name);
    let Some(object) = catalogue.object(pass, id) else { return HttpResponse::NotFound().finish() };
    let Node::Item(item) = &object.node else { return HttpResponse::NotFound().finish() };
    let Some(located) = catalogue.locate(pass, id) else {
        return HttpResponse::NotFound().finish();
    };
    let facts = item.facts.clone();
    let info = present::original_info(item, &asker.met.traits);
    let fields = match dlna_fields(request.headers(), &info) {
        Ok(fields) => fields,
        Err(status) => return HttpResponse::build(status).finish(),
    };
    if let Some(address) = &facts.station {
        let mut answer = HttpResponse::Ok();
        // Range means nothing here (HTTP-15).
        answer.insert_header((header::ACCEPT_RANGES, "none"));
        answer.insert_header((header::CONTENT_TYPE, info.mime.clone()));
        for (name, value) in fields {
            answer.insert_header((name, value));
        }
        // HEAD opens no source, and names no length either (HTTP-1).
        if request.method() == "HEAD" {
            let nothing = futures_util::stream::empty::<std::io::Result<bytes::Bytes>>();
            return answer.streaming(nothing);
        }
        let stations = house.settings().stations;
        return match house.stations.pass_on(address, &stations, answer).await {
            Ok(answer) => answer,
            Err(NotHeard::Forbidden) => HttpResponse::NotFound().finish(),
            Err(why) => {
                tracing::info!("{:?} is not heard: {why}", object.title);
                HttpResponse::ServiceUnavailable()
                    .insert_header((header::RETRY_AFTER, "5"))
                    .finish()
            }
        };
    }
    let opened = match file_body::open(&house.lanes, located).await {
        Ok(opened) => opened,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            return HttpResponse::NotFound().finish();
        }
        _ => {
            return HttpResponse::ServiceUnavailable()
                .insert_header((header::RETRY_AFTER, "5"))
                .finish();
        }
    };
    let size = opened.metadata.len();
    let validators = Validators::of(&opened.metadata);
    let mut answer = match validators.judge(request.headers()) {
        Some(status) => HttpResponse::build(status),
        None => HttpResponse::Ok(),
    };
    answer
        .insert_header((header::ACCEPT_RANGES, "bytes"))
        .insert_header((header::ETAG, validators.etag.clone()))
        .insert_header((header::LAST_MODIFIED, validators.last_modified()))
        .insert_header((header::CONTENT_TYPE, info.mime.clone()));
    for (name, value) in fields {
        answer.insert_header((name, value));
    }
    if validators.judge(request.headers()).is_some() {
        return answer.finish();
    }
    // Range on HEAD is ignored by standard (HTTP-12).
    let head = request.method() == "HEAD";
    let ranged = !head || asker.met.traits.head_range == Some(true);
    let range = text(request.headers(), &header::RANGE)
        .filter(|_| ranged && validators.allow_range(request.headers()));
    let (first, last) = match range::select(range, size) {
        Selection::Whole => (0, size.saturating_sub(1)),
        Selection::Part { first, last } => {
            answer.status(StatusCode::PARTIAL_CONTENT);
            answer.insert_header((header::CONTENT_RANGE, format!("bytes {first}-{last}/{size}")));
            (first, last)
        }
        Selection::Unsatisfiable => {
            answer.status(StatusCode::RANGE_NOT_SATISFIABLE);
            answer.insert_header((header::CONTENT_RANGE, format!("bytes */{size}")));
            return answer.finish();
        }
    };
    let length = if size == 0 { 0 } else { last - first + 1 };
    let transfer = (!head).then(|| {
        let load = Load::Media {
            file: item.serial,
            title: object.title.clone(),
            facts: facts.into(),
            from: first,
        };
        asker.watch(&house, load, length)
    });
    answer.body(FileBody::new(opened, first, length, transfer))
}

/// The DLNA fields of the answer (HTTP-17 to HTTP-22).
fn dlna_fields(
    headers: &HeaderMap,
    info: &ProtocolInfo,
) -> Result<Vec<(&'static str, String)>, StatusCode> {
    if named(headers, "timeseekrange.dlna.org").is_some() {
        return Err(StatusCode::NOT_ACCEPTABLE);
    }
    if named(headers, "playspeed.dlna.org").is_some_and(|speed| speed.trim() != "speed=1") {
        return Err(StatusCode::NOT_ACCEPTABLE);
    }
    let mode = TransferMode::choose(named(headers, "transfermode.dlna.org"), info.flags)
        .map_err(|status| StatusCode::from_u16(status).unwrap_or(StatusCode::BAD_REQUEST))?;
    let mut fields = vec![("transfermode.dlna.org", mode.word().to_owned())];
    match named(headers, "getcontentfeatures.dlna.org").map(str::trim) {
        None => {}
        Some("1") => fields.push(("contentfeatures.dlna.org", info.features())),
        Some(_) => return Err(StatusCode::BAD_REQUEST),
    }
    Ok(fields)
}
