//! The preflight: what stands in the way.

use actix_web::http::StatusCode;
use actix_web::{HttpMessage as _, HttpRequest, get, post, web};
use futures_util::StreamExt as _;
use mostra_api::PreflightCheck;
use mostra_app::clock::ms;
use mostra_app::preflight::{PreflightChecks, RULES};
use mostra_core::preflight::{Check, worst};
use utoipa_actix_web::service_config::ServiceConfig;

use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(show).service(look);
}

pub(crate) fn to_api(preflight: &PreflightChecks) -> mostra_api::Preflight {
    let checks = preflight.checks();
    let check = |check: &Check| PreflightCheck {
        id: check.id.clone(),
        title: check.title.clone(),
        outcome: check.outcome.word().to_owned(),
        measured: check.measured.clone(),
        why: check.why.to_owned(),
        remedy: check.remedy.clone(),
        command: check.command.clone(),
    };
    mostra_api::Preflight {
        looked_ms: preflight.looked_at().map(ms),
        worst: worst(&checks).word().to_owned(),
        checks: checks.iter().map(check).collect(),
    }
}

#[utoipa::path(
    operation_id = "showPreflight",
    summary = "What stands in the way of devices finding, listing and playing, as it was looked at last",
    responses((status = 200, body = mostra_api::Preflight))
)]
#[get("/preflight")]
async fn show(
    _: Caller,
    preflight: web::Data<PreflightChecks>,
) -> web::Json<mostra_api::Preflight> {
    web::Json(to_api(&preflight))
}

#[utoipa::path(
    operation_id = "runPreflight",
    summary = "Look at everything now; the body may be what `nft -j list ruleset` prints, where the service may not read that itself",
    request_body(content = String, content_type = "text/plain"),
    responses((status = 200, body = mostra_api::Preflight))
)]
#[post("/preflight")]
async fn look(
    _: Caller,
    request: HttpRequest,
    mut body: web::Payload,
    preflight: web::Data<PreflightChecks>,
) -> Result<web::Json<mostra_api::Preflight>, ApiFailure> {
    if request.content_type() != "text/plain" {
        let why = "They come as text/plain.".to_owned();
        return Err(unreadable(StatusCode::UNSUPPORTED_MEDIA_TYPE, why));
    }
    let mut rules = Vec::new();
    while let Some(piece) = body.next().await {
        let piece =
            piece.map_err(|error| unreadable(StatusCode::BAD_REQUEST, error.to_string()))?;
        rules.extend_from_slice(&piece);
        if rules.len() > RULES {
            let why = format!("They have more than {} MiB.", RULES >> 20);
            return Err(unreadable(StatusCode::PAYLOAD_TOO_LARGE, why));
        }
    }
    let rules = String::from_utf8(rules)
        .map_err(|_| unreadable(StatusCode::BAD_REQUEST, "They are no text.".into()))?;
    let given = (!rules.trim().is_empty()).then_some(rules.as_str());
    if !preflight.look_again(given).await {
        let why = "They are not what `nft -j list ruleset` prints.".to_owned();
        return Err(unreadable(StatusCode::UNPROCESSABLE_ENTITY, why));
    }
    Ok(web::Json(to_api(&preflight)))
}

fn unreadable(status: StatusCode, why: String) -> ApiFailure {
    ApiFailure::new(status, "The firewall's rules cannot be read")
        .why(why)
        .next("Nothing was changed.")
}
