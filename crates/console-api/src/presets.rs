//! Grants with a name.

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, delete, get, put, web};
use mostra_api::{Preset as ApiPreset, PresetGrant};
use mostra_app::devices::Devices;
use mostra_app::library::Library;
use mostra_core::Kinds;
use mostra_core::access::Grant;
use mostra_core::preset::{OwnPresets, Preset};
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::JsonBody;
use super::devices::{of_published, usable_name};
use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(list).service(keep).service(remove);
}

fn to_api(preset: &Preset) -> ApiPreset {
    ApiPreset {
        name: preset.name.clone(),
        kinds: preset.grant.kinds.iter().map(|kind| kind.word().to_owned()).collect(),
        folders: preset.grant.folders.as_ref().map(|f| f.iter().map(|id| id.0).collect()),
        built_in: preset.built_in,
    }
}

#[utoipa::path(
    operation_id = "listPresets",
    summary = "Grants with a name",
    responses((status = 200, body = Vec<mostra_api::Preset>))
)]
#[get("/presets")]
async fn list(
    _: Caller,
    devices: web::Data<Devices>,
) -> Result<web::Json<Vec<ApiPreset>>, ApiFailure> {
    let presets = devices.presets().await?;
    Ok(web::Json(presets.with_built_in().iter().map(to_api).collect()))
}

#[utoipa::path(
    operation_id = "keepPreset",
    summary = "Keep a grant under a name; devices that have it stay as they are",
    request_body = mostra_api::PresetGrant,
    responses((status = 200, body = mostra_api::Preset))
)]
#[put("/presets/{name}")]
async fn keep(
    _: Caller,
    name: web::Path<String>,
    body: JsonBody<PresetGrant>,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
) -> Result<web::Json<ApiPreset>, ApiFailure> {
    let name = usable_name(&name)?;
    let PresetGrant { kinds, folders } = body.0;
    let kinds: Kinds = kinds
        .join(",")
        .parse()
        .map_err(|why| ApiFailure::invalid("Those kinds do not work").why(format!("{why}")))?;
    let folders = folders.map(|numbers| of_published(&library, numbers)).transpose()?;
    let grant = Grant { kinds, folders };
    let changed = devices.change_presets(|presets| presets.put(&name, &grant)).await?;
    let presets = changed.map_err(|why| {
        ApiFailure::new(StatusCode::CONFLICT, "That preset cannot be kept")
            .why(format!("{why}."))
            .next("Take another name, or remove one: mostra preset list")
    })?;
    let kept = presets.find(&name).ok_or_else(|| ApiFailure::missing("No such preset"))?;
    Ok(web::Json(to_api(&kept)))
}

#[utoipa::path(
    operation_id = "removePreset",
    summary = "Remove a preset; devices that have its grant keep it",
    responses((status = 204))
)]
#[delete("/presets/{name}")]
async fn remove(
    _: Caller,
    name: web::Path<String>,
    devices: web::Data<Devices>,
) -> Result<HttpResponse, ApiFailure> {
    let remove = |presets: &mut OwnPresets| if presets.remove(&name) { Ok(()) } else { Err(()) };
    devices.change_presets(remove).await?.map_err(|()| {
        ApiFailure::missing("No such preset of your own")
            .next("`mostra preset list` shows all; those of every house stay.")
    })?;
    Ok(HttpResponse::NoContent().finish())
}
