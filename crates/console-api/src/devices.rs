//! Devices, decisions, proof and streams.

use std::collections::BTreeSet;
use std::net::Ipv4Addr;

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, delete, get, post, put, web};
use mostra_api::{
    ActiveDevice, Decision, DecisionRequest, Device as ApiDevice, DeviceAbout, DeviceMerge,
    DeviceName, DeviceSplit, DeviceTraits, NewDevice, Sighting,
};
use mostra_app::clock::ms;
use mostra_app::devices::{AboutDevice, Devices};
use mostra_app::library::Library;
use mostra_app::network::Network;
use mostra_core::Kinds;
use mostra_core::access::{Chosen, Standing};
use mostra_core::device::{self, Device, DeviceKind, Hardware};
use mostra_core::ids::{DeviceId, FolderId};
use mostra_core::sighting::Contact;
use mostra_core::traits::Traits;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::JsonBody;
use super::device_view::DeviceView;
use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config
        .service(list)
        .service(active)
        .service(show)
        .service(forget)
        .service(decide)
        .service(rename)
        .service(merge)
        .service(split)
        .service(sightings)
        .service(add)
        .service(about)
        .service(decisions)
        .service(undo)
        .service(set_traits);
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
    network: web::Data<Network>,
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
    Ok(web::Json(DeviceView::new(&devices, &network).of(&device.ok_or_else(missing)?)))
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
async fn list(
    _: Caller,
    devices: web::Data<Devices>,
    network: web::Data<Network>,
) -> web::Json<Vec<ApiDevice>> {
    let stands = |device: &&Device| device.stands().is_some();
    let mut all: Vec<Device> = devices.book().iter().filter(stands).cloned().collect();
    // Who waits comes first; then by when they came, so that lists keep their place.
    all.sort_by_key(|d| (d.standing != Standing::Waiting, d.id));
    let view = DeviceView::new(&devices, &network);
    web::Json(all.iter().map(|device| view.of(device)).collect())
}

#[utoipa::path(
    operation_id = "listActiveDevices",
    summary = "Devices that did something within the last ten seconds, the latest first",
    responses((status = 200, body = Vec<mostra_api::ActiveDevice>))
)]
#[get("/active-devices")]
async fn active(_: Caller, devices: web::Data<Devices>) -> web::Json<Vec<ActiveDevice>> {
    let active = devices.active().into_iter().map(|(device, at, what)| ActiveDevice {
        id: device.id.0,
        label: device.label(),
        address: device.address().to_string(),
        hardware: device.endpoint().and_then(|e| e.hardware).map(|h| h.to_string()),
        at_ms: ms(at),
        what,
    });
    web::Json(active.collect())
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
    network: web::Data<Network>,
) -> Result<web::Json<ApiDevice>, ApiFailure> {
    let device = devices.book().get(DeviceId(*id)).cloned().ok_or_else(missing)?;
    Ok(web::Json(DeviceView::new(&devices, &network).of(&device)))
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
    network: web::Data<Network>,
    library: web::Data<Library>,
) -> Result<web::Json<ApiDevice>, ApiFailure> {
    let DecisionRequest { standing, kinds, folders, all_folders, name, why, preset } = body.0;
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
    let chosen = match preset {
        None => Chosen { kinds, folders },
        Some(_) if kinds.is_some() || folders.is_some() => {
            return Err(ApiFailure::invalid("That grant does not work")
                .why("A preset is named, and kinds or folders as well."));
        }
        Some(name) => {
            let preset = devices.presets().await?.find(&name);
            preset.map(|preset| preset.chosen()).ok_or_else(|| {
                ApiFailure::missing("No such preset").next("`mostra preset list` shows all.")
            })?
        }
    };
    let why = why.map(|why| usable_words("reason", &why)).transpose()?;
    let who = (caller.0.account(), why.as_deref());
    let decided = devices.decide(DeviceId(*id), standing, chosen, name, who).await;
    let device = decided.map_err(|error| {
        let failure = ApiFailure::from(error);
        if standing == Standing::Refused {
            return failure.next("The refusal is in force until the service restarts; repeat it when PostgreSQL is back.");
        }
        failure
    })?;
    Ok(web::Json(DeviceView::new(&devices, &network).of(&device.ok_or_else(missing)?)))
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
pub(crate) fn of_published(
    library: &Library,
    numbers: Vec<u32>,
) -> Result<BTreeSet<FolderId>, ApiFailure> {
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

pub(crate) fn usable_name(name: &str) -> Result<String, ApiFailure> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 63 || name.chars().any(char::is_control) {
        return Err(ApiFailure::invalid("That name does not work")
            .why("A name is 1 to 63 characters on one line."));
    }
    Ok(name.to_owned())
}

/// Words of a person on one subject: some text of at most 255 characters.
fn usable_words(what: &str, text: &str) -> Result<String, ApiFailure> {
    let text = text.trim();
    if text.chars().count() > 255 || text.chars().any(|c| c.is_control() && c != '\n') {
        return Err(ApiFailure::invalid(&format!("That {what} does not work"))
            .why(format!("A {what} has at most 255 characters.")));
    }
    Ok(text.to_owned())
}

#[utoipa::path(
    operation_id = "addDevice",
    summary = "Add a device by its hardware address or address, also before it is seen",
    request_body = mostra_api::NewDevice,
    responses((status = 200, body = mostra_api::Device))
)]
#[post("/devices")]
async fn add(
    _: Caller,
    body: JsonBody<NewDevice>,
    devices: web::Data<Devices>,
    network: web::Data<Network>,
) -> Result<web::Json<ApiDevice>, ApiFailure> {
    let NewDevice { hardware, address, name } = body.0;
    let wrong = |what: &str, text: &str, form: &str| {
        ApiFailure::invalid(&format!("That is no {what}"))
            .why(format!("{text:?} is not of the form {form}."))
            .next("Nothing was added.")
    };
    let read_hardware = |text: String| {
        text.replace('-', ":")
            .parse::<Hardware>()
            .map_err(|_| wrong("hardware address", &text, "02:5e:11:00:00:2c"))
    };
    let read_address = |text: String| match text.trim().parse::<Ipv4Addr>() {
        Ok(address) if !address.is_unspecified() && !address.is_multicast() => Ok(address),
        _ => Err(wrong("address of a device", &text, "192.168.1.20")),
    };
    let hardware = hardware.map(read_hardware).transpose()?;
    let address = address.map(read_address).transpose()?;
    // Where it is there already, the system knows the other half.
    let hardware = hardware.or_else(|| devices.hardware(address?));
    if hardware.is_none() && address.is_none() {
        return Err(ApiFailure::invalid("Nothing says which device that is")
            .next("Give its hardware address or its address."));
    }
    let name = name.map(|name| usable_name(&name)).transpose()?;
    let address = address.unwrap_or(Ipv4Addr::UNSPECIFIED);
    let known = devices.book().find(address, hardware);
    if let Some(name) = &name {
        refuse_taken(&devices, known.unwrap_or_default(), name)?;
    }
    let added = devices.add(address, hardware, name).await?.ok_or_else(|| {
        ApiFailure::new(StatusCode::CONFLICT, "There is no room for another device")
            .why("Persons decided on all that are known.")
            .next("Forget some: mostra device forget")
    })?;
    Ok(web::Json(DeviceView::new(&devices, &network).of(&added)))
}

#[utoipa::path(
    operation_id = "noteAboutDevice",
    summary = "Say what sort of device it is, where it is, and what is to be remembered of it",
    request_body = mostra_api::DeviceAbout,
    responses((status = 200, body = mostra_api::Device))
)]
#[put("/devices/{id}/about")]
async fn about(
    _: Caller,
    id: web::Path<u32>,
    body: JsonBody<DeviceAbout>,
    devices: web::Data<Devices>,
    network: web::Data<Network>,
) -> Result<web::Json<ApiDevice>, ApiFailure> {
    let DeviceAbout { device_kind, room, note } = body.0;
    let kind = match device_kind.as_deref() {
        None => None,
        Some("") => Some(None),
        Some(word) => Some(Some(DeviceKind::from_word(word).ok_or_else(|| {
            let words = DeviceKind::ALL.map(DeviceKind::word).join(", ");
            ApiFailure::invalid("That is no kind of device").why(format!("They are: {words}."))
        })?)),
    };
    let room = room.map(|room| usable_words("room", &room)).transpose()?;
    let note = note.map(|note| usable_words("note", &note)).transpose()?;
    let about = AboutDevice { kind, room, note };
    let device = devices.note_about(DeviceId(*id), about).await?.ok_or_else(missing)?;
    Ok(web::Json(DeviceView::new(&devices, &network).of(&device)))
}

#[utoipa::path(
    operation_id = "listDecisions",
    summary = "Decisions on a device, the latest first",
    responses((status = 200, body = Vec<mostra_api::Decision>))
)]
#[get("/devices/{id}/decisions")]
async fn decisions(
    _: Caller,
    id: web::Path<u32>,
    devices: web::Data<Devices>,
) -> Result<web::Json<Vec<Decision>>, ApiFailure> {
    let id = DeviceId(*id);
    if devices.book().get(id).is_none() {
        return Err(missing());
    }
    let decided = devices.decisions(id).await?.into_iter().map(|decided| Decision {
        at_ms: ms(decided.at),
        who: decided.who,
        what: decided.what,
        why: decided.why,
        can_be_undone: decided.before.is_some(),
    });
    Ok(web::Json(decided.collect()))
}

#[utoipa::path(
    operation_id = "undoDecision",
    summary = "Undo the last decision on a device",
    responses((status = 200, body = mostra_api::Device))
)]
#[post("/devices/{id}/undo")]
async fn undo(
    caller: Caller,
    id: web::Path<u32>,
    devices: web::Data<Devices>,
    network: web::Data<Network>,
) -> Result<web::Json<ApiDevice>, ApiFailure> {
    if devices.book().get(DeviceId(*id)).is_none() {
        return Err(missing());
    }
    let undone = devices.undo(DeviceId(*id), caller.0.account()).await?;
    let device = undone.ok_or_else(|| {
        ApiFailure::new(StatusCode::CONFLICT, "There is no decision to undo")
            .why("Nobody decided on this device yet.")
    })?;
    Ok(web::Json(DeviceView::new(&devices, &network).of(&device)))
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
    network: web::Data<Network>,
) -> Result<web::Json<ApiDevice>, ApiFailure> {
    let name = usable_name(&body.0.name)?;
    refuse_taken(&devices, DeviceId(*id), &name)?;
    let device = devices.rename(DeviceId(*id), name).await?.ok_or_else(missing)?;
    Ok(web::Json(DeviceView::new(&devices, &network).of(&device)))
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
    network: web::Data<Network>,
) -> Result<web::Json<ApiDevice>, ApiFailure> {
    let other = body.0.other;
    if other == *id {
        return Err(ApiFailure::invalid("That is the same record")
            .next("Name the other one; `mostra device list` shows all."));
    }
    let merged = devices.merge(DeviceId(*id), DeviceId(other), caller.0.account()).await?;
    Ok(web::Json(DeviceView::new(&devices, &network).of(&merged.ok_or_else(missing)?)))
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
    network: web::Data<Network>,
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
    Ok(web::Json(DeviceView::new(&devices, &network).of(&apart)))
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
    Ok(web::Json(all.iter().map(sighting_to_api).collect()))
}

/// A sighting as it is shown.
pub(crate) fn sighting_to_api(sighting: &mostra_core::sighting::Sighting) -> Sighting {
    Sighting {
        first_ms: ms(sighting.first),
        last_ms: ms(sighting.last),
        times: sighting.times,
        what: sighting.act.to_string(),
        group: sighting.act.group().word().to_owned(),
        failed: sighting.act.failed(),
        proves: sighting.proves,
        endpoint: sighting.contact.to_string(),
    }
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
