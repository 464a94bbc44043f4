//! Scans: from a folder on disk to records and catalogue.

mod error;
mod look;
mod presence;
mod progress;
mod reconciliation;
mod sidecar_index;
mod walk;
pub mod watch;
mod watched;
mod writer;

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use mostra_core::catalogue::{Change, Folder, Inventory};
use mostra_core::drives::{self, Drives};
use mostra_core::ids::FolderId;
use mostra_core::left_out::Reason;
use mostra_core::link_rule::LinkRule;
use mostra_core::not_now::NotNow;
use mostra_media::mounts::Mounts;
use mostra_protocol::Moment;
use mostra_store::{Batch, LISTED, LeftOut, ScanReport, What};
use tokio::sync::mpsc;

pub use self::error::{AwayReason, ScanError};
use self::look::{Finding, Job, Station};
use self::presence::{away, present};
pub use self::progress::{Progress, ScanProgress};
use self::reconciliation::Reconciliation;
pub use self::reconciliation::Serials;
use self::walk::Walk;
pub use self::watch::Noticed;
use self::watched::Watched;
use self::writer::Writer;
use crate::Topic;
use crate::library::Library;

/// Directories by path below a folder, and whether all below them is looked at as well.
pub type ScanPlaces = BTreeMap<String, bool>;

/// What a scan looks at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ScanScope {
    /// All of a folder; why, in a word.
    Whole(&'static str),
    /// Some directories, and what is new in them.
    ScanPlaces {
        /// Which.
        places: ScanPlaces,
        /// Whether a person asked, and wants to see it.
        asked: bool,
    },
}

impl ScanScope {
    /// Some directories in which something changed.
    pub fn changed(places: ScanPlaces) -> ScanScope {
        ScanScope::ScanPlaces { places, asked: false }
    }

    fn why(&self) -> &'static str {
        match self {
            ScanScope::Whole(why) => why,
            ScanScope::ScanPlaces { asked: true, .. } => "asked",
            ScanScope::ScanPlaces { asked: false, .. } => "change",
        }
    }

    fn is_whole(&self) -> bool {
        matches!(self, ScanScope::Whole(_))
    }

    fn join(&mut self, other: ScanScope) {
        match (&mut *self, other) {
            (ScanScope::Whole(_), _) => {}
            (_, whole @ ScanScope::Whole(_)) => *self = whole,
            (
                ScanScope::ScanPlaces { places, asked },
                ScanScope::ScanPlaces { places: more, asked: also },
            ) => {
                more.into_iter().for_each(|(path, deep)| *places.entry(path).or_default() |= deep);
                *asked |= also;
            }
        }
    }
}

/// What is known of a folder's scans.
#[derive(Debug, Clone, Default)]
pub struct FolderState {
    /// The scan that runs.
    pub running: Option<Arc<Progress>>,
    /// Why the last one failed.
    pub problem: Option<ScanError>,
    /// When the last whole one ended.
    pub scanned: Option<Moment>,
    /// When the last one ended since the start, of whatever part.
    pub scanned_part: Option<Moment>,
    /// What is left out.
    pub left_out: u32,
    /// Sub-folders left out by the person, by path below the folder.
    pub excluded: Vec<String>,
    /// Which links that lead out of it are followed.
    pub link_rule: LinkRule,
    /// Links that were followed: path below the folder to what is behind it.
    pub links: BTreeMap<String, String>,
    /// Of those, the ones whose drive is not there now; what is behind them is hidden.
    pub hidden: BTreeSet<String>,
    /// The drives on which it was at its last scan.
    pub drives: Option<Drives>,
    /// Whether a person said that the drives are meant to be as they are now, until a scan has
    /// been there.
    pub as_it_is: bool,
    /// Since when the folder is away, if it is.
    pub away: Option<Moment>,
    /// How changes are noticed.
    pub noticed: watch::Noticed,
    /// Its directories that are watched; none while it is away.
    watched: Option<Arc<Watched>>,
    again: Option<ScanScope>,
    /// What a scan that failed was to look at; the next one looks at it as well.
    owed: Option<ScanScope>,
    /// How many scans failed one after the other.
    failed: u32,
}

impl FolderState {
    /// The paths below a folder whose top really is `root` that are away, as another drive than
    /// recorded is mounted there, or none.
    fn drives_away(&self, root: &Path, holds: impl Fn(&str) -> bool) -> Vec<String> {
        let Some(recorded) = self.drives.as_ref().filter(|_| !self.as_it_is) else {
            return Vec::new();
        };
        drives::away(recorded, &Mounts::read().drives(root, &self.links), holds)
    }
}

/// The scans of all folders.
#[derive(Debug, Default)]
pub struct ScanBoard(Mutex<HashMap<FolderId, FolderState>>);

impl ScanBoard {
    fn lock(&self) -> MutexGuard<'_, HashMap<FolderId, FolderState>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What is known of a folder.
    pub fn known(&self, folder: FolderId) -> FolderState {
        self.lock().get(&folder).cloned().unwrap_or_default()
    }

    /// Notes something of a folder.
    pub fn note(&self, folder: FolderId, note: impl FnOnce(&mut FolderState)) {
        note(self.lock().entry(folder).or_default());
    }

    /// The directories of a folder that are watched. None when the kernel watches for nobody more,
    /// which is then asked again the next time.
    pub fn watched(&self, folder: &Folder) -> Option<Arc<Watched>> {
        let mut board = self.lock();
        let known = board.entry(folder.serial).or_default();
        if known.watched.is_none() {
            match Watched::new(Path::new(&folder.root)) {
                Ok(watched) => known.watched = Some(Arc::new(watched)),
                Err(error) => tracing::warn!("{:?} cannot be watched: {error}", folder.label),
            }
        }
        known.watched.clone()
    }

    /// Whether these are a folder's watched directories still, or none are.
    fn watches(&self, folder: FolderId, watched: Option<&Arc<Watched>>) -> bool {
        let board = self.lock();
        let known = board.get(&folder).and_then(|known| known.watched.as_ref());
        known.map(Arc::as_ptr) == watched.map(Arc::as_ptr)
    }

    /// Ends a folder's scan; true if one runs.
    pub fn cancel(&self, folder: FolderId) -> bool {
        let mut board = self.lock();
        let Some(known) = board.get_mut(&folder) else { return false };
        known.again = None;
        if let Some(progress) = &known.running {
            progress.cancelled.store(true, Ordering::Relaxed);
        }
        known.running.is_some()
    }

    /// A folder is at another path now: nothing that is known of the old one counts. One that was
    /// away still is, until a scan shows it as it was recorded.
    pub fn moved(&self, folder: FolderId) {
        self.note(folder, |known| {
            (known.drives, known.watched, known.problem) = (None, None, None);
            known.noticed = watch::Noticed::Unknown;
        });
    }

    /// Why what the last scan of some folder found is not recorded.
    pub(crate) fn not_saved(&self) -> Option<NotNow> {
        self.lock().values().find_map(|known| match &known.problem {
            Some(ScanError::NotSaved(error)) => error.not_now(),
            _ => None,
        })
    }

    /// Forgets a folder.
    pub fn forget(&self, folder: FolderId) {
        self.cancel(folder);
        self.lock().remove(&folder);
    }
}

/// Starts a folder's scan in the background; if one runs, another follows it. What a scan before was
/// to look at and could not is looked at as well.
pub fn start(library: &Arc<Library>, folder: &Folder, mut scope: ScanScope) {
    let progress = {
        let mut board = library.scans.lock();
        let known = board.entry(folder.serial).or_default();
        if known.running.is_some() {
            join(&mut known.again, scope);
            return;
        }
        if let Some(owed) = known.owed.take() {
            scope.join(owed);
        }
        let progress = Arc::new(Progress::start(scope.why() == "change"));
        known.running = Some(progress.clone());
        progress
    };
    let (whole, small) = (scope.is_whole(), scope.why() == "change");
    if !small {
        library.context.changed(Topic::Folders);
    }
    // It may be at another path by now than whoever asks knows.
    let folder = library.folder(folder.serial).unwrap_or_else(|_| folder.clone());
    let library = library.clone();
    tokio::spawn(async move {
        let busy = whole.then(crate::memory::Busy::begin);
        let outcome = scan(&library, &folder, scope.clone(), &progress).await;
        let outcome = match outcome {
            Err(ScanError::Stopped) if progress.is_put_off() => {
                let what = "descriptors, threads or memory";
                Err(ScanError::PutOff(what.into()))
            }
            outcome => outcome,
        };
        drop(busy);
        // Whatever still walks for it may stop.
        progress.cancelled.store(true, Ordering::Relaxed);
        let again = {
            let mut board = library.scans.lock();
            // Removed meanwhile: nothing to note.
            let Some(known) = board.get_mut(&folder.serial) else { return };
            known.running = None;
            if outcome.is_err() && whole {
                watch_all(known);
            }
            match outcome {
                Ok(left_out) => {
                    let now = Some(library.context.now());
                    known.scanned_part = now;
                    if whole {
                        known.scanned = now;
                    }
                    known.left_out = left_out;
                    known.failed = 0;
                    // What was stopped is not done because a part of it is.
                    if whole || !matches!(known.problem, Some(ScanError::Stopped)) {
                        known.problem = None;
                    }
                }
                Err(problem) => {
                    tracing::warn!("the scan of {:?} ended early: {problem}", folder.label);
                    if problem.may_pass() {
                        join(&mut known.owed, scope);
                        known.failed += 1;
                        try_again(&library, &folder, known.failed);
                    }
                    known.problem = Some(problem);
                }
            }
            known.again.take()
        };
        library.note_scans_saved();
        library.context.changed(Topic::Folders);
        if let Some(scope) = again {
            start(&library, &folder, scope);
        }
    });
}

/// Puts a scope to another that waits.
fn join(waits: &mut Option<ScanScope>, scope: ScanScope) {
    match waits {
        Some(waits) => waits.join(scope),
        None => *waits = Some(scope),
    }
}

/// How long is waited after a scan failed, at most.
const TRY_AGAIN: Duration = Duration::from_secs(16);

/// Does what is owed once the records answer, after a while that grows with each failure.
fn try_again(library: &Arc<Library>, folder: &Folder, failed: u32) {
    let (library, folder) = (library.clone(), folder.clone());
    tokio::spawn(async move {
        let pause = Duration::from_secs(1 << failed.saturating_sub(1).min(4));
        tokio::time::sleep(pause.min(TRY_AGAIN)).await;
        while !library.context.records_answer() {
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
        let owed = library.scans.known(folder.serial).owed.is_some();
        if owed && library.catalogue().all_folders().iter().any(|f| f.serial == folder.serial) {
            start(&library, &folder, ScanScope::changed(ScanPlaces::new()));
        }
    });
}

/// Watches the directories to which a scan that ended early did not come.
fn watch_all(known: &FolderState) {
    let Some(watched) = known.watched.clone() else { return };
    let tops = std::iter::once(String::new()).chain(known.links.keys().cloned());
    let (tops, excluded) = (tops.collect::<Vec<_>>(), known.excluded.clone());
    tokio::task::spawn_blocking(move || {
        for top in tops {
            watched.add_all(&top, &|path| !look::is_below_any(path, &excluded));
        }
    });
}

/// Files in the first commit, so that something shows at once; each after it may hold so many
/// times more.
const FIRST_BATCH: usize = 50;
const MORE: usize = 8;
/// How often what was found is recorded at the latest.
const FLUSH: Duration = Duration::from_secs(1);

async fn scan(
    library: &Arc<Library>,
    folder: &Folder,
    scope: ScanScope,
    progress: &Arc<Progress>,
) -> Result<u32, ScanError> {
    let root = PathBuf::from(&folder.root);
    present(library, folder).await?;
    let began = library.context.now();
    let known = library.scans.known(folder.serial);
    let first = known.scanned.is_none();
    let catalogue = library.catalogue();
    let inventory = {
        let (catalogue, folder) = (catalogue.clone(), folder.serial);
        let made = tokio::task::spawn_blocking(move || Inventory::of(catalogue, folder));
        Arc::new(made.await?)
    };
    let known_drives = known.drives.clone();
    let mut book = Reconciliation::new(folder, inventory.clone());
    let (sender, mut receiver) = mpsc::channel::<Vec<Finding>>(32);
    let (why, whole) = (scope.why(), scope.is_whole());
    let others = catalogue.all_folders().iter().filter(|other| other.serial != folder.serial);
    let others = others.map(|other| (PathBuf::from(&other.root), other.label.clone())).collect();
    let job = Job {
        link_rule: known.link_rule,
        others,
        root: root.clone(),
        kinds: folder.kinds,
        excluded: known.excluded,
        scope,
        inventory,
        catalogue,
        progress: progress.clone(),
        first,
        stations: library.allowed_stations(),
        links: known.links,
        hidden: known.hidden,
        drives: known.drives.clone().filter(|_| !known.as_it_is),
        as_it_is: known.as_it_is,
        found_again: Mutex::default(),
        own: std::fs::canonicalize(&library.options.data).unwrap_or_default(),
        watched: library.scans.watched(folder),
        volumes: library.files.volumes.clone(),
    };
    let walk = tokio::task::spawn_blocking(move || Walk::run(job, sender));
    let mut changes = Changes::default();
    let mut left: Vec<LeftOut> = Vec::new();
    let mut growing = ScanPlaces::new();
    let mut lists = Vec::new();
    let mut batch = Batch::default();
    let mut limit = FIRST_BATCH;
    let mut writer = Writer::start(library, folder.serial);
    let mut ticker = tokio::time::interval(FLUSH);
    ticker.tick().await;
    loop {
        let told = tokio::select! {
            told = receiver.recv() => match told {
                None => break,
                Some(told) => told,
            },
            _ = ticker.tick() => {
                library.context.changed(Topic::Folders);
                writer.put(std::mem::take(&mut batch)).await?;
                Vec::new()
            }
        };
        for looked in told {
            match looked {
                Finding::Left(file) => left.push(file),
                Finding::Same(serial) => book.see(serial),
                Finding::Growing { path, serial } => {
                    growing.insert(path.rsplit_once('/').map_or("", |(d, _)| d).to_owned(), false);
                    serial.into_iter().for_each(|serial| book.see(serial));
                    left.push(LeftOut { path, reason: Reason::Growing });
                }
                Finding::Playlist { path, entries, stations, refused } => {
                    lists.push((path, entries, refused));
                    for Station { path, facts, serial, same } in stations {
                        match serial.filter(|_| same) {
                            Some(serial) => book.see(serial),
                            None => {
                                let what =
                                    if serial.is_some() { What::Changed } else { What::Added };
                                changes.note(what, &path);
                                book.put(library, path, facts, serial, None, &mut batch).await?;
                            }
                        }
                    }
                }
                Finding::Facts { path, facts, serial, moved_from } => {
                    let what = if serial.is_some() { What::Changed } else { What::Added };
                    changes.note(what, &path);
                    book.put(library, path, facts, serial, moved_from, &mut batch).await?;
                }
                Finding::Away(path) => hide(library, folder, &book, path).await?,
                Finding::Links(links) => follow(library, folder, links).await?,
            }
        }
        if batch.files() >= limit.min(progress.to_record_at_once()) {
            writer.put(std::mem::take(&mut batch)).await?;
            limit = limit.saturating_mul(MORE);
        }
        if progress.cancelled.load(Ordering::Relaxed) {
            writer.put(std::mem::take(&mut batch)).await?;
            writer.finish().await?;
            return Err(ScanError::Stopped);
        }
    }
    let seen = walk.await?;
    let Some(seen) = seen.filter(|_| !progress.cancelled.load(Ordering::Relaxed)) else {
        writer.finish().await?;
        return Err(ScanError::Stopped);
    };
    // The top itself went while it was looked at.
    if seen.silent {
        return Err(away(library, folder, AwayReason::NoAnswer).await);
    }
    if seen.unreadable.iter().any(String::is_empty) && seen.directories.is_empty() {
        return Err(away(library, folder, AwayReason::DriveGone).await);
    }
    if seen.absent.iter().any(String::is_empty) {
        return Err(away(library, folder, AwayReason::Gone).await);
    }
    for (path, entries, refused) in lists {
        let missing = book.put_playlist(library, &root, &path, &entries, &mut batch).await?;
        if missing > 0 || !refused.is_empty() {
            let mut hosts = refused;
            hosts.truncate(HOSTS);
            left.push(LeftOut { path, reason: Reason::PlaylistEntries { missing, hosts } });
        }
    }
    for path in book.remove_unseen(&seen, whole, &mut batch) {
        changes.note(What::Gone, &path);
    }
    writer.put(batch).await?;
    writer.finish().await?;
    if known_drives.as_ref() != Some(&seen.drives) {
        let saved = library.context.records.set_drives(folder.serial, Some(&seen.drives)).await;
        saved?;
    }
    library.scans.note(folder.serial, |known| {
        known.drives = Some(seen.drives.clone());
        known.as_it_is &= !whole;
        if whole {
            known.hidden.retain(|path| seen.unreadable.contains(path));
        }
    });
    let ended = library.context.now();
    if !growing.is_empty() {
        come_back(library, folder, growing);
    }
    let scanned = whole.then_some(ended);
    let left_out = library
        .context
        .records
        .scanned(folder.serial, scanned, &left, (!whole).then_some(&seen.directories))
        .await?;
    // A scan that found nothing else than before leaves no report, unless a person asked.
    if changes.counts != [0; 3] || why == "asked" || first {
        let report = ScanReport {
            id: 0,
            began,
            ended,
            why: why.into(),
            counts: changes.counts,
            files: changes.files,
        };
        library.context.records.add_scan_report(folder.serial, &report).await?;
    }
    Ok(left_out)
}

/// Hosts that are named of a playlist whose stations are not allowed.
const HOSTS: usize = 16;

/// Notes which links were followed, durably, and lets what is behind them be opened.
async fn follow(
    library: &Library,
    folder: &Folder,
    links: BTreeMap<String, String>,
) -> Result<(), ScanError> {
    library.context.records.set_links(folder.serial, &links).await?;
    library.scans.note(folder.serial, |known| known.links.clone_from(&links));
    let change = Change::PutLinks(folder.serial, Arc::new(links));
    Ok(library.apply(vec![change]).await?)
}

/// Hides what is behind a link whose drive is not there. Its records stay.
async fn hide(
    library: &Library,
    folder: &Folder,
    book: &Reconciliation,
    path: String,
) -> Result<(), ScanError> {
    let change = book.hiding(&path);
    library.scans.note(folder.serial, |known| {
        known.hidden.insert(path);
    });
    let Some(change) = change else { return Ok(()) };
    Ok(library.apply(vec![change]).await?)
}

/// Looks again at directories in which something is still being written.
fn come_back(library: &Arc<Library>, folder: &Folder, places: ScanPlaces) {
    let (library, folder) = (library.clone(), folder.clone());
    tokio::spawn(async move {
        tokio::time::sleep(Duration::from_millis(700)).await;
        if library.catalogue().folder(folder.serial).is_some() {
            start(&library, &folder, ScanScope::changed(places));
        }
    });
}

/// What a scan found changed, for its report.
#[derive(Default)]
struct Changes {
    /// By [`What`].
    counts: [u64; 3],
    /// What happened, and the path; the first of each.
    files: Vec<(String, String)>,
}

impl Changes {
    fn note(&mut self, what: What, path: &str) {
        let count = &mut self.counts[what as usize];
        *count += 1;
        if *count <= LISTED as u64 {
            self.files.push((what.word().to_owned(), path.to_owned()));
        }
    }
}
