//! The console itself, embedded at build.

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Built;

/// A file of the console; any other path is a page of it.
pub(crate) async fn serve(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    let file = Built::get(path).filter(|_| !path.is_empty());
    let (name, file) = match file {
        Some(file) => (path, Some(file)),
        None if path.contains('.') => return HttpResponse::NotFound().finish(),
        None => ("index.html", Built::get("index.html")),
    };
    let Some(file) = file else {
        return HttpResponse::ServiceUnavailable()
            .content_type("text/plain; charset=utf-8")
            .body("This mostrad was built without the console. Build it with `make build`.\n");
    };
    let kind = match file.metadata.mimetype() {
        text if text.starts_with("text/") => format!("{text}; charset=utf-8"),
        other => other.to_owned(),
    };
    // Names under assets/ carry a hash of their contents.
    let keep = if name.starts_with("assets/") { "max-age=31536000, immutable" } else { "no-store" };
    HttpResponse::Ok()
        .insert_header((header::CONTENT_TYPE, kind))
        .insert_header((header::CACHE_CONTROL, keep))
        .body(file.data.into_owned())
}
