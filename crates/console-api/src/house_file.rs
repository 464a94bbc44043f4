//! The house as a file: written, compared and applied.

use actix_web::http::StatusCode;
use actix_web::{HttpMessage as _, HttpRequest, HttpResponse, get, post, web};
use futures_util::StreamExt as _;
use mostra_api::{AppliedHouse, HouseChangePlan, NotApplied};
use mostra_core::access::Standing;
use mostra_core::device::Device;
use mostra_core::house_file::{
    DeviceSection, FolderSection, HouseFile, HouseFileError, HouseSection, MOST, PlannedChange,
    PresetSection, Word, plan,
};
use mostra_core::ids::FolderId;
use mostra_core::traits::PLAIN;
use mostra_core::{Kind, Kinds};
use serde::Deserialize;
use std::collections::BTreeSet;
use utoipa::IntoParams;
use utoipa_actix_web::service_config::ServiceConfig;

use super::ConsoleParts;
use super::apply_house::apply;
use super::problem::ApiFailure;
use super::session::{Caller, CallerOrKey};

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(export).service(apply_file);
}

/// The house as it is.
pub(crate) async fn current(parts: &ConsoleParts) -> Result<HouseFile, ApiFailure> {
    let ConsoleParts { devices, library, network, config, .. } = parts;
    let catalogue = library.catalogue();
    let options = catalogue.options().clone();
    let label = |id: &FolderId| catalogue.folder(*id).map(|folder| folder.label.clone());
    let labels = |folders: &Option<BTreeSet<FolderId>>| {
        folders.as_ref().map(|all| {
            let mut labels: Vec<String> = all.iter().filter_map(label).collect();
            labels.sort();
            labels
        })
    };
    let folder = catalogue.folders().iter().map(|folder| FolderSection {
        label: folder.label.clone(),
        path: folder.root.clone(),
        kinds: folder.kinds.iter().collect(),
        left_out: library.scans.known(folder.serial).excluded,
        links: Word(library.scans.known(folder.serial).link_rule),
    });
    let presets = devices.presets().await?;
    let own = presets.with_built_in().into_iter().filter(|preset| !preset.built_in);
    let preset = own.map(|preset| PresetSection {
        name: preset.name,
        kinds: preset.grant.kinds.iter().collect(),
        folders: labels(&preset.grant.folders),
    });
    let mut device: Vec<DeviceSection> = {
        let book = devices.book();
        let said = |device: &&Device| {
            let notes = [&device.name, &device.room, &device.note];
            device.decided
                || device.kind.is_some()
                || device.traits != PLAIN
                || notes.into_iter().any(Option::is_some)
        };
        book.iter().filter(said).map(|device| section(device, &labels)).collect()
    };
    device.sort_by_key(|device| (device.hardware.map(|Word(h)| h), device.address));
    let chosen = config.values().into_iter().filter(|value| value.source == "console");
    Ok(HouseFile {
        house: HouseSection {
            name: Some(network.name()),
            doorway: Some(Word(devices.doorway())),
            titles: Some(Word(options.titles)),
            pictures: Some(Word(options.pictures)),
            locale: Some(Word(options.locale)),
            stations: Some(library.allowed_stations().entries().to_vec()),
            mime: Some(options.mimes.into_iter().collect())
                .filter(|m: &std::collections::BTreeMap<_, _>| !m.is_empty()),
            webhook: devices.webhook().await?,
        },
        folder: folder.collect(),
        preset: preset.collect(),
        device,
        settings: chosen.map(|value| (value.name, value.next.unwrap_or(value.value))).collect(),
    })
}

fn section(
    device: &Device,
    labels: &impl Fn(&Option<BTreeSet<FolderId>>) -> Option<Vec<String>>,
) -> DeviceSection {
    let decided = device.decided && device.standing != Standing::Waiting;
    let hardware = device.hardware();
    DeviceSection {
        hardware: hardware.map(Word),
        address: Some(device.address()).filter(|_| hardware.is_none()),
        name: device.name.clone(),
        kind: device.kind.map(Word),
        room: device.room.clone(),
        note: device.note.clone(),
        standing: decided.then_some(Word(device.standing)),
        kinds: (device.grant.kinds != Kinds::ALL)
            .then(|| device.grant.kinds.iter().collect::<Vec<Kind>>()),
        folders: labels(&device.grant.folders),
        traits: Some(device.traits.clone()).filter(|traits| *traits != PLAIN),
    }
}

pub(crate) fn to_api(changes: Vec<PlannedChange>) -> Vec<HouseChangePlan> {
    let one = |change: PlannedChange| HouseChangePlan {
        what: change.what,
        before: change.before,
        after: change.after,
    };
    changes.into_iter().map(one).collect()
}

#[utoipa::path(
    operation_id = "exportHouse",
    summary = "Everything that a person decided, as one TOML document",
    responses((status = 200, body = String, content_type = "text/plain"))
)]
#[get("/house/file")]
async fn export(
    _: CallerOrKey,
    parts: web::Data<ConsoleParts>,
) -> Result<HttpResponse, ApiFailure> {
    let text = current(&parts).await?.write();
    Ok(HttpResponse::Ok().content_type("text/plain; charset=utf-8").body(text))
}

/// What is to be done with a file.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
struct HowToApply {
    /// Only say what would change.
    #[serde(default)]
    plan: bool,
}

#[utoipa::path(
    operation_id = "applyHouse",
    summary = "Have the house be as a file says, or say what would change; what the file does not name stays",
    params(HowToApply),
    request_body(content = String, content_type = "text/plain"),
    responses((status = 200, body = mostra_api::AppliedHouse))
)]
#[post("/house/file")]
async fn apply_file(
    caller: Caller,
    request: HttpRequest,
    how: web::Query<HowToApply>,
    mut body: web::Payload,
    parts: web::Data<ConsoleParts>,
) -> Result<web::Json<AppliedHouse>, ApiFailure> {
    if request.content_type() != "text/plain" {
        return Err(refused(StatusCode::UNSUPPORTED_MEDIA_TYPE, "It comes as text/plain."));
    }
    let mut text = Vec::new();
    while let Some(piece) = body.next().await {
        let piece = piece.map_err(|error| refused(StatusCode::BAD_REQUEST, &error.to_string()))?;
        text.extend_from_slice(&piece);
        if text.len() > MOST {
            return Err(refused(StatusCode::PAYLOAD_TOO_LARGE, "It is larger than 1 MiB."));
        }
    }
    let text = String::from_utf8(text)
        .map_err(|_| refused(StatusCode::UNPROCESSABLE_ENTITY, "It is no text."))?;
    let unreadable =
        |error: HouseFileError| refused(StatusCode::UNPROCESSABLE_ENTITY, &format!("{error}."));
    let wanted = HouseFile::read(&text).map_err(unreadable)?;
    let now = current(&parts).await?;
    check(&parts, &now, &wanted, &text).map_err(unreadable)?;
    let changes = plan(&now, &wanted);
    if how.plan || changes.is_empty() {
        return Ok(web::Json(AppliedHouse {
            applied: !how.plan,
            changes: to_api(changes),
            failed: Vec::new(),
        }));
    }
    let who = caller.0.account();
    let failed = apply(&parts, &now, &wanted, who).await?;
    tracing::info!(who, changes = changes.len(), failed = failed.len(), "a house file is applied");
    Ok(web::Json(AppliedHouse {
        applied: true,
        changes: to_api(changes),
        failed: failed.into_iter().map(|(what, why)| NotApplied { what, why }).collect(),
    }))
}

fn refused(status: StatusCode, why: &str) -> ApiFailure {
    ApiFailure::new(status, "The file cannot be applied").why(why).next("Nothing was changed.")
}

/// What can be told only in this house: labels of folders that there are not, settings that there are
/// not, and values that they do not take.
fn check(
    parts: &ConsoleParts,
    now: &HouseFile,
    wanted: &HouseFile,
    text: &str,
) -> Result<(), HouseFileError> {
    // The place of a text in the file, from where its section begins.
    let wrong = |section: &str, word: &str, what: String| {
        let from = text.find(section).unwrap_or(0);
        let at = text[from..].find(word).map_or(from, |at| from + at);
        Err(HouseFileError::at(text, at, what))
    };
    let known = |label: &String| {
        let mut all = now.folder.iter().chain(&wanted.folder);
        all.any(|folder| folder.label == *label)
    };
    let of_presets = wanted.preset.iter().map(|one| ("[[preset]]", &one.folders));
    let of_devices = wanted.device.iter().map(|one| ("[[device]]", &one.folders));
    for (section, folders) in of_presets.chain(of_devices) {
        if let Some(label) = folders.iter().flatten().find(|label| !known(label)) {
            return wrong(section, label, format!("there is no folder {label:?}"));
        }
    }
    if let Some(url) = &wanted.house.webhook
        && let Err(why) = mostra_core::webhook::read(url)
    {
        return wrong("webhook", url, why.to_string());
    }
    let values = parts.config.values();
    for (name, value) in &wanted.settings {
        let Some(setting) = values.iter().find(|setting| setting.name == *name) else {
            return wrong("[settings]", name, format!("there is no setting {name:?}"));
        };
        if !setting.words.is_empty() && !setting.words.contains(value) {
            let words = setting.words.join(", ");
            return wrong("[settings]", name, format!("{value:?} is none of {words}"));
        }
        if let (Some(least), Some(most)) = (setting.least, setting.most)
            && !value.parse().is_ok_and(|number: u32| (least..=most).contains(&number))
        {
            return wrong("[settings]", name, format!("{value:?} is not from {least} to {most}"));
        }
    }
    Ok(())
}
