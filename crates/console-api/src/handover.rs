//! The hand-over: what the household keeps.

use actix_web::http::header;
use actix_web::{HttpResponse, get, post, web};
use mostra_api::{Handover, HandoverDevice, HandoverFolder, HandoverSetting};
use mostra_app::Context;
use mostra_app::clock::ms;
use mostra_app::devices::Devices;
use mostra_app::handover::{last, remember};
use mostra_app::library::Library;
use mostra_app::network::Network;
use mostra_app::preflight::PreflightChecks;
use mostra_app::walkthroughs::Walkthroughs;
use mostra_core::Kind;
use mostra_core::access::Standing;
use mostra_core::device::Device;
use mostra_core::handover::{HandedOver, RuleFolder, changes, rule};
use mostra_core::proof::Step;
use mostra_core::walkthrough::StepState;
use utoipa_actix_web::service_config::ServiceConfig;

use super::ConsoleParts;
use super::configuration::Configuration;
use super::device_view::DeviceView;
use super::handover_page::page;
use super::preflight;
use super::problem::ApiFailure;
use super::session::{Caller, CallerOrKey};
use super::walkthroughs::{cause, verdict_text};

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(show).service(printed).service(done);
}

/// What it is made of.
struct Parts<'a> {
    context: &'a Context,
    devices: &'a Devices,
    library: &'a Library,
    network: &'a Network,
    preflight: &'a PreflightChecks,
    walkthroughs: &'a Walkthroughs,
    config: &'a dyn Configuration,
}

impl<'a> Parts<'a> {
    fn of(parts: &'a ConsoleParts) -> Parts<'a> {
        Parts {
            context: &parts.context,
            devices: &parts.devices,
            library: &parts.library,
            network: &parts.network,
            preflight: &parts.preflight,
            walkthroughs: &parts.walkthroughs,
            config: parts.config.as_ref(),
        }
    }

    async fn written(&self) -> Result<(Handover, HandedOver), ApiFailure> {
        let host = nix::unistd::gethostname().map(|name| name.to_string_lossy().into_owned());
        let host = host.unwrap_or_else(|_| "this computer".into());
        if self.preflight.looked_at().is_none() {
            // Just begun: what was not looked at yet would be told as missing.
            self.preflight.look_again(None).await;
        }
        let catalogue = self.library.catalogue();
        let house = self.network.name();
        let rule_folders: Vec<RuleFolder> = catalogue
            .folders()
            .iter()
            .map(|folder| RuleFolder {
                label: folder.label.clone(),
                path: folder.root.clone(),
                kinds: folder.kinds,
            })
            .collect();
        let folders: Vec<HandoverFolder> = catalogue
            .folders()
            .iter()
            .map(|folder| {
                let [films, tracks, pictures] = catalogue.folder_counts(folder.serial);
                let (label, path) = (folder.label.clone(), folder.root.clone());
                HandoverFolder { label, path, films, tracks, pictures }
            })
            .collect();
        let decided: Vec<Device> = {
            let book = self.devices.book();
            let decided = |device: &&Device| {
                matches!(device.stands(), Some(Standing::Admitted | Standing::Refused))
            };
            book.iter().filter(decided).cloned().collect()
        };
        let view = DeviceView::new(self.devices, self.network);
        let mut devices: Vec<HandoverDevice> =
            decided.iter().map(|device| self.device(&view, device)).collect();
        devices.sort_by_key(|device| device.label.to_lowercase());
        let sorts: Vec<_> =
            decided.iter().map(|device| (device.label(), view.kind_of(device))).collect();
        let settings: Vec<HandoverSetting> = self
            .config
            .values()
            .into_iter()
            // Where it runs and with what is the host's own; what a person chose is told.
            .filter(|value| ["console", "file"].contains(&value.source.as_str()))
            .map(|value| HandoverSetting {
                name: value.name,
                value: value.next.unwrap_or(value.value),
                about: value.about,
            })
            .collect();
        let now = handed_over(&folders, &devices, &settings);
        let before = last(self.context).await?;
        let addresses = self.network.own_addresses().iter().map(ToString::to_string).collect();
        let written = Handover {
            rule: rule(&house, &host, &rule_folders, &sorts).into(),
            house,
            at_ms: ms(self.context.now()),
            host,
            addresses,
            console: self.network.console.on_this_host(),
            version: env!("CARGO_PKG_VERSION").to_owned(),
            doorway: self.devices.doorway().word().to_owned(),
            folders,
            devices,
            preflight: preflight::to_api(self.preflight),
            settings,
            last_ms: before.as_ref().map(|before| before.at_ms),
            changes: before.map(|before| changes(&before.handed_over, &now)).unwrap_or_default(),
        };
        Ok((written, now))
    }

    fn device(&self, view: &DeviceView<'_>, device: &Device) -> HandoverDevice {
        let shown = view.of(device);
        let catalogue = self.library.catalogue();
        let folders = device.grant.folders.as_ref().map(|folders| {
            let labels = folders.iter().filter_map(|id| Some(catalogue.folder(*id)?.label.clone()));
            labels.collect::<Vec<_>>().join(", ")
        });
        let kinds: Vec<&str> = device.grant.kinds.iter().map(Kind::plural).collect();
        let may_see = match (device.standing, kinds.len() == Kind::ALL.len(), folders) {
            (Standing::Admitted, true, None) => "everything".to_owned(),
            (Standing::Admitted, _, None) => kinds.join(", "),
            (Standing::Admitted, _, Some(folders)) => format!("{} in {folders}", kinds.join(", ")),
            _ => "nothing".to_owned(),
        };
        let walked = self.walkthroughs.look(device.id, |_, one, report, due| {
            let of_steps = report.steps.iter().filter_map(|step| match &step.state {
                StepState::Open(why) => why.as_ref().map(cause),
                _ => None,
            });
            let causes: Vec<_> = of_steps.chain(report.remarks.iter().map(cause)).collect();
            let due: Vec<String> = due.into_iter().map(str::to_owned).collect();
            let verdict = (report.verdict.word().to_owned(), verdict_text(&report.verdict));
            (one.finished.unwrap_or(one.started), verdict, causes, due)
        });
        let (walked_ms, verdict, verdict_text, causes, due_again) = match walked {
            Some((at, (word, text), causes, due)) => (Some(ms(at)), Some(word), text, causes, due),
            None => (None, None, "It was not walked through.".to_owned(), vec![], vec![]),
        };
        HandoverDevice {
            device: device.id.0,
            label: device.label(),
            room: device.room.clone(),
            address: device.address().to_string(),
            standing: device.standing.word().to_owned(),
            may_see,
            proof: shown.proof.into_iter().filter(|step| is_for(device, &step.step)).collect(),
            walked_ms,
            verdict,
            verdict_text,
            causes,
            due_again,
        }
    }
}

/// Whether a step of the ladder is for a device: one that is refused only comes, and pictures have no
/// time in which they play.
fn is_for(device: &Device, step: &str) -> bool {
    match Step::from_word(step) {
        Some(Step::Seen) | None => true,
        Some(_) if device.standing == Standing::Refused => false,
        Some(Step::KeptPlaying | Step::SkippedAhead) => {
            device.grant.kinds.iter().any(|kind| kind != Kind::Picture)
        }
        Some(_) => true,
    }
}

/// What is remembered of it, to tell what changed by the next time.
fn handed_over(
    folders: &[HandoverFolder],
    devices: &[HandoverDevice],
    settings: &[HandoverSetting],
) -> HandedOver {
    let mut all = HandedOver::new();
    for folder in folders {
        let HandoverFolder { label, path, films, tracks, pictures } = folder;
        all.insert(
            format!("Folder {label}"),
            format!("{films} films, {tracks} tracks, {pictures} pictures in {path}"),
        );
    }
    for device in devices {
        let (standing, may_see) = (&device.standing, &device.may_see);
        let comes_to = device.verdict.as_deref().unwrap_or("not walked through");
        let said = format!("{standing}, sees {may_see}, {comes_to}");
        all.insert(format!("Device {}", device.label), said);
    }
    for setting in settings {
        all.insert(format!("Setting {}", setting.name), setting.value.clone());
    }
    all
}

#[utoipa::path(
    operation_id = "showHandover",
    summary = "What is handed over to the household, with what changed since the last hand-over",
    responses((status = 200, body = mostra_api::Handover))
)]
#[get("/handover")]
async fn show(
    _: Caller,
    parts: web::Data<ConsoleParts>,
) -> Result<web::Json<Handover>, ApiFailure> {
    Ok(web::Json(Parts::of(&parts).written().await?.0))
}

#[utoipa::path(
    operation_id = "printHandover",
    summary = "The same as one self-contained page that prints on A4",
    responses((status = 200, body = String, content_type = "text/html"))
)]
#[get("/handover/page")]
async fn printed(
    _: CallerOrKey,
    parts: web::Data<ConsoleParts>,
) -> Result<HttpResponse, ApiFailure> {
    let (written, _) = Parts::of(&parts).written().await?;
    // Nothing in it is to be run or fetched, whatever devices call themselves.
    let policy = "default-src 'none'; style-src 'unsafe-inline'; img-src data:";
    Ok(HttpResponse::Ok()
        .content_type("text/html; charset=utf-8")
        .insert_header((header::CONTENT_SECURITY_POLICY, policy))
        .body(page(&written)))
}

#[utoipa::path(
    operation_id = "rememberHandover",
    summary = "It was handed over: the next one says what changed since",
    responses((status = 200, body = mostra_api::Handover))
)]
#[post("/handover")]
async fn done(
    caller: Caller,
    parts: web::Data<ConsoleParts>,
) -> Result<web::Json<Handover>, ApiFailure> {
    let (written, now) = Parts::of(&parts).written().await?;
    remember(&parts.context, now).await?;
    tracing::info!(who = caller.0.account(), "handed over");
    Ok(web::Json(written))
}
