//! Gathering what the preflight looks at, and keeping it current.

mod firewall;
mod folders;
mod host;
mod network;
mod nft;
mod program;

use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use mostra_core::Moment;
use mostra_core::ids::FolderId;
use mostra_core::preflight::{
    Check, Firewall, FolderFacts, HostSnapshot, InterfaceFacts, Outcome, checks,
};
use tokio::sync::{Notify, watch};

use crate::devices::Devices;
use crate::library::Library;
use crate::network::Network;
use crate::{Context, Topic};

/// How often what changes often is looked at, and everything.
const OFTEN: Duration = Duration::from_secs(60);
const WHOLE: Duration = Duration::from_secs(3600);
/// How long rules count that somebody gave: they may have changed since.
const GIVEN: Duration = Duration::from_secs(24 * 3600);
/// When everything is looked at first: the start has other things to do.
const FIRST: Duration = Duration::from_secs(3);
/// How long somebody who asked waits for a whole look.
const PATIENCE: Duration = Duration::from_secs(60);
/// Bytes of a firewall's rules that somebody gives.
pub const RULES: usize = firewall::MOST;

/// What the preflight looks at.
pub struct PreflightParts {
    /// The clock and the records.
    pub context: Context,
    /// The network.
    pub network: Arc<Network>,
    /// The devices.
    pub devices: Arc<Devices>,
    /// The folders.
    pub library: Arc<Library>,
}

/// The preflight: checks of the host and the network, kept current.
pub struct PreflightChecks {
    parts: PreflightParts,
    snapshot: Mutex<HostSnapshot>,
    /// Rules that somebody gave who may read them, and when.
    given: Mutex<Option<(Moment, Firewall)>>,
    wanted: Notify,
    /// How many whole looks were begun.
    begun: AtomicU64,
    /// The number of the whole look that ended last, and when it did.
    ended: watch::Sender<(u64, Option<Moment>)>,
}

impl PreflightChecks {
    /// Nothing was looked at yet.
    pub fn new(parts: PreflightParts) -> PreflightChecks {
        PreflightChecks {
            parts,
            snapshot: Mutex::default(),
            given: Mutex::default(),
            wanted: Notify::new(),
            begun: AtomicU64::new(0),
            ended: watch::channel((0, None)).0,
        }
    }

    /// The checks as they come out now.
    pub fn checks(&self) -> Vec<Check> {
        let mut snapshot = self.snapshot.lock().unwrap_or_else(PoisonError::into_inner).clone();
        self.bring_up_to_date(&mut snapshot);
        checks(&snapshot)
    }

    /// The checks that need a person: all of them once everything was looked at, and before that
    /// those of what is known without looking.
    pub fn attention(&self) -> Vec<Check> {
        let looked = self.looked_at().is_some();
        let known = |check: &Check| {
            looked
                || check.id.starts_with("folder:")
                || ["listener", "discovery-port", "other-servers", "parts", "records"]
                    .contains(&&*check.id)
        };
        let needs = |check: &Check| matches!(check.outcome, Outcome::Attention | Outcome::Stops);
        // That there is no folder yet is told where folders are.
        let here = |check: &Check| check.id != "folders";
        let all = self.checks().into_iter();
        all.filter(|check| known(check) && needs(check) && here(check)).collect()
    }

    /// Puts into a snapshot what is known without looking.
    fn bring_up_to_date(&self, snapshot: &mut HostSnapshot) {
        let PreflightParts { context, network, devices, library } = &self.parts;
        network::bring_up_to_date(network, &mut snapshot.network);
        let database = &mut snapshot.host.database;
        database.answers = context.records_answer();
        let waiting = context.waiting_to_be_saved().into_iter();
        database.waiting = waiting.map(|(what, why)| (what.words().to_owned(), why)).collect();
        let (unread, refused, file) = context.set_aside_rows();
        (database.unread, database.refused) = (unread, (refused, file));
        snapshot.host.dropped = devices.dropped();
        let ended = context.ended().into_iter();
        snapshot.host.ended = ended.map(|(part, times)| (part.to_owned(), times)).collect();
        let catalogue = library.catalogue();
        snapshot.folders.retain(|facts| catalogue.folder(FolderId(facts.number)).is_some());
        for folder in catalogue.folders() {
            let number = folder.serial.0;
            let at = snapshot.folders.iter().position(|facts| facts.number == number);
            let at = at.unwrap_or_else(|| {
                snapshot.folders.push(FolderFacts { number, ..FolderFacts::default() });
                snapshot.folders.len() - 1
            });
            let facts = &mut snapshot.folders[at];
            folders::bring_up_to_date(library, &catalogue, folder, facts);
        }
        snapshot.folders.sort_by_key(|facts| facts.number);
    }

    /// The interfaces as they were found, and whether the host's clock is set.
    pub fn of_host(&self) -> (Vec<InterfaceFacts>, Option<bool>) {
        let snapshot = self.snapshot.lock().unwrap_or_else(PoisonError::into_inner);
        (snapshot.network.interfaces.clone(), snapshot.host.clock_set)
    }

    /// When everything was looked at last.
    pub fn looked_at(&self) -> Option<Moment> {
        self.ended.borrow().1
    }

    /// Looks at everything now, with the rules of the firewall if they are given, and waits for it.
    /// Rules that cannot be read are told by `false`.
    pub async fn look_again(&self, rules: Option<&str>) -> bool {
        if let Some(text) = rules {
            let Some(firewall) = firewall::given(text) else { return false };
            *self.given.lock().unwrap_or_else(PoisonError::into_inner) =
                Some((self.parts.context.now(), firewall));
        }
        let mut ended = self.ended.subscribe();
        // One that runs already may have looked before what this is asked for.
        let before = self.begun.load(Ordering::SeqCst);
        self.wanted.notify_one();
        let next = ended.wait_for(|(number, _)| *number > before);
        let _ = tokio::time::timeout(PATIENCE, next).await;
        true
    }

    async fn look(&self, whole: bool) {
        let number = match whole {
            true => self.begun.fetch_add(1, Ordering::SeqCst) + 1,
            false => 0,
        };
        let PreflightParts { context, network, devices, library } = &self.parts;
        let before = self.snapshot.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let console_port = network.console.loopback_port();
        let seen = network::look(network, devices, console_port, &before.network, whole).await;
        let (folders, host, filter) = if whole {
            let host = host::look(context, devices, library.data()).await;
            (folders::look(library).await, host, firewall::look().await)
        } else {
            (before.folders.clone(), before.host.clone(), before.firewall.clone())
        };
        let given = self.given.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let given =
            given.filter(|(at, _)| context.now().since(*at) < GIVEN).map(|(_, rules)| rules);
        let now = HostSnapshot { network: seen, firewall: filter.or(given), folders, host };
        let changed = checks(&now) != checks(&before);
        *self.snapshot.lock().unwrap_or_else(PoisonError::into_inner) = now;
        if whole {
            let at = context.now();
            self.ended.send_replace((number, Some(at)));
        }
        if changed || whole {
            context.changed(Topic::House);
        }
    }
}

/// Looks at the beginning, when something may have changed, and from time to time, until the house
/// stops.
pub async fn run(preflight: Arc<PreflightChecks>) {
    let context = preflight.parts.context.clone();
    let mut whole_at = context.now() + FIRST;
    loop {
        let now = context.now();
        let whole = now >= whole_at;
        preflight.look(whole).await;
        if whole {
            whole_at = context.now() + WHOLE;
        }
        let next = (context.now() + OFTEN).min(whole_at);
        tokio::select! {
            () = tokio::time::sleep_until(context.clock.instant(next)) => {}
            () = preflight.parts.network.look_due() => {}
            () = preflight.wanted.notified() => whole_at = context.now(),
            () = context.stopping() => return,
        }
    }
}

/// Bytes free where a path is.
pub(crate) fn free(path: &Path) -> Option<u64> {
    let space = nix::sys::statvfs::statvfs(path).ok()?;
    Some(space.blocks_available().saturating_mul(space.fragment_size()))
}
