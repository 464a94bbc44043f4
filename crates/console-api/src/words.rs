//! Words for people: terms explained, and where things are found on devices.

use actix_web::{get, web};
use mostra_api::{DeviceDirections, Explanation};
use mostra_core::device::DeviceKind;
use mostra_core::glossary::{self, TERMS};
use utoipa_actix_web::service_config::ServiceConfig;

use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(terms).service(explain).service(directions);
}

fn to_api(term: glossary::Term) -> Explanation {
    Explanation { term: term.term.to_owned(), means: term.means.to_owned() }
}

#[utoipa::path(
    operation_id = "listTerms",
    summary = "Terms of the field, each in one sentence",
    responses((status = 200, body = Vec<mostra_api::Explanation>))
)]
#[get("/glossary")]
async fn terms(_: Caller) -> web::Json<Vec<Explanation>> {
    web::Json(TERMS.into_iter().map(to_api).collect())
}

#[utoipa::path(
    operation_id = "explainTerm",
    summary = "A term in one sentence",
    responses((status = 200, body = mostra_api::Explanation))
)]
#[get("/glossary/{term}")]
async fn explain(_: Caller, term: web::Path<String>) -> Result<web::Json<Explanation>, ApiFailure> {
    let found = glossary::find(&term).ok_or_else(|| {
        ApiFailure::missing("That term is not explained").next("`mostra explain` lists all terms.")
    })?;
    Ok(web::Json(to_api(found)))
}

#[utoipa::path(
    operation_id = "listDirections",
    summary = "For each kind of device: where its network media are, its hardware address, and how it searches again",
    responses((status = 200, body = Vec<mostra_api::DeviceDirections>))
)]
#[get("/directions")]
async fn directions(_: Caller) -> web::Json<Vec<DeviceDirections>> {
    let all = DeviceKind::ALL.map(|kind| {
        let directions = kind.directions();
        DeviceDirections {
            device_kind: kind.word().to_owned(),
            media: directions.media.to_owned(),
            hardware: directions.hardware.to_owned(),
            again: directions.again.to_owned(),
        }
    });
    web::Json(all.into())
}
