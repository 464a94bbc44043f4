//! The house: everything the listeners and tasks share.

mod attention;
mod heard;
mod settings;
mod shown;

use heard::Heard;
pub use settings::{Settings, name_server, server_field};

use std::collections::{BTreeMap, HashMap};
use std::net::Ipv4Addr;
use std::sync::atomic::{AtomicBool, AtomicU16, AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};
use std::time::Duration;

use arc_swap::ArcSwap;

use mostra_core::Locale;
use mostra_core::access::{Decision, Doorway, Standing};
use mostra_core::account::Session;
use mostra_core::catalogue::{Catalogue, Options, PictureOrder, Titles};
use mostra_core::device::DeviceBook;
use mostra_core::proof::Step;
use mostra_core::station::Allowed;
use mostra_core::streaming::StreamBook;
use mostra_core::traits::{Observed, Traits};
use mostra_protocol::Moment;
use mostra_protocol::gena::Publisher;
use mostra_protocol::text::{NAME, tame};
use mostra_store::{Counter, Records, StoreError};
use tokio::sync::{Notify, broadcast, mpsc, watch};

use crate::art::Art;
use crate::clock::Clock;
use crate::config::Config;
use crate::desk::Desk;
use crate::device::Seats;
use crate::discovery;
use crate::host_load::HostLoad;
use crate::interfaces::Served;
use crate::lanes::Lanes;
use crate::other_servers::OtherServers;
use crate::random::{random_uuid, random_word};
use crate::scan::{ScanBoard, Serials};
use crate::sightings::{Fact, Sightings};
use crate::stations::Stations;
use crate::transfers::{Load, Transfers};

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
    /// Numbers for new files and directories.
    pub serials: tokio::sync::Mutex<Serials>,
    /// Pictures of things.
    pub art: Art,
    /// The drives that files are on.
    pub lanes: Lanes,
    /// Passing stations on.
    pub stations: Stations,
    /// Connections of devices.
    pub seats: Arc<Seats>,
    /// What takes a processor for a while.
    pub desk: Desk,
    sessions_mark: AtomicU32,
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
    /// Devices that had to go to make room, and are still in the records.
    evicted: Mutex<Vec<u32>>,
    /// What strangers sent who have not connected yet.
    heard: Mutex<Heard>,
    streams: Mutex<StreamBook>,
    discovery: mpsc::UnboundedSender<discovery::Command>,
    /// How far the clock is behind the latest time recorded: one that starts in the past revives
    /// no session.
    behind: Duration,
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
        let latest = records.latest_time().await?;
        let behind = latest.saturating_sub(clock.now());
        if behind > Duration::from_secs(60) {
            tracing::warn!(
                "the host's clock is {} s behind: sessions end by the time that was",
                behind.as_secs()
            );
        }
        let sessions_mark = records.sessions_mark().await?;
        let sessions = records.sessions(clock.now() + behind).await?;
        let mut devices = DeviceBook::load(records.devices().await?, config.rules.clone());
        devices.used_up_to(records.last_device().await?);
        let (device_port, connections) = (config.device_port, config.connections);
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
            serials: tokio::sync::Mutex::default(),
            lanes: Lanes::default(),
            stations: Stations::default(),
            seats: Arc::new(Seats::new(connections)),
            desk: Desk::default(),
            art,
            sessions_mark: AtomicU32::new(sessions_mark),
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
            changing: tokio::sync::Mutex::new(first.wrapping_add(UPDATE_IDS - 1)),
            behind,
            devices: Mutex::new(devices),
            evicted: Mutex::default(),
            heard: Mutex::default(),
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

    /// Ends all that runs and that decisions and folders, as they are now, do not cover: transfers,
    /// stations and subscriptions. Every decision calls this, and so does the look at transfers,
    /// for what began just before.
    pub fn end_uncovered(&self) {
        let transfers = self.transfers.all();
        let catalogue = self.catalogue();
        let published = |folder: u32| catalogue.folder(folder).is_some();
        let mut publisher = self.publisher();
        let book = self.devices();
        for transfer in &transfers {
            let decision = book.get(transfer.device).map(|device| device.decision());
            let covered = match (&decision, &transfer.load) {
                (Some(Decision::Admitted(pass)), Load::Media { folder, facts, .. }) => {
                    pass.covers(*folder, facts.kind) && published(*folder)
                }
                (Some(Decision::Admitted(_) | Decision::Waiting), Load::Answer(_)) => true,
                _ => false,
            };
            if !covered {
                transfer.end();
            }
        }
        publisher.decide(|source| {
            let standing = book.at(source)?.standing;
            (standing != Standing::Refused).then_some(standing == Standing::Admitted)
        });
    }

    /// Devices that had to go to make room, and are still in the records.
    pub fn evicted(&self) -> MutexGuard<'_, Vec<u32>> {
        self.evicted.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A datagram came from an address, which anybody can write into one: it makes no record, and
    /// what it says of its sender counts for nothing but that it was seen (SEC-12).
    pub fn heard(&self, address: Ipv4Addr, what: String) {
        let now = self.clock.now();
        let id = self.devices().find(address, crate::neighbours::hardware(address));
        match id {
            Some(id) => {
                let mut book = self.devices();
                let Some(device) = book.get_mut(id) else { return };
                device.last_seen = device.last_seen.max(now);
                let seen = device.ladder.proof(Step::Seen).is_some();
                drop(book);
                if !seen {
                    self.sightings.note(id, now, Fact::Heard(what));
                }
            }
            None => {
                let mut heard = self.heard.lock().unwrap_or_else(PoisonError::into_inner);
                heard.note(now, address, what);
            }
        }
    }

    /// Somebody at this address connected, calling itself so: who that is, and what it may. Their
    /// record is made if need be; `None` where there is no room for one.
    pub fn meet(
        &self,
        address: Ipv4Addr,
        user_agent: Option<&str>,
        field: &dyn Fn(&str) -> bool,
    ) -> Option<Met> {
        let now = self.clock.now();
        let hardware = crate::neighbours::hardware(address);
        let doorway = self.doorway();
        let user_agent = user_agent.map(|text| tame(text, NAME).into_owned());
        let (met, new, named) = {
            let mut book = self.devices();
            let meeting = book.meet(now, address, hardware, doorway)?;
            self.evicted().extend(meeting.forgotten);
            let (id, new) = (meeting.id, meeting.new);
            let agent = user_agent.as_deref();
            let seen = Observed { address, user_agent: agent, field, registrar: false };
            let changed = book.observe(id, &seen) || new;
            let device = book.get(id)?;
            let met = Met {
                device: id,
                decision: device.decision(),
                offset: device.update_offset,
                traits: device.shown.clone(),
                proven: Step::ALL.map(|step| device.ladder.proof(step).is_some()),
            };
            (
                met,
                (new, changed),
                user_agent.filter(|name| device.user_agent.as_ref() != Some(name)),
            )
        };
        let (new, changed) = new;
        if changed {
            self.sightings.note(met.device, now, Fact::Met);
        }
        if new {
            let mut heard = self.heard.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some((at, what)) = heard.take(now, address) {
                self.sightings.note(met.device, at, Fact::Heard(what));
            }
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

    /// Eventing's state.
    pub fn publisher(&self) -> MutexGuard<'_, Publisher> {
        self.publisher.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Reads the sessions again if another program ended some.
    pub async fn keep_sessions(&self) {
        let Ok(mark) = self.records.sessions_mark().await else { return };
        if self.sessions_mark.swap(mark, Ordering::SeqCst) == mark {
            return;
        }
        if let Ok(sessions) = self.records.sessions(self.session_time()).await {
            let live = sessions.into_iter().map(|s| (s.token_hash, s)).collect();
            *self.sessions.lock().unwrap_or_else(PoisonError::into_inner) = live;
        }
    }

    /// The time by which sessions end.
    pub fn session_time(&self) -> Moment {
        self.clock.now() + self.behind
    }
}
