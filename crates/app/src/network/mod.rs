//! The house on the network: who it says it is, where it is reached, and discovery.

mod calls;
mod console_place;
pub mod discovery;
pub mod event_delivery;
mod finding;
mod off_proof;
mod subscriptions;
pub mod watching;

use std::collections::{BTreeMap, HashMap};
use std::net::{Ipv4Addr, SocketAddrV4};
use std::sync::atomic::{AtomicU16, AtomicU32, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError, RwLock};
use std::time::Duration;

use arc_swap::ArcSwap;
use ipnet::Ipv4Net;
use mostra_core::off::Off;
use mostra_net::{Interfaces, ServedInterface};
use mostra_protocol::Moment;
use mostra_protocol::model::service::OwnService;
use mostra_protocol::model::subnet;
use mostra_protocol::server::Identity;
use mostra_protocol::server::description::{self, Description, Edition};
use mostra_store::{Counter, StoreError};
use tokio::sync::{mpsc, watch};

pub use calls::{ANSWER, CallRecord, NotCalled};
pub use console_place::ConsolePlace;
pub use finding::FoundThings;
pub use off_proof::OffProof;
pub use subscriptions::Subscriptions;
pub use watching::Watching;

use crate::clock::Clock;
use crate::context::{Context, Topic};
use crate::random::random_uuid;
use discovery::DiscoveryCommand;

/// What an installation chooses of how the house appears on the network.
#[derive(Debug, Clone)]
pub struct NetworkOptions {
    /// Which interfaces to serve.
    pub interfaces: Interfaces,
    /// Seconds that an announcement stays valid (SSDP-15).
    pub max_age: u32,
    /// Time to live of multicast, but on loopback (SSDP-5).
    pub multicast_ttl: u32,
    /// Subnets from which devices may ask beside those of the interfaces (SEC-3).
    pub also_from: Vec<Ipv4Net>,
    /// Whether the registrar is offered (REG-1).
    pub registrar: bool,
    /// The edition of the Device Architecture that is named (DESC-4).
    pub edition: Edition,
    /// Model name in the device document (REG-9).
    pub model_name: String,
    /// Model number there.
    pub model_number: String,
}

/// A property in which another server on the network is the same as this one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Sameness {
    /// Its name.
    Name,
    /// Its UDN: devices take the two for one.
    Udn,
}

/// How long another server with our name or UDN is told without being heard again.
const DUPLICATE: Duration = Duration::from_secs(1800);
/// Such servers remembered at most (SEC-12).
const DUPLICATES: usize = 16;

/// Who the house says it is, and where.
pub struct Network {
    context: Context,
    options: NetworkOptions,
    name: RwLock<String>,
    udn: RwLock<String>,
    boot_id: AtomicU32,
    /// Since when the house is off, if it is.
    off: watch::Sender<Option<Off>>,
    /// How many times byebye was said since the house was on last, and what shows that it is off.
    byebyes: AtomicU32,
    off_proof: Mutex<Option<OffProof>>,
    /// Which interfaces are to be served.
    wanted: ArcSwap<Interfaces>,
    /// Where devices reach us.
    served: ArcSwap<Vec<ServedInterface>>,
    /// Interfaces that went a moment ago: what runs on them goes on if they come back.
    lately_served: ArcSwap<Vec<ServedInterface>>,
    /// The device listener's port as bound.
    device_port: AtomicU16,
    commands: mpsc::UnboundedSender<DiscoveryCommand>,
    /// Why an interface cannot be discovered, by interface name.
    problems: Mutex<HashMap<String, String>>,
    /// Where a person finds the console.
    pub console: ConsolePlace,
    /// What was found on the network.
    pub found: FoundThings,
    /// Services whose state variables somebody watches.
    pub watching: Watching,
    /// When our own search last came back, by the index of the interface.
    own_searches: Mutex<HashMap<u32, Moment>>,
    /// The other machine that reached us last, and our address by which it did.
    reached_by: Mutex<Option<(Ipv4Addr, Ipv4Addr)>>,
    /// What the preflight looks at may have changed.
    look_due: tokio::sync::Notify,
    /// Other servers that have our name or UDN, and when they were last heard.
    duplicates: Mutex<BTreeMap<(Ipv4Addr, Sameness), Moment>>,
}

impl Network {
    /// Reads who the house is from the records; `commands` goes to [`discovery::run`].
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer or are damaged.
    pub async fn open(
        context: Context,
        options: NetworkOptions,
        served: Vec<ServedInterface>,
        device_port: u16,
        commands: mpsc::UnboundedSender<DiscoveryCommand>,
    ) -> Result<Network, StoreError> {
        let name = context.records.setting_or("name", "Mostra").await?;
        let udn = context.records.setting_or("udn", &format!("uuid:{}", random_uuid())).await?;
        let boot_id = context.records.reserve(Counter::Boot, 1).await?;
        let off: Option<Off> = context.records.json_setting(OFF).await?;
        let off = off.filter(|off| !off.is_over(Clock::wall()));
        // A house that is off is reached nowhere.
        let served = if off.is_some() { Vec::new() } else { served };
        Ok(Network {
            context,
            wanted: ArcSwap::from_pointee(options.interfaces.clone()),
            options,
            name: RwLock::new(name),
            udn: RwLock::new(udn),
            boot_id: AtomicU32::new(boot_id & 0x7fff_ffff),
            off: watch::channel(off).0,
            byebyes: AtomicU32::new(0),
            off_proof: Mutex::default(),
            served: ArcSwap::from_pointee(served),
            lately_served: ArcSwap::default(),
            device_port: AtomicU16::new(device_port),
            commands,
            problems: Mutex::default(),
            console: ConsolePlace::default(),
            found: FoundThings::default(),
            watching: Watching::default(),
            own_searches: Mutex::default(),
            reached_by: Mutex::default(),
            look_due: tokio::sync::Notify::new(),
            duplicates: Mutex::default(),
        })
    }

    /// The house's name.
    pub fn name(&self) -> String {
        self.name.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// The server's UDN.
    pub fn udn(&self) -> String {
        self.udn.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Since when the house is off, and until when; nothing while it is on.
    pub fn off(&self) -> Option<Off> {
        *self.off.borrow()
    }

    /// What shows that the house is off, once that was tried.
    pub fn off_proof(&self) -> Option<OffProof> {
        *self.off_proof.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn set_off_proof(&self, proof: Option<OffProof>) {
        *self.off_proof.lock().unwrap_or_else(PoisonError::into_inner) = proof;
    }

    /// Byebye was said once more.
    fn note_byebye(&self) {
        self.byebyes.fetch_add(1, Ordering::Relaxed);
    }

    fn byebyes_said(&self) -> u32 {
        self.byebyes.load(Ordering::Relaxed)
    }

    /// Switches the house off or, with `None`, on, durably. The device listeners follow.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved; then nothing changes.
    pub async fn switch(&self, off: Option<Off>) -> Result<(), StoreError> {
        let text = off.map(|off| serde_json::to_string(&off)).transpose();
        let text = text.map_err(|e| StoreError::Damaged(e.to_string()))?.unwrap_or_default();
        self.context.records.set_setting(OFF, &text).await?;
        self.byebyes.store(0, Ordering::Relaxed);
        self.set_off_proof(None);
        self.off.send_replace(off);
        self.context.changed(Topic::House);
        Ok(())
    }

    /// Completes when the house is to be on ([`Off::is_over`]), or was switched to something else
    /// than `now`.
    pub async fn switched(&self, now: Option<Off>) {
        let mut watched = self.off.subscribe();
        let mut look = tokio::time::interval(Duration::from_secs(1));
        loop {
            tokio::select! {
                _ = watched.wait_for(|off| *off != now) => return,
                _ = look.tick() => {
                    if now.is_some_and(|off| off.is_over(Clock::wall())) {
                        return;
                    }
                }
            }
        }
    }

    /// Which interfaces are to be served.
    pub fn wanted(&self) -> Arc<Interfaces> {
        self.wanted.load_full()
    }

    /// Other interfaces are to be served from now on; the listeners follow.
    pub fn serve_on(&self, wanted: Interfaces) {
        self.wanted.store(Arc::new(wanted));
        self.context.changed(Topic::House);
    }

    /// Where devices reach us now.
    pub fn served(&self) -> Arc<Vec<ServedInterface>> {
        self.served.load_full()
    }

    /// Devices reach us elsewhere from now on.
    pub fn set_served(&self, served: Vec<ServedInterface>) {
        self.served.store(Arc::new(served));
        self.look_due.notify_one();
        self.context.changed(Topic::House);
    }

    /// Which interfaces went a moment ago, and are answered on as soon as they are back.
    pub fn set_lately_served(&self, interfaces: Vec<ServedInterface>) {
        self.lately_served.store(Arc::new(interfaces));
    }

    /// Now.
    pub fn now(&self) -> Moment {
        self.context.now()
    }

    /// Our own search came back by multicast on an interface.
    fn note_own_search(&self, interface: u32) {
        let mut heard = self.own_searches.lock().unwrap_or_else(PoisonError::into_inner);
        heard.insert(interface, self.context.now());
    }

    /// When our own search last came back on an interface.
    pub fn own_search_heard(&self, interface: u32) -> Option<Moment> {
        let heard = self.own_searches.lock().unwrap_or_else(PoisonError::into_inner);
        heard.get(&interface).copied()
    }

    /// Somebody at `from` reached us at `to`; what comes from this host itself shows nothing.
    pub fn note_reached(&self, from: Ipv4Addr, to: Ipv4Addr) {
        if from == to || self.served().iter().any(|served| served.address == from) {
            return;
        }
        let mut known = self.reached_by.lock().unwrap_or_else(PoisonError::into_inner);
        let news = known.is_none_or(|(_, place)| place != to);
        *known = Some((from, to));
        drop(known);
        if news {
            self.look_due.notify_one();
            self.context.changed(Topic::House);
        }
    }

    /// The other machine that reached us last, and our address by which it did.
    pub fn reached_by(&self) -> Option<(Ipv4Addr, Ipv4Addr)> {
        *self.reached_by.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Completes when what the preflight looks at may have changed.
    pub(crate) async fn look_due(&self) {
        self.look_due.notified().await;
    }

    /// The device listener's port.
    pub fn device_port(&self) -> u16 {
        self.device_port.load(Ordering::Relaxed)
    }

    /// The addresses at which devices reach us.
    pub fn own_addresses(&self) -> Vec<SocketAddrV4> {
        let port = self.device_port();
        self.served().iter().map(|s| SocketAddrV4::new(s.address, port)).collect()
    }

    /// `http://address:port` by which somebody at this address reaches us (CDS-22).
    pub fn base_for(&self, address: Ipv4Addr) -> String {
        let served = self.served();
        let nearest = served.iter().find(|served| served.holds(address)).or(served.first());
        let ours = nearest.map_or(Ipv4Addr::LOCALHOST, |served| served.address);
        format!("http://{ours}:{}", self.device_port())
    }

    /// Subnets beside those of the interfaces from which devices may ask.
    pub fn also_from(&self) -> Vec<String> {
        self.options.also_from.iter().map(Ipv4Net::to_string).collect()
    }

    /// Our address on an interface, by its index.
    pub fn own_address(&self, index: u32) -> Option<Ipv4Addr> {
        self.served().iter().find(|served| served.index == index).map(|served| served.address)
    }

    /// Whether a device at `source` may reach us at an address of ours: it is in the subnet of the
    /// interface, or in one that the person named (SEC-3).
    pub fn may_come(&self, source: Ipv4Addr, to: Ipv4Addr) -> bool {
        let (served, lately) = (self.served(), self.lately_served.load());
        let mut interfaces = served.iter().chain(lately.iter());
        let Some(interface) = interfaces.find(|s| s.address == to) else { return false };
        let named = |net: &Ipv4Net| subnet::is_host(net.addr(), net.prefix_len(), source);
        interface.holds(source) || self.options.also_from.iter().any(named)
    }

    /// Tells discovery something.
    pub fn command(&self, command: DiscoveryCommand) {
        let _ = self.commands.send(command);
    }

    /// Renames the house, durably; the new name is announced.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn rename(&self, name: String) -> Result<(), StoreError> {
        if name == self.name() {
            return Ok(());
        }
        let boot_id = self.context.records.reserve(Counter::Boot, 1).await?;
        self.context.records.set_setting("name", &name).await?;
        *self.name.write().unwrap_or_else(PoisonError::into_inner) = name;
        self.duplicates().retain(|(_, same), _| *same != Sameness::Name);
        self.boot_id.store(boot_id & 0x7fff_ffff, Ordering::Relaxed);
        self.command(DiscoveryCommand::Identity(self.identity()));
        self.context.changed(Topic::House);
        Ok(())
    }

    /// Appears as a new server, durably: players forget all that they keep of the old one
    /// (IOP-8).
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn appear_as_new(&self) -> Result<(), StoreError> {
        let udn = format!("uuid:{}", random_uuid());
        self.context.records.set_setting("udn", &udn).await?;
        *self.udn.write().unwrap_or_else(PoisonError::into_inner) = udn;
        self.duplicates().clear();
        let identity = self.identity_anew().await?;
        self.command(DiscoveryCommand::Identity(identity));
        self.context.changed(Topic::House);
        Ok(())
    }

    /// Who the house is from now on: the same with a greater boot id (SSDP-25).
    ///
    /// # Errors
    /// [`StoreError`] when the boot id could not be reserved.
    pub async fn identity_anew(&self) -> Result<Identity, StoreError> {
        let boot_id = self.context.records.reserve(Counter::Boot, 1).await?;
        self.boot_id.store(boot_id & 0x7fff_ffff, Ordering::Relaxed);
        Ok(self.identity())
    }

    /// The device document's contents.
    pub fn description(&self) -> Description {
        Description {
            friendly_name: self.name(),
            udn: self.udn(),
            model_name: self.options.model_name.clone(),
            model_number: self.options.model_number.clone(),
            edition: self.options.edition,
            services: self.services(),
        }
    }

    /// The services offered (REG-1).
    pub fn services(&self) -> Vec<OwnService> {
        let offered = |s: &OwnService| *s != OwnService::Registrar || self.options.registrar;
        OwnService::ALL.into_iter().filter(offered).collect()
    }

    /// Who the house says it is in discovery.
    pub fn identity(&self) -> Identity {
        Identity {
            udn: self.udn(),
            server: server_field().into(),
            description_path: description::DEVICE_PATH.into(),
            boot_id: self.boot_id.load(Ordering::Relaxed),
            config_id: self.description().config_id(),
            services: self.services(),
        }
    }

    /// Why interfaces cannot be discovered, by interface name.
    pub fn problems(&self) -> HashMap<String, String> {
        self.problems.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn note_problem(&self, interface: &ServedInterface, problem: Option<String>) {
        let name = &interface.name;
        let mut problems = self.problems.lock().unwrap_or_else(PoisonError::into_inner);
        let news = match problem {
            Some(why) => {
                let news = problems.get(name) != Some(&why);
                if news {
                    tracing::warn!("no discovery on {name}: {why}; trying again every 30 s");
                }
                problems.insert(name.clone(), why);
                news
            }
            None => problems.remove(name).is_some(),
        };
        drop(problems);
        if news {
            self.context.changed(Topic::House);
        }
    }

    fn duplicates(&self) -> std::sync::MutexGuard<'_, BTreeMap<(Ipv4Addr, Sameness), Moment>> {
        self.duplicates.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Another server on the network is taken for this one.
    fn note_duplicate(&self, address: Ipv4Addr, same: Sameness) {
        let mut duplicates = self.duplicates();
        // Bounded, whatever is sent (SEC-12).
        let known = duplicates.contains_key(&(address, same));
        if known || duplicates.len() < DUPLICATES {
            duplicates.insert((address, same), self.context.now());
        }
        drop(duplicates);
        if !known {
            tracing::warn!("another server, at {address}, is the same as this one in its {same:?}");
            self.context.changed(Topic::House);
        }
    }

    /// Other servers that were lately taken for this one.
    pub fn duplicate_servers(&self) -> Vec<(Ipv4Addr, Sameness)> {
        let now = self.context.now();
        let mut duplicates = self.duplicates();
        // As long as an announcement counts: whoever is still there is heard again.
        duplicates.retain(|_, heard| now.since(*heard) < DUPLICATE);
        duplicates.keys().copied().collect()
    }
}

/// The setting that says whether the house is off.
const OFF: &str = "off";

static SERVER: OnceLock<String> = OnceLock::new();

/// The SERVER field: three tokens without blanks inside (SSDP-12).
pub fn server_field() -> &'static str {
    name_server(Edition::default())
}

/// Says once, before anything is answered, which edition the SERVER field names (DESC-4).
pub fn name_server(edition: Edition) -> &'static str {
    SERVER.get_or_init(|| {
        let system = rustix::system::uname();
        let release = system.release().to_string_lossy();
        let mut parts = release.split(['.', '-']);
        let major = parts.next().filter(|p| !p.is_empty()).unwrap_or("0");
        let minor = parts.next().unwrap_or("0");
        let (edition, version) = (edition.word(), env!("CARGO_PKG_VERSION"));
        format!("Linux/{major}.{minor} UPnP/{edition} Mostra/{version}")
    })
}
