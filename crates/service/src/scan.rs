//! Scans: from a folder on disk to records and catalogue.

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use mostra_core::catalogue::{Change, Directory, File, Folder};
use mostra_media::walk::{Found, walk};
use mostra_media::{Reason, probe::probe};
use mostra_protocol::Moment;
use mostra_store::{Batch, Counter, LeftOut, StoreError};
use tokio::sync::mpsc;

use crate::house::{House, Topic};

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
}

impl Progress {
    fn start() -> Progress {
        Progress {
            started: Instant::now(),
            found: AtomicU64::new(0),
            done: AtomicU64::new(0),
            left_out: AtomicU64::new(0),
            listed: AtomicBool::new(false),
            cancelled: AtomicBool::new(false),
        }
    }

    /// The progress as told to people.
    pub fn told(&self) -> mostra_api::Scan {
        let done = self.done.load(Ordering::Relaxed);
        let to_do = self.found.load(Ordering::Relaxed).saturating_sub(done);
        let listed = self.listed.load(Ordering::Relaxed);
        let rate = done as f64 / self.started.elapsed().as_secs_f64().max(0.001);
        let remaining_ms = (listed && rate > 0.0).then(|| (to_do as f64 / rate * 1000.0) as u64);
        mostra_api::Scan {
            state: mostra_api::ScanState::Running,
            done,
            to_do,
            listed,
            left_out: self.left_out.load(Ordering::Relaxed),
            rate: (rate * 10.0).round() / 10.0,
            remaining_ms,
            problem: None,
        }
    }
}

/// What is known of a folder's scans.
#[derive(Debug, Clone, Default)]
pub struct Known {
    /// The scan that runs.
    pub running: Option<Arc<Progress>>,
    /// Why the last one failed.
    pub problem: Option<String>,
    /// When the last one ended.
    pub scanned: Option<Moment>,
    /// What it left out.
    pub left_out: u32,
    again: bool,
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

    /// Notes what the records say of earlier scans.
    pub fn remember(&self, folder: u32, scanned: Option<Moment>, left_out: u32) {
        let mut board = self.lock();
        let known = board.entry(folder).or_default();
        known.scanned = scanned;
        known.left_out = left_out;
    }

    /// Ends a folder's scan; true if one runs.
    pub fn cancel(&self, folder: u32) -> bool {
        let board = self.lock();
        let running = board.get(&folder).and_then(|k| k.running.as_ref());
        if let Some(progress) = running {
            progress.cancelled.store(true, Ordering::Relaxed);
        }
        running.is_some()
    }

    /// Forgets a folder.
    pub fn forget(&self, folder: u32) {
        self.cancel(folder);
        self.lock().remove(&folder);
    }
}

/// Starts a folder's scan in the background; if one runs, another follows it.
pub fn start(house: &Arc<House>, folder: Folder) {
    let progress = Arc::new(Progress::start());
    {
        let mut board = house.scans.lock();
        let known = board.entry(folder.serial).or_default();
        if known.running.is_some() {
            known.again = true;
            return;
        }
        known.running = Some(progress.clone());
        known.problem = None;
        known.again = false;
    }
    house.tell(Topic::Folders);
    let house = house.clone();
    tokio::spawn(async move {
        let outcome = scan(&house, &folder, &progress).await;
        let again = {
            let mut board = house.scans.lock();
            // Removed meanwhile: nothing to note.
            let Some(known) = board.get_mut(&folder.serial) else { return };
            known.running = None;
            match outcome {
                Ok(left_out) => {
                    known.scanned = Some(house.clock.now());
                    known.left_out = left_out;
                }
                Err(problem) => {
                    tracing::warn!("the scan of {:?} ended early: {problem}", folder.label);
                    known.problem = Some(problem);
                }
            }
            known.again
        };
        house.tell(Topic::Folders);
        if again {
            start(&house, folder);
        }
    });
}

/// A file looked at.
enum Looked {
    Same(Vec<String>),
    Facts(Vec<String>, Box<mostra_core::facts::Facts>),
    Left(LeftOut),
}

/// Files in one commit; the first commit comes sooner, so that something shows at once.
const BATCH: usize = 1000;
const FIRST_BATCH: usize = 50;
const FLUSH: Duration = Duration::from_secs(1);

async fn scan(
    house: &Arc<House>,
    folder: &Folder,
    progress: &Arc<Progress>,
) -> Result<u32, String> {
    let root = PathBuf::from(&folder.root);
    let readable = tokio::task::spawn_blocking({
        let root = root.clone();
        move || std::fs::read_dir(root).map(drop)
    });
    match readable.await {
        Ok(Ok(())) => {}
        Ok(Err(error)) => return Err(format!("the folder cannot be read: {error}")),
        Err(error) => return Err(error.to_string()),
    }
    let mut shelf = Shelf::of(house, folder).await.map_err(|e| e.to_string())?;
    let (sender, mut receiver) = mpsc::channel::<Looked>(256);
    let known: HashMap<Vec<String>, (u64, i64)> = shelf
        .files
        .iter()
        .map(|(names, file)| (names.clone(), (file.facts.size, file.facts.modified_ms)))
        .collect();
    let looker = tokio::task::spawn_blocking({
        let (progress, kinds) = (progress.clone(), folder.kinds);
        move || look(&root, kinds, &known, &progress, &sender)
    });
    let mut left: Vec<LeftOut> = Vec::new();
    let mut seen: HashSet<Vec<String>> = HashSet::new();
    let mut batch = Batch::default();
    let mut limit = FIRST_BATCH;
    let mut ticker = tokio::time::interval(FLUSH);
    ticker.tick().await;
    loop {
        let flush = tokio::select! {
            looked = receiver.recv() => match looked {
                None => break,
                Some(Looked::Left(file)) => { left.push(file); false }
                Some(Looked::Same(names)) => { seen.insert(names); false }
                Some(Looked::Facts(names, facts)) => {
                    shelf.put(house, &names, *facts, &mut batch).await.map_err(|e| e.to_string())?;
                    seen.insert(names);
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
    looker.await.map_err(|e| e.to_string())?;
    if progress.cancelled.load(Ordering::Relaxed) {
        return Err("it was stopped".into());
    }
    shelf.remove_unseen(&seen, &mut batch);
    commit(house, &mut batch).await.map_err(|e| format!("not saved: {e}"))?;
    house
        .records
        .scanned(folder.serial, house.clock.now(), &left)
        .await
        .map_err(|e| format!("not saved: {e}"))?;
    Ok(left.len() as u32)
}

/// Records a batch, then shows it: what a device sees is never ahead of the records.
async fn commit(house: &House, batch: &mut Batch) -> Result<(), StoreError> {
    if batch.is_empty() {
        return Ok(());
    }
    let batch = std::mem::take(batch);
    house.records.record(&batch).await?;
    let gone = batch.gone_files.into_iter().map(Change::RemoveFile);
    let gone_directories = batch.gone_directories.into_iter().map(Change::RemoveDirectory);
    let directories = batch.directories.into_iter().map(Change::PutDirectory);
    let files = batch.files.into_iter().map(Change::PutFile);
    house.apply(gone.chain(gone_directories).chain(directories).chain(files).collect()).await
}

/// Lists and reads on a thread that may block.
fn look(
    root: &std::path::Path,
    kinds: mostra_core::Kinds,
    known: &HashMap<Vec<String>, (u64, i64)>,
    progress: &Progress,
    sender: &mpsc::Sender<Looked>,
) {
    let mut files = Vec::new();
    for found in walk(root) {
        if progress.cancelled.load(Ordering::Relaxed) {
            return;
        }
        progress.found.fetch_add(1, Ordering::Relaxed);
        files.push(found);
    }
    progress.listed.store(true, Ordering::Relaxed);
    for found in files {
        if progress.cancelled.load(Ordering::Relaxed) {
            return;
        }
        let looked = match found {
            Found::LeftOut { path, reason } => left(path, &reason),
            Found::File { names, path, size, modified_ms } => {
                if known.get(&names) == Some(&(size, modified_ms)) {
                    Looked::Same(names)
                } else {
                    match probe(&path, size, modified_ms) {
                        Ok(facts) if kinds.holds(facts.kind) => {
                            Looked::Facts(names, Box::new(facts))
                        }
                        Ok(facts) => left(names.join("/"), &Reason::OtherKind(facts.kind)),
                        Err(reason) => left(names.join("/"), &reason),
                    }
                }
            }
        };
        if matches!(looked, Looked::Left(_)) {
            progress.left_out.fetch_add(1, Ordering::Relaxed);
        }
        progress.done.fetch_add(1, Ordering::Relaxed);
        if sender.blocking_send(looked).is_err() {
            return;
        }
    }
}

fn left(path: String, reason: &Reason) -> Looked {
    Looked::Left(LeftOut { path, reason: reason.to_string() })
}

/// What is recorded of one folder, by the names on disk.
struct Shelf {
    folder: u32,
    top: u32,
    directories: HashMap<Vec<String>, u32>,
    files: HashMap<Vec<String>, File>,
    serials: std::ops::Range<u32>,
}

impl Shelf {
    async fn of(house: &House, folder: &Folder) -> Result<Shelf, StoreError> {
        let loaded = house.records.load().await?;
        let mut names: HashMap<u32, Vec<String>> = HashMap::new();
        let mut directories = HashMap::new();
        for directory in loaded.directories.iter().filter(|d| d.folder == folder.serial) {
            let path = match directory.parent.and_then(|p| names.get(&p)) {
                None => Vec::new(),
                Some(around) => around.iter().cloned().chain([directory.name.clone()]).collect(),
            };
            if directory.parent.is_some() {
                directories.insert(path.clone(), directory.serial);
            }
            names.insert(directory.serial, path);
        }
        let files = loaded.files.into_iter().filter_map(|file| {
            let around = names.get(&file.directory)?;
            Some((around.iter().cloned().chain([file.name.clone()]).collect(), file))
        });
        let files = files.collect();
        Ok(Shelf {
            folder: folder.serial,
            top: folder.container,
            directories,
            files,
            serials: 0..0,
        })
    }

    async fn serial(&mut self, house: &House) -> Result<u32, StoreError> {
        if let Some(serial) = self.serials.next() {
            return Ok(serial);
        }
        let first = house.records.reserve(Counter::Serial, BATCH as u32).await?;
        self.serials = first..first + BATCH as u32;
        self.serials.next().ok_or_else(|| StoreError::Damaged("no serials".into()))
    }

    async fn put(
        &mut self,
        house: &House,
        names: &[String],
        facts: mostra_core::facts::Facts,
        batch: &mut Batch,
    ) -> Result<(), StoreError> {
        let Some((name, around)) = names.split_last() else { return Ok(()) };
        let mut directory = self.top;
        for depth in 1..=around.len() {
            let path = &around[..depth];
            directory = match self.directories.get(path) {
                Some(serial) => *serial,
                None => {
                    let serial = self.serial(house).await?;
                    batch.directories.push(Directory {
                        serial,
                        folder: self.folder,
                        parent: Some(directory),
                        name: path.last().cloned().unwrap_or_default(),
                    });
                    self.directories.insert(path.to_vec(), serial);
                    serial
                }
            };
        }
        // A changed file keeps its serial, and so its object ids.
        let serial = match self.files.get(names) {
            Some(file) => file.serial,
            None => self.serial(house).await?,
        };
        let file = File { serial, directory, name: name.clone(), facts: Arc::new(facts) };
        self.files.insert(names.to_vec(), file.clone());
        batch.files.push(file);
        Ok(())
    }

    fn remove_unseen(&mut self, seen: &HashSet<Vec<String>>, batch: &mut Batch) {
        let gone = self
            .files
            .iter()
            .filter(|(names, _)| !seen.contains(*names))
            .map(|(_, file)| file.serial);
        batch.gone_files.extend(gone);
        let mut kept: HashSet<&[String]> = HashSet::new();
        for names in seen {
            for depth in 1..names.len() {
                kept.insert(&names[..depth]);
            }
        }
        let gone = self.directories.iter().filter(|(names, _)| !kept.contains(names.as_slice()));
        batch.gone_directories.extend(gone.map(|(_, serial)| *serial));
    }
}
