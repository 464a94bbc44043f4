//! The house: everything the listeners and tasks share.

use std::collections::{BTreeMap, HashMap};
use std::net::Ipv4Addr;
use std::sync::atomic::{AtomicBool, AtomicU16, AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError, RwLock};
use std::time::Duration;

use arc_swap::ArcSwap;

use mostra_core::Locale;
use mostra_core::access::{Decision, Doorway};
use mostra_core::account::Session;
use mostra_core::catalogue::{Catalogue, Change, File, Options, PictureOrder, Titles, Touched};
use mostra_core::device::DeviceBook;
use mostra_core::present;
use mostra_core::proof::Step;
use mostra_core::station::Allowed;
use mostra_core::streaming::StreamBook;
use mostra_core::traits::{Observed, Traits};
use mostra_protocol::description::{self, Description};
use mostra_protocol::gena::Publisher;
use mostra_protocol::ssdp::Identity;
use mostra_protocol::wire::Service;
use mostra_protocol::{Moment, service_document};
use mostra_store::{Counter, Loaded, RawFiles, Records, StoreError};
use rayon::iter::{ParallelDrainRange as _, ParallelIterator as _};
use tokio::sync::{Notify, broadcast, mpsc, watch};

use crate::art::Art;
use crate::clock::Clock;
use crate::config::Config;
use crate::discovery;
use crate::host_load::HostLoad;
use crate::interfaces::Served;
use crate::lanes::Lanes;
use crate::logging::tame;
use crate::memory;
use crate::other_servers::OtherServers;
use crate::random::{random_uuid, random_word};
use crate::scan::ScanBoard;
use crate::sightings::{Fact, Sightings};
use crate::stations::Stations;
use crate::transfers::Transfers;

/// A part of the house that changed, for consoles to read again.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Topic {
    /// Name, doorway, attention.
    House,
    /// Folders and scans.
    Folders,
    /// The catalogue.
    Catalogue,
    /// Devices and proof.
    Devices,
    /// Streams.
    Streams,
}

impl Topic {
    /// The word in a live event.
    pub fn word(self) -> &'static str {
        match self {
            Topic::House => "house",
            Topic::Folders => "folders",
            Topic::Catalogue => "catalogue",
            Topic::Devices => "devices",
            Topic::Streams => "streams",
        }
    }
}

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

/// Who was met.
#[derive(Debug, Clone)]
pub struct Met {
    /// The device's number.
    pub device: u32,
    /// What it may do.
    pub decision: Decision,
    /// Its own offset of update ids.
    pub offset: u32,
    /// What it needs done differently.
    pub traits: Arc<Traits>,
    proven: [bool; 6],
}

impl Met {
    /// Whether a step of its ladder is confirmed already, so that nothing more can prove it.
    pub fn has_proven(&self, step: Step) -> bool {
        self.proven[step as usize]
    }
}

/// How long another server with our name or UDN is told without being heard again.
const TWIN: Duration = Duration::from_secs(1800);

/// Update ids taken from the counter at a time.
const UPDATE_IDS: u32 = 100_000;

/// Everything that is shared.
pub struct House {
    /// The clock.
    pub clock: Clock,
    /// The configuration.
    pub config: Config,
    /// The records.
    pub records: Records,
    /// Where devices reach us.
    served: ArcSwap<Vec<Served>>,
    /// The device listener's port as bound.
    pub device_port: AtomicU16,
    /// Eventing.
    pub publisher: Mutex<Publisher>,
    /// Wakes the task that delivers events.
    pub events_due: Notify,
    /// What devices do.
    pub sightings: Sightings,
    /// Answers on their way.
    pub transfers: Transfers,
    /// How busy the host is.
    pub host_load: HostLoad,
    /// Other servers on the network.
    pub other_servers: OtherServers,
    /// Scans.
    pub scans: ScanBoard,
    /// Pictures of things.
    pub art: Art,
    /// The drives that files are on.
    pub lanes: Lanes,
    /// Passing stations on.
    pub stations: Stations,
    /// Sessions by token hash.
    pub sessions: Mutex<HashMap<[u8; 32], Session>>,
    /// Why an interface cannot be discovered, by interface name.
    pub discovery_problems: Mutex<HashMap<String, String>>,
    settings: RwLock<Settings>,
    catalogue: ArcSwap<Catalogue>,
    /// Held from looking at devices until what was seen of them is recorded, and by decisions
    /// until they are in force: one that wrote what it saw before another's decision would undo
    /// that in the records.
    pub recording_devices: tokio::sync::Mutex<()>,
    /// Held over a change of the records and the catalogue together.
    changing: tokio::sync::Mutex<u32>,
    devices: Mutex<DeviceBook>,
    streams: Mutex<StreamBook>,
    discovery: mpsc::UnboundedSender<discovery::Command>,
    /// Other servers that have our name or UDN.
    twins: Mutex<BTreeMap<(Ipv4Addr, &'static str), Moment>>,
    live: broadcast::Sender<Topic>,
    boot_id: AtomicU32,
    loaded: watch::Sender<bool>,
    records_answer: AtomicBool,
    changed_ms: AtomicU64,
    stop: watch::Sender<bool>,
}

impl House {
    /// Reads settings and devices from the records; the catalogue comes later.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer or are damaged.
    pub async fn open(
        clock: Clock,
        config: Config,
        records: Records,
        served: Vec<Served>,
        sightings: Sightings,
        discovery: mpsc::UnboundedSender<discovery::Command>,
    ) -> Result<House, StoreError> {
        let name = records.setting_or("name", "Mostra").await?;
        let udn = records.setting_or("udn", &format!("uuid:{}", random_uuid())).await?;
        let doorway = records.setting_or("doorway", "ask").await?;
        // Marks the ids of this database: 30 random bits, six characters.
        let epoch = records.setting_or("epoch", &random_word(6)).await?;
        let titles = records.setting_or("titles", Titles::default().word()).await?;
        let pictures = records.setting_or("picture_order", PictureOrder::default().word()).await?;
        let locale = records.setting_or("locale", Locale::default().word()).await?;
        let mimes = records.setting_or("mimes", "{}").await?;
        let options = Options {
            titles: Titles::from_word(&titles).unwrap_or_default(),
            pictures: PictureOrder::from_word(&pictures).unwrap_or_default(),
            locale: Locale::from_word(&locale).unwrap_or_default(),
            mimes: serde_json::from_str(&mimes).unwrap_or_default(),
        };
        let stations = records.setting_or("stations", "[]").await?;
        let stations: Vec<String> = serde_json::from_str(&stations).unwrap_or_default();
        let stations = Allowed::new(stations).unwrap_or_default();
        let boot_id = records.reserve(Counter::Boot, 1).await?;
        let first = records.reserve(Counter::UpdateId, UPDATE_IDS).await?;
        let sessions = records.sessions(clock.now()).await?;
        let devices = DeviceBook::load(records.devices().await?, config.rules.clone());
        let device_port = config.device_port;
        let art = Art::new(&config.data);
        Ok(House {
            clock,
            config,
            records,
            served: ArcSwap::from_pointee(served),
            device_port: AtomicU16::new(device_port),
            publisher: Mutex::default(),
            events_due: Notify::new(),
            sightings,
            transfers: Transfers::default(),
            scans: ScanBoard::default(),
            lanes: Lanes::default(),
            stations: Stations::default(),
            art,
            sessions: Mutex::new(sessions.into_iter().map(|s| (s.token_hash, s)).collect()),
            discovery_problems: Mutex::default(),
            settings: RwLock::new(Settings {
                stations,
                name,
                udn,
                doorway: Doorway::from_word(&doorway).unwrap_or(Doorway::Ask),
            }),
            catalogue: ArcSwap::from_pointee(Catalogue::new(&epoch, first).with_options(options)),
            recording_devices: tokio::sync::Mutex::default(),
            changing: tokio::sync::Mutex::new(first + UPDATE_IDS - 1),
            devices: Mutex::new(devices),
            streams: Mutex::default(),
            host_load: HostLoad::default(),
            other_servers: OtherServers::default(),
            discovery,
            twins: Mutex::default(),
            live: broadcast::channel(256).0,
            boot_id: AtomicU32::new(boot_id & 0x7fff_ffff),
            loaded: watch::channel(false).0,
            records_answer: AtomicBool::new(true),
            changed_ms: AtomicU64::new(0),
            stop: watch::channel(false).0,
        })
    }

    /// The catalogue as it is now.
    pub fn catalogue(&self) -> Arc<Catalogue> {
        self.catalogue.load_full()
    }

    /// The settings as they are now.
    pub fn settings(&self) -> Settings {
        self.settings.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// The book of devices.
    pub fn devices(&self) -> MutexGuard<'_, DeviceBook> {
        self.devices.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Where devices reach us now.
    pub fn served(&self) -> Arc<Vec<Served>> {
        self.served.load_full()
    }

    /// Devices reach us elsewhere from now on.
    pub fn set_served(&self, served: Vec<Served>) {
        self.served.store(Arc::new(served));
        self.tell(Topic::House);
    }

    /// Tells discovery something.
    pub fn tell_discovery(&self, command: discovery::Command) {
        let _ = self.discovery.send(command);
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

    /// Another server on the network is taken for this one; `what` says by what.
    pub fn note_twin(&self, address: Ipv4Addr, what: &'static str) {
        let mut twins = self.twins.lock().unwrap_or_else(PoisonError::into_inner);
        // Bounded, whatever is sent (SEC-12).
        let known = twins.contains_key(&(address, what));
        if known || twins.len() < 16 {
            twins.insert((address, what), self.clock.now());
        }
        drop(twins);
        if !known {
            tracing::warn!("another server, at {address}, has this one's {what}");
            self.tell(Topic::House);
        }
    }

    /// The book of streams.
    pub fn streams(&self) -> MutexGuard<'_, StreamBook> {
        self.streams.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Ends a stream; true if there is one of this number.
    pub fn end_stream(&self, id: u32) -> bool {
        let Some((device, file)) = self.streams().end(self.clock.now(), id) else { return false };
        let all = self.transfers.media();
        let its = all.iter().filter(|t| t.device == device && t.load.file() == Some(file));
        its.for_each(|transfer| transfer.end());
        self.tell(Topic::Streams);
        true
    }

    /// Somebody at this address is here, calling itself so: who that is, and what it may. Their
    /// record is made if need be.
    pub fn meet(
        &self,
        address: Ipv4Addr,
        user_agent: Option<&str>,
        field: &dyn Fn(&str) -> bool,
    ) -> Option<Met> {
        let now = self.clock.now();
        let hardware = crate::neighbours::hardware(address);
        let doorway = self.doorway();
        let user_agent = user_agent.map(tame);
        let (met, new, named) = {
            let mut book = self.devices();
            let (id, new) = book.meet(now, address, hardware, doorway);
            let agent = user_agent.as_deref();
            let seen = Observed { address, user_agent: agent, field, registrar: false };
            let new = book.observe(id, &seen) || new;
            let device = book.get(id)?;
            let met = Met {
                device: id,
                decision: device.decision(),
                offset: device.update_offset,
                traits: device.shown.clone(),
                proven: Step::ALL.map(|step| device.ladder.proof(step).is_some()),
            };
            (met, new, user_agent.filter(|name| device.user_agent.as_ref() != Some(name)))
        };
        if new {
            self.sightings.note(met.device, now, Fact::Met);
        }
        if let Some(name) = named {
            self.sightings.note(met.device, now, Fact::Named(name));
        }
        Some(met)
    }

    /// A device asked the registrar.
    pub fn asked_registrar(&self, device: u32, address: Ipv4Addr) {
        let seen = Observed { address, user_agent: None, field: &|_| false, registrar: true };
        if self.devices().observe(device, &seen) {
            self.sightings.note(device, self.clock.now(), Fact::Met);
        }
    }

    fn doorway(&self) -> Doorway {
        self.settings.read().unwrap_or_else(PoisonError::into_inner).doorway
    }

    /// Listens to what changes.
    pub fn listen(&self) -> broadcast::Receiver<Topic> {
        self.live.subscribe()
    }

    /// Tells consoles that something changed.
    pub fn tell(&self, topic: Topic) {
        let _ = self.live.send(topic);
    }

    /// Completes when the house stops.
    pub async fn stopping(&self) {
        let mut stop = self.stop.subscribe();
        let _ = stop.wait_for(|stop| *stop).await;
    }

    /// Stops the house's tasks.
    pub fn stop(&self) {
        self.stop.send_replace(true);
    }

    /// Whether the catalogue is loaded from the records.
    pub fn is_loaded(&self) -> bool {
        *self.loaded.borrow()
    }

    /// Waits a little for the catalogue to be loaded; gives whether it is.
    pub async fn loaded_soon(&self) -> bool {
        let mut loaded = self.loaded.subscribe();
        tokio::time::timeout(Duration::from_secs(10), loaded.wait_for(|loaded| *loaded))
            .await
            .is_ok()
    }

    /// Whether PostgreSQL answered last.
    pub fn records_answer(&self) -> bool {
        self.records_answer.load(Ordering::Relaxed)
    }

    /// Notes whether PostgreSQL answers.
    pub fn set_records_answer(&self, answers: bool) {
        if self.records_answer.swap(answers, Ordering::Relaxed) != answers {
            self.tell(Topic::House);
        }
    }

    /// When the catalogue last changed, Unix milliseconds.
    pub fn changed_ms(&self) -> Option<u64> {
        Some(self.changed_ms.load(Ordering::Relaxed)).filter(|ms| *ms > 0)
    }

    /// The device document's contents.
    pub fn description(&self) -> Description {
        let settings = self.settings();
        Description {
            friendly_name: settings.name,
            udn: settings.udn,
            model_number: env!("CARGO_PKG_VERSION").into(),
        }
    }

    /// Who the house says it is in discovery.
    pub fn identity(&self) -> Identity {
        let mut documents = vec![self.description().write()];
        documents.extend(Service::ALL.map(service_document::write));
        Identity {
            udn: self.settings().udn,
            server: server_field().into(),
            description_path: description::DEVICE_PATH.into(),
            boot_id: self.boot_id.load(Ordering::Relaxed),
            config_id: description::config_id(documents.iter().map(String::as_str)),
            services: Service::ALL.to_vec(),
        }
    }

    /// Loads the catalogue from the records.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer or are damaged.
    pub async fn load_catalogue(&self) -> Result<(), StoreError> {
        let loaded = self.records.load(None).await?;
        for folder in &loaded.folders {
            let serial = folder.folder.serial;
            let left = self.records.left_out(serial).await?.len() as u32;
            self.scans.note(serial, |known| {
                known.scanned = folder.scanned;
                known.excluded.clone_from(&folder.excluded);
                known.links.clone_from(&folder.links);
                known.left_out = left;
            });
        }
        self.put_loaded(loaded, None).await?;
        self.loaded.send_replace(true);
        self.tell(Topic::House);
        Ok(())
    }

    /// Shows what the records hold: of all folders, or of one that is back.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer or are damaged.
    pub async fn put_loaded(&self, loaded: Loaded, only: Option<u32>) -> Result<(), StoreError> {
        let (sender, mut receiver) = mpsc::channel::<RawFiles>(16);
        let mut last_id = self.changing.lock().await;
        self.more_update_ids(&mut last_id).await?;
        let mut batch = self.catalogue().batch();
        // Reading facts and making lists go on beside fetching.
        let made = tokio::task::spawn_blocking(move || {
            let folders = loaded.folders.into_iter().flat_map(|f| {
                let links = Change::PutLinks(f.folder.serial, Arc::new(f.links));
                [Change::PutFolder(f.folder), links]
            });
            let directories = loaded.directories.into_iter().filter(|d| d.parent.is_some());
            folders.chain(directories.map(Change::PutDirectory)).for_each(|c| batch.put(c));
            let mut pieces = Vec::new();
            while receiver.blocking_recv_many(&mut pieces, 16) > 0 {
                let files = pieces.par_drain(..).map(RawFiles::read);
                let files: Vec<Vec<File>> = files.collect::<Result<_, _>>()?;
                files.into_iter().flatten().for_each(|file| batch.put(Change::PutFile(file)));
            }
            let playlists = loaded.playlists.into_iter().map(Change::PutPlaylist);
            playlists.for_each(|change| batch.put(change));
            let finished = batch.finish();
            memory::give_back();
            Ok::<_, StoreError>(finished)
        });
        self.records.files(only, &sender).await?;
        drop(sender);
        let (next, touched) = made.await.map_err(|e| StoreError::Damaged(e.to_string()))??;
        self.catalogue.store(Arc::new(next));
        drop(last_id);
        memory::give_back();
        self.tell_devices(&touched);
        self.tell(Topic::Catalogue);
        Ok(())
    }

    /// Applies changes that are already recorded, and tells devices and consoles.
    ///
    /// # Errors
    /// [`StoreError`] when new update ids had to be reserved and were not.
    pub async fn apply(&self, changes: Vec<Change>) -> Result<(), StoreError> {
        let mut last_id = self.changing.lock().await;
        self.more_update_ids(&mut last_id).await?;
        let mut next = (*self.catalogue()).clone();
        // Of many changes this takes a while; requests go on meanwhile.
        let (next, touched) = tokio::task::spawn_blocking(move || {
            let touched = next.apply(changes);
            (next, touched)
        })
        .await
        .map_err(|e| StoreError::Damaged(e.to_string()))?;
        self.catalogue.store(Arc::new(next));
        drop(last_id);
        if !touched.containers.is_empty() {
            self.changed_ms.store(crate::clock::ms(self.clock.now()), Ordering::Relaxed);
            self.tell_devices(&touched);
            self.tell(Topic::Catalogue);
        }
        Ok(())
    }

    /// Events for the admitted devices that subscribe, each with its own update ids and only
    /// the containers that it sees.
    fn tell_devices(&self, touched: &Touched) {
        let catalogue = self.catalogue();
        let mut publisher = self.publisher();
        for source in publisher.sources(Service::ContentDirectory) {
            let Some(device) = self.devices().at(source).cloned() else { continue };
            let Decision::Admitted(pass) = device.decision() else { continue };
            let offset = device.update_offset;
            let seen = touched.containers.iter().filter(|(id, _)| catalogue.is_seen(&pass, id));
            let pairs: Vec<(String, u32)> = seen
                .flat_map(|(id, update)| {
                    let parts = present::ids_of_parts(&catalogue, &pass, id, &device.shown);
                    let ids = std::iter::once(id.clone()).chain(parts);
                    ids.map(move |id| (id, update.wrapping_add(offset)))
                })
                .collect();
            if pairs.is_empty() {
                continue;
            }
            let id = catalogue.update_id().wrapping_add(offset).to_string();
            publisher.change(Service::ContentDirectory, source, &[("SystemUpdateID", id)]);
            publisher.change_containers(source, pairs);
        }
        drop(publisher);
        self.events_due.notify_one();
    }

    /// Eventing's state.
    pub fn publisher(&self) -> MutexGuard<'_, Publisher> {
        self.publisher.lock().unwrap_or_else(PoisonError::into_inner)
    }

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

    async fn more_update_ids(&self, last: &mut u32) -> Result<(), StoreError> {
        if self.catalogue().update_id() + 2 >= *last {
            self.records.reserve(Counter::UpdateId, UPDATE_IDS).await?;
            *last += UPDATE_IDS;
        }
        Ok(())
    }

    /// What needs a person's attention.
    pub fn attention(&self) -> Vec<String> {
        let mut list = Vec::new();
        if !self.records_answer() {
            list.push("PostgreSQL does not answer. Watching goes on; changes cannot be saved until it is back.".into());
        }
        let dropped = self.sightings.dropped();
        if dropped > 0 {
            list.push(format!(
                "{dropped} sightings were dropped under load; proof may be incomplete."
            ));
        }
        let mut twins = self.twins.lock().unwrap_or_else(PoisonError::into_inner);
        // As long as an announcement counts: whoever is still there is heard again.
        let now = self.clock.now();
        twins.retain(|_, heard| now.saturating_sub(*heard) < TWIN);
        list.extend(twins.keys().map(|(address, what)| match *what {
            "UDN" => format!("Another server, at {address}, announces itself under this one's UDN: devices take the two for one. Was this data directory copied? `mostra house renew` makes this one a new server."),
            _ => format!("Another server, at {address}, has the same name. Give this one another, so that people can tell them apart."),
        }));
        let problems = self.discovery_problems.lock().unwrap_or_else(PoisonError::into_inner);
        list.extend(
            problems
                .iter()
                .map(|(name, why)| format!("Devices cannot find the house on {name}: {why}")),
        );
        list
    }

    /// The moment after which a session of this length ends.
    pub fn after(&self, length: Duration) -> Moment {
        self.clock.now() + length
    }
}

/// The SERVER field: three tokens without blanks inside (SSDP-12).
pub fn server_field() -> &'static str {
    static FIELD: OnceLock<String> = OnceLock::new();
    FIELD.get_or_init(|| {
        let release = std::fs::read_to_string("/proc/sys/kernel/osrelease").unwrap_or_default();
        let mut parts = release.trim().split(['.', '-']);
        let major = parts.next().filter(|p| !p.is_empty()).unwrap_or("0");
        let minor = parts.next().unwrap_or("0");
        format!("Linux/{major}.{minor} UPnP/1.0 Mostra/{}", env!("CARGO_PKG_VERSION"))
    })
}
