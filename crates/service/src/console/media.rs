//! Pictures and sounds for the person at the console, under their login.

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, web};
use mostra_core::access::Pass;
use mostra_core::catalogue::Node;
use mostra_protocol::range::{self, Selection};

use super::problem::Failure;
use super::session::Caller;
use crate::file_body::{self, FileBody, Validators};
use crate::house::House;

pub fn routes(config: &mut web::ServiceConfig) {
    config.route("/catalogue/{id}/file", web::get().to(file));
}

async fn file(
    caller: Caller,
    request: HttpRequest,
    id: web::Path<String>,
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    let missing = || Failure::missing("No such item");
    let pass = Pass::for_account(&caller.0);
    let catalogue = house.catalogue();
    let object = catalogue.object(&pass, &id).ok_or_else(missing)?;
    let Node::Item(item) = &object.node else { return Err(missing()) };
    let located = catalogue.locate(&pass, &id).ok_or_else(missing)?;
    let mime = item.facts.format.mime();
    let (file, metadata) = match file_body::open(located).await {
        Ok(opened) => opened,
        _ => return Err(Failure::missing("The file cannot be read").next("Rescan its folder.")),
    };
    let size = metadata.len();
    let validators = Validators::of(&metadata);
    let mut answer = HttpResponse::Ok();
    answer
        .insert_header((header::CONTENT_TYPE, mime))
        .insert_header((header::ACCEPT_RANGES, "bytes"))
        .insert_header((header::ETAG, validators.etag.clone()));
    let range = request.headers().get(header::RANGE).and_then(|v| v.to_str().ok());
    let (first, length) =
        match range::select(range.filter(|_| validators.allow_range(request.headers())), size) {
            Selection::Whole => (0, size),
            Selection::Part { first, last } => {
                answer.status(actix_web::http::StatusCode::PARTIAL_CONTENT);
                answer
                    .insert_header((header::CONTENT_RANGE, format!("bytes {first}-{last}/{size}")));
                (first, last - first + 1)
            }
            Selection::Unsatisfiable => {
                answer.status(actix_web::http::StatusCode::RANGE_NOT_SATISFIABLE);
                answer.insert_header((header::CONTENT_RANGE, format!("bytes */{size}")));
                return Ok(answer.finish());
            }
        };
    Ok(answer.body(FileBody::new(file, first, length, None)))
}
