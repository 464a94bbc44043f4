//! Devices, decisions, proof and streams.

use std::collections::BTreeSet;

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, delete, get, post, put, web};
use mostra_api::{
    DecisionRequest, Denied, Device as ApiDevice, DeviceMerge, DeviceName, DeviceSplit,
    DeviceTraits, Endpoint, ProofStep, Sighting,
};
use mostra_app::clock::ms;
use mostra_app::devices::Devices;
use mostra_app::library::Library;
use mostra_core::Kinds;
use mostra_core::access::{Chosen, Standing};
use mostra_core::device::{self, Device};
use mostra_core::ids::{DeviceId, FolderId};
use mostra_core::proof::Step;
use mostra_core::sighting::Contact;
use mostra_core::traits::Traits;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::JsonBody;
use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config
        .service(list)
        .service(show)
        .service(forget)
        .service(decide)
        .service(rename)
        .service(merge)
        .service(split)
        .service(sightings)
        .service(set_traits);
}

fn endpoint(endpoint: &device::Endpoint) -> Endpoint {
    Endpoint {
        hardware: endpoint.hardware.map(|hardware| hardware.to_string()),
        address: endpoint.address.to_string(),
        last_seen_ms: ms(endpoint.last_seen),
    }
}

fn to_api(device: &Device) -> ApiDevice {
    let proof = Step::ALL.map(|step| {
        let proof = device.proof.ladder.proof(step);
        ProofStep {
            step: step.word().into(),
            confirmed: proof.is_some(),
            at_ms: proof.map(|p| ms(p.at)),
            what: proof.map(|p| p.evidence.to_string()),
            item: proof.and_then(|p| p.item.clone()),
            bytes: proof.and_then(|p| p.bytes),
        }
    });
    ApiDevice {
        id: device.id.0,
        label: device.label(),
        name: device.name.clone(),
        address: device.address().to_string(),
        hardware: device.hardware().map(|h| h.to_string()),
        endpoints: device.endpoints.iter().map(endpoint).collect(),
        udns: device.udns.iter().cloned().collect(),
        user_agent: device.user_agent.clone(),
        standing: device.standing.word().into(),
        kinds: device.grant.kinds.iter().map(|k| k.word().to_owned()).collect(),
        folders: device.grant.folders.as_ref().map(|f| f.iter().map(|id| id.0).collect()),
        first_seen_ms: ms(device.first_seen),
        last_seen_ms: ms(device.last_seen),
        proof: proof.into(),
        denied: device
            .denied
            .as_ref()
            .map(|denied| Denied { at_ms: ms(denied.at), what: denied.attempt.to_string() }),
        traits: by_name(&device.shown),
        traits_set: by_name(&device.traits),
        rules: device.rules.iter().cloned().collect(),
    }
}

fn by_name(traits: &Traits) -> serde_json::Map<String, serde_json::Value> {
    match serde_json::to_value(traits) {
        Ok(serde_json::Value::Object(map)) => map,
        _ => serde_json::Map::new(),
    }
}

#[utoipa::path(
    operation_id = "setDeviceTraits",
    summary = "Say what is to be done differently for a device",
    request_body = mostra_api::DeviceTraits,
    responses((status = 200, body = mostra_api::Device))
)]
#[put("/devices/{id}/traits")]
async fn set_traits(
    caller: Caller,
    id: web::Path<u32>,
    body: JsonBody<DeviceTraits>,
    devices: web::Data<Devices>,
) -> Result<web::Json<ApiDevice>, ApiFailure> {
    let wrong = |why: String| {
        ApiFailure::invalid("Those traits do not work")
            .why(why)
            .next("docs/traits.md lists them; nothing was changed.")
    };
    let given = serde_json::Value::Object(body.0.traits);
    let traits: Traits = serde_json::from_value(given).map_err(|e| wrong(e.to_string()))?;
    traits.check().map_err(|e| wrong(e.to_string()))?;
    let device = devices.set_traits(DeviceId(*id), traits, caller.0.account()).await?;
    Ok(web::Json(to_api(&device.ok_or_else(missing)?)))
}

fn missing() -> ApiFailure {
    ApiFailure::missing("No such device").next("`mostra device list` shows all.")
}

#[utoipa::path(
    operation_id = "listDevices",
    summary = "Devices, those that wait first",
    responses((status = 200, body = Vec<mostra_api::Device>))
)]
#[get("/devices")]
async fn list(_: Caller, devices: web::Data<Devices>) -> web::Json<Vec<ApiDevice>> {
    let mut all: Vec<Device> = devices.book().iter().cloned().collect();
    // Who waits comes first; then by when they came, so that lists keep their place.
    all.sort_by_key(|d| (d.standing != Standing::Waiting, d.id));
    web::Json(all.iter().map(to_api).collect())
}

#[utoipa::path(
    operation_id = "getDevice",
    summary = "A device with its proof",
    responses((status = 200, body = mostra_api::Device))
)]
#[get("/devices/{id}")]
async fn show(
    _: Caller,
    id: web::Path<u32>,
    devices: web::Data<Devices>,
) -> Result<web::Json<ApiDevice>, ApiFailure> {
    let book = devices.book();
    Ok(web::Json(to_api(book.get(DeviceId(*id)).ok_or_else(missing)?)))
}

#[utoipa::path(
    operation_id = "decide",
    summary = "Decide on a device",
    request_body = mostra_api::DecisionRequest,
    responses((status = 200, body = mostra_api::Device))
)]
#[put("/devices/{id}/decision")]
async fn decide(
    caller: Caller,
    id: web::Path<u32>,
    body: JsonBody<DecisionRequest>,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
) -> Result<web::Json<ApiDevice>, ApiFailure> {
    let DecisionRequest { standing, kinds, folders, all_folders, name } = body.0;
    let standing = Standing::from_word(&standing).ok_or_else(|| {
        ApiFailure::invalid("That is no standing")
            .why("A standing is `waiting`, `admitted` or `refused`.")
    })?;
    let read = |words: Vec<String>| words.join(",").parse::<Kinds>();
    let kinds = kinds
        .map(read)
        .transpose()
        .map_err(|why| ApiFailure::invalid("Those kinds do not work").why(why.to_string()))?;
    let name = name.map(|n| usable_name(&n)).transpose()?;
    if let Some(name) = &name {
        refuse_taken(&devices, DeviceId(*id), name)?;
    }
    let folders = match (folders, all_folders.unwrap_or(false)) {
        (Some(_), true) => {
            return Err(ApiFailure::invalid("Those folders do not work")
                .why("Some are named, and all as well."));
        }
        (Some(numbers), false) => Some(Some(of_published(&library, numbers)?)),
        (None, true) => Some(None),
        (None, false) => None,
    };
    let chosen = Chosen { kinds, folders };
    let decided = devices.decide(DeviceId(*id), standing, chosen, name, caller.0.account()).await;
    let device = decided.map_err(|error| {
        let failure = ApiFailure::from(error);
        if standing == Standing::Refused {
            return failure.next("The refusal is in force until the service restarts; repeat it when PostgreSQL is back.");
        }
        failure
    })?;
    Ok(web::Json(to_api(&device.ok_or_else(missing)?)))
}

/// Refuses a name that another device has: people could not tell the two apart.
fn refuse_taken(devices: &Devices, id: DeviceId, name: &str) -> Result<(), ApiFailure> {
    let book = devices.book();
    let mut others = book.iter().filter(|device| device.id != id);
    match others.find(|other| other.label().to_lowercase() == name.to_lowercase()) {
        None => Ok(()),
        Some(other) => {
            let title = format!("Another device is called {}", other.label());
            Err(ApiFailure::new(StatusCode::CONFLICT, &title)
                .why(format!("It is number {} at {}.", other.id, other.address()))
                .next("Take another name, or rename that one first."))
        }
    }
}

/// The numbers, each of a folder that is published: a slip of the pen would hide everything.
fn of_published(library: &Library, numbers: Vec<u32>) -> Result<BTreeSet<FolderId>, ApiFailure> {
    let wrong = |why: String| {
        ApiFailure::invalid("Those folders do not work")
            .why(why)
            .next("`mostra folder list` shows all; nothing was changed.")
    };
    if numbers.is_empty() {
        return Err(wrong("None is named. To keep a device out, refuse it.".into()));
    }
    let published = library.catalogue();
    for number in &numbers {
        if !published.folders().iter().any(|f| f.serial == FolderId(*number)) {
            return Err(wrong(format!("No folder has the number {number}.")));
        }
    }
    Ok(numbers.into_iter().map(FolderId).collect())
}

fn usable_name(name: &str) -> Result<String, ApiFailure> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 63 || name.chars().any(char::is_control) {
        return Err(ApiFailure::invalid("That name does not work")
            .why("A name is 1 to 63 characters on one line."));
    }
    Ok(name.to_owned())
}

#[utoipa::path(
    operation_id = "nameDevice",
    summary = "Name a device",
    request_body = mostra_api::DeviceName,
    responses((status = 200, body = mostra_api::Device))
)]
#[put("/devices/{id}/name")]
async fn rename(
    _: Caller,
    id: web::Path<u32>,
    body: JsonBody<DeviceName>,
    devices: web::Data<Devices>,
) -> Result<web::Json<ApiDevice>, ApiFailure> {
    let name = usable_name(&body.0.name)?;
    refuse_taken(&devices, DeviceId(*id), &name)?;
    let device = devices.rename(DeviceId(*id), name).await?.ok_or_else(missing)?;
    Ok(web::Json(to_api(&device)))
}

/// Puts another record of the same device together with this one, which stays as it stands.
#[utoipa::path(
    operation_id = "mergeDevices",
    summary = "Put two records together that are of one device",
    request_body = mostra_api::DeviceMerge,
    responses((status = 200, body = mostra_api::Device))
)]
#[post("/devices/{id}/merge")]
async fn merge(
    caller: Caller,
    id: web::Path<u32>,
    body: JsonBody<DeviceMerge>,
    devices: web::Data<Devices>,
) -> Result<web::Json<ApiDevice>, ApiFailure> {
    let other = body.0.other;
    if other == *id {
        return Err(ApiFailure::invalid("That is the same record")
            .next("Name the other one; `mostra device list` shows all."));
    }
    let merged = devices.merge(DeviceId(*id), DeviceId(other), caller.0.account()).await?;
    Ok(web::Json(to_api(&merged.ok_or_else(missing)?)))
}

/// Makes a device of its own of one way by which a device is reached; gives the new one.
#[utoipa::path(
    operation_id = "splitDevice",
    summary = "Take apart what was put together by mistake",
    request_body = mostra_api::DeviceSplit,
    responses((status = 200, body = mostra_api::Device))
)]
#[post("/devices/{id}/split")]
async fn split(
    caller: Caller,
    id: web::Path<u32>,
    body: JsonBody<DeviceSplit>,
    devices: web::Data<Devices>,
) -> Result<web::Json<ApiDevice>, ApiFailure> {
    let contact: Contact = body.0.endpoint.parse().map_err(|_| {
        ApiFailure::invalid("That is no endpoint")
            .why(format!("{:?} is neither an address nor a hardware address.", body.0.endpoint))
    })?;
    let known = devices.book().get(DeviceId(*id)).cloned().ok_or_else(missing)?;
    let contact = known
        .endpoints
        .iter()
        .find(|e| e.contact() == contact || Contact::Address(e.address) == contact)
        .map(device::Endpoint::contact)
        .ok_or_else(|| {
            ApiFailure::invalid("The device has no such endpoint")
                .next("`mostra device show` lists those that it has.")
        })?;
    let apart = devices.split(DeviceId(*id), contact, caller.0.account()).await?;
    let apart = apart.ok_or_else(|| {
        ApiFailure::invalid("It is the only way by which the device is reached")
            .next("There is nothing to take apart.")
    })?;
    Ok(web::Json(to_api(&apart)))
}

/// Sightings in one answer.
const SIGHTINGS: u64 = 1000;

#[utoipa::path(
    operation_id = "listSightings",
    summary = "What a device did and was refused, the latest first",
    responses((status = 200, body = Vec<mostra_api::Sighting>))
)]
#[get("/devices/{id}/sightings")]
async fn sightings(
    _: Caller,
    id: web::Path<u32>,
    devices: web::Data<Devices>,
) -> Result<web::Json<Vec<Sighting>>, ApiFailure> {
    let id = DeviceId(*id);
    if devices.book().get(id).is_none() {
        return Err(missing());
    }
    let mut all = devices.sightings(id, SIGHTINGS).await?;
    all.sort_by_key(|sighting| std::cmp::Reverse(sighting.last));
    let to_api = |sighting: &mostra_core::sighting::Sighting| Sighting {
        first_ms: ms(sighting.first),
        last_ms: ms(sighting.last),
        times: sighting.times,
        what: sighting.act.to_string(),
        failed: sighting.act.failed(),
        proves: sighting.proves,
        endpoint: sighting.contact.to_string(),
    };
    Ok(web::Json(all.iter().map(to_api).collect()))
}

#[utoipa::path(
    operation_id = "forgetDevice",
    summary = "Forget a device",
    responses((status = 204))
)]
#[delete("/devices/{id}")]
async fn forget(
    caller: Caller,
    id: web::Path<u32>,
    devices: web::Data<Devices>,
) -> Result<HttpResponse, ApiFailure> {
    if !devices.forget(DeviceId(*id), caller.0.account()).await? {
        return Err(missing());
    }
    Ok(HttpResponse::NoContent().finish())
}
