//! One archive for whoever helps: what is needed to tell what is wrong, and no more.

use actix_web::http::{StatusCode, header};
use actix_web::{HttpResponse, get, web};
use mostra_app::kept_log;
use mostra_core::access::Standing;
use mostra_core::device::Device;
use serde::Serialize;
use utoipa_actix_web::service_config::ServiceConfig;

use super::device_view::DeviceView;
use super::devices::sighting_to_api;
use super::problem::ApiFailure;
use super::session::CallerOrKey;
use super::{ConsoleParts, preflight, walkthroughs};

/// Devices of which sightings are given, and how many of each.
const DEVICES: usize = 60;
const SIGHTINGS: u64 = 300;

/// What is in the archive; it stands in it as its first file.
const README: &str = "\
What `mostra support write` put together for whoever helps:

versions.json      versions of this program, of the system and of what it uses
preflight.json     what stands in the way of devices on this computer and in the network
settings.json      the service's settings; passwords and secret addresses are left out
devices.json       the devices: names, addresses, hardware addresses, standing, traits, proof
walkthroughs.json  what walkthroughs came to
sightings.json     what each device did last, at most 300 entries: titles of files are among them
log.txt            the service's last 2000 lines of log

No media, no pictures, no passwords, no tokens. Look through it before you send it: names, addresses
and titles may tell of your house.
";

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(write);
}

/// Sightings of one device.
#[derive(Serialize)]
struct OfDevice {
    device: u32,
    sightings: Vec<mostra_api::Sighting>,
}

/// Versions of all parts.
#[derive(Serialize)]
struct Versions {
    mostra: &'static str,
    system: String,
    kernel: String,
    checks: Vec<String>,
}

#[utoipa::path(
    operation_id = "writeSupport",
    summary = "An archive (tar) for whoever helps: versions, preflight, settings without secrets, devices, walkthroughs, sightings, log",
    responses((status = 200, body = Vec<u8>, content_type = "application/x-tar"))
)]
#[get("/support")]
async fn write(
    caller: CallerOrKey,
    parts: web::Data<ConsoleParts>,
) -> Result<HttpResponse, ApiFailure> {
    let ConsoleParts { devices, network, library, config, .. } = &**parts;
    let all: Vec<Device> = devices.book().iter().cloned().collect();
    let view = DeviceView::new(devices, network);
    let shown: Vec<_> = all.iter().map(|device| view.of(device)).collect();
    let walked: Vec<_> = devices
        .with_walkthroughs()
        .into_iter()
        .filter_map(|id| walkthroughs::whole(&parts.walkthroughs, library, id))
        .collect();
    let mut latest: Vec<&Device> = all
        .iter()
        .filter(|device| device.standing != Standing::Waiting || device.asked.is_some())
        .collect();
    latest.sort_by_key(|device| std::cmp::Reverse(device.last_seen));
    let mut sightings = Vec::new();
    for device in latest.into_iter().take(DEVICES) {
        let its = devices.sightings(device.id, SIGHTINGS).await?;
        let its = its.iter().map(sighting_to_api).collect();
        sightings.push(OfDevice { device: device.id.0, sightings: its });
    }
    let checks = preflight::to_api(&parts.preflight);
    let of_versions = checks.checks.iter().filter(|check| check.id == "versions");
    let versions = Versions {
        mostra: env!("CARGO_PKG_VERSION"),
        system: line_of("/etc/os-release", "PRETTY_NAME="),
        kernel: line_of("/proc/version", ""),
        checks: of_versions.map(|check| check.measured.clone()).collect(),
    };
    let files = [
        ("README.txt", README.as_bytes().to_vec()),
        ("versions.json", json(&versions)),
        ("preflight.json", json(&checks)),
        ("settings.json", json(&config.values())),
        ("devices.json", json(&shown)),
        ("walkthroughs.json", json(&walked)),
        ("sightings.json", json(&sightings)),
        ("log.txt", kept_log::lines().join("\n").into_bytes()),
    ];
    let failed = |error: std::io::Error| {
        ApiFailure::new(StatusCode::INTERNAL_SERVER_ERROR, "The archive was not written")
            .why(format!("{error}."))
    };
    let mut archive = tar::Builder::new(Vec::new());
    for (name, bytes) in &files {
        let mut header = tar::Header::new_gnu();
        header.set_size(bytes.len() as u64);
        header.set_mode(0o600);
        header.set_mtime(mostra_app::clock::ms(parts.context.now()) / 1000);
        let path = format!("mostra-support/{name}");
        archive.append_data(&mut header, path, bytes.as_slice()).map_err(failed)?;
    }
    let bytes = archive.into_inner().map_err(failed)?;
    tracing::info!(who = caller.0.account(), bytes = bytes.len(), "an archive for support");
    let named = "attachment; filename=\"mostra-support.tar\"";
    Ok(HttpResponse::Ok()
        .content_type("application/x-tar")
        .insert_header((header::CONTENT_DISPOSITION, named))
        .body(bytes))
}

fn json(value: &impl Serialize) -> Vec<u8> {
    serde_json::to_vec_pretty(value).unwrap_or_default()
}

/// The rest of the first line of a file that begins so.
fn line_of(path: &str, begins: &str) -> String {
    let text = std::fs::read_to_string(path).unwrap_or_default();
    let line = text.lines().find_map(|line| line.strip_prefix(begins));
    line.unwrap_or_default().trim_matches('"').to_owned()
}
