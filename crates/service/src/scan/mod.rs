//! Scans: from a folder on disk to records and catalogue.

mod book;
mod look;
pub mod watch;

use std::collections::{BTreeSet, HashMap};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use mostra_core::catalogue::{Change, Folder};
use mostra_protocol::Moment;
use mostra_store::{Batch, LISTED, LeftOut, ScanReport, StoreError, What};
use tokio::sync::mpsc;

use self::book::Book;
use self::look::{Job, Looked};
use crate::house::{House, Topic};

/// What a scan looks at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Scope {
    /// All of a folder; why, in a word.
    Whole(&'static str),
    /// Some directories, by path below the folder, and what is new in them.
    Places(BTreeSet<String>),
}

impl Scope {
    fn why(&self) -> &'static str {
        match self {
            Scope::Whole(why) => why,
            Scope::Places(_) => "change",
        }
    }

    fn join(&mut self, other: Scope) {
        match (&mut *self, other) {
            (Scope::Whole(_), _) => {}
            (_, whole @ Scope::Whole(_)) => *self = whole,
            (Scope::Places(places), Scope::Places(more)) => places.extend(more),
        }
    }
}

/// A scan's progress, counted as it goes.
#[derive(Debug)]
pub struct Progress {
    started: Instant,
    /// Files found so far.
    pub found: AtomicU64,
    /// Files looked at.
    pub done: AtomicU64,
    /// Files left out.
    pub left_out: AtomicU64,
    /// Whether everything has been found.
    pub listed: AtomicBool,
    cancelled: AtomicBool,
    /// Whether it looks at a few places only, which is not worth telling.
    small: bool,
}

impl Progress {
    fn start(small: bool) -> Progress {
        Progress {
            started: Instant::now(),
            found: AtomicU64::new(0),
            done: AtomicU64::new(0),
            left_out: AtomicU64::new(0),
            listed: AtomicBool::new(false),
            cancelled: AtomicBool::new(false),
            small,
        }
    }

    /// The progress as told to people; nothing of a small one.
    pub fn told(&self) -> Option<mostra_api::Scan> {
        if self.small {
            return None;
        }
        let done = self.done.load(Ordering::Relaxed);
        let to_do = self.found.load(Ordering::Relaxed).saturating_sub(done);
        let listed = self.listed.load(Ordering::Relaxed);
        let rate = done as f64 / self.started.elapsed().as_secs_f64().max(0.001);
        let remaining_ms = (listed && rate > 0.0).then(|| (to_do as f64 / rate * 1000.0) as u64);
        Some(mostra_api::Scan {
            state: mostra_api::ScanState::Running,
            done,
            to_do,
            listed,
            left_out: self.left_out.load(Ordering::Relaxed),
            rate: (rate * 10.0).round() / 10.0,
            remaining_ms,
            problem: None,
        })
    }
}

/// What is known of a folder's scans.
#[derive(Debug, Clone, Default)]
pub struct Known {
    /// The scan that runs.
    pub running: Option<Arc<Progress>>,
    /// Why the last one failed.
    pub problem: Option<String>,
    /// When the last whole one ended.
    pub scanned: Option<Moment>,
    /// What is left out.
    pub left_out: u32,
    /// Sub-folders left out by the person, by path below the folder.
    pub excluded: Vec<String>,
    /// Since when the folder is away, if it is.
    pub away: Option<Moment>,
    /// How changes are noticed.
    pub noticed: watch::Noticed,
    /// Whether somebody is looking whether the folder is there: one that hangs holds one thread
    /// and no more.
    looking: Arc<AtomicBool>,
    again: Option<Scope>,
}

/// The scans of all folders.
#[derive(Debug, Default)]
pub struct ScanBoard(Mutex<HashMap<u32, Known>>);

impl ScanBoard {
    fn lock(&self) -> MutexGuard<'_, HashMap<u32, Known>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What is known of a folder.
    pub fn known(&self, folder: u32) -> Known {
        self.lock().get(&folder).cloned().unwrap_or_default()
    }

    /// Notes something of a folder.
    pub fn note(&self, folder: u32, note: impl FnOnce(&mut Known)) {
        note(self.lock().entry(folder).or_default());
    }

    /// Ends a folder's scan; true if one runs.
    pub fn cancel(&self, folder: u32) -> bool {
        let mut board = self.lock();
        let Some(known) = board.get_mut(&folder) else { return false };
        known.again = None;
        if let Some(progress) = &known.running {
            progress.cancelled.store(true, Ordering::Relaxed);
        }
        known.running.is_some()
    }

    /// Forgets a folder.
    pub fn forget(&self, folder: u32) {
        self.cancel(folder);
        self.lock().remove(&folder);
    }
}

/// Starts a folder's scan in the background; if one runs, another follows it.
pub fn start(house: &Arc<House>, folder: &Folder, scope: Scope) {
    let small = matches!(scope, Scope::Places(_));
    let progress = Arc::new(Progress::start(small));
    {
        let mut board = house.scans.lock();
        let known = board.entry(folder.serial).or_default();
        if known.running.is_some() {
            match &mut known.again {
                Some(again) => again.join(scope),
                None => known.again = Some(scope),
            }
            return;
        }
        known.running = Some(progress.clone());
        if !small {
            known.problem = None;
        }
    }
    if !small {
        house.tell(Topic::Folders);
    }
    let (house, folder) = (house.clone(), folder.clone());
    tokio::spawn(async move {
        let outcome = scan(&house, &folder, scope, &progress).await;
        let again = {
            let mut board = house.scans.lock();
            // Removed meanwhile: nothing to note.
            let Some(known) = board.get_mut(&folder.serial) else { return };
            known.running = None;
            match outcome {
                Ok(left_out) => {
                    if !small {
                        known.scanned = Some(house.clock.now());
                    }
                    known.left_out = left_out;
                    known.problem = None;
                }
                Err(problem) => {
                    tracing::warn!("the scan of {:?} ended early: {problem}", folder.label);
                    known.problem = Some(problem);
                }
            }
            known.again.take()
        };
        house.tell(Topic::Folders);
        if let Some(scope) = again {
            start(&house, &folder, scope);
        }
    });
}

/// Files in one commit; the first commit comes sooner, so that something shows at once.
const BATCH: usize = 2000;
const FIRST_BATCH: usize = 50;
const FLUSH: Duration = Duration::from_secs(1);

async fn scan(
    house: &Arc<House>,
    folder: &Folder,
    scope: Scope,
    progress: &Arc<Progress>,
) -> Result<u32, String> {
    let root = PathBuf::from(&folder.root);
    present(house, folder).await?;
    let began = house.clock.now();
    let known = house.scans.known(folder.serial);
    let first = known.scanned.is_none();
    let catalogue = house.catalogue();
    let inventory = Arc::new(catalogue.inventory(folder.serial));
    let mut book = Book::new(folder, inventory.clone());
    let (sender, mut receiver) = mpsc::channel::<Looked>(1024);
    let (why, whole) = (scope.why(), matches!(scope, Scope::Whole(_)));
    let job = Job {
        root: root.clone(),
        kinds: folder.kinds,
        excluded: known.excluded,
        scope,
        inventory,
        catalogue,
        progress: progress.clone(),
        first,
    };
    let looker = tokio::task::spawn_blocking(move || job.run(&sender));
    let mut report = Report::default();
    let mut left: Vec<LeftOut> = Vec::new();
    let mut growing: BTreeSet<String> = BTreeSet::new();
    let mut lists = Vec::new();
    let mut batch = Batch::default();
    let mut limit = FIRST_BATCH;
    let mut ticker = tokio::time::interval(FLUSH);
    ticker.tick().await;
    loop {
        let flush = tokio::select! {
            looked = receiver.recv() => match looked {
                None => break,
                Some(Looked::Left(file)) => { left.push(file); false }
                Some(Looked::Same(path)) => { book.see(path); false }
                Some(Looked::Growing(path)) => {
                    growing.insert(path.rsplit_once('/').map_or("", |(d, _)| d).to_owned());
                    let reason = mostra_media::Reason::Growing.to_string();
                    book.see(path.clone());
                    left.push(LeftOut { path, reason });
                    false
                }
                Some(Looked::Playlist { path, entries, streams }) => {
                    lists.push((path, entries, streams));
                    false
                }
                Some(Looked::Facts { path, facts, serial, moved_from }) => {
                    let what = if serial.is_some() { What::Changed } else { What::Added };
                    report.note(what, &path);
                    book.put(house, &path, *facts, serial, moved_from, &mut batch)
                        .await
                        .map_err(|e| e.to_string())?;
                    batch.files.len() >= limit
                }
            },
            _ = ticker.tick() => { house.tell(Topic::Folders); true }
        };
        if flush {
            commit(house, &mut batch).await.map_err(|e| format!("not saved: {e}"))?;
            limit = BATCH;
        }
        if progress.cancelled.load(Ordering::Relaxed) {
            return Err("it was stopped".into());
        }
    }
    let seen = looker.await.map_err(|e| e.to_string())?;
    let Some(seen) = seen.filter(|_| !progress.cancelled.load(Ordering::Relaxed)) else {
        return Err("it was stopped".into());
    };
    // The top itself went while it was looked at.
    if seen.absent.iter().any(String::is_empty) {
        return Err(away(house, folder, "it is not there").await);
    }
    for (path, entries, streams) in lists {
        let missing = book
            .put_playlist(house, &root, &path, &entries, &mut batch)
            .await
            .map_err(|e| e.to_string())?;
        let told = |n: usize, what: &str| (n > 0).then(|| format!("{n} {what}"));
        let parts = [
            told(missing, "of its entries are not published"),
            told(streams, "of its entries are streams, which are not passed on"),
        ];
        let parts: Vec<String> = parts.into_iter().flatten().collect();
        if !parts.is_empty() {
            left.push(LeftOut { path, reason: format!("playlist: {}", parts.join(", ")) });
        }
    }
    for path in book.remove_unseen(&seen, whole, &mut batch) {
        report.note(What::Gone, &path);
    }
    commit(house, &mut batch).await.map_err(|e| format!("not saved: {e}"))?;
    let ended = house.clock.now();
    if !growing.is_empty() {
        come_back(house, folder, growing);
    }
    let scanned = whole.then_some(ended);
    let left_out = house
        .records
        .scanned(folder.serial, scanned, &left, (!whole).then_some(&seen.directories))
        .await
        .map_err(|e| format!("not saved: {e}"))?;
    // A scan that found nothing else than before leaves no report, unless a person asked.
    if report.counts != [0; 3] || why == "asked" || first {
        let report = ScanReport {
            id: 0,
            began,
            ended,
            why: why.into(),
            counts: report.counts,
            files: report.files,
        };
        house
            .records
            .add_scan_report(folder.serial, &report)
            .await
            .map_err(|e| format!("not saved: {e}"))?;
    }
    Ok(left_out)
}

/// Sees to it that a folder is there. One that is not becomes away: its items are hidden, not
/// forgotten. One that is back is shown as it was recorded, before it is looked at.
async fn present(house: &Arc<House>, folder: &Folder) -> Result<(), String> {
    match is_there(house, folder).await {
        There::Yes => {}
        There::NoRights(why) => return Err(format!("the folder cannot be read: {why}")),
        There::No(why) => return Err(away(house, folder, &why).await),
    }
    if house.scans.known(folder.serial).away.is_some() {
        let loaded = house.records.load(Some(folder.serial)).await.map_err(|e| e.to_string())?;
        house.put_loaded(loaded, Some(folder.serial)).await.map_err(|e| e.to_string())?;
        house.scans.note(folder.serial, |known| known.away = None);
        tracing::info!("{:?} is back", folder.label);
        house.tell(Topic::Folders);
    }
    Ok(())
}

/// Whether a folder is there.
pub enum There {
    /// It is.
    Yes,
    /// It is, but cannot be read; why.
    NoRights(String),
    /// It is not, or does not answer; why.
    No(String),
}

/// How long a folder may take to answer: a drive that wakes up takes a moment.
const PATIENCE: Duration = Duration::from_secs(4);

/// Looks whether a folder is there. A mount that hangs answers nothing at all, so there is
/// never more than one look at it under way.
pub async fn is_there(house: &House, folder: &Folder) -> There {
    let known = house.scans.known(folder.serial);
    let silent = || There::No("the drive or network share does not answer".into());
    // The board must know the folder, so that all look by the same sign.
    house.scans.note(folder.serial, |_| {});
    let looking = house.scans.known(folder.serial).looking;
    if looking.swap(true, Ordering::SeqCst) {
        // Somebody else may just be looking; one that hangs will still be then.
        for _ in 0..40 {
            tokio::time::sleep(PATIENCE / 40).await;
            if !looking.swap(true, Ordering::SeqCst) {
                return look_for(house, folder, known.away.is_some(), looking).await;
            }
        }
        return silent();
    }
    look_for(house, folder, known.away.is_some(), looking).await
}

async fn look_for(
    house: &House,
    folder: &Folder,
    was_away: bool,
    looking: Arc<AtomicBool>,
) -> There {
    let root = PathBuf::from(&folder.root);
    let read = tokio::task::spawn_blocking(move || {
        let empty = std::fs::read_dir(root).map(|mut entries| entries.next().is_none());
        looking.store(false, Ordering::SeqCst);
        empty
    });
    let recorded = house.catalogue().folder_counts(folder.serial) != [0; 3];
    match tokio::time::timeout(PATIENCE, read).await {
        // An empty mount point is a drive that is unplugged, not a folder that was emptied.
        Ok(Ok(Ok(true))) if recorded || was_away => There::No("nothing is mounted there".into()),
        Ok(Ok(Ok(_))) => There::Yes,
        Ok(Ok(Err(error))) if error.kind() == std::io::ErrorKind::PermissionDenied => {
            There::NoRights(error.to_string())
        }
        Ok(Ok(Err(error))) => There::No(format!("the folder cannot be read: {error}")),
        Ok(Err(error)) => There::No(error.to_string()),
        Err(_) => There::No("the drive or network share does not answer".into()),
    }
}

/// Hides a folder that is not there; gives the reason in a sentence. A scan of it that runs is
/// given up, since it may never end.
async fn away(house: &Arc<House>, folder: &Folder, why: &str) -> String {
    house.scans.cancel(folder.serial);
    let since = house.clock.now();
    let new = house.scans.known(folder.serial).away.is_none();
    if new {
        house.scans.note(folder.serial, |known| known.away = Some(since));
        if let Err(error) = house.apply(vec![Change::HideFolder(folder.serial)]).await {
            return error.to_string();
        }
        tracing::warn!("{:?} is away: {why}", folder.label);
        house.tell(Topic::Folders);
    }
    format!("the folder is away: {why}")
}

/// Looks again at directories in which something is still being written.
fn come_back(house: &Arc<House>, folder: &Folder, places: BTreeSet<String>) {
    let (house, folder) = (house.clone(), folder.clone());
    tokio::spawn(async move {
        tokio::time::sleep(Duration::from_millis(700)).await;
        if house.catalogue().folders().iter().any(|f| f.serial == folder.serial) {
            start(&house, &folder, Scope::Places(places));
        }
    });
}

#[derive(Default)]
struct Report {
    counts: [u64; 3],
    files: Vec<(String, String)>,
}

impl Report {
    fn note(&mut self, what: What, path: &str) {
        let count = &mut self.counts[what as usize];
        *count += 1;
        if *count <= LISTED as u64 {
            self.files.push((what.word().to_owned(), path.to_owned()));
        }
    }
}

/// Records a batch, then shows it: what a device sees is never ahead of the records.
async fn commit(house: &House, batch: &mut Batch) -> Result<(), StoreError> {
    if batch.is_empty() {
        return Ok(());
    }
    let batch = std::mem::take(batch);
    house.records.record(&batch).await?;
    let gone = batch.gone_files.into_iter().map(Change::RemoveFile);
    let lists = batch.gone_playlists.into_iter().map(Change::RemovePlaylist);
    let directories = batch.directories.into_iter().map(Change::PutDirectory);
    let files = batch.files.into_iter().map(Change::PutFile);
    let put_lists = batch.playlists.into_iter().map(Change::PutPlaylist);
    // A directory goes after what moved out of it.
    let gone_directories = batch.gone_directories.into_iter().map(Change::RemoveDirectory);
    let changes = gone.chain(lists).chain(directories).chain(files);
    house.apply(changes.chain(put_lists).chain(gone_directories).collect()).await
}
