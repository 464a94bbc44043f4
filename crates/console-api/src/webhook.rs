//! Where arrivals are told to.

use actix_web::{get, put, web};
use mostra_api::{LastTold, Webhook, WebhookChange};
use mostra_app::clock::ms;
use mostra_app::devices::Devices;
use mostra_core::webhook;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::JsonBody;
use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(show).service(change);
}

async fn to_api(devices: &Devices) -> Result<Webhook, ApiFailure> {
    let last =
        devices.last_told().map(|last| LastTold { at_ms: ms(last.at), problem: last.problem });
    Ok(Webhook { url: devices.webhook().await?, last })
}

#[utoipa::path(
    operation_id = "getWebhook",
    summary = "Where it is told that a device waits, and how that went",
    responses((status = 200, body = mostra_api::Webhook))
)]
#[get("/webhook")]
async fn show(_: Caller, devices: web::Data<Devices>) -> Result<web::Json<Webhook>, ApiFailure> {
    Ok(web::Json(to_api(&devices).await?))
}

#[utoipa::path(
    operation_id = "setWebhook",
    summary = "Tell it to another address on the local network, or to none",
    request_body = mostra_api::WebhookChange,
    responses((status = 200, body = mostra_api::Webhook))
)]
#[put("/webhook")]
async fn change(
    _: Caller,
    body: JsonBody<WebhookChange>,
    devices: web::Data<Devices>,
) -> Result<web::Json<Webhook>, ApiFailure> {
    let url = match body.0.url.as_deref().map(str::trim) {
        None | Some("") => None,
        Some(text) => Some(webhook::read(text).map_err(|why| {
            ApiFailure::invalid("That is no address to tell arrivals to")
                .why(format!("{why}."))
                .next("Nothing was changed.")
        })?),
    };
    devices.set_webhook(url.as_ref().map(|url| url.as_str())).await?;
    Ok(web::Json(to_api(&devices).await?))
}
