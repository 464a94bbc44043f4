//! Which things' documents are read when (SCP-14).

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::net::Ipv4Addr;
use std::time::Duration;

use mostra_protocol::Moment;
use mostra_protocol::control_point::LinkId;

use crate::ids::FoundId;

/// Readings at once, in all and of one host.
const AT_ONCE: usize = 8;
const OF_HOST: usize = 2;
/// The pause after a reading that failed, which doubles up to the longest one.
const FIRST_PAUSE: Duration = Duration::from_secs(5);
const LONGEST_PAUSE: Duration = Duration::from_secs(300);
/// How often a reading that failed is tried again.
const TRIES: u32 = 8;

/// Documents that are to be read now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DocumentReading {
    /// Of which thing.
    pub id: FoundId,
    /// At which address.
    pub address: Ipv4Addr,
    /// By which interface.
    pub link: LinkId,
    /// Where its device document is.
    pub location: String,
}

/// Why documents could not be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum DocumentFailure {
    /// Nobody answers there.
    Silent,
    /// It broke off or took too long.
    BrokenOff,
    /// It answers with this HTTP status.
    Status(u16),
    /// The document is larger than is read.
    TooLarge,
    /// The document cannot be understood.
    Unreadable(String),
}

impl fmt::Display for DocumentFailure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            DocumentFailure::Silent => f.write_str("it does not answer at its address"),
            DocumentFailure::BrokenOff => f.write_str("its description broke off or took too long"),
            DocumentFailure::Status(status) => {
                write!(f, "it answers {status} instead of its description")
            }
            DocumentFailure::TooLarge => f.write_str("its description is too large"),
            DocumentFailure::Unreadable(why) => write!(f, "its description cannot be read: {why}"),
        }
    }
}

#[derive(Debug)]
struct PendingReading {
    due: Moment,
    failures: u32,
}

/// What is to be read, and what is being read.
#[derive(Debug, Default)]
pub(super) struct Readings {
    wanted: BTreeMap<FoundId, PendingReading>,
    running: BTreeSet<(Ipv4Addr, FoundId)>,
    /// When each thing's last reading ended.
    ended: BTreeMap<FoundId, Moment>,
    /// When [`next`](Self::next) was last asked: what was due by then waits for another to end.
    asked: Moment,
}

impl Readings {
    /// A thing is to be read now, once; whatever failed before does not count.
    pub(super) fn want(&mut self, now: Moment, id: FoundId) {
        // Whoever has a thing asked again by forged datagrams has it asked now and then at most.
        let soonest = self.ended.get(&id).map_or(now, |ended| *ended + FIRST_PAUSE);
        self.wanted.insert(id, PendingReading { due: now.max(soonest), failures: 0 });
    }

    /// A thing went away, and is read anew if it comes back.
    pub(super) fn give_up(&mut self, id: FoundId) {
        self.wanted.remove(&id);
    }

    pub(super) fn forget(&mut self, id: FoundId) {
        self.wanted.remove(&id);
        self.ended.remove(&id);
    }

    /// The next one that is due, where one more may run.
    pub(super) fn next<'a>(
        &mut self,
        now: Moment,
        place: impl Fn(FoundId) -> Option<(Ipv4Addr, LinkId, &'a str)>,
    ) -> Option<DocumentReading> {
        self.asked = now;
        if self.running.len() >= AT_ONCE {
            return None;
        }
        let of = |host: Ipv4Addr| self.running.iter().filter(|(h, _)| *h == host).count();
        let reading =
            self.wanted.iter().filter(|(_, wanted)| wanted.due <= now).find_map(|(id, _)| {
                let (address, link, location) = place(*id)?;
                let free = of(address) < OF_HOST && !self.running.contains(&(address, *id));
                free.then(|| DocumentReading {
                    id: *id,
                    address,
                    link,
                    location: location.to_owned(),
                })
            })?;
        self.running.insert((reading.address, reading.id));
        // Until it is done it is not due again; then `done` says when.
        if let Some(wanted) = self.wanted.get_mut(&reading.id) {
            wanted.due = now + LONGEST_PAUSE;
        }
        Some(reading)
    }

    pub(super) fn done(&mut self, now: Moment, reading: &DocumentReading, works: bool) {
        self.running.remove(&(reading.address, reading.id));
        self.ended.insert(reading.id, now);
        let Some(wanted) = self.wanted.get_mut(&reading.id) else { return };
        wanted.failures += 1;
        if works || wanted.failures >= TRIES {
            self.wanted.remove(&reading.id);
        } else {
            let pause = FIRST_PAUSE * 2_u32.pow(wanted.failures - 1);
            wanted.due = now + pause.min(LONGEST_PAUSE);
        }
    }

    /// When one is due that was not when somebody last asked.
    pub(super) fn next_deadline(&self) -> Option<Moment> {
        let later = self.wanted.values().map(|wanted| wanted.due).filter(|due| *due > self.asked);
        later.min()
    }
}
