//! The OpenAPI document, put together from the handlers' own descriptions: what is not there is
//! not served. The console's types are made from it.

use std::sync::OnceLock;

use actix_web::http::StatusCode;
use actix_web::http::header::{ALLOW, HeaderValue};
use actix_web::{App, HttpRequest, HttpResponse, ResponseError as _};
use mostra_api::{HostLoad, LiveEvent, Problem};
use utoipa::openapi::path::{Operation, PathItem};
use utoipa::openapi::security::{ApiKey, ApiKeyValue, Http, HttpAuthScheme, SecurityScheme};
use utoipa::openapi::{ContentBuilder, InfoBuilder, OpenApi, Ref, ResponseBuilder};
use utoipa::openapi::{Response, SecurityRequirement};
use utoipa_actix_web::AppExt as _;

use super::problem::ApiFailure;
use super::session::COOKIE;

/// The document.
pub fn document() -> &'static OpenApi {
    static DOCUMENT: OnceLock<OpenApi> = OnceLock::new();
    DOCUMENT.get_or_init(|| {
        let (_, document) = App::new().into_utoipa_app().service(super::api()).split_for_parts();
        complete(document)
    })
}

/// Adds what all operations have in common.
fn complete(mut document: OpenApi) -> OpenApi {
    document.info = InfoBuilder::new().title("Mostra").version(env!("CARGO_PKG_VERSION")).build();
    let components = document.components.get_or_insert_default();
    // Not the answer of any operation by themselves: every failure, each event of `/live`, and
    // the host's load, which is in one of both.
    macro_rules! with {
        ($($kind:ident),*) => { $(
            let mut schemas = Vec::new();
            <$kind as utoipa::ToSchema>::schemas(&mut schemas);
            schemas.push((stringify!($kind).to_owned(), <$kind as utoipa::PartialSchema>::schema()));
            components.schemas.extend(schemas);
        )* };
    }
    with!(Problem, LiveEvent, HostLoad);
    let bearer = SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer));
    let cookie = SecurityScheme::ApiKey(ApiKey::Cookie(ApiKeyValue::new(COOKIE)));
    let page = ApiKeyValue::with_description(
        "X-Page-Secret",
        "The `page_secret` of the session, with every request by cookie.",
    );
    components.add_security_scheme("token", bearer);
    components.add_security_scheme("session", cookie);
    components.add_security_scheme("page", SecurityScheme::ApiKey(ApiKey::Header(page)));
    let by = |names: &[&str]| {
        let scopes: [&str; 0] = [];
        names.iter().fold(SecurityRequirement::default(), |all, name| all.add(*name, scopes))
    };
    let needed = vec![by(&["token"]), by(&["session", "page"])];
    for item in document.paths.paths.values_mut() {
        for operation in operations(item) {
            let open = operation.security.is_some();
            // Without a security of its own, or the empty one of whoever is not signed in yet.
            operation.security = Some(if open { Vec::new() } else { needed.clone() });
            operation.responses.responses.insert("default".into(), problem().into());
            for response in operation.responses.responses.values_mut() {
                if let utoipa::openapi::RefOr::T(response) = response
                    && response.description.is_empty()
                {
                    response.description = operation.summary.clone().unwrap_or_default();
                }
            }
        }
    }
    document
}

fn problem() -> Response {
    let schema = Ref::from_schema_name("Problem");
    ResponseBuilder::new()
        .description("A problem document (RFC 9457)")
        .content("application/problem+json", ContentBuilder::new().schema(Some(schema)).build())
        .build()
}

fn operations(item: &mut PathItem) -> impl Iterator<Item = &mut Operation> {
    let all = [&mut item.get, &mut item.put, &mut item.post, &mut item.delete, &mut item.patch];
    all.into_iter().filter_map(Option::as_mut)
}

/// The document for whoever asks.
pub(crate) async fn serve() -> HttpResponse {
    HttpResponse::Ok().json(document())
}

/// Answers what no handler took: a path that there is, with a method that it has not, or none.
pub(crate) async fn not_served(request: HttpRequest) -> HttpResponse {
    let path = request.path();
    let mut allowed: Vec<&str> = Vec::new();
    for (template, item) in &document().paths.paths {
        if fits(template, path) {
            let names = ["GET", "PUT", "POST", "DELETE", "PATCH"];
            let there = [&item.get, &item.put, &item.post, &item.delete, &item.patch];
            let there = names.into_iter().zip(there).filter(|(_, o)| o.is_some());
            allowed.extend(there.map(|(name, _)| name));
        }
    }
    if allowed.is_empty() {
        return ApiFailure::missing("No such path")
            .why(format!("{path} is not part of this interface."))
            .error_response();
    }
    allowed.sort_unstable();
    allowed.dedup();
    let list = allowed.join(", ");
    let mut answer = ApiFailure::new(StatusCode::METHOD_NOT_ALLOWED, "That cannot be done there")
        .why(format!("{path} takes {list}."))
        .error_response();
    if let Ok(list) = HeaderValue::from_str(&list) {
        answer.headers_mut().insert(ALLOW, list);
    }
    answer
}

/// Whether a path is one of a template: as many parts, and the same where it has no name.
fn fits(template: &str, path: &str) -> bool {
    let (mut wanted, mut given) = (template.split('/'), path.split('/'));
    loop {
        match (wanted.next(), given.next()) {
            (None, None) => return true,
            (Some(name), Some(part)) if name.starts_with('{') && !part.is_empty() => {}
            (Some(name), Some(part)) if name == part => {}
            _ => return false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_fit_their_templates() {
        assert!(fits("/a/{id}/b", "/a/7/b"));
        for other in ["/a/7", "/a//b", "/a/7/c", "/a/7/b/", "/a/7/b/c"] {
            assert!(!fits("/a/{id}/b", other), "{other}");
        }
    }

    #[test]
    fn every_operation_says_who_may_and_how_it_fails() {
        let text = document().to_json().unwrap();
        let document: serde_json::Value = serde_json::from_str(&text).unwrap();
        let mut count = 0;
        for (path, item) in document["paths"].as_object().unwrap() {
            for (method, operation) in item.as_object().unwrap() {
                count += 1;
                let open = matches!(
                    operation["operationId"].as_str(),
                    Some("getSetup" | "addAccount" | "signIn")
                );
                let security = operation["security"].as_array().unwrap();
                assert_eq!(security.is_empty(), open, "{method} {path}");
                assert!(operation["responses"]["default"].is_object(), "{method} {path}");
                assert!(operation["summary"].as_str().is_some_and(|s| !s.is_empty()), "{path}");
            }
        }
        assert!(count > 45, "{count}");
        assert!(!text.contains("AnyValue"));
    }
}
