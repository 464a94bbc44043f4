//! Errors as problem documents (RFC 9457).

use std::fmt;

use actix_web::error::{PathError, QueryPayloadError};
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, ResponseError};
use mostra_api::Problem;
use mostra_store::StoreError;

/// An error answer: what, why, and the next step.
#[derive(Debug)]
pub struct Failure(Problem);

impl Failure {
    /// A failure with a status and what happened.
    pub fn new(status: StatusCode, title: &str) -> Failure {
        Failure(Problem {
            kind: "about:blank".into(),
            title: title.into(),
            status: status.as_u16(),
            detail: None,
            next: None,
        })
    }

    /// Adds why.
    pub fn why(mut self, detail: impl Into<String>) -> Failure {
        self.0.detail = Some(detail.into());
        self
    }

    /// Adds what to do next.
    pub fn next(mut self, next: impl Into<String>) -> Failure {
        self.0.next = Some(next.into());
        self
    }

    /// 422: the request was understood and cannot be carried out.
    pub fn invalid(title: &str) -> Failure {
        Failure::new(StatusCode::UNPROCESSABLE_ENTITY, title)
    }

    /// 404.
    pub fn missing(title: &str) -> Failure {
        Failure::new(StatusCode::NOT_FOUND, title)
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.title)
    }
}

impl ResponseError for Failure {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    fn error_response(&self) -> HttpResponse {
        let body = serde_json::to_string(&self.0).unwrap_or_default();
        HttpResponse::build(self.status_code()).content_type("application/problem+json").body(body)
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Failure {
        tracing::warn!("not saved: {error}");
        let failure = Failure::new(StatusCode::SERVICE_UNAVAILABLE, "Not saved");
        match error {
            StoreError::Away(_) => failure
                .why("PostgreSQL does not answer.")
                .next("Start it and try again; watching goes on meanwhile."),
            StoreError::Refused(_) | StoreError::Held(_) | StoreError::Damaged(_) => {
                failure.why("The database refused it; the service's log has the details.")
            }
        }
    }
}

/// A query that does not fit.
pub fn unreadable_query(error: QueryPayloadError, _: &HttpRequest) -> actix_web::Error {
    Failure::new(StatusCode::BAD_REQUEST, "The request cannot be read")
        .why(error.to_string())
        .into()
}

/// A path whose number is none.
pub fn unreadable_path(error: PathError, _: &HttpRequest) -> actix_web::Error {
    Failure::missing("No such path").why(error.to_string()).into()
}
