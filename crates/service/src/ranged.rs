//! The one way in which bytes of known number are answered: conditions, then ranges. Files, other
//! forms of pictures and subtitles go through it, for devices and for the console.

use actix_web::dev::RequestHead;
use actix_web::http::header::{self, HeaderMap, HeaderName, HeaderValue};
use actix_web::http::{Method, StatusCode};
use mostra_protocol::conditions::{Judgement, Validators};
use mostra_protocol::range::{self, Selection};

/// Fields of an answer, beside those that every answer has.
pub type Fields = Vec<(HeaderName, HeaderValue)>;

/// Adds a field; what cannot stand in one is left out (SEC-17).
pub fn put(fields: &mut Fields, name: HeaderName, value: &str) {
    if let Ok(value) = HeaderValue::from_str(value) {
        fields.push((name, value));
    }
}

/// What is answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Answered {
    /// 200, 206, 304, 412 or 416.
    pub status: StatusCode,
    /// The first byte and how many, where bytes are sent at all; of HEAD, those that GET would
    /// send.
    pub piece: Option<(u64, u64)>,
}

/// Answers for a resource of `size` bytes in the state that `validators` tell. Range on HEAD is
/// ignored by standard (HTTP-12), unless `head_range`.
pub fn answer(
    request: &RequestHead,
    size: u64,
    validators: &Validators,
    head_range: bool,
    fields: &mut Fields,
) -> Answered {
    put(fields, header::ACCEPT_RANGES, "bytes");
    put(fields, header::ETAG, &validators.etag);
    if let Some(date) = validators.last_modified() {
        put(fields, header::LAST_MODIFIED, &date);
    }
    let nothing = |status| Answered { status, piece: None };
    match validators.judge(|name| text(&request.headers, name)) {
        Judgement::Go => {}
        Judgement::NotModified => return nothing(StatusCode::NOT_MODIFIED),
        Judgement::Failed => return nothing(StatusCode::PRECONDITION_FAILED),
    }
    let counts = request.method != Method::HEAD || head_range;
    let counts = counts && validators.allow_range(text(&request.headers, "if-range"));
    let range = text(&request.headers, "range").filter(|_| counts);
    match range::select(range, size) {
        Selection::Whole => Answered { status: StatusCode::OK, piece: Some((0, size)) },
        Selection::Part { first, last } => {
            put(fields, header::CONTENT_RANGE, &format!("bytes {first}-{last}/{size}"));
            let piece = Some((first, last - first + 1));
            Answered { status: StatusCode::PARTIAL_CONTENT, piece }
        }
        Selection::Unsatisfiable => {
            put(fields, header::CONTENT_RANGE, &format!("bytes */{size}"));
            nothing(StatusCode::RANGE_NOT_SATISFIABLE)
        }
    }
}

fn text<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    headers.get(name).and_then(|value| value.to_str().ok())
}
