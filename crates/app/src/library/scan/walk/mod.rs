//! Walking a folder: directories are listed and files looked at by two threads for each drive
//! or network share on the way, so that one that hangs costs nothing but itself.

mod links;
mod tasks;

use std::collections::{BTreeMap, HashMap};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use mostra_core::catalogue::Beneath;
use mostra_core::drives::{self, Drives};
use mostra_core::left_out::Reason;
use mostra_core::link_rule::LinkOwner;
use mostra_media::mounts::Mounts;
use tokio::sync::mpsc;

use self::tasks::Task;
use super::ScanScope;
use super::look::{FRESH, Finding, Job, WalkedDirectories, is_below_any, left_out};
use crate::library::volume_pool::Work;

/// What is told in one message.
const MESSAGE: usize = 64;
/// Reading headers is half waiting for the disk and half work.
const THREADS: usize = 2;

/// The work on one drive.
struct DriveQueue {
    mount: PathBuf,
    /// A place on the drive by which it is asked whether it answers.
    top: PathBuf,
    lists: Vec<Task>,
    looks: Vec<Task>,
    /// Threads that list or follow, and those that do anything.
    listing: usize,
    busy: usize,
    /// When something last came from it, in milliseconds of the walk.
    last_sign: Arc<AtomicU64>,
    silent: bool,
}

struct WalkState {
    queues: Vec<DriveQueue>,
    seen: WalkedDirectories,
    fresh: Vec<(usize, Task)>,
    links: BTreeMap<String, String>,
    /// The links as told last.
    told: BTreeMap<String, String>,
    /// Who owns each link of which that is known, as far as what they could not read is left out.
    owners: HashMap<String, Option<Arc<LinkOwner>>>,
    stopped: bool,
}

impl DriveQueue {
    /// Whether all is listed that will be.
    fn is_listed(&self) -> bool {
        self.silent || self.listing == 0 && self.lists.is_empty()
    }

    /// Whether nothing is left to do.
    fn is_idle(&self) -> bool {
        self.silent || self.busy == 0 && self.lists.is_empty() && self.looks.is_empty()
    }
}

pub(super) struct Walk {
    job: Job,
    real_root: PathBuf,
    mounts: Mounts,
    /// The drives of the folder when the walk began, and what of it is away.
    drives: Drives,
    away: Vec<String>,
    /// None once the walk is over, though a thread may still wait for a drive that hangs.
    sender: Mutex<Option<mpsc::Sender<Vec<Finding>>>>,
    began: Instant,
    state: Mutex<WalkState>,
    /// There is work, or some was done.
    changed: Condvar,
}

/// What one thread has to report, gathered.
struct Reporter<'a> {
    walk: &'a Walk,
    last_sign: &'a AtomicU64,
    gathered: Vec<Finding>,
}

impl Reporter<'_> {
    fn report(&mut self, looked: Finding) {
        let progress = &self.walk.job.progress;
        if matches!(looked, Finding::Left(_)) {
            progress.left_out.fetch_add(1, Ordering::Relaxed);
        }
        self.last_sign.store(self.walk.now(), Ordering::Relaxed);
        self.gathered.push(looked);
        if self.gathered.len() >= MESSAGE {
            self.send();
        }
    }

    /// Tells of something that is left out before it was counted as found.
    fn left(&mut self, path: String, reason: Reason) {
        self.walk.job.progress.found.fetch_add(1, Ordering::Relaxed);
        self.walk.job.progress.done.fetch_add(1, Ordering::Relaxed);
        self.report(left_out(path, reason));
    }

    fn send(&mut self) {
        if !self.gathered.is_empty() {
            self.walk.report(std::mem::take(&mut self.gathered));
        }
        self.last_sign.store(self.walk.now(), Ordering::Relaxed);
    }
}

impl Walk {
    /// Walks, and tells of each file. Gives `None` when it was stopped.
    pub(super) fn run(job: Job, sender: mpsc::Sender<Vec<Finding>>) -> Option<WalkedDirectories> {
        let mounts = Mounts::read();
        let real_root = std::fs::canonicalize(&job.root).unwrap_or_else(|_| job.root.clone());
        let partial = !job.scope.is_whole();
        // A whole walk finds all links anew.
        let mut links = if partial { job.links.clone() } else { BTreeMap::new() };
        links.retain(|path, _| std::fs::symlink_metadata(job.root.join(path)).is_ok());
        // Before anything is listed: what lies at the place of a drive that is away is not it.
        let drives = mounts.drives(&real_root, &job.links);
        let away = job.away(&drives);
        let seen = WalkedDirectories { unreadable: away.clone(), ..WalkedDirectories::default() };
        let lists = match &job.scope {
            ScanScope::Whole(_) => vec![Task::List { path: String::new(), deep: true }],
            ScanScope::ScanPlaces { places, .. } => {
                let deep: Vec<String> = places
                    .iter()
                    .filter(|(_, deep)| **deep)
                    .map(|(path, _)| path.clone())
                    .collect();
                // Each is listed once, and what lies below a deep one is listed with that.
                let alone =
                    |path: &str| !is_below_any(path.rsplit_once('/').map_or("", |p| p.0), &deep);
                let alone = places.iter().filter(|(path, _)| path.is_empty() || alone(path));
                alone.map(|(path, deep)| Task::List { path: path.clone(), deep: *deep }).collect()
            }
        };
        let walk = Arc::new(Walk {
            real_root,
            sender: Mutex::new(Some(sender)),
            began: Instant::now(),
            state: Mutex::new(WalkState {
                queues: Vec::new(),
                seen,
                fresh: Vec::new(),
                told: job.links.clone(),
                links,
                owners: HashMap::new(),
                stopped: false,
            }),
            changed: Condvar::new(),
            mounts,
            drives,
            away,
            job,
        });
        if walk.away.iter().any(String::is_empty) {
            return Some(std::mem::take(&mut walk.lock().seen));
        }
        walk.report_away();
        for task in lists {
            let Task::List { path, .. } = &task else { continue };
            let behind = walk.behind(path);
            walk.give(&behind, task);
        }
        let outcome = walk.go().map(|seen| walk.note_drives(seen));
        walk.sender.lock().unwrap_or_else(PoisonError::into_inner).take();
        outcome
    }

    fn go(self: &Arc<Self>) -> Option<WalkedDirectories> {
        self.wait()?;
        let fresh = std::mem::take(&mut self.lock().fresh);
        if let Some(newest) = fresh.iter().filter_map(|(_, task)| task.modified_ms()).max() {
            let age = super::look::now_ms().saturating_sub(newest).max(0) as u64;
            std::thread::sleep(FRESH.saturating_sub(Duration::from_millis(age)));
            for (queue, task) in fresh {
                self.lock().queues[queue].looks.push(task);
            }
            let queues = self.lock().queues.len();
            for queue in 0..queues {
                self.staff(queue);
            }
            self.wait()?;
        }
        Some(std::mem::take(&mut self.lock().seen))
    }

    /// Tells of what is away, and keeps the links there.
    fn report_away(&self) {
        let mut told = Vec::new();
        for path in &self.away {
            told.push(Finding::Away(path.clone()));
            told.push(left_out(path.clone(), Reason::OtherDrive));
        }
        let mut state = self.lock();
        let links = self.job.links.iter().filter(|(path, _)| is_below_any(path, &self.away));
        state.links.extend(links.map(|(path, target)| (path.clone(), target.clone())));
        drop(state);
        if !told.is_empty() {
            self.report(told);
        }
    }

    /// Notes which drives the folder is on. Where one was mounted or unmounted meanwhile, nothing
    /// counts as gone.
    fn note_drives(&self, mut seen: WalkedDirectories) -> WalkedDirectories {
        let links = self.lock().links.clone();
        let now = Mounts::read().drives(&self.real_root, &links);
        let changed = |path: &&String| {
            let known = self.drives.contains_key(*path) || !links.contains_key(*path);
            known && self.drives.get(*path) != now.get(*path)
        };
        let paths = self.drives.keys().chain(now.keys());
        let mut kept: Vec<String> = paths.filter(changed).cloned().collect();
        seen.unreadable.extend(kept.iter().cloned());
        kept.extend(self.away.iter().cloned());
        let before = self.job.drives.clone().unwrap_or_default();
        seen.drives = drives::after(&before, &now, &kept);
        seen
    }

    fn lock(&self) -> MutexGuard<'_, WalkState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn report(&self, told: Vec<Finding>) {
        let sender = self.sender.lock().unwrap_or_else(PoisonError::into_inner).clone();
        // Nobody listens any more only when the scan was given up.
        let _ = sender.map(|sender| sender.blocking_send(told));
    }

    fn now(&self) -> u64 {
        self.began.elapsed().as_millis() as u64
    }

    /// Where a path below the folder really is, as far as links followed before say.
    fn behind(&self, path: &str) -> PathBuf {
        let beneath = Beneath::of(&self.real_root, &self.lock().links, Path::new(path));
        beneath.root.join(beneath.rest)
    }

    /// Whether a real directory is listed where a link leads to it.
    fn is_behind_a_link(&self, real: &Path) -> bool {
        // As text, which is quickly compared: there may be thousands of links to files.
        let Some(text) = real.to_str() else { return false };
        if self.lock().links.values().any(|target| target == text) {
            return true;
        }
        // A link that was followed before is so again, though this walk may not have met it yet.
        let mut before = self.job.links.iter().filter(|(_, target)| *target == text);
        before.any(|(link, _)| {
            std::fs::canonicalize(self.job.root.join(link)).is_ok_and(|now| now == real)
        })
    }

    /// Gives a task to the queue of the drive on which `place` is.
    fn give(self: &Arc<Self>, place: &Path, task: Task) {
        let mount = self.mounts.of(place);
        let mut state = self.lock();
        let queue = match state.queues.iter().position(|queue| queue.mount == mount) {
            Some(queue) => queue,
            None => {
                state.queues.push(DriveQueue {
                    mount,
                    top: place.to_owned(),
                    lists: Vec::new(),
                    looks: Vec::new(),
                    listing: 0,
                    busy: 0,
                    last_sign: Arc::new(AtomicU64::new(self.now())),
                    silent: false,
                });
                state.queues.len() - 1
            }
        };
        match task.lists() {
            true => state.queues[queue].lists.push(task),
            false => state.queues[queue].looks.push(task),
        }
        drop(state);
        self.staff(queue);
    }

    /// Sees to it that a queue with work has two threads.
    fn staff(self: &Arc<Self>, queue: usize) {
        let mut state = self.lock();
        let work = &mut state.queues[queue];
        let wanted = THREADS.min(work.busy + work.lists.len() + work.looks.len());
        while work.busy < wanted && !work.silent {
            let walk = self.clone();
            let spawned = std::thread::Builder::new().spawn(move || walk.work(queue));
            if let Err(error) = spawned {
                // One that works goes on alone; where none does, the scan is put off.
                if work.busy == 0 {
                    self.job.progress.put_off_by(&error);
                }
                break;
            }
            work.busy += 1;
        }
    }

    fn work(self: Arc<Self>, queue: usize) {
        give_way();
        let last_sign = self.lock().queues[queue].last_sign.clone();
        let mut reporter = Reporter { walk: &self, last_sign: &last_sign, gathered: Vec::new() };
        reporter.send();
        self.note_if_remote(queue);
        loop {
            let task = {
                let mut state = self.lock();
                let stopped = state.stopped;
                let work = &mut state.queues[queue];
                if stopped || work.silent {
                    work.lists.clear();
                    work.looks.clear();
                }
                // Lists first, so that it is soon known how much there is to do.
                let listed = work.lists.pop();
                work.listing += usize::from(listed.is_some());
                match listed.or_else(|| work.looks.pop()) {
                    Some(task) => task,
                    None => break,
                }
            };
            let lists = task.lists();
            let place = task.place().to_owned();
            let run = AssertUnwindSafe(|| self.clone().run_task(queue, task, &mut reporter));
            if catch_unwind(run).is_err() {
                // What lies there is neither seen nor gone.
                self.lock().seen.unreadable.push(place);
            }
            reporter.send();
            if lists {
                self.lock().queues[queue].listing -= 1;
            }
        }
        // Told before the thread counts as done.
        reporter.send();
        let mut state = self.lock();
        state.queues[queue].busy -= 1;
        drop(state);
        self.staff(queue);
        self.changed.notify_all();
    }

    /// Notes if changes on a drive are not all told. A drive that hangs does so here, on its own
    /// thread.
    fn note_if_remote(&self, queue: usize) {
        let Some(watched) = &self.job.watched else { return };
        let top = self.lock().queues[queue].top.clone();
        if let Some(kind) = super::watch::remote(&top) {
            watched.set_incomplete(format!("{kind} tells of no changes made elsewhere"));
        }
    }

    /// Waits until nothing is left to do, on drives that answer; `None` when stopped.
    fn wait(&self) -> Option<()> {
        // A drive from which nothing came for this long is asked whether it still answers.
        let silence = Work::Scan.deadline().as_millis() as u64;
        let runtime = tokio::runtime::Handle::current();
        let mut state = self.lock();
        loop {
            if self.job.stopped() {
                state.stopped = true;
                return None;
            }
            if state.queues.iter().all(DriveQueue::is_listed) {
                self.job.progress.listed.store(true, Ordering::Relaxed);
                // Told before all is looked at, so that what has been read can be played; and
                // not before all links are met, or those still to come would be closed.
                if state.links != state.told {
                    state.told = state.links.clone();
                    self.report(vec![Finding::Links(state.told.clone())]);
                }
            }
            if state.queues.iter().all(DriveQueue::is_idle) {
                return Some(());
            }
            let quiet = state.queues.iter().position(|queue| {
                let last_sign = queue.last_sign.load(Ordering::Relaxed);
                !queue.is_idle() && self.now().saturating_sub(last_sign) > silence
            });
            if let Some(queue) = quiet {
                let top = state.queues[queue].top.clone();
                drop(state);
                let looked = runtime.block_on(self.job.volumes.presence(&top, Work::Scan));
                state = self.lock();
                if looked.is_ok() {
                    state.queues[queue].last_sign.store(self.now(), Ordering::Relaxed);
                } else {
                    self.give_up(&mut state, queue);
                }
            }
            let waited = self.changed.wait_timeout(state, Duration::from_millis(100));
            state = waited.unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    /// A drive does not answer: what is on it counts as away, and not as gone.
    fn give_up(&self, state: &mut WalkState, queue: usize) {
        state.queues[queue].silent = true;
        let mount = state.queues[queue].mount.clone();
        state.seen.silent |= self.mounts.of(&self.real_root) == mount;
        let behind = |target: &String| self.mounts.of(Path::new(target)) == mount;
        let mut silent: Vec<String> = state
            .links
            .iter()
            .chain(&self.job.links)
            .filter(|(_, target)| behind(target))
            .map(|(path, _)| path.clone())
            .collect();
        silent.sort();
        silent.dedup();
        let told = silent.iter().flat_map(|path| {
            [Finding::Away(path.clone()), left_out(path.clone(), Reason::NoAnswer)]
        });
        self.report(told.collect());
        state.seen.unreadable.extend(silent);
        let known = self.job.links.iter().filter(|(_, target)| behind(target));
        state.links.extend(known.map(|(path, target)| (path.clone(), target.clone())));
    }
}

/// Lets whatever else the service does go before this thread: what devices ask for cannot wait,
/// and what was found is recorded and shown before more is found.
fn give_way() {
    // On Linux this is of the calling thread alone.
    let _ = rustix::process::setpriority_process(None, 5);
}
