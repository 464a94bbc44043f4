//! Devices: who is known, what was decided about them, and what they do.

mod datagrams;
mod decisions;
pub mod sightings;

use std::net::Ipv4Addr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};

use mostra_core::access::{Decision, Doorway, Standing};
use mostra_core::catalogue::Touched;
use mostra_core::device::{Device, DeviceBook, Hardware};
use mostra_core::present;
use mostra_core::proof::Step;
use mostra_core::traits::{Observed, Rules, Traits};
use mostra_net::Neighbours;
use mostra_protocol::model::service::OwnService;
use mostra_protocol::model::text::{NAME, tame};
use mostra_store::StoreError;

use crate::context::{Context, Topic};
use crate::library::SharedCatalogue;
use crate::network::Subscriptions;
use crate::streams::{Load, Streams};
use datagrams::Datagrams;
use sightings::{Fact, Sightings};

/// A device that asks, and what it may.
#[derive(Debug, Clone)]
pub struct Recognised {
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

impl Recognised {
    /// Whether a step of its ladder is confirmed already, so that nothing more can prove it.
    pub fn has_proven(&self, step: Step) -> bool {
        self.proven[step as usize]
    }
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
    /// Where it is reported what they do.
    pub sightings: Sightings,
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
    evicted: Mutex<Vec<u32>>,
    /// What strangers sent who have not connected yet.
    datagrams: Mutex<Datagrams>,
    sightings: Sightings,
    /// Held from looking at devices until what was seen of them is recorded, and by decisions
    /// until they are in force: one that wrote what it saw before another's decision would undo
    /// that in the records.
    recording: tokio::sync::Mutex<()>,
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
            sightings,
        } = parts;
        let doorway = context.records.setting_or("doorway", "ask").await?;
        let mut book = DeviceBook::load(context.records.devices().await?, rules.clone());
        book.used_up_to(context.records.last_device().await?);
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
            sightings,
            recording: tokio::sync::Mutex::default(),
        })
    }

    /// The book of devices.
    pub fn book(&self) -> MutexGuard<'_, DeviceBook> {
        self.book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What is reported of devices.
    pub fn sightings(&self) -> &Sightings {
        &self.sightings
    }

    /// Reports what a device does now.
    pub fn report(&self, device: u32, fact: Fact) {
        self.sightings.note(device, self.context.now(), fact);
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

    fn hardware(&self, address: Ipv4Addr) -> Option<Hardware> {
        self.neighbours.as_ref()?.hardware(address).map(Hardware)
    }

    /// The device at an address, by its hardware address where there is one.
    fn at(&self, address: Ipv4Addr) -> Option<u32> {
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
    pub fn heard(&self, address: Ipv4Addr, what: String) {
        let now = self.context.now();
        let Some(id) = self.at(address) else {
            let mut datagrams = self.datagrams.lock().unwrap_or_else(PoisonError::into_inner);
            return datagrams.note(now, address, what);
        };
        let mut book = self.book();
        let Some(device) = book.get_mut(id) else { return };
        device.last_seen = device.last_seen.max(now);
        let seen = device.ladder.proof(Step::Seen).is_some();
        drop(book);
        if !seen {
            self.sightings.note(id, now, Fact::Heard(what));
        }
    }

    /// Somebody at this address connected, calling itself so: who that is, and what it may. Their
    /// record is made if need be; `None` where there is no room for one.
    pub fn recognise(
        &self,
        address: Ipv4Addr,
        user_agent: Option<&str>,
        field: &dyn Fn(&str) -> bool,
    ) -> Option<Recognised> {
        let now = self.context.now();
        let hardware = self.hardware(address);
        let doorway = self.doorway();
        let user_agent = user_agent.map(|text| tame(text, NAME).into_owned());
        let (recognised, new, changed, named) = {
            let mut book = self.book();
            let meeting = book.meet(now, address, hardware, doorway)?;
            self.evicted().extend(meeting.forgotten);
            let (id, new) = (meeting.id, meeting.new);
            let agent = user_agent.as_deref();
            let seen = Observed { address, user_agent: agent, field, registrar: false };
            let changed = book.observe(id, &seen) || new;
            let device = book.get(id)?;
            let recognised = Recognised {
                device: id,
                decision: device.decision(),
                offset: device.update_offset,
                traits: device.shown.clone(),
                proven: Step::ALL.map(|step| device.ladder.proof(step).is_some()),
            };
            let named = user_agent.filter(|name| device.user_agent.as_ref() != Some(name));
            (recognised, new, changed, named)
        };
        if changed {
            self.sightings.note(recognised.device, now, Fact::Met);
        }
        if new {
            let mut datagrams = self.datagrams.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some((at, what)) = datagrams.take(now, address) {
                self.sightings.note(recognised.device, at, Fact::Heard(what));
            }
        }
        if let Some(name) = named {
            self.sightings.note(recognised.device, now, Fact::Named(name));
        }
        Some(recognised)
    }

    /// A device asked the registrar.
    pub fn asked_registrar(&self, device: u32, address: Ipv4Addr) {
        let seen = Observed { address, user_agent: None, field: &|_| false, registrar: true };
        if self.book().observe(device, &seen) {
            self.report(device, Fact::Met);
        }
    }

    /// Devices that had to go to make room, and are still in the records.
    fn evicted(&self) -> MutexGuard<'_, Vec<u32>> {
        self.evicted.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Ends all that runs and that decisions and folders, as they are now, do not cover: transfers,
    /// stations and subscriptions. Every decision calls this, and so does the look at transfers,
    /// for what began just before.
    pub fn end_uncovered(&self) {
        let transfers = self.streams.transfers.all();
        let catalogue = self.catalogue.get();
        let published = |folder: u32| catalogue.folder(folder).is_some();
        let mut publisher = self.subscriptions.publisher();
        let book = self.book();
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

    /// The house's update id as a device sees it. One that is not let in sees nothing, so nothing
    /// changes for it but decisions on itself.
    pub fn update_id_for(&self, decision: &Decision, offset: u32) -> u32 {
        match decision {
            Decision::Admitted(_) => self.catalogue.get().update_id().wrapping_add(offset),
            Decision::Waiting | Decision::Refused => offset,
        }
    }

    /// The device's update ids moved: it alone is told.
    fn tell_one(&self, device: &Device) {
        let id = self.update_id_for(&device.decision(), device.update_offset);
        let mut publisher = self.subscriptions.publisher();
        let variables = [("SystemUpdateID", id.to_string())];
        publisher.change(OwnService::ContentDirectory, device.address, &variables);
        publisher.change_containers(device.address, [("0".to_owned(), id)]);
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
                    ids.map(move |id| (id, update.wrapping_add(offset)))
                })
                .collect();
            if pairs.is_empty() {
                continue;
            }
            let id = catalogue.update_id().wrapping_add(offset).to_string();
            publisher.change(OwnService::ContentDirectory, source, &[("SystemUpdateID", id)]);
            publisher.change_containers(source, pairs);
        }
        drop(publisher);
        self.subscriptions.wake();
    }
}
