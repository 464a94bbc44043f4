//! The server's side of discovery as a state machine without sockets.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BinaryHeap};
use std::net::{Ipv4Addr, SocketAddrV4};
use std::time::Duration;

use super::limiter::{Limiter, NoticeLimiter};
use super::written;
use crate::Moment;
use crate::messages::ssdp::{self, MSearch, Message, NotifyKind};
use crate::model::identifiers::{MEDIA_SERVER, ROOT_DEVICE, SSDP_PORT, split_version, versioned};
use crate::model::service::OwnService;
use crate::model::subnet;

/// Names an interface; the caller chooses the numbers.
pub type LinkId = u32;

/// An interface address by which the server can be reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Link {
    /// The interface.
    pub id: LinkId,
    /// Our address there, which LOCATION names (SSDP-21).
    pub address: Ipv4Addr,
    /// Bits of the subnet's prefix, 0 to 32; searches from outside are dropped (SSDP-39).
    pub prefix: u8,
    /// The device listener's port there.
    pub port: u16,
    /// The port for unicast searches, where 1900 is in other hands (SSDP-6).
    pub search_port: Option<u16>,
}

impl Link {
    /// Whether an address is that of a host in this link's subnet.
    pub fn holds(&self, address: Ipv4Addr) -> bool {
        subnet::is_host(self.address, self.prefix, address)
    }
}

/// Who the server says it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identity {
    /// `uuid:` and the UUID (DESC-6).
    pub udn: String,
    /// The SERVER field, three tokens (SSDP-12).
    pub server: String,
    /// The path of the device document.
    pub description_path: String,
    /// Greater after every start than ever before, below 2³¹ (SSDP-13).
    pub boot_id: u32,
    /// Changes exactly when a document's bytes change, below 2²⁴ (SSDP-14).
    pub config_id: u32,
    /// The services announced.
    pub services: Vec<OwnService>,
}

/// Figures that an installation may change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Tuning {
    /// Seconds an announcement stays valid, 60 to 86400 (SSDP-15).
    pub max_age: u32,
    /// Shortest and longest time between announcements (SSDP-18).
    pub period: (Duration, Duration),
}

impl Tuning {
    /// For announcements valid this many seconds: repeated every four to six minutes, and always
    /// within half of that time (SSDP-18).
    pub fn valid_for(max_age: u32) -> Tuning {
        let (shortest, longest) = (240.min(max_age / 3), 360.min(max_age / 2));
        let seconds = |n| Duration::from_secs(u64::from(n));
        Tuning { max_age, period: (seconds(shortest), seconds(longest)) }
    }
}

impl Default for Tuning {
    fn default() -> Self {
        Tuning::valid_for(1800)
    }
}

/// A datagram to send.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Datagram {
    /// The interface it leaves by, with that link's address as its source.
    pub link: LinkId,
    /// Where to.
    pub to: SocketAddrV4,
    /// What.
    pub data: Vec<u8>,
}

/// What a datagram told about its sender.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum DatagramEvent {
    /// A search, with what was looked for, who asked and whether it was answered.
    Search {
        /// The search target.
        target: String,
        /// The asker's `USER-AGENT`.
        user_agent: Option<String>,
        /// Whether answers are on their way.
        answered: bool,
    },
    /// Somebody else announced or left.
    Announcement {
        /// Whether they are leaving.
        leaving: bool,
    },
    /// Somebody else announces itself under our own UDN.
    SameServer {
        /// Their address.
        source: Ipv4Addr,
    },
}

/// Times looked at for an answer before it is dropped.
const TRIES: usize = 8;

/// Most answers that may be waiting at once (SSDP-40).
const PENDING: usize = 1000;

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Announcement {
    Alive,
    ByeBye,
}

/// A datagram that waits for its time.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum QueuedMessage {
    Set {
        link: LinkId,
        kind: Announcement,
        row: usize,
    },
    Answer {
        link: LinkId,
        to: SocketAddrV4,
        asked: String,
        row: usize,
    },
    /// Written before the identity changed, so that it still carries the old ids.
    Written(Datagram),
}

/// Announces a media server on any number of links and answers searches there.
///
/// Drive it with [`link_up`](Self::link_up), [`handle`](Self::handle) and
/// [`stop`](Self::stop); send what [`poll_output`](Self::poll_output) gives, and come back at
/// [`next_deadline`](Self::next_deadline). A link must only come up when a GET of its LOCATION
/// would succeed (SSDP-20).
#[derive(Debug)]
pub struct Announcer {
    identity: Identity,
    /// The announcement set as (NT, USN).
    rows: Vec<(String, String)>,
    tuning: Tuning,
    random: fastrand::Rng,
    links: BTreeMap<LinkId, (Link, Moment)>,
    /// Ordered by time, then by the order of scheduling.
    queue: BinaryHeap<Reverse<(Moment, u64, QueuedMessage)>>,
    scheduled: u64,
    answers_waiting: usize,
    limiter: Limiter,
    notices: NoticeLimiter,
    stopped: bool,
}

impl Announcer {
    /// A machine that knows no link yet. The seed decides every random delay.
    pub fn new(identity: Identity, tuning: Tuning, seed: u64, now: Moment) -> Self {
        Announcer {
            rows: rows(&identity),
            identity,
            tuning,
            random: fastrand::Rng::with_seed(seed),
            links: BTreeMap::new(),
            queue: BinaryHeap::new(),
            scheduled: 0,
            answers_waiting: 0,
            limiter: Limiter::new(now),
            notices: NoticeLimiter::new(now),
            stopped: false,
        }
    }

    /// The rows of the announcement set as (NT, USN), 3 + the number of services (SSDP-16).
    pub fn rows(&self) -> &[(String, String)] {
        &self.rows
    }

    /// Searches that the limits turned away so far.
    pub fn dropped(&self) -> u64 {
        self.limiter.dropped + self.notices.dropped
    }

    /// A link came up: leave what an unclean stop may have left behind, then announce
    /// (SSDP-17, SSDP-24).
    pub fn link_up(&mut self, now: Moment, link: Link) {
        self.links.insert(link.id, (link, now));
        self.schedule_set(now, link.id, Announcement::ByeBye);
        let pause = self.between(200, 500);
        self.announce_on(now + pause, link.id);
    }

    /// A link went away: nothing more is sent there (SSDP-27).
    pub fn link_down(&mut self, id: LinkId) {
        self.links.remove(&id);
    }

    /// The documents or the name changed: leave, and come back as `identity` (SSDP-29).
    pub fn change_identity(&mut self, now: Moment, identity: Identity) {
        self.queue.clear();
        self.answers_waiting = 0;
        for link in self.links.keys().copied().collect::<Vec<_>>() {
            self.schedule_set(now, link, Announcement::ByeBye);
        }
        // The byebye set must carry the old ids, so it is written out before they change.
        let farewell = self.drain_now(now + Duration::from_secs(1));
        self.rows = rows(&identity);
        self.identity = identity;
        self.farewell_then_announce(now, farewell);
    }

    /// A link has another address: leave, and come back as `identity`, whose boot id is greater,
    /// here under the new address and on all others (SSDP-25).
    pub fn link_moved(&mut self, now: Moment, link: Link, identity: Identity) {
        self.links.insert(link.id, (link, now));
        self.change_identity(now, identity);
    }

    /// Announces now, beside the period's own times.
    pub fn announce(&mut self, now: Moment) {
        for link in self.links.keys().copied().collect::<Vec<_>>() {
            self.announce_on(now, link);
        }
    }

    /// Leaves: byebye twice on every link within a second (SSDP-22); nothing else follows.
    pub fn stop(&mut self, now: Moment) {
        self.queue.clear();
        self.answers_waiting = 0;
        self.stopped = true;
        for link in self.links.keys().copied().collect::<Vec<_>>() {
            self.schedule_set(now, link, Announcement::ByeBye);
            self.schedule_set(now + Duration::from_millis(200), link, Announcement::ByeBye);
        }
    }

    /// Takes a datagram that arrived on a link; `multicast` says whether it came by the group.
    /// Returns what it tells about its sender, or `None` if it is noise or from a stranger.
    pub fn handle(
        &mut self,
        now: Moment,
        link: LinkId,
        from: SocketAddrV4,
        multicast: bool,
        data: &[u8],
    ) -> Option<DatagramEvent> {
        self.handle_if(now, link, from, multicast, data, || true)
    }

    /// The same where somebody may be without answers: `may_know` is asked about the sender of a
    /// search that would be answered, and only then.
    pub fn handle_if(
        &mut self,
        now: Moment,
        link: LinkId,
        from: SocketAddrV4,
        multicast: bool,
        data: &[u8],
        may_know: impl FnOnce() -> bool,
    ) -> Option<DatagramEvent> {
        let (link, _) = *self.links.get(&link)?;
        let source = *from.ip();
        let ours = source == link.address && (from.port() == SSDP_PORT || from.port() == link.port);
        let unusable = source.is_unspecified()
            || source.is_multicast()
            || source.is_broadcast()
            || from.port() == 0;
        if unusable || !link.holds(source) {
            return None;
        }
        match ssdp::parse(data)? {
            Message::Search(search) => {
                let answered = !self.stopped
                    && !ours
                    && (search.mx.is_some() || !multicast)
                    && self.answer(now, link.id, from, multicast, &search, may_know);
                Some(DatagramEvent::Search {
                    target: search.target,
                    user_agent: search.user_agent,
                    answered,
                })
            }
            Message::Notify { .. } if !self.notices.admit(now, source) => None,
            Message::Notify { kind, about, .. } => {
                let own = about.udn().eq_ignore_ascii_case(&self.identity.udn);
                let leaving = kind == NotifyKind::ByeBye;
                if !own {
                    return Some(DatagramEvent::Announcement { leaving });
                }
                // Ours come back to us, on every interface of the same wire.
                let from_us = self.links.values().any(|(link, _)| link.address == source);
                (!from_us && !leaving).then_some(DatagramEvent::SameServer { source })
            }
            Message::Answer { .. } => None,
        }
    }

    /// The next datagram that is due, if any.
    pub fn poll_output(&mut self, now: Moment) -> Option<Datagram> {
        self.renew(now);
        while let Some(Reverse((at, _, _))) = self.queue.peek() {
            if *at > now {
                return None;
            }
            let Reverse((_, _, waiting)) = self.queue.pop()?;
            if matches!(waiting, QueuedMessage::Answer { .. }) {
                self.answers_waiting -= 1;
            }
            if let Some(datagram) = self.write(now, &waiting) {
                return Some(datagram);
            }
        }
        None
    }

    /// When [`poll_output`](Self::poll_output) has something next.
    pub fn next_deadline(&self) -> Option<Moment> {
        let queued = self.queue.peek().map(|Reverse((at, _, _))| *at);
        if self.stopped {
            return queued;
        }
        let renewal = self.links.values().map(|(_, next)| *next).min();
        [queued, renewal].into_iter().flatten().min()
    }

    fn renew(&mut self, now: Moment) {
        if self.stopped {
            return;
        }
        let due: Vec<LinkId> =
            self.links.iter().filter(|(_, (_, next))| *next <= now).map(|(id, _)| *id).collect();
        for link in due {
            self.schedule_set(now, link, Announcement::Alive);
            self.plan_renewal(now, link);
        }
    }

    fn plan_renewal(&mut self, now: Moment, link: LinkId) {
        let half = Duration::from_secs(u64::from(self.tuning.max_age) / 2);
        let (shortest, longest) = self.tuning.period;
        let wait = self.between(shortest.as_millis() as u64, longest.as_millis() as u64);
        // Strictly below half of max-age, whatever the period is set to.
        let wait = wait.min(half.saturating_sub(Duration::from_secs(1)));
        if let Some(entry) = self.links.get_mut(&link) {
            entry.1 = now + wait;
        }
    }

    /// The set twice, after a short random wait (SSDP-17).
    fn announce_on(&mut self, now: Moment, link: LinkId) {
        let first = now + self.between(0, 100);
        self.schedule_set(first, link, Announcement::Alive);
        let second = first + self.between(300, 500);
        self.schedule_set(second, link, Announcement::Alive);
        self.plan_renewal(second, link);
    }

    fn schedule_set(&mut self, at: Moment, link: LinkId, kind: Announcement) {
        let mut at = at;
        for row in 0..3 + self.identity.services.len() {
            self.push(at, QueuedMessage::Set { link, kind, row });
            at += self.between(10, 30);
        }
    }

    fn push(&mut self, at: Moment, waiting: QueuedMessage) {
        self.scheduled += 1;
        self.queue.push(Reverse((at, self.scheduled, waiting)));
    }

    fn between(&mut self, low_ms: u64, high_ms: u64) -> Duration {
        Duration::from_millis(self.random.u64(low_ms..=high_ms.max(low_ms)))
    }

    fn drain_now(&mut self, until: Moment) -> Vec<(Moment, Datagram)> {
        let mut out = Vec::new();
        while let Some(Reverse((at, _, waiting))) = self.queue.pop() {
            if let Some(datagram) = self.write(at.min(until), &waiting) {
                out.push((at, datagram));
            }
        }
        out
    }

    fn farewell_then_announce(&mut self, now: Moment, farewell: Vec<(Moment, Datagram)>) {
        let mut last = now;
        for (at, datagram) in farewell {
            last = last.max(at);
            self.push(at, QueuedMessage::Written(datagram));
        }
        for link in self.links.keys().copied().collect::<Vec<_>>() {
            self.announce_on(last + Duration::from_millis(200), link);
        }
    }

    /// Schedules the answers to a search; false if there are none to give.
    fn answer(
        &mut self,
        now: Moment,
        link: LinkId,
        to: SocketAddrV4,
        multicast: bool,
        search: &MSearch,
        may_know: impl FnOnce() -> bool,
    ) -> bool {
        let target = search.target.as_str();
        let matching: Vec<usize> = if target == "ssdp:all" {
            (0..self.rows.len()).collect()
        } else {
            let asked = versioned(target);
            let found = self.rows.iter().position(|(nt, _)| {
                if nt.starts_with("urn:") {
                    let (our_name, our_version) = split_version(nt);
                    asked.is_some_and(|(name, version)| our_name == name && version <= our_version)
                } else {
                    nt == target || (nt.starts_with("uuid:") && nt.eq_ignore_ascii_case(target))
                }
            });
            found.into_iter().collect()
        };
        if matching.is_empty() || self.answers_waiting + matching.len() > PENDING {
            return false;
        }
        // A search repeated while its answer waits adds no second one (SSDP-38).
        let repeated = self.queue.iter().any(|Reverse((_, _, w))| {
            matches!(w, QueuedMessage::Answer { to: t, asked, .. } if *t == to && asked == target)
        });
        if repeated {
            return true;
        }
        if !self.limiter.admit(now, *to.ip()) || !may_know() {
            return false;
        }
        let window = if multicast { u64::from(search.mx.unwrap_or(1).min(5)) * 800 } else { 100 };
        let mut answered = false;
        for row in matching {
            // Another time within the window, where many answers are planned already.
            let mut at = None;
            for _ in 0..TRIES {
                let time = now + self.between(0, window);
                if self.limiter.plan(now, time) {
                    at = Some(time);
                    break;
                }
            }
            match at {
                Some(at) => {
                    self.push(
                        at,
                        QueuedMessage::Answer { link, to, asked: target.to_owned(), row },
                    );
                    self.answers_waiting += 1;
                    answered = true;
                }
                None => self.limiter.dropped += 1,
            }
        }
        answered
    }

    fn write(&self, now: Moment, waiting: &QueuedMessage) -> Option<Datagram> {
        let (id, max_age) = (&self.identity, self.tuning.max_age);
        match waiting {
            QueuedMessage::Written(datagram) => {
                self.links.contains_key(&datagram.link).then(|| datagram.clone())
            }
            QueuedMessage::Set { link, kind, row } => {
                let (link, _) = self.links.get(link)?;
                let (nt, usn) = self.rows.get(*row)?;
                Some(match kind {
                    Announcement::Alive => written::alive(id, max_age, link, (nt, usn)),
                    Announcement::ByeBye => written::byebye(id, link, (nt, usn)),
                })
            }
            QueuedMessage::Answer { link, to, asked, row } => {
                let (link, _) = self.links.get(link)?;
                let (nt, usn) = self.rows.get(*row)?;
                // A version asked is the version answered (SSDP-35).
                let (st, usn) = if asked.starts_with("urn:") {
                    (asked, &format!("{}::{asked}", id.udn))
                } else {
                    (nt, usn)
                };
                Some(written::answer(id, max_age, link, (st, usn), (*to, now)))
            }
        }
    }
}

fn rows(identity: &Identity) -> Vec<(String, String)> {
    let udn = &identity.udn;
    let mut rows = vec![
        (ROOT_DEVICE.to_owned(), format!("{udn}::{ROOT_DEVICE}")),
        (udn.clone(), udn.clone()),
        (MEDIA_SERVER.to_owned(), format!("{udn}::{MEDIA_SERVER}")),
    ];
    let services = identity.services.iter();
    rows.extend(services.map(|service| {
        let urn = service.definition().urn();
        let usn = format!("{udn}::{urn}");
        (urn, usn)
    }));
    rows
}
