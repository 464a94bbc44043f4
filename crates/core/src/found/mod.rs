//! What is found on the network: things that announce themselves or answer a search, what their
//! documents say, and whether they are still there.
//!
//! Whether one of them may see anything is another question: see [`device`](crate::device).

mod described;
mod outsiders;
mod readings;
mod rows;
mod service_state;

use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;
use std::time::Duration;

use mostra_protocol::Moment;
use mostra_protocol::control_point::{FoundDevice, FoundEvent, Gone, LinkId};
use mostra_protocol::model::text::{NAME, tame};

pub use described::{Abilities, Described, FoundService, Role};
pub use outsiders::{OutsideAct, Outsider, Outsiders};
pub use readings::{DocumentFailure, DocumentReading};
pub use rows::{DevicePlace, Row, ThingPlace, join};
pub use service_state::{ServiceState, SubscriptionPhase, VariableValue};

use crate::ids::FoundId;
use readings::Readings;

/// Things kept at most, those that went away among them (SEC-12).
pub const THINGS: usize = 288;
/// UDNs, and types, kept of one thing: whoever announces itself by ever new ones is not followed.
const NAMES: usize = 64;
/// How long things that went away are kept.
const KEPT: Duration = Duration::from_secs(24 * 3600);
/// How long answers to a search may take: MX and as long again for their way (SCP-3).
const ANSWERS: Duration = Duration::from_secs(4);

/// Whether a thing is there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ThingPresence {
    /// It announced itself, answered, or gave its document.
    Here,
    /// It went away.
    Away {
        /// Since when.
        since: Moment,
        /// How that is known.
        why: Gone,
    },
}

/// What is known of a thing's documents.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Documents {
    /// They were not read yet.
    Unread,
    /// They were read.
    Read(Box<Described>),
    /// They could not be read.
    Failed(DocumentFailure),
}

/// A thing on the network.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Thing {
    /// Its number.
    pub id: FoundId,
    /// Its address.
    pub address: Ipv4Addr,
    /// The interface by which it was last heard.
    pub link: LinkId,
    /// Where its document is.
    pub location: String,
    /// The types that it names in datagrams.
    pub types: BTreeSet<String>,
    /// `SERVER` of its datagrams.
    pub server: Option<String>,
    /// When it was found.
    pub found: Moment,
    /// When it was last heard.
    pub heard: Moment,
    /// Whether it is there.
    pub presence: ThingPresence,
    /// What its documents say.
    pub documents: Documents,
    /// The UDNs that it announces.
    pub udns: BTreeSet<String>,
    /// Another place of its document, heard by another interface: it is tried when the first does not
    /// answer (SCP-21).
    fallback: Option<(String, Ipv4Addr, LinkId)>,
    /// Whether its document is asked for to know if it is still there.
    doubted: bool,
    /// UDNs in small letters, each with the interface by which it is there.
    alive: BTreeSet<(String, LinkId)>,
}

impl Thing {
    /// What its documents say, where they were read.
    pub fn described(&self) -> Option<&Described> {
        match &self.documents {
            Documents::Read(described) => Some(described),
            Documents::Unread | Documents::Failed(_) => None,
        }
    }

    /// The UDN that it is told apart by: that of its description, where that was read (SCP-17).
    pub fn identity(&self) -> Option<&str> {
        let described = self.described().and_then(|described| described.udns.first());
        described.or_else(|| self.udns.first()).map(String::as_str)
    }

    /// What it is for, as far as it is known.
    pub fn roles(&self) -> BTreeSet<Role> {
        let described = self.described().map(|described| &described.roles);
        // A description that says nothing of it leaves what was announced.
        if let Some(roles) = described.filter(|roles| !roles.contains(&Role::Other)) {
            return roles.clone();
        }
        let named = |part: &str| self.types.iter().any(|kind| kind.contains(part));
        let mut roles = BTreeSet::new();
        if named(":device:MediaRenderer:") || named(":service:AVTransport:") {
            roles.insert(Role::Renderer);
        }
        if named(":device:MediaServer:") || named(":service:ContentDirectory:") {
            roles.insert(Role::Server);
        }
        if named(":device:InternetGatewayDevice:") {
            roles.insert(Role::Router);
        }
        if roles.is_empty() {
            roles.insert(Role::Other);
        }
        roles
    }

    /// The name to show: its own, or where it is.
    pub fn label(&self) -> String {
        let name = self.described().map(|described| described.name.trim());
        match name.filter(|name| !name.is_empty()) {
            Some(name) => name.to_owned(),
            None => format!("Something at {}", self.address),
        }
    }

    /// Notes a UDN; false where there is no room for another.
    fn note_udn(&mut self, udn: &str) -> bool {
        let known = self.udns.contains(udn) || self.udns.len() < NAMES;
        if known {
            self.udns.insert(udn.to_owned());
        }
        known
    }

    fn note_types(&mut self, types: &[String]) {
        for kind in types {
            if self.types.len() < NAMES {
                self.types.insert(kind.clone());
            }
        }
    }

    /// Whether it is there.
    pub fn is_here(&self) -> bool {
        self.presence == ThingPresence::Here
    }
}

/// All things found.
///
/// Drive it with what the [`Finder`](mostra_protocol::control_point::Finder) tells; read what
/// [`next_reading`](Self::next_reading) asks for and say [`was_read`](Self::was_read).
#[derive(Debug, Default)]
pub struct FoundBook {
    things: BTreeMap<FoundId, Thing>,
    by_udn: BTreeMap<String, FoundId>,
    last_id: u32,
    readings: Readings,
    /// When a search ends that is going on.
    searching: Option<(Moment, Moment)>,
    /// Devices found that were let go as there was no room.
    dropped: u64,
}

impl FoundBook {
    /// All things, in the order in which they were found.
    pub fn things(&self) -> impl Iterator<Item = &Thing> {
        self.things.values()
    }

    /// A thing by number.
    pub fn get(&self, id: FoundId) -> Option<&Thing> {
        self.things.get(&id)
    }

    /// How many were let go as there was no room.
    pub fn dropped(&self) -> u64 {
        self.dropped
    }

    /// Takes what the finder told; true if a person would see a difference.
    pub fn told(&mut self, now: Moment, event: FoundEvent) -> bool {
        match event {
            FoundEvent::New(found) => self.came(now, &found),
            FoundEvent::Moved(found) | FoundEvent::Rebooted(found) => {
                self.came(now, &found);
                if let Some(id) = self.id_of(&found.udn) {
                    self.readings.want(now, id);
                }
                true
            }
            FoundEvent::Gone(found, why) => self.left(now, &found, why),
            FoundEvent::Doubtful(found) => {
                if let Some(id) = self.id_of(&found.udn) {
                    self.readings.want(now, id);
                    if let Some(thing) = self.things.get_mut(&id) {
                        thing.doubted = true;
                    }
                }
                false
            }
        }
    }

    /// The finder heard of devices until then, as they are.
    pub fn heard<'a>(&mut self, found: impl Iterator<Item = &'a FoundDevice>) {
        for found in found {
            let Some(id) = self.id_of(&found.udn) else { continue };
            if let Some(thing) = self.things.get_mut(&id) {
                thing.heard = thing.heard.max(found.heard);
                thing.note_types(&found.types);
            }
        }
    }

    /// A search went out.
    pub fn searched(&mut self, now: Moment) {
        self.searching = Some((now, now + ANSWERS));
    }

    /// Whether a search is going on: its answers may still come.
    pub fn is_searching(&self, now: Moment) -> bool {
        self.searching.is_some_and(|(_, ends)| ends > now)
    }

    /// Ends a search whose time is over, given what the finder knows by then: things that did not
    /// answer are asked for their document, as they may have been switched off without a word.
    /// True if one ended.
    pub fn end_search<'a>(
        &mut self,
        now: Moment,
        found: impl Iterator<Item = &'a FoundDevice>,
    ) -> bool {
        let Some((began, _)) = self.searching.filter(|(_, ends)| *ends <= now) else {
            return false;
        };
        self.searching = None;
        self.heard(found);
        let silent = |thing: &&mut Thing| thing.is_here() && thing.heard < began;
        for thing in self.things.values_mut().filter(silent) {
            thing.doubted = true;
            self.readings.want(now, thing.id);
        }
        true
    }

    /// The next thing whose documents are to be read, if any may be read now (SCP-14).
    pub fn next_reading(&mut self, now: Moment) -> Option<DocumentReading> {
        let things = &self.things;
        self.readings.next(now, |id| {
            things.get(&id).map(|thing| (thing.address, thing.link, &*thing.location))
        })
    }

    /// A thing's documents were read, or not. Gives its UDNs if that says whether it is there: false
    /// if it does not answer, true if it was asked because that was in doubt. Then the finder is to
    /// be told that they are absent or present. Whoever is only read for the first time stays as
    /// long as it announced (SCP-6).
    pub fn was_read(
        &mut self,
        now: Moment,
        reading: &DocumentReading,
        result: Result<Described, DocumentFailure>,
    ) -> Option<(Vec<String>, bool)> {
        let works = result.is_ok();
        self.readings.done(now, reading, works);
        let Some(thing) = self.things.get_mut(&reading.id) else {
            self.readings.forget(reading.id);
            return None;
        };
        if thing.location != reading.location {
            // It moved meanwhile.
            self.readings.want(now, reading.id);
            return None;
        }
        let udns: Vec<String> = thing.udns.iter().cloned().collect();
        match result {
            Ok(described) => {
                for udn in &described.udns {
                    if thing.note_udn(udn) {
                        self.by_udn.entry(udn.to_lowercase()).or_insert(reading.id);
                    }
                }
                thing.documents = Documents::Read(Box::new(described));
                thing.heard = thing.heard.max(now);
                std::mem::take(&mut thing.doubted).then_some((udns, true))
            }
            // It may still answer by its other interface.
            Err(DocumentFailure::Silent) if thing.fallback.is_some() => {
                if let Some((location, address, link)) = thing.fallback.take() {
                    (thing.location, thing.address, thing.link) = (location, address, link);
                }
                thing.doubted = true;
                self.readings.want(now, reading.id);
                None
            }
            // It does not answer at all, though it did: it is switched off.
            Err(DocumentFailure::Silent) if thing.described().is_some() => Some((udns, false)),
            Err(failure) => {
                if thing.described().is_none() {
                    thing.documents = Documents::Failed(failure);
                }
                None
            }
        }
    }

    /// The UDNs that a thing announced and its description does not have; nothing before that was read.
    pub fn only_announced(&self, id: FoundId) -> Vec<String> {
        let Some(thing) = self.things.get(&id) else { return Vec::new() };
        let Some(described) = thing.described() else { return Vec::new() };
        let differs = |udn: &&String| {
            !described.udns.is_empty()
                && !described.udns.iter().any(|known| known.eq_ignore_ascii_case(udn))
        };
        thing.udns.iter().filter(differs).cloned().collect()
    }

    /// When [`next_reading`](Self::next_reading) or [`end_search`](Self::end_search) has something
    /// next.
    pub fn next_deadline(&self) -> Option<Moment> {
        let search = self.searching.map(|(_, ends)| ends);
        search.into_iter().chain(self.readings.next_deadline()).min()
    }

    fn id_of(&self, udn: &str) -> Option<FoundId> {
        self.by_udn.get(&udn.to_lowercase()).copied()
    }

    /// A device is one with another when both announce the same UDN, or the same document: one
    /// document describes a device and those in it, each with a UDN of its own.
    fn came(&mut self, now: Moment, found: &FoundDevice) -> bool {
        let same = |thing: &&Thing| thing.location == found.location;
        let known =
            self.id_of(&found.udn).or_else(|| self.things.values().find(same).map(|t| t.id));
        let id = match known {
            Some(id) => id,
            None if self.make_room(now) => {
                self.last_id += 1;
                let id = FoundId(self.last_id);
                self.readings.want(now, id);
                id
            }
            None => {
                self.dropped += 1;
                return false;
            }
        };
        let thing = self.things.entry(id).or_insert_with(|| Thing {
            id,
            address: found.address,
            link: found.link,
            location: found.location.clone(),
            types: BTreeSet::new(),
            server: None,
            found: now,
            heard: now,
            presence: ThingPresence::Here,
            documents: Documents::Unread,
            udns: BTreeSet::new(),
            fallback: None,
            doubted: false,
            alive: BTreeSet::new(),
        });
        if thing.location != found.location {
            self.readings.want(now, id);
        }
        // On another interface it is the same; what it said there stays as another way to it.
        if thing.location != found.location && thing.link != found.link && thing.is_here() {
            thing.fallback = Some((thing.location.clone(), thing.address, thing.link));
        }
        thing.address = found.address;
        thing.link = found.link;
        thing.location.clone_from(&found.location);
        if thing.fallback.as_ref().is_some_and(|(location, ..)| *location == thing.location) {
            thing.fallback = None;
        }
        thing.note_types(&found.types);
        let server = found.server.as_deref().map(|server| tame(server, NAME).into_owned());
        thing.server = server.or(thing.server.take());
        thing.heard = now;
        if !thing.is_here() {
            // Whoever comes back may be another version of itself.
            self.readings.want(now, id);
            thing.doubted = false;
        }
        thing.presence = ThingPresence::Here;
        if thing.note_udn(&found.udn) {
            thing.alive.insert((found.udn.to_lowercase(), found.link));
            self.by_udn.insert(found.udn.to_lowercase(), id);
        }
        true
    }

    fn left(&mut self, now: Moment, found: &FoundDevice, why: Gone) -> bool {
        let Some(id) = self.id_of(&found.udn) else { return false };
        let Some(thing) = self.things.get_mut(&id) else { return false };
        thing.alive.remove(&(found.udn.to_lowercase(), found.link));
        if !thing.alive.is_empty() || !thing.is_here() {
            return false;
        }
        if why == Gone::Room && thing.described().is_none() {
            self.forget(id);
            return true;
        }
        thing.presence = ThingPresence::Away { since: now, why };
        self.readings.give_up(id);
        true
    }

    /// Makes room for one more; false if there is none. Things that went away go first, those
    /// longest away before others.
    fn make_room(&mut self, now: Moment) -> bool {
        let away = |thing: &Thing| match thing.presence {
            ThingPresence::Here => None,
            ThingPresence::Away { since, .. } => Some((since, thing.id)),
        };
        let old: Vec<FoundId> = self
            .things
            .values()
            .filter_map(away)
            .filter(|(since, _)| now.since(*since) > KEPT)
            .map(|(_, id)| id)
            .collect();
        old.into_iter().for_each(|id| self.forget(id));
        if self.things.len() < THINGS {
            return true;
        }
        let Some((_, longest)) = self.things.values().filter_map(away).min() else { return false };
        self.forget(longest);
        true
    }

    fn forget(&mut self, id: FoundId) {
        self.things.remove(&id);
        self.by_udn.retain(|_, known| *known != id);
        self.readings.forget(id);
    }
}

#[cfg(test)]
mod tests;
