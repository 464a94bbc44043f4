//! Status, house settings, configuration.

use std::collections::BTreeMap;

use actix_web::{HttpResponse, delete, get, patch, post, put, web};
use mostra_api::{
    House as ApiHouse, HouseChange, HouseOff, Interface, OffProof, Status, SwitchOff,
};
use mostra_app::attention::attention;
use mostra_app::clock::ms;
use mostra_app::devices::Devices;
use mostra_app::library::Library;
use mostra_app::network::Network;
use mostra_app::network::discovery::DiscoveryCommand;
use mostra_app::streams::Streams;
use mostra_app::{Clock, Context};
use mostra_core::Locale;
use mostra_core::access::{Doorway, Standing};
use mostra_core::catalogue::{PictureOrder, Titles};
use mostra_core::off::{Off, OffError};
use mostra_core::station::{Allowed, NoHost};
use utoipa_actix_web::service_config::ServiceConfig;

use super::ConsoleParts;
use super::body::JsonBody;
use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config
        .service(status)
        .service(show)
        .service(change)
        .service(switch_off)
        .service(switch_on)
        .service(announce)
        .service(renew);
}

fn to_api(network: &Network, devices: &Devices, library: &Library) -> ApiHouse {
    let options = library.catalogue().options().clone();
    ApiHouse {
        name: network.name(),
        doorway: devices.doorway().word().into(),
        udn: network.udn(),
        titles: options.titles.word().into(),
        picture_order: options.pictures.word().into(),
        locale: options.locale.word().into(),
        locales: Locale::all().map(|l| l.word().into()).collect(),
        mimes: options.mimes,
        stations: library.allowed_stations().entries().to_vec(),
        off: network.off().map(|off| HouseOff {
            since_ms: off.since_ms,
            until_ms: off.until_ms,
            proof: network.off_proof().map(off_proof),
        }),
    }
}

fn off_proof(proof: mostra_app::network::OffProof) -> OffProof {
    OffProof {
        at_ms: proof.at_ms,
        silent: proof.is_silent(),
        byebyes: proof.byebyes,
        searched: proof.searched,
        answered: proof.answered,
        reached: proof.reached,
    }
}

/// Switches the house off.
#[utoipa::path(
    operation_id = "switchOff",
    summary = "Switch the house off: devices do not find it, and all streams end; everything is kept",
    request_body = mostra_api::SwitchOff,
    responses((status = 200, body = mostra_api::House))
)]
#[put("/house/off")]
async fn switch_off(
    _: Caller,
    body: JsonBody<SwitchOff>,
    network: web::Data<Network>,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
) -> Result<web::Json<ApiHouse>, ApiFailure> {
    let mut off = Off::new(Clock::wall(), body.0.until_ms).map_err(|error| {
        ApiFailure::invalid("The house cannot be off until then")
            .why(match error {
                OffError::Passed => "That moment has passed.",
                OffError::TooFar => "It is more than ten years ahead.",
            })
            .next("Give a later day, or none: then it is off until somebody switches it on.")
    })?;
    if let Some(before) = network.off() {
        off.since_ms = before.since_ms;
    }
    network.switch(Some(off)).await?;
    Ok(web::Json(to_api(&network, &devices, &library)))
}

/// Switches the house on again.
#[utoipa::path(
    operation_id = "switchOn",
    summary = "Switch the house on again",
    responses((status = 200, body = mostra_api::House))
)]
#[delete("/house/off")]
async fn switch_on(
    _: Caller,
    network: web::Data<Network>,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
) -> Result<web::Json<ApiHouse>, ApiFailure> {
    if network.off().is_some() {
        network.switch(None).await?;
    }
    Ok(web::Json(to_api(&network, &devices, &library)))
}

/// Announces the server now.
#[utoipa::path(
    operation_id = "announce",
    summary = "Announce the house to players now",
    responses((status = 204))
)]
#[post("/house/announcement")]
async fn announce(_: Caller, network: web::Data<Network>) -> HttpResponse {
    network.command(DiscoveryCommand::Announce);
    HttpResponse::NoContent().finish()
}

/// Appears as a new server.
#[utoipa::path(
    operation_id = "renewServer",
    summary = "Reset how players know this server: they forget what they keep of it",
    responses((status = 204))
)]
#[post("/house/renewal")]
async fn renew(_: Caller, network: web::Data<Network>) -> Result<HttpResponse, ApiFailure> {
    network.appear_as_new().await?;
    Ok(HttpResponse::NoContent().finish())
}

#[utoipa::path(
    operation_id = "getStatus",
    summary = "How the house is",
    responses((status = 200, body = mostra_api::Status))
)]
#[get("/status")]
async fn status(
    _: Caller,
    context: web::Data<Context>,
    network: web::Data<Network>,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
    streams: web::Data<Streams>,
    parts: web::Data<ConsoleParts>,
) -> web::Json<Status> {
    let mut attention = attention(&devices, &parts.preflight);
    attention.extend(parts.config.problems());
    if let Some((_, why)) = parts.saved.problem() {
        attention.push(format!("The records were not saved: {why}"));
    }
    if let Some((name, why)) = parts.saved.restored().and_then(|r| Some((r.name, r.problem?))) {
        attention.push(format!("{name} was not restored, and all is as before: {why}"));
    }
    let catalogue = library.catalogue();
    let count =
        |standing| devices.book().iter().filter(|d| d.stands() == Some(standing)).count() as u32;
    let (problems, port) = (network.problems(), network.device_port());
    let served = network.served();
    let interfaces = served.iter().map(|s| Interface {
        name: s.name.clone(),
        address: format!("{}:{port}", s.address),
        discovery_problem: problems.get(&s.name).cloned(),
    });
    web::Json(Status {
        house: to_api(&network, &devices, &library),
        version: env!("CARGO_PKG_VERSION").into(),
        started_ms: ms(context.clock.origin()),
        interfaces: interfaces.collect(),
        items: catalogue.item_count() as u64,
        folders: catalogue.folders().len() as u32,
        changed_ms: library.shared().changed_ms(),
        waiting: count(Standing::Waiting),
        admitted: count(Standing::Admitted),
        refused: count(Standing::Refused),
        streams: streams.book().count() as u32,
        loaded: library.shared().is_loaded(),
        records: context.records_answer(),
        attention,
    })
}

#[utoipa::path(
    operation_id = "getHouse",
    summary = "The house's settings",
    responses((status = 200, body = mostra_api::House))
)]
#[get("/house")]
async fn show(
    _: Caller,
    network: web::Data<Network>,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
) -> web::Json<ApiHouse> {
    web::Json(to_api(&network, &devices, &library))
}

#[utoipa::path(
    operation_id = "changeHouse",
    summary = "Change the house's settings",
    request_body = mostra_api::HouseChange,
    responses((status = 200, body = mostra_api::House))
)]
#[patch("/house")]
async fn change(
    _: Caller,
    body: JsonBody<HouseChange>,
    network: web::Data<Network>,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
) -> Result<web::Json<ApiHouse>, ApiFailure> {
    let HouseChange { name, doorway, titles, picture_order, locale, mimes, stations } = body.0;
    let name = name.map(|n| n.trim().to_owned());
    if let Some(name) = &name
        && (name.is_empty() || name.chars().count() > 63 || name.chars().any(char::is_control))
    {
        return Err(ApiFailure::invalid("That name does not work")
            .why("A name is 1 to 63 characters on one line."));
    }
    let doorway = match doorway.as_deref() {
        None => None,
        Some(word) => Some(Doorway::from_word(word).ok_or_else(|| {
            ApiFailure::invalid("That is no doorway")
                .why(format!("{word:?} is neither `ask` nor `open` nor `closed`."))
        })?),
    };
    let mut options = library.catalogue().options().clone();
    if let Some(word) = titles {
        options.titles = Titles::from_word(&word).ok_or_else(|| {
            ApiFailure::invalid("That is no place for titles")
                .why(format!("{word:?} is neither `embedded` nor `file-names`."))
        })?;
    }
    if let Some(word) = picture_order {
        options.pictures = PictureOrder::from_word(&word).ok_or_else(|| {
            ApiFailure::invalid("That is no order for pictures")
                .why(format!("{word:?} is neither `date` nor `title`."))
        })?;
    }
    if let Some(word) = locale {
        options.locale = Locale::from_word(&word).ok_or_else(|| {
            let known: Vec<&str> = Locale::all().map(Locale::word).collect();
            ApiFailure::invalid("No alphabet is known for that language")
                .why(format!("{word:?} is none of {}.", known.join(", ")))
                .next("Choose en for English and every other language; accents are ignored then.")
        })?;
    }
    if let Some(mimes) = mimes {
        options.mimes = usable_mimes(mimes)?;
    }
    let stations = stations.map(Allowed::new).transpose().map_err(|NoHost(entry)| {
        ApiFailure::invalid("That is no host")
            .why(format!("{entry:?} names no host that could be connected to."))
            .next("For example: radio.example, *.radio.example or 192.0.2.7:8000")
    })?;
    if let Some(doorway) = doorway {
        devices.set_doorway(doorway).await?;
    }
    if let Some(name) = name {
        network.rename(name).await?;
    }
    library.change_options(options).await?;
    if let Some(stations) = stations
        && library.allow_stations(stations).await?
    {
        // Playlists are read again: their stations come or go.
        library.clone().into_inner().rescan_all("stations");
    }
    Ok(web::Json(to_api(&network, &devices, &library)))
}

/// MIME types by extension, both as they must be written.
pub(crate) fn usable_mimes(
    mimes: BTreeMap<String, String>,
) -> Result<BTreeMap<String, String>, ApiFailure> {
    let mut usable = BTreeMap::new();
    for (extension, mime) in mimes {
        let extension = extension.trim().trim_start_matches('.').to_lowercase();
        let mime = mime.trim().to_lowercase();
        let plain = |text: &str| {
            !text.is_empty()
                && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"-+.".contains(&b))
        };
        let two = mime.split_once('/').is_some_and(|(kind, sub)| plain(kind) && plain(sub));
        if !two || !plain(&extension) || extension.len() > 16 || mime.len() > 100 {
            return Err(ApiFailure::invalid("That MIME type does not work")
                .why(format!("{extension:?} as {mime:?} cannot be sent to devices."))
                .next("For example: mkv as video/x-mkv"));
        }
        usable.insert(extension, mime);
    }
    Ok(usable)
}
