//! Who the house says it is, and what a person chose for it.

use std::sync::atomic::Ordering;
use std::sync::{Arc, OnceLock, PoisonError};

use mostra_core::access::Doorway;
use mostra_core::catalogue::{Options, Touched};
use mostra_core::station::Allowed;
use mostra_protocol::description::{self, Description, Edition};
use mostra_protocol::ssdp::Identity;
use mostra_protocol::wire::Service;
use mostra_store::{Counter, StoreError};

use super::{House, Topic};
use crate::discovery;
use crate::random::random_uuid;

/// Settings that a person changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settings {
    /// The house's name.
    pub name: String,
    /// The server's UDN.
    pub udn: String,
    /// The rule at the door.
    pub doorway: Doorway,
    /// Where the service may connect to for stations.
    pub stations: Allowed,
}

impl House {
    /// Changes name or doorway, durably. A new name is announced.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn change_settings(
        &self,
        name: Option<String>,
        doorway: Option<Doorway>,
    ) -> Result<(), StoreError> {
        if let Some(doorway) = doorway {
            self.records.set_setting("doorway", doorway.word()).await?;
            self.settings.write().unwrap_or_else(PoisonError::into_inner).doorway = doorway;
        }
        if let Some(name) = name.filter(|n| *n != self.settings().name) {
            let boot_id = self.records.reserve(Counter::Boot, 1).await?;
            self.records.set_setting("name", &name).await?;
            self.settings.write().unwrap_or_else(PoisonError::into_inner).name = name;
            self.twins
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
                .retain(|(_, what), _| *what != "name");
            self.boot_id.store(boot_id & 0x7fff_ffff, Ordering::Relaxed);
            let _ = self.discovery.send(discovery::Command::Identity(self.identity()));
        }
        self.tell(Topic::House);
        Ok(())
    }

    /// Changes where the service may connect to for stations, durably; gives whether that is
    /// something else than before.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn change_stations(&self, stations: Allowed) -> Result<bool, StoreError> {
        if self.settings().stations == stations {
            return Ok(false);
        }
        let list = serde_json::to_string(stations.entries())
            .map_err(|e| StoreError::Damaged(e.to_string()))?;
        self.records.set_setting("stations", &list).await?;
        self.settings.write().unwrap_or_else(PoisonError::into_inner).stations = stations;
        self.tell(Topic::House);
        Ok(true)
    }

    /// Changes the catalogue's manner, durably.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn change_options(&self, options: Options) -> Result<(), StoreError> {
        if options == *self.catalogue().options() {
            return Ok(());
        }
        let mimes = serde_json::to_string(&options.mimes)
            .map_err(|e| StoreError::Damaged(e.to_string()))?;
        self.records.set_setting("titles", options.titles.word()).await?;
        self.records.set_setting("picture_order", options.pictures.word()).await?;
        self.records.set_setting("locale", options.locale.word()).await?;
        self.records.set_setting("mimes", &mimes).await?;
        let mut last_id = self.changing.lock().await;
        self.more_update_ids(&mut last_id).await?;
        let before = self.catalogue();
        // A million files take seconds; requests go on meanwhile.
        let next = tokio::task::spawn_blocking(move || before.with_options(options))
            .await
            .map_err(|e| StoreError::Damaged(e.to_string()))?;
        self.catalogue.store(Arc::new(next));
        drop(last_id);
        let touched = Touched {
            containers: vec![("0".into(), self.catalogue().update_id())],
            folders: Default::default(),
        };
        self.changed_ms.store(crate::clock::ms(self.clock.now()), Ordering::Relaxed);
        self.tell_devices(&touched);
        self.tell(Topic::Catalogue);
        self.tell(Topic::House);
        Ok(())
    }

    /// Appears as a new server, durably: players forget all that they keep of the old one
    /// (IOP-8).
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn appear_as_new(&self) -> Result<(), StoreError> {
        let udn = format!("uuid:{}", random_uuid());
        self.records.set_setting("udn", &udn).await?;
        self.settings.write().unwrap_or_else(PoisonError::into_inner).udn = udn;
        self.twins.lock().unwrap_or_else(PoisonError::into_inner).clear();
        let identity = self.identity_anew().await?;
        self.tell_discovery(discovery::Command::Identity(identity));
        self.tell(Topic::House);
        Ok(())
    }

    /// Who the house is from now on: the same with a greater boot id (SSDP-25).
    ///
    /// # Errors
    /// [`StoreError`] when the boot id could not be reserved.
    pub async fn identity_anew(&self) -> Result<Identity, StoreError> {
        let boot_id = self.records.reserve(Counter::Boot, 1).await?;
        self.boot_id.store(boot_id & 0x7fff_ffff, Ordering::Relaxed);
        Ok(self.identity())
    }

    /// The device document's contents.
    pub fn description(&self) -> Description {
        let settings = self.settings();
        Description {
            friendly_name: settings.name,
            udn: settings.udn,
            model_name: self.config.model.0.clone(),
            model_number: self.config.model.1.clone(),
            edition: self.config.edition,
            services: self.services(),
        }
    }

    /// The services offered (REG-1).
    pub fn services(&self) -> Vec<Service> {
        let offered = |s: &Service| *s != Service::Registrar || self.config.registrar;
        Service::ALL.into_iter().filter(offered).collect()
    }

    /// Who the house says it is in discovery.
    pub fn identity(&self) -> Identity {
        Identity {
            udn: self.settings().udn,
            server: server_field().into(),
            description_path: description::DEVICE_PATH.into(),
            boot_id: self.boot_id.load(Ordering::Relaxed),
            config_id: self.description().config_id(),
            services: self.services(),
        }
    }

    /// The settings as they are now.
    pub fn settings(&self) -> Settings {
        self.settings.read().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

static SERVER: OnceLock<String> = OnceLock::new();

/// The SERVER field: three tokens without blanks inside (SSDP-12).
pub fn server_field() -> &'static str {
    name_server(Edition::default())
}

/// Says once, before anything is answered, which edition the SERVER field names (DESC-4).
pub fn name_server(edition: Edition) -> &'static str {
    SERVER.get_or_init(|| {
        let release = std::fs::read_to_string("/proc/sys/kernel/osrelease").unwrap_or_default();
        let mut parts = release.trim().split(['.', '-']);
        let major = parts.next().filter(|p| !p.is_empty()).unwrap_or("0");
        let minor = parts.next().unwrap_or("0");
        let (edition, version) = (edition.word(), env!("CARGO_PKG_VERSION"));
        format!("Linux/{major}.{minor} UPnP/{edition} Mostra/{version}")
    })
}
