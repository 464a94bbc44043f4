//! What is open to whom.

use actix_web::{get, web};
use mostra_api::{
    AccountExposure, AdmittedDevice, Exposure, FolderExposure, Listener, Wide as ApiWide,
};
use mostra_app::Context;
use mostra_app::accounts::Accounts;
use mostra_app::clock::ms;
use mostra_app::devices::Devices;
use mostra_app::library::Library;
use mostra_app::network::Network;
use mostra_core::access::{Decision, Standing};
use mostra_core::device::Device;
use mostra_core::exposure::{HONEST, Openness, wide};
use mostra_core::ids::FolderId;
use utoipa_actix_web::service_config::ServiceConfig;

use super::house_access::HouseAccess;
use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(show);
}

#[utoipa::path(
    operation_id = "showExposure",
    summary = "What is open to whom, and what of it is wider than it needs to be",
    responses((status = 200, body = mostra_api::Exposure))
)]
#[get("/exposure")]
async fn show(
    _: Caller,
    context: web::Data<Context>,
    network: web::Data<Network>,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
    accounts: web::Data<Accounts>,
    access: web::Data<HouseAccess>,
) -> Result<web::Json<Exposure>, ApiFailure> {
    let console = access.to_api().await;
    let all: Vec<Device> = devices.book().iter().cloned().collect();
    let also_from = network.also_from();
    let open = Openness {
        now: context.now(),
        doorway: devices.doorway(),
        console_open: console.open,
        also_from: &also_from,
        devices: &all,
    };
    let wide =
        wide(&open).into_iter().map(|wide| ApiWide { what: wide.what, command: wide.command });
    let mut listeners: Vec<Listener> = network
        .own_addresses()
        .into_iter()
        .map(|address| Listener {
            what: "media and menus for devices, and discovery on port 1900".into(),
            address: address.to_string(),
            who: "every device in that network; what it gets is decided for each".into(),
        })
        .collect();
    listeners.push(Listener {
        what: "the console".into(),
        address: network.console.on_this_host(),
        who: "this host, with a password".into(),
    });
    listeners.extend(console.addresses.iter().map(|url| Listener {
        what: "the console, by TLS".into(),
        address: url.clone(),
        who: "the house's network, with a password".into(),
    }));
    let catalogue = library.catalogue();
    let admitted: Vec<&Device> =
        all.iter().filter(|device| device.stands() == Some(Standing::Admitted)).collect();
    let folders = catalogue.folders().iter().map(|folder| {
        let sees = |device: &&&Device| match device.decision() {
            Decision::Admitted(pass) => pass.covers_folder(folder.serial),
            Decision::Waiting | Decision::Refused => false,
        };
        FolderExposure {
            label: folder.label.clone(),
            root: folder.root.clone(),
            devices: admitted.iter().filter(sees).count() as u32,
        }
    });
    let admissions = devices.admissions().await?;
    let label = |id: &FolderId| catalogue.folder(*id).map(|folder| folder.label.clone());
    let to_admitted = |device: &&Device| {
        let by = admissions.get(&device.id);
        AdmittedDevice {
            id: device.id.0,
            label: device.label(),
            kinds: device.grant.kinds.iter().map(|kind| kind.word().to_owned()).collect(),
            folders: device.grant.folders.as_ref().map(|f| f.iter().filter_map(label).collect()),
            by: by.map(|(who, _)| who.clone()),
            since_ms: by.map(|(_, at)| ms(*at)),
        }
    };
    let mut of_devices: Vec<AdmittedDevice> = admitted.iter().map(to_admitted).collect();
    of_devices.sort_by_key(|device| device.since_ms);
    let accounts = accounts.list().await?.into_iter();
    Ok(web::Json(Exposure {
        listeners,
        doorway: devices.doorway().word().into(),
        folders: folders.collect(),
        devices: of_devices,
        accounts: accounts
            .map(|(name, sessions)| AccountExposure { name, sessions: sessions as u32 })
            .collect(),
        wide: wide.collect(),
        honest: HONEST.into(),
    }))
}
