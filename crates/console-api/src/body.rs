//! Bodies of requests: one way in for all that people and programs write to the API.

use actix_web::dev::Payload;
use actix_web::http::StatusCode;
use actix_web::{FromRequest, HttpMessage as _, HttpRequest, web};
use futures_util::future::LocalBoxFuture;
use serde::de::DeserializeOwned;
use serde_json::Value;

use super::problem::ApiFailure;

/// Bytes of a body.
const BYTES: usize = 64 << 10;
/// Characters of one text in it.
const TEXT: usize = 4096;

/// A JSON object read as a `T`, in which no text has control characters, which no record and no
/// page could hold (SEC-16).
#[derive(Debug)]
pub(crate) struct JsonBody<T>(pub T);

/// The same where a request without a body means the usual.
#[derive(Debug)]
pub(crate) struct OptionalJsonBody<T>(pub T);

impl<T: DeserializeOwned + 'static> FromRequest for JsonBody<T> {
    type Error = actix_web::Error;
    type Future = LocalBoxFuture<'static, Result<JsonBody<T>, actix_web::Error>>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let (request, payload) = (request.clone(), payload.take());
        Box::pin(async move {
            let bytes = bytes(&request, payload).await?;
            Ok(JsonBody(read(&request, &bytes)?))
        })
    }
}

impl<T: DeserializeOwned + Default + 'static> FromRequest for OptionalJsonBody<T> {
    type Error = actix_web::Error;
    type Future = LocalBoxFuture<'static, Result<OptionalJsonBody<T>, actix_web::Error>>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let (request, payload) = (request.clone(), payload.take());
        Box::pin(async move {
            let bytes = bytes(&request, payload).await?;
            match bytes.is_empty() {
                true => Ok(OptionalJsonBody(T::default())),
                false => Ok(OptionalJsonBody(read(&request, &bytes)?)),
            }
        })
    }
}

fn unreadable(status: StatusCode, why: impl Into<String>) -> ApiFailure {
    ApiFailure::new(status, "The request cannot be read").why(why)
}

async fn bytes(request: &HttpRequest, mut payload: Payload) -> Result<web::Bytes, ApiFailure> {
    let too_large = || unreadable(StatusCode::PAYLOAD_TOO_LARGE, "A body has at most 64 KiB.");
    let read =
        web::Bytes::from_request(request, &mut payload).await.map_err(|error| {
            match error.as_response_error().status_code() {
                StatusCode::PAYLOAD_TOO_LARGE => too_large(),
                _ => unreadable(StatusCode::BAD_REQUEST, error.to_string()),
            }
        })?;
    if read.len() > BYTES { Err(too_large()) } else { Ok(read) }
}

fn read<T: DeserializeOwned>(request: &HttpRequest, bytes: &[u8]) -> Result<T, ApiFailure> {
    // A form of another site's page cannot send this type without asking first (SEC-6).
    let is_json = request.content_type().eq_ignore_ascii_case("application/json");
    if !is_json {
        let why = "The body is JSON and says so: Content-Type: application/json.";
        return Err(unreadable(StatusCode::UNSUPPORTED_MEDIA_TYPE, why));
    }
    let wrong = |why: String| unreadable(StatusCode::BAD_REQUEST, why);
    let value: Value = serde_json::from_slice(bytes).map_err(|e| wrong(e.to_string()))?;
    if !value.is_object() {
        return Err(wrong("The body is a JSON object, in braces.".into()));
    }
    check(&value).map_err(|why| wrong(why.into()))?;
    serde_json::from_value(value).map_err(|e| wrong(e.to_string()))
}

/// Looks at every text, keys as well.
fn check(value: &Value) -> Result<(), &'static str> {
    let text = |text: &str| {
        if text.chars().any(char::is_control) {
            Err("A text holds a control character, such as a line break or NUL.")
        } else if text.chars().nth(TEXT).is_some() {
            Err("A text is longer than 4096 characters.")
        } else {
            Ok(())
        }
    };
    match value {
        Value::String(own) => text(own),
        Value::Array(list) => list.iter().try_for_each(check),
        Value::Object(fields) => fields.iter().try_for_each(|(name, value)| {
            text(name)?;
            check(value)
        }),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use actix_web::test::TestRequest;
    use mostra_api::Rescan;

    use super::*;

    async fn given(kind: &str, body: &'static str) -> Result<Option<String>, u16> {
        let (request, mut payload) = TestRequest::post()
            .insert_header(("content-type", kind))
            .set_payload(body)
            .to_http_parts();
        let read = OptionalJsonBody::<Rescan>::from_request(&request, &mut payload).await;
        let status = |error: actix_web::Error| error.as_response_error().status_code().as_u16();
        read.map(|body| body.0.path).map_err(status)
    }

    #[actix_web::test]
    async fn only_an_object_with_plain_text_is_read() {
        let json = "application/json; charset=utf-8";
        assert_eq!(given(json, r#"{"path":"Films"}"#).await, Ok(Some("Films".into())));
        assert_eq!(given(json, "").await, Ok(None), "no body is the usual");
        for wrong in ["[]", r#"["Films"]"#, "null", "7", "nonsense", r#"{"path":7}"#] {
            assert_eq!(given(json, wrong).await, Err(400), "{wrong}");
        }
        assert_eq!(given(json, r#"{"path":"a\u0000b"}"#).await, Err(400));
        assert_eq!(given(json, r#"{"path":"a\nb"}"#).await, Err(400));
        assert_eq!(given("text/plain", r#"{"path":"Films"}"#).await, Err(415));
        let long = format!(r#"{{"path":"{}"}}"#, "x".repeat(5000));
        assert_eq!(given(json, long.leak()).await, Err(400));
        let large = format!(r#"{{"paths":[{}"x"]}}"#, "\"xxxxxxxx\",".repeat(7000));
        assert_eq!(given(json, large.leak()).await, Err(413));
    }
}
