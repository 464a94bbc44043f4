//! Opening the console to the house, and closing it again.

use std::time::Duration;

use actix_web::{get, post, put, web};
use mostra_api::{Code, ConsoleAccess};
use mostra_app::accounts::{Accounts, CODE};
use mostra_app::settings;
use serde::Deserialize;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::JsonBody;
use super::guard::ListenerAddress;
use super::house_access::HouseAccess;
use super::problem::ApiFailure;
use super::session::Caller;
use super::{ConsoleParts, Side};

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(show).service(change).service(make_code);
}

/// Whether the console is to be open to the house.
#[derive(Deserialize, utoipa::ToSchema)]
#[schema(as = ConsoleWish)]
struct AccessChange {
    /// Whether it is.
    open: bool,
}

#[utoipa::path(
    operation_id = "getConsoleAccess",
    summary = "From where the console can be reached",
    responses((status = 200, body = mostra_api::ConsoleAccess))
)]
#[get("/console")]
async fn show(_: Caller, access: web::Data<HouseAccess>) -> web::Json<ConsoleAccess> {
    web::Json(access.to_api().await)
}

#[utoipa::path(
    operation_id = "setConsoleAccess",
    summary = "Open the console to the house, or close it",
    request_body = AccessChange,
    responses((status = 200, body = mostra_api::ConsoleAccess))
)]
#[put("/console")]
async fn change(
    _: Caller,
    wish: JsonBody<AccessChange>,
    parts: web::Data<ConsoleParts>,
    access: web::Data<HouseAccess>,
) -> Result<web::Json<ConsoleAccess>, ApiFailure> {
    let access = access.into_inner();
    if wish.0.open {
        access.open(&parts).await.map_err(|why| {
            ApiFailure::invalid("The console cannot be opened to the house").why(why.to_string())
        })?;
        settings::set_console_open(&parts.context, true).await?;
        return Ok(web::Json(access.to_api().await));
    }
    settings::set_console_open(&parts.context, false).await?;
    // The request may have come through the very listener that closes: answer first.
    let closing = access.clone();
    tokio::spawn(async move {
        tokio::time::sleep(Duration::from_millis(200)).await;
        closing.close(&parts).await;
    });
    Ok(web::Json(ConsoleAccess::default()))
}

/// A one-time code; only somebody on the host gets one.
#[utoipa::path(
    operation_id = "newCode",
    summary = "A one-time code for making an account",
    responses((status = 200, body = mostra_api::Code))
)]
#[post("/console/code")]
async fn make_code(
    _: Caller,
    place: web::Data<ListenerAddress>,
    accounts: web::Data<Accounts>,
) -> Result<web::Json<Code>, ApiFailure> {
    if place.side == Side::House {
        return Err(ApiFailure::new(
            actix_web::http::StatusCode::FORBIDDEN,
            "Codes are shown on the host only",
        )
        .next("Run `mostra console code` on the host."));
    }
    Ok(web::Json(Code { code: accounts.new_code(), seconds: CODE.as_secs() as u32 }))
}
