//! Devices: who is known, what was decided about them, and what they do.

pub mod arrivals;
mod datagrams;
mod decisions;
mod kind_of;
mod makers;
mod presence;
pub mod recordings;
mod records;
pub mod sightings;
mod walkthrough_book;

use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};
use std::time::Duration;

use mostra_core::Moment;
use mostra_core::access::{Decision, Doorway, Standing};
use mostra_core::catalogue::Touched;
use mostra_core::device::{Device, DeviceBook, Hardware, UDNS};
use mostra_core::ids::{DeviceId, FolderId, UpdateId};
use mostra_core::present;
use mostra_core::proof::ConfirmedSteps;
use mostra_core::sighting::{Act, Coalescer, Contact, Sighting};
use mostra_core::traits::{Observed, Rules, Traits};
use mostra_net::{Neighbours, TcpProbe};
use mostra_protocol::model::service::OwnService;
use mostra_protocol::model::text::{NAME, tame};
use mostra_store::StoreError;

use crate::context::{Context, Topic};
use crate::library::SharedCatalogue;
use crate::network::Subscriptions;
use crate::streams::{Load, Streams};
use arrivals::Arrivals;
use datagrams::Datagrams;
use makers::Makers;
use records::Unsaved;

pub use decisions::AboutDevice;
pub use kind_of::{kind_of, seems};
pub use presence::TriedDevice;
pub use recordings::Recordings;

/// Sightings that differ, kept until somebody looks.
const REPORTS: usize = 8192;

/// How long is waited until what was reported is recorded.
const RECORD: Duration = Duration::from_secs(2);

/// A device that asks, and what it may.
#[derive(Debug, Clone)]
pub struct Recognised {
    /// The device's number.
    pub device: DeviceId,
    /// By what it was told apart.
    pub contact: Contact,
    /// What it may do.
    pub decision: Decision,
    /// Its own offset of update ids.
    pub offset: u32,
    /// What it needs done differently.
    pub traits: Arc<Traits>,
    /// Whether it is being walked through.
    pub in_walkthrough: bool,
    /// Which steps are confirmed of it.
    confirmed: ConfirmedSteps,
}

/// What the devices are kept with.
pub struct DevicesParts {
    /// The clock, the records, and what changes.
    pub context: Context,
    /// What they are shown.
    pub catalogue: Arc<SharedCatalogue>,
    /// Who of them is told of changes.
    pub subscriptions: Arc<Subscriptions>,
    /// What is on its way to them.
    pub streams: Arc<Streams>,
    /// By which they are told apart; where there is none, addresses alone do.
    pub neighbours: Option<Neighbours>,
    /// Rules for those that need something done differently.
    pub rules: Rules,
    /// Where their recorded conversations are kept.
    pub recordings: std::path::PathBuf,
}

/// All devices.
pub struct Devices {
    context: Context,
    catalogue: Arc<SharedCatalogue>,
    subscriptions: Arc<Subscriptions>,
    streams: Arc<Streams>,
    neighbours: Option<Neighbours>,
    rules: Rules,
    doorway: RwLock<Doorway>,
    book: Mutex<DeviceBook>,
    /// Devices that had to go to make room, and are still in the records.
    evicted: Mutex<Vec<DeviceId>>,
    /// What strangers sent who have not connected yet.
    datagrams: Mutex<Datagrams>,
    /// What they did since somebody last looked.
    reports: Mutex<Coalescer>,
    /// Sightings that found no room on their way to the records.
    lost: AtomicU64,
    /// Devices that are others than recorded, for another reason than what they did.
    changed: Mutex<BTreeSet<DeviceId>>,
    /// Devices that did not answer when they were last tried, and since when.
    away: Mutex<BTreeMap<DeviceId, Moment>>,
    /// Those who came to wait and are to be told of.
    arrivals: Arrivals,
    /// What devices did last, and when: those of the last seconds.
    active: Mutex<BTreeMap<DeviceId, (Moment, String)>>,
    /// Who makes devices.
    makers: Makers,
    /// Conversations that are recorded.
    pub recordings: Recordings,
    /// Walkthroughs.
    walkthrough_book: Mutex<walkthrough_book::WalkthroughBook>,
    /// Devices of which something waits to be saved, as PostgreSQL takes nothing now.
    not_saved: Mutex<BTreeSet<DeviceId>>,
    /// What is to be saved; held by the task that does so, and by the next one if that ends.
    unsaved: tokio::sync::Mutex<Unsaved>,
    /// What the doorway decided and is not recorded yet.
    by_doorway: Mutex<Vec<(DeviceId, Moment, Standing)>>,
    /// Somebody waits until what was reported so far is recorded.
    record_wanted: tokio::sync::Notify,
    /// How many times that was done.
    recorded: tokio::sync::watch::Sender<u64>,
    /// Held from looking at devices until what was seen of them is recorded, and by decisions
    /// until they are in force: one that wrote what it saw before another's decision would undo
    /// that in the records.
    recording: tokio::sync::Mutex<()>,
    /// Held while presets are changed: two who change them at once both get theirs.
    presets: tokio::sync::Mutex<()>,
}

impl Devices {
    /// Reads the devices from the records.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer or are damaged.
    pub async fn open(parts: DevicesParts) -> Result<Devices, StoreError> {
        let DevicesParts {
            context,
            catalogue,
            subscriptions,
            streams,
            neighbours,
            rules,
            recordings,
        } = parts;
        let doorway = context.records.setting_or("doorway", "ask").await?;
        let mut book = DeviceBook::load(context.records.devices().await?, rules.clone());
        book.used_up_to(context.records.last_device().await?);
        let walkthroughs = walkthrough_book::WalkthroughBook::load(
            context.records.walkthroughs().await?,
            &mut book,
        );
        Ok(Devices {
            context,
            catalogue,
            subscriptions,
            streams,
            neighbours,
            rules,
            doorway: RwLock::new(Doorway::from_word(&doorway).unwrap_or(Doorway::Ask)),
            book: Mutex::new(book),
            evicted: Mutex::default(),
            datagrams: Mutex::default(),
            reports: Mutex::new(Coalescer::new(REPORTS)),
            lost: AtomicU64::new(0),
            changed: Mutex::default(),
            away: Mutex::default(),
            arrivals: Arrivals::default(),
            active: Mutex::default(),
            makers: Makers::default(),
            recordings: Recordings::new(recordings),
            walkthrough_book: Mutex::new(walkthroughs),
            presets: tokio::sync::Mutex::default(),
            not_saved: Mutex::default(),
            unsaved: tokio::sync::Mutex::default(),
            by_doorway: Mutex::default(),
            record_wanted: tokio::sync::Notify::new(),
            recorded: tokio::sync::watch::Sender::new(0),
            recording: tokio::sync::Mutex::default(),
        })
    }

    /// The book of devices.
    pub fn book(&self) -> MutexGuard<'_, DeviceBook> {
        self.book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Reports what a device does or is refused now. Never waits; what comes in floods is put
    /// together.
    pub fn report(&self, who: &Recognised, act: Act) {
        self.note(Sighting::new(who.device, who.contact, self.context.now(), act));
    }

    /// Reports what the device at an address does, if one is known there.
    pub fn report_at(&self, address: Ipv4Addr, act: Act) {
        let hardware = self.hardware(address);
        let Some(device) = self.book().find(address, hardware) else { return };
        let contact = Contact::of(address, hardware);
        self.note(Sighting::new(device, contact, self.context.now(), act));
    }

    /// Reports an answer of so many bytes that is about to be written to a connection: `act` once
    /// it is delivered, if that says anything new; else that `action` was answered.
    pub fn report_answer(
        &self,
        who: &Recognised,
        probe: &Arc<TcpProbe>,
        action: &str,
        act: Option<Act>,
        length: usize,
    ) {
        match act {
            // It got nothing, and that is all there is to prove.
            Some(act @ Act::Denied { .. }) => self.report(who, act),
            // In a walkthrough each list counts, not only the first.
            Some(act) if who.in_walkthrough || who.confirmed.would_grow_by(&act) => {
                let transfers = &self.streams.transfers;
                let load = Load::Answer(act);
                transfers.begin(probe, (who.device, who.contact), load, length as u64).hand_over();
            }
            _ => self.report(who, Act::Answered { action: action.to_owned() }),
        }
    }

    fn note(&self, sighting: Sighting) {
        self.reports.lock().unwrap_or_else(PoisonError::into_inner).note(sighting);
    }

    /// Sightings for which there was no room; proof may be incomplete if there are any.
    pub fn dropped(&self) -> u64 {
        let reported = self.reports.lock().unwrap_or_else(PoisonError::into_inner).dropped();
        reported + self.lost.load(Ordering::Relaxed)
    }

    /// The latest sightings of a device, up to now, the latest first.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer.
    pub async fn sightings(&self, id: DeviceId, most: u64) -> Result<Vec<Sighting>, StoreError> {
        let mut recorded = self.recorded.subscribe();
        self.record_wanted.notify_one();
        // Where the records do not answer, asking them below says so.
        let _ = tokio::time::timeout(RECORD, recorded.changed()).await;
        self.context.records.latest_sightings(id, most).await
    }

    /// Tells consoles that devices changed.
    pub fn tell(&self) {
        self.context.changed(Topic::Devices);
    }

    fn note_change(&self, device: DeviceId) {
        self.changed.lock().unwrap_or_else(PoisonError::into_inner).insert(device);
    }

    /// The rule for devices never met before.
    pub fn doorway(&self) -> Doorway {
        *self.doorway.read().unwrap_or_else(PoisonError::into_inner)
    }

    /// Changes that rule, durably.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_doorway(&self, doorway: Doorway) -> Result<(), StoreError> {
        self.context.records.set_setting("doorway", doorway.word()).await?;
        *self.doorway.write().unwrap_or_else(PoisonError::into_inner) = doorway;
        self.context.changed(Topic::House);
        Ok(())
    }

    /// Reads who makes devices; takes a moment.
    pub fn load_makers(&self) {
        self.makers.load();
    }

    /// Who made what has this hardware address; `None` also where it is private.
    pub fn maker(&self, hardware: Hardware) -> Option<&str> {
        self.makers.of(hardware)
    }

    /// The hardware address at an address, where the system knows it.
    pub fn hardware(&self, address: Ipv4Addr) -> Option<Hardware> {
        self.neighbours.as_ref()?.hardware(address).map(Hardware)
    }

    /// The device at an address, by its hardware address where there is one.
    fn at(&self, address: Ipv4Addr) -> Option<DeviceId> {
        let hardware = self.hardware(address);
        self.book().find(address, hardware)
    }

    /// The standing of the device at an address, if one is known there.
    pub fn standing_at(&self, address: Ipv4Addr) -> Option<Standing> {
        let id = self.at(address)?;
        self.book().get(id).map(|device| device.standing)
    }

    /// A datagram came from an address, which anybody can write into one: it makes no record, and
    /// what it says of its sender counts for nothing but that it was seen (SEC-12).
    pub fn heard(&self, address: Ipv4Addr, act: Act) {
        let now = self.context.now();
        let hardware = self.hardware(address);
        let mut book = self.book();
        let Some(id) = book.find(address, hardware) else {
            drop(book);
            let mut datagrams = self.datagrams.lock().unwrap_or_else(PoisonError::into_inner);
            return datagrams.note(now, address, act);
        };
        let Some(device) = book.get_mut(id) else { return };
        device.last_seen = device.last_seen.max(now);
        drop(book);
        self.note(Sighting::new(id, Contact::of(address, hardware), now, act));
    }

    /// Somebody at this address connected, calling itself so: who that is, and what it may. Their
    /// record is made if need be; `None` where there is no room for one. If they ask for content, and
    /// not just look what this is, they come to the door.
    pub fn recognise(
        &self,
        address: Ipv4Addr,
        user_agent: Option<&str>,
        field: &dyn Fn(&str) -> bool,
        asks: bool,
    ) -> Option<Recognised> {
        let now = self.context.now();
        let hardware = self.hardware(address);
        let doorway = self.doorway();
        let user_agent = user_agent.map(|text| tame(text, NAME).into_owned());
        let (recognised, new, changed, came) = {
            let mut book = self.book();
            let meeting = book.meet(now, address, hardware)?;
            self.evicted().extend(meeting.forgotten);
            let (id, new) = (meeting.id, meeting.new);
            let came = asks && book.get(id).is_some_and(|device| device.asked.is_none());
            let let_in = if asks { book.ask(now, id, doorway) } else { None };
            if let Some(standing) = let_in.filter(|standing| *standing != Standing::Waiting) {
                self.doorway_decided(id, now, standing);
            }
            let agent = user_agent.as_deref();
            let seen = Observed { address, user_agent: agent, field, registrar: false };
            let mut changed = book.observe(id, &seen) || new || came || let_in.is_some();
            let device = book.get_mut(id)?;
            if user_agent.is_some() && device.user_agent != user_agent {
                device.user_agent = user_agent;
                changed = true;
            }
            let recognised = Recognised {
                device: id,
                contact: meeting.contact,
                decision: device.decision(),
                offset: device.update_offset,
                traits: device.shown.clone(),
                in_walkthrough: device.in_walkthrough,
                confirmed: device.proof.confirmed(),
            };
            (recognised, new, changed, came)
        };
        if changed {
            self.note_change(recognised.device);
        }
        if came {
            self.context.changed(Topic::Devices);
            if recognised.decision == Decision::Waiting {
                self.arrivals.came(recognised.device);
            }
        }
        if new {
            let mut datagrams = self.datagrams.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some((at, act)) = datagrams.take(now, address) {
                drop(datagrams);
                self.note(Sighting::new(recognised.device, recognised.contact, at, act));
            }
        }
        Some(recognised)
    }

    /// The doorway decided on a device: recorded as a person's decision is, as soon as it can be.
    fn doorway_decided(&self, id: DeviceId, at: Moment, standing: Standing) {
        let mut decided = self.by_doorway.lock().unwrap_or_else(PoisonError::into_inner);
        if decided.len() < REPORTS {
            decided.push((id, at, standing));
        }
    }

    /// The description at an address was read: what it says belongs to the device that is known there,
    /// since whoever answers there is who asks from there.
    pub fn described_at(&self, address: Ipv4Addr, name: &str, udns: &[String]) {
        let Some(id) = self.at(address) else { return };
        let mut book = self.book();
        let Some(device) = book.get_mut(id) else { return };
        let before = (device.described_name.clone(), device.udns.len());
        let name = tame(name.trim(), NAME).into_owned();
        device.described_name = Some(name).filter(|name| !name.is_empty());
        for udn in udns {
            if device.udns.len() < UDNS {
                device.udns.insert(udn.clone());
            }
        }
        if before != (device.described_name.clone(), device.udns.len()) {
            drop(book);
            self.note_change(id);
            self.context.changed(Topic::Devices);
        }
    }

    /// A device asked the registrar.
    pub fn asked_registrar(&self, device: DeviceId, address: Ipv4Addr) {
        let seen = Observed { address, user_agent: None, field: &|_| false, registrar: true };
        if self.book().observe(device, &seen) {
            self.note_change(device);
        }
    }

    /// Whether something of a device waits to be saved, as PostgreSQL takes nothing now.
    pub fn is_unsaved(&self, id: DeviceId) -> bool {
        self.not_saved.lock().unwrap_or_else(PoisonError::into_inner).contains(&id)
    }

    fn set_unsaved(&self, waiting: BTreeSet<DeviceId>) {
        let mut before = self.not_saved.lock().unwrap_or_else(PoisonError::into_inner);
        if *before != waiting {
            *before = waiting;
            drop(before);
            self.context.changed(Topic::Devices);
        }
    }

    /// Devices that had to go to make room, and are still in the records.
    fn evicted(&self) -> MutexGuard<'_, Vec<DeviceId>> {
        self.evicted.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether any device receives a stream.
    pub fn is_streaming(&self) -> bool {
        self.streams.book().count() > 0
    }

    /// All addresses of the devices to which streams run now.
    pub fn receiving_addresses(&self) -> BTreeSet<Ipv4Addr> {
        let receiving = self.streams.book().receiving();
        if receiving.is_empty() {
            return BTreeSet::new();
        }
        let book = self.book();
        let playing = receiving.iter().filter_map(|id| book.get(*id));
        let endpoints = playing.flat_map(|device| &device.endpoints);
        endpoints.map(|endpoint| endpoint.address).collect()
    }

    /// Ends all that runs and that decisions and folders, as they are now, do not cover: transfers,
    /// stations and subscriptions. Every decision calls this, and so does the look at transfers,
    /// for what began just before.
    pub fn end_uncovered(&self) {
        let transfers = self.streams.transfers.all();
        let catalogue = self.catalogue.get();
        let published = |folder: FolderId| catalogue.folder(folder).is_some();
        let mut publisher = self.subscriptions.publisher();
        let book = self.book();
        for transfer in &transfers {
            let decision = book.get(transfer.device).map(|device| device.decision());
            let covered = match (&decision, &transfer.load) {
                (Some(Decision::Admitted(pass)), Load::Media(media)) => {
                    pass.covers(media.folder, media.kind()) && published(media.folder)
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

    /// The house's update id as a device sees it. One that is not let in sees nothing, so nothing
    /// changes for it but decisions on itself.
    pub fn update_id_for(&self, decision: &Decision, offset: u32) -> UpdateId {
        match decision {
            Decision::Admitted(_) => self.catalogue.get().update_id().plus(offset),
            Decision::Waiting | Decision::Refused => UpdateId(offset),
        }
    }

    /// The device's update ids moved: it alone is told.
    fn tell_one(&self, device: &Device) {
        let id = self.update_id_for(&device.decision(), device.update_offset);
        let mut publisher = self.subscriptions.publisher();
        let variables = [("SystemUpdateID", id.to_string())];
        publisher.change(OwnService::ContentDirectory, device.address(), &variables);
        publisher.change_containers(device.address(), [("0".to_owned(), id.0)]);
        drop(publisher);
        self.subscriptions.wake();
    }

    /// Events for the admitted devices that subscribe, each with its own update ids and only
    /// the containers that it sees.
    pub(crate) fn tell_all(&self, touched: &Touched) {
        let catalogue = self.catalogue.get();
        let mut publisher = self.subscriptions.publisher();
        for source in publisher.sources(OwnService::ContentDirectory) {
            let Some(device) = self.book().at(source).cloned() else { continue };
            let Decision::Admitted(pass) = device.decision() else { continue };
            let offset = device.update_offset;
            let seen = touched.containers.iter().filter(|(id, _)| catalogue.is_seen(&pass, id));
            let pairs: Vec<(String, u32)> = seen
                .flat_map(|(id, update)| {
                    let parts = present::ids_of_parts(&catalogue, &pass, id, &device.shown);
                    let ids = std::iter::once(id.clone()).chain(parts);
                    ids.map(move |id| (id, update.plus(offset).0))
                })
                .collect();
            if pairs.is_empty() {
                continue;
            }
            let id = catalogue.update_id().plus(offset).to_string();
            publisher.change(OwnService::ContentDirectory, source, &[("SystemUpdateID", id)]);
            publisher.change_containers(source, pairs);
        }
        drop(publisher);
        self.subscriptions.wake();
    }
}
