//! The control point's side of discovery as a state machine without sockets.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::net::{Ipv4Addr, SocketAddrV4};
use std::time::Duration;

use super::address_url;
use crate::Moment;
use crate::messages::ssdp::{self, About, Message, NotifyKind, compose_search};
use crate::model::identifiers::{SSDP_GROUP, SSDP_PORT};
use crate::server::{Datagram, Link, LinkId};

/// When the first searches go out, and how often those after them (SCP-4).
const SCHEDULE: [u64; 4] = [0, 30, 60, 120];
const PERIOD: Duration = Duration::from_secs(300);
/// How often a target is searched for each time, and the pause between (SCP-1).
const TIMES: u64 = 2;
const BETWEEN: Duration = Duration::from_millis(300);
/// A person's searches are at least this long apart (SCP-4).
const ASKED: Duration = Duration::from_secs(5);
/// Seconds that those who answer may spread their answers over (SCP-2).
const MX: u32 = 2;
/// How long an announcement counts that says nothing of it, and the bounds (SCP-6).
const USUAL_AGE: u64 = 1800;
const AGES: (u64, u64) = (30, 86_400);
/// How long one that plays is there after its time, until it is known whether it answers.
const TRIED: Duration = Duration::from_secs(15);
/// Devices kept, in all and of one source (SCP-15).
const DEVICES: usize = 256;
const OF_SOURCE: usize = 32;
/// Types kept of one device.
const TYPES: usize = 32;
/// Our own former UDNs that are kept: what was sent under one comes back within seconds.
const FORMER_UDNS: usize = 8;
/// Bytes of a USN, and of a LOCATION (SCP-11).
const TEXT: usize = 1024;

/// A device that announced itself or answered, as it is reached by one interface.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundDevice {
    /// Its UDN, as it writes it.
    pub udn: String,
    /// The interface.
    pub link: LinkId,
    /// Where its document is.
    pub location: String,
    /// Its address, that of LOCATION.
    pub address: Ipv4Addr,
    /// The types that it names.
    pub types: Vec<String>,
    /// `SERVER`.
    pub server: Option<String>,
    /// BOOTID.
    pub boot_id: Option<u32>,
    /// CONFIGID.
    pub config_id: Option<u32>,
    /// When it was last heard.
    pub heard: Moment,
    /// Until when it counts as there.
    pub expires: Moment,
}

/// Why a device is there no more.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Gone {
    /// It said byebye.
    ByeBye,
    /// It was not heard for as long as it said (SCP-8).
    Expired,
    /// It was asked and does not answer.
    NoAnswer,
    /// The interface went away.
    Interface,
    /// It made room for another (SCP-15).
    Room,
}

/// What changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FoundEvent {
    /// A device is there that was not: its document is to be read.
    New(FoundDevice),
    /// Its document is elsewhere, or another one: it is to be read again (SCP-10).
    Moved(FoundDevice),
    /// It started anew: whatever it kept of us is gone (SCP-10).
    Rebooted(FoundDevice),
    /// It is there no more.
    Gone(FoundDevice, Gone),
    /// Whether it answers is to be tried, and [`Finder::absent`] or [`Finder::present`] called:
    /// somebody else than the device said that it leaves (SCP-9), or it plays and its time is
    /// over (SCP-8).
    Doubtful(FoundDevice),
}

#[derive(Debug)]
struct CachedDevice {
    found: FoundDevice,
    source: Ipv4Addr,
    /// Whether its time is over, and it is there only until it is known whether it answers.
    overdue: bool,
}

#[derive(Debug)]
struct Searching {
    link: Link,
    up: Moment,
    /// How many times all targets have been searched for.
    rounds: u32,
    next: Moment,
}

/// Searches for devices on any number of links and keeps those that are there.
///
/// Drive it with [`link_up`](Self::link_up) and [`handle`](Self::handle); send what
/// [`poll_output`](Self::poll_output) gives from a port of the link's own, take what
/// [`poll_event`](Self::poll_event) says, and come back at [`next_deadline`](Self::next_deadline).
#[derive(Debug)]
pub struct Finder {
    own_udn: String,
    /// Those that we had before, the last of them at the end.
    former_udns: VecDeque<String>,
    targets: Vec<String>,
    user_agent: String,
    links: BTreeMap<LinkId, Searching>,
    /// By UDN in small letters, and link.
    known: BTreeMap<(String, LinkId), CachedDevice>,
    /// Addresses of devices that play now.
    playing: BTreeSet<Ipv4Addr>,
    datagrams: Vec<(Moment, Datagram)>,
    events: Vec<FoundEvent>,
    asked: Option<Moment>,
    last_search: Option<Moment>,
}

impl Finder {
    /// Searches for these targets; what has our own UDN is passed over (SCP-13).
    pub fn new(own_udn: &str, targets: &[&str], user_agent: &str) -> Finder {
        Finder {
            own_udn: own_udn.to_lowercase(),
            former_udns: VecDeque::new(),
            targets: targets.iter().map(|target| (*target).to_owned()).collect(),
            user_agent: user_agent.to_owned(),
            links: BTreeMap::new(),
            known: BTreeMap::new(),
            playing: BTreeSet::new(),
            datagrams: Vec::new(),
            events: Vec::new(),
            asked: None,
            last_search: None,
        }
    }

    /// The addresses of devices that play now: of these, one whose time is over is tried before it
    /// counts as gone.
    pub fn set_playing(&mut self, addresses: BTreeSet<Ipv4Addr>) {
        self.playing = addresses;
    }

    /// We are somebody else from now on. What we sent before under the former UDN may still come
    /// back to us, and is passed over as well; another server may have it.
    pub fn set_own_udn(&mut self, udn: &str) {
        let former = std::mem::replace(&mut self.own_udn, udn.to_lowercase());
        self.former_udns.push_back(former);
        if self.former_udns.len() > FORMER_UDNS {
            self.former_udns.pop_front();
        }
    }

    fn is_own(&self, udn: &str, source: Ipv4Addr) -> bool {
        let is_ours = || self.links.values().any(|searching| searching.link.address == source);
        udn == self.own_udn || self.former_udns.iter().any(|former| former == udn) && is_ours()
    }

    /// An interface came up, or has another address: it is searched at once.
    pub fn link_up(&mut self, now: Moment, link: Link) {
        self.links.insert(link.id, Searching { link, up: now, rounds: 0, next: now });
    }

    /// An interface went away, and with it what was found there.
    pub fn link_down(&mut self, id: LinkId) {
        self.links.remove(&id);
        self.datagrams.retain(|(_, datagram)| datagram.link != id);
        self.remove(Gone::Interface, |(_, link), _| *link == id);
    }

    /// Searches now because a person asks; false if that was done a moment ago (SCP-4).
    pub fn search(&mut self, now: Moment) -> bool {
        if self.asked.is_some_and(|asked| now.since(asked) < ASKED) {
            return false;
        }
        self.asked = Some(now);
        for id in self.links.keys().copied().collect::<Vec<_>>() {
            self.send_searches(now, id);
        }
        true
    }

    /// When the last search went out.
    pub fn last_search(&self) -> Option<Moment> {
        self.last_search
    }

    /// The devices that are there.
    pub fn found(&self) -> impl Iterator<Item = &FoundDevice> {
        self.known.values().map(|known| &known.found)
    }

    /// Takes a datagram that arrived on a link, by the group or on the port that searches left by.
    pub fn handle(&mut self, now: Moment, link: LinkId, from: SocketAddrV4, data: &[u8]) {
        let Some(link) = self.links.get(&link).map(|searching| searching.link) else { return };
        if !link.holds(*from.ip()) {
            return;
        }
        match ssdp::parse(data) {
            Some(Message::Answer { target, about }) => {
                self.heard(now, &link, *from.ip(), &target, about);
            }
            Some(Message::Notify { kind: NotifyKind::ByeBye, about, .. }) => {
                self.left(&link, *from.ip(), &about);
            }
            Some(Message::Notify { target, about, .. }) => {
                self.heard(now, &link, *from.ip(), &target, about);
            }
            Some(Message::Search(_)) | None => {}
        }
    }

    /// A device was tried and does not answer: it is there no more.
    pub fn absent(&mut self, udn: &str) {
        let udn = udn.to_lowercase();
        self.remove(Gone::NoAnswer, |(known, _), _| *known == udn);
    }

    /// A device was tried and answers: it counts as there a while longer (SCP-8).
    pub fn present(&mut self, now: Moment, udn: &str) {
        let udn = udn.to_lowercase();
        for ((known, _), device) in &mut self.known {
            if *known == udn {
                device.found.expires = device.found.expires.max(now + PERIOD);
                device.overdue = false;
            }
        }
    }

    /// The next datagram that is due, if any.
    pub fn poll_output(&mut self, now: Moment) -> Option<Datagram> {
        let due = |searching: &&Searching| searching.next <= now;
        let due: Vec<LinkId> = self.links.values().filter(due).map(|s| s.link.id).collect();
        for id in due {
            self.send_searches(now, id);
            let Some(searching) = self.links.get_mut(&id) else { continue };
            searching.rounds += 1;
            searching.next = match SCHEDULE.get(searching.rounds as usize) {
                Some(seconds) => searching.up + Duration::from_secs(*seconds),
                None => now + PERIOD,
            };
        }
        let at = self.datagrams.iter().position(|(at, _)| *at <= now)?;
        Some(self.datagrams.remove(at).1)
    }

    /// The next thing that changed, if any.
    pub fn poll_event(&mut self, now: Moment) -> Option<FoundEvent> {
        for known in self.known.values_mut().filter(|known| known.found.expires <= now) {
            if !known.overdue && self.playing.contains(&known.found.address) {
                known.overdue = true;
                known.found.expires = now + TRIED;
                self.events.push(FoundEvent::Doubtful(known.found.clone()));
            }
        }
        self.remove(Gone::Expired, |_, known| known.found.expires <= now);
        (!self.events.is_empty()).then(|| self.events.remove(0))
    }

    /// When [`poll_output`](Self::poll_output) or [`poll_event`](Self::poll_event) has something
    /// next.
    pub fn next_deadline(&self) -> Option<Moment> {
        let searches = self.links.values().map(|searching| searching.next);
        let datagrams = self.datagrams.iter().map(|(at, _)| *at);
        let expiries = self.known.values().map(|known| known.found.expires);
        searches.chain(datagrams).chain(expiries).min()
    }

    fn send_searches(&mut self, now: Moment, link: LinkId) {
        self.last_search = Some(now);
        let to = SocketAddrV4::new(SSDP_GROUP, SSDP_PORT);
        let mut at = now;
        for _ in 0..TIMES {
            for target in &self.targets {
                let data = compose_search(target, MX, &self.user_agent);
                self.datagrams.push((at, Datagram { link, to, data }));
            }
            at += BETWEEN;
        }
        self.datagrams.sort_by_key(|(at, _)| *at);
    }

    fn heard(&mut self, now: Moment, link: &Link, source: Ipv4Addr, target: &str, about: About) {
        let udn = about.udn().to_lowercase();
        if udn.is_empty() || about.usn.len() > TEXT || self.is_own(&udn, source) {
            return;
        }
        let Some((location, address)) = about.location.and_then(|l| usable(link, source, l)) else {
            return;
        };
        let age = about.max_age.unwrap_or(USUAL_AGE).clamp(AGES.0, AGES.1);
        let expires = now + Duration::from_secs(age);
        let key = (udn, link.id);
        if let Some(known) = self.known.get_mut(&key) {
            known.overdue = false;
            let found = &mut known.found;
            found.heard = now;
            // One row refreshes all of the device (SCP-7).
            found.expires = expires;
            put_type(&mut found.types, target);
            let moved = found.location != location
                || about.config_id.is_some() && found.config_id != about.config_id;
            let rebooted = about.boot_id.is_some() && found.boot_id != about.boot_id;
            found.boot_id = about.boot_id.or(found.boot_id);
            found.config_id = about.config_id.or(found.config_id);
            found.server = about.server.or(found.server.take());
            found.address = address;
            found.location = location;
            let found = found.clone();
            if rebooted {
                self.events.push(FoundEvent::Rebooted(found.clone()));
            }
            if moved {
                self.events.push(FoundEvent::Moved(found));
            }
            return;
        }
        if !self.make_room(source) {
            return;
        }
        let mut types = Vec::new();
        put_type(&mut types, target);
        let found = FoundDevice {
            udn: about.usn.split("::").next().unwrap_or_default().trim().to_owned(),
            link: link.id,
            location,
            address,
            types,
            server: about.server,
            boot_id: about.boot_id,
            config_id: about.config_id,
            heard: now,
            expires,
        };
        self.events.push(FoundEvent::New(found.clone()));
        self.known.insert(key, CachedDevice { found, source, overdue: false });
    }

    fn left(&mut self, link: &Link, source: Ipv4Addr, about: &About) {
        let key = (about.udn().to_lowercase(), link.id);
        let Some(known) = self.known.get(&key) else { return };
        if known.found.address == source {
            let found = known.found.clone();
            self.known.remove(&key);
            self.events.push(FoundEvent::Gone(found, Gone::ByeBye));
        } else {
            self.events.push(FoundEvent::Doubtful(known.found.clone()));
        }
    }

    /// Makes room for one more of a source; false if there is none. Of those that a source has,
    /// no more are taken; in all, the one goes that was not heard for longest.
    fn make_room(&mut self, source: Ipv4Addr) -> bool {
        let its = self.known.values().filter(|known| known.source == source).count();
        if its >= OF_SOURCE {
            return false;
        }
        if self.known.len() >= DEVICES {
            let oldest = self.known.iter().min_by_key(|(_, known)| known.found.heard);
            let oldest = oldest.map(|(key, _)| key.clone());
            self.remove(Gone::Room, |key, _| Some(key) == oldest.as_ref());
        }
        true
    }

    fn remove(&mut self, why: Gone, which: impl Fn(&(String, LinkId), &CachedDevice) -> bool) {
        let events = &mut self.events;
        self.known.retain(|key, known| {
            let goes = which(key, known);
            if goes {
                events.push(FoundEvent::Gone(known.found.clone(), why));
            }
            !goes
        });
    }
}

fn put_type(types: &mut Vec<String>, target: &str) {
    let known = types.iter().any(|known| known == target);
    if !known && types.len() < TYPES && target.len() <= TEXT && !target.starts_with("uuid:") {
        types.push(target.to_owned());
    }
}

/// A LOCATION that may be asked for its document, with its host: plain HTTP to the host that sent
/// the datagram, which is in the interface's subnet (SCP-11, SCP-12).
fn usable(link: &Link, source: Ipv4Addr, location: String) -> Option<(String, Ipv4Addr)> {
    if location.len() > TEXT {
        return None;
    }
    let (_, host) = address_url::read(&location)?;
    let here = host == source && link.holds(host) && !host.is_multicast();
    here.then_some((location, host))
}

#[cfg(test)]
mod tests;
