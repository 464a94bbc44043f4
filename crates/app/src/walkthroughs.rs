//! Walking a device through: what is known beside what it does, and what that comes to.

use std::sync::Arc;
use std::time::Duration;

use mostra_core::access::{Decision, Standing, decide};
use mostra_core::catalogue::Catalogue;
use mostra_core::device::{Device, DeviceKind};
use mostra_core::found::Role;
use mostra_core::ids::DeviceId;
use mostra_core::preflight::LinkKind;
use mostra_core::walkthrough::{Circumstances, Covers, Report, Walkthrough};
use mostra_core::{Kind, Kinds, Moment};
use mostra_protocol::model::service::OwnService;
use mostra_store::StoreError;

use crate::Context;
use crate::devices::{Devices, kind_of};
use crate::library::Library;
use crate::network::{Network, Subscriptions};
use crate::preflight::PreflightChecks;

/// Devices that use one address within such a time share it.
const TOGETHER: Duration = Duration::from_secs(3600);

/// What walkthroughs are made of.
pub struct WalkthroughParts {
    /// The clock.
    pub context: Context,
    /// The devices.
    pub devices: Arc<Devices>,
    /// What they are shown.
    pub library: Arc<Library>,
    /// Where they are.
    pub network: Arc<Network>,
    /// Who is told of changes.
    pub subscriptions: Arc<Subscriptions>,
    /// What is known of the host.
    pub preflight: Arc<PreflightChecks>,
}

/// Walkthroughs.
pub struct Walkthroughs {
    parts: WalkthroughParts,
}

/// Why a walkthrough does not begin.
#[derive(Debug, thiserror::Error)]
pub enum WalkthroughError {
    /// There is no such device.
    #[error("there is no such device")]
    Missing,
    /// Nobody decided on it.
    #[error("nobody has decided on {0} yet")]
    Undecided(String),
    /// It was not saved.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Walkthroughs {
    /// With these parts.
    pub fn new(parts: WalkthroughParts) -> Walkthroughs {
        Walkthroughs { parts }
    }

    fn device(&self, id: DeviceId) -> Option<Device> {
        let book = self.parts.devices.book();
        book.get(book.current(id)).cloned()
    }

    /// Begins a walkthrough of a device, or goes on with the one that runs; gives whether it goes on.
    ///
    /// # Errors
    /// [`WalkthroughError`].
    pub async fn start(&self, id: DeviceId) -> Result<bool, WalkthroughError> {
        let device = self.device(id).ok_or(WalkthroughError::Missing)?;
        if !matches!(device.stands(), Some(Standing::Admitted | Standing::Refused)) {
            return Err(WalkthroughError::Undecided(device.label()));
        }
        if device.standing == Standing::Admitted {
            self.parts.library.want_test_pieces();
        }
        let covers = self.covers(&device);
        let resumed = self.parts.devices.start_walkthrough(device.id, covers).await?;
        resumed.ok_or(WalkthroughError::Missing)
    }

    /// Ends it; false where none runs.
    ///
    /// # Errors
    /// [`StoreError`] when that was not saved.
    pub async fn finish(&self, id: DeviceId) -> Result<bool, StoreError> {
        let Some(device) = self.device(id) else { return Ok(false) };
        let circumstances = self.circumstances(&device);
        self.parts.devices.finish_walkthrough(device.id, &circumstances).await
    }

    /// The latest walkthrough of a device as it stands, with what makes its proof due again.
    pub fn look<T>(
        &self,
        id: DeviceId,
        look: impl FnOnce(&Device, &Walkthrough, &Report, Vec<&'static str>) -> T,
    ) -> Option<T> {
        let device = self.device(id)?;
        let circumstances = self.circumstances(&device);
        let covers = self.covers(&device);
        let now = self.parts.context.now();
        self.parts.devices.with_walkthrough(device.id, |one| {
            let report = one.report(now, &circumstances);
            look(&device, one, &report, one.due_again(&covers))
        })
    }

    /// What a proof of this device hangs on.
    fn covers(&self, device: &Device) -> Covers {
        let WalkthroughParts { library, network, .. } = &self.parts;
        let catalogue = library.catalogue();
        let folders: Vec<String> = catalogue
            .folders()
            .iter()
            .map(|folder| format!("{}: {} {}", folder.serial, folder.root, folder.kinds))
            .collect();
        let addresses: Vec<String> =
            network.own_addresses().iter().map(ToString::to_string).collect();
        let traits = serde_json::to_string(&*device.shown).unwrap_or_default();
        Covers {
            grant: format!("{} {}", device.standing.word(), device.grant),
            traits,
            folders: folders.join("; "),
            address: addresses.join(" "),
            version: env!("CARGO_PKG_VERSION").to_owned(),
        }
    }

    /// What is known beside what the device does.
    fn circumstances(&self, device: &Device) -> Circumstances {
        let WalkthroughParts { devices, library, network, subscriptions, preflight, .. } =
            &self.parts;
        let address = device.address();
        let catalogue = library.catalogue();
        let (links, clock_set) = preflight.of_host();
        let served = network.served();
        let here = served.iter().find(|one| one.holds(address));
        let link = here.and_then(|one| links.iter().find(|link| link.name == one.name));
        let found: Vec<_> = {
            let book = network.found.book();
            let here = book.things().filter(|thing| thing.address == address);
            here.filter_map(|thing| thing.described().cloned()).collect()
        };
        let is_renderer = found.iter().any(|said| said.roles.contains(&Role::Renderer));
        let subscribed = subscriptions
            .publisher()
            .sources(OwnService::ContentDirectory)
            .into_iter()
            .any(|source| source == address);
        let admitted = device.standing == Standing::Admitted;
        let kind = kind_of(device, &found);
        // A speaker is to play music, whatever else it may see.
        let media = kind.map_or(Kinds::ALL, DeviceKind::media);
        Circumstances {
            standing: device.standing,
            kinds: Kinds::of(device.grant.kinds.iter().filter(|kind| media.holds(*kind))),
            expected: expected(&catalogue, device),
            renderer: is_renderer,
            kind,
            answers: match devices.away_since(device) {
                Some(_) => Some(false),
                None => device.has_hardware().then_some(true),
            },
            served: served.iter().any(|one| network.may_come(address, one.address)),
            wireless: link.is_some_and(|link| matches!(link.kind, LinkKind::Wireless(_))),
            hears_itself: link.and_then(|link| link.multicast_heard),
            clock_off: clock_set == Some(false),
            house_off: network.off().is_some(),
            subscribed,
            changed: library.shared().changed_ms().map(Moment::from_millis),
            shares_address: shares_address(devices, device),
            port: network.device_port(),
            pieces: if admitted { library.main_pieces() } else { [None, None, None] },
        }
    }
}

/// How many items of each kind a device may see, the test pieces left out.
fn expected(catalogue: &Catalogue, device: &Device) -> [u32; 3] {
    match decide(device.standing, &device.grant) {
        Decision::Admitted(pass) => Kind::ALL.map(|kind| catalogue.count_of(&pass, kind)),
        _ => [0; 3],
    }
}

/// Whether other devices were seen at its address a short while ago.
fn shares_address(devices: &Devices, device: &Device) -> bool {
    let address = device.address();
    devices.book().iter().any(|other| {
        let apart =
            device.last_seen.since(other.last_seen).max(other.last_seen.since(device.last_seen));
        other.id != device.id && other.address() == address && apart < TOGETHER
    })
}
