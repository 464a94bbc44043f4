//! The part of a scan that touches the disk, on a thread that may block.

use std::collections::{HashMap, HashSet};
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use mostra_core::catalogue::{Catalogue, Inventory};
use mostra_core::facts::{Caption, Facts, READER};
use mostra_core::{Kind, Kinds, episode};
use mostra_media::playlist::{self, Target};
use mostra_media::walk::{DEPTH, Listed, Listing, list};
use mostra_media::{Reason, probe::probe, sidecar};
use mostra_store::LeftOut;
use tokio::sync::mpsc;

use super::{Progress, Scope};

/// A file that was written within this time may still be growing.
const FRESH: Duration = Duration::from_millis(1000);

/// What the disk says of one file.
pub(super) enum Looked {
    /// As recorded.
    Same(String),
    /// New or changed; with its serial, if it is known by another name or from before.
    Facts { path: String, facts: Box<Facts>, serial: Option<u32>, moved_from: Option<String> },
    /// A playlist, with the paths that it lists below the folder or outside.
    Playlist { path: String, entries: Vec<PathBuf>, streams: usize },
    /// Not published.
    Left(LeftOut),
    /// Still being written; to be looked at again.
    Growing(String),
}

/// What was looked at in all.
#[derive(Default)]
pub(super) struct Seen {
    /// Directories listed.
    pub directories: HashSet<String>,
    /// Directories that could not be read for now, and below which nothing counts as gone.
    pub unreadable: Vec<String>,
    /// Directories that are not there, with all that was below them.
    pub absent: Vec<String>,
}

/// Recorded files by size and age: path and serial.
type Known = HashMap<(u64, i64), Vec<(String, u32)>>;
/// A file that was written a moment ago, with its path and what lies beside it.
type Fresh<'a> = (String, &'a Listed, Arc<Beside>);

/// Some files of one directory.
struct Piece<'a> {
    path: &'a str,
    files: &'a [Listed],
    left_out: &'a [(String, Reason)],
    beside: Arc<Beside>,
}

impl<'a> Piece<'a> {
    fn of(path: &'a str, listing: &'a Listing) -> Vec<Piece<'a>> {
        let beside = Arc::new(Beside::of(listing));
        let piece = |files| Piece { path, files, left_out: &[], beside: beside.clone() };
        let mut pieces: Vec<Piece<'a>> = listing.files.chunks(256).map(piece).collect();
        if pieces.is_empty() {
            pieces.push(piece(&[]));
        }
        pieces[0].left_out = &listing.left_out;
        pieces
    }
}

pub(super) struct Job {
    pub root: PathBuf,
    pub kinds: Kinds,
    pub excluded: Vec<String>,
    pub scope: Scope,
    pub inventory: Arc<Inventory>,
    pub catalogue: Arc<Catalogue>,
    pub progress: Arc<Progress>,
    /// Whether the folder was never scanned, so that all in it counts by its own date.
    pub first: bool,
}

impl Job {
    fn stopped(&self) -> bool {
        self.progress.cancelled.load(Ordering::Relaxed)
    }

    fn is_excluded(&self, path: &str) -> bool {
        self.excluded.iter().any(|out| {
            path.strip_prefix(out.as_str())
                .is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        })
    }

    /// Lists, then reads, and tells of each file. Gives `None` when it was stopped.
    pub fn run(&self, sender: &mpsc::Sender<Looked>) -> Option<Seen> {
        let mut seen = Seen::default();
        let mut listings = Vec::new();
        let mut open: Vec<(String, bool)> = match &self.scope {
            Scope::Whole(_) => vec![(String::new(), true)],
            Scope::Places(places) => places.iter().map(|p| (p.clone(), false)).collect(),
        };
        while let Some((path, deep)) = open.pop() {
            if self.stopped() {
                return None;
            }
            if seen.directories.contains(&path) || self.is_excluded(&path) {
                continue;
            }
            let depth = path.split('/').filter(|p| !p.is_empty()).count();
            match list(&self.root.join(&path)) {
                Ok(listing) => {
                    self.progress.found.fetch_add(listing.files.len() as u64, Ordering::Relaxed);
                    for name in &listing.directories {
                        let below = join(&path, name);
                        if depth >= DEPTH {
                            self.left(sender, below, &Reason::Deep)?;
                        } else if deep || !self.inventory.contains_key(&below) {
                            open.push((below, true));
                        }
                    }
                    if !deep {
                        self.note_absent(&path, &listing, &mut seen);
                    }
                    seen.directories.insert(path.clone());
                    listings.push((path, listing));
                }
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                    seen.absent.push(path);
                }
                Err(error) if error.kind() == std::io::ErrorKind::NotADirectory => {
                    seen.absent.push(path);
                }
                Err(error) => {
                    if error.kind() != std::io::ErrorKind::PermissionDenied {
                        seen.unreadable.push(path.clone());
                    }
                    let reason = Reason::Unreadable(match error.kind() {
                        std::io::ErrorKind::PermissionDenied => {
                            "no permission for the service's user".into()
                        }
                        _ => error.to_string(),
                    });
                    self.left(sender, path, &reason)?;
                }
            }
        }
        self.progress.listed.store(true, Ordering::Relaxed);
        let known = Mutex::new(self.by_size_and_age());
        let fresh = Mutex::new(Vec::new());
        // Reading headers is half waiting for the disk and half work.
        let next = AtomicUsize::new(0);
        let pieces: Vec<Piece<'_>> = listings.iter().flat_map(|(p, l)| Piece::of(p, l)).collect();
        let done = std::thread::scope(|scope| {
            let look = || {
                while let Some(piece) = pieces.get(next.fetch_add(1, Ordering::Relaxed)) {
                    self.look_at(piece, &known, &fresh, sender)?;
                }
                Some(())
            };
            let other = (pieces.len() > 1).then(|| scope.spawn(look));
            let done = look();
            done.and(other.map_or(Some(()), |other| other.join().unwrap_or(None)))
        });
        done?;
        let fresh = fresh.into_inner().unwrap_or_else(PoisonError::into_inner);
        self.look_again(fresh, &known, sender)?;
        Some(seen)
    }

    /// Recorded directories in a listed one that are there no more.
    fn note_absent(&self, path: &str, listing: &Listing, seen: &mut Seen) {
        let prefix = if path.is_empty() { String::new() } else { format!("{path}/") };
        for known in self.inventory.keys() {
            let Some(name) = known.strip_prefix(&prefix) else { continue };
            let here = !name.is_empty() && !name.contains('/');
            if here && listing.directories.binary_search_by(|d| d.as_str().cmp(name)).is_err() {
                seen.absent.push(known.clone());
            }
        }
    }

    /// Recorded files by size and age, by which one that moved is known.
    fn by_size_and_age(&self) -> Known {
        let mut known = Known::new();
        for (path, directory) in self.inventory.iter() {
            for (name, file) in &directory.files {
                let entry = known.entry((file.size, file.modified_ms)).or_default();
                entry.push((join(path, name), file.serial));
            }
        }
        known
    }

    fn look_at<'a>(
        &self,
        piece: &Piece<'a>,
        known: &Mutex<Known>,
        fresh: &Mutex<Vec<Fresh<'a>>>,
        sender: &mpsc::Sender<Looked>,
    ) -> Option<()> {
        let Piece { path, beside, .. } = piece;
        for (name, reason) in piece.left_out {
            self.left(sender, join(path, name), reason)?;
        }
        for file in piece.files {
            if self.stopped() {
                return None;
            }
            let whole = join(path, &file.name);
            let recorded = self.inventory.get(*path).and_then(|d| d.files.get(&file.name));
            let unchanged = recorded.filter(|known| {
                (known.size, known.modified_ms, known.reader)
                    == (file.size, file.modified_ms, READER)
            });
            let looked = if let Some(recorded) = unchanged {
                let (captions, art) = beside.of_file(&file.name);
                if captions == recorded.captions && art == recorded.art {
                    Looked::Same(whole)
                } else {
                    self.with_sidecars(whole, recorded.serial, captions, art)
                }
            } else if self.is_fresh(file.modified_ms) && !self.first {
                let mut fresh = fresh.lock().unwrap_or_else(PoisonError::into_inner);
                fresh.push((whole, file, beside.clone()));
                continue;
            } else {
                self.read(whole, file, beside, known)
            };
            self.tell(sender, looked)?;
        }
        Some(())
    }

    /// Files that were just written are looked at once more after a moment: if they grew, they
    /// are still being written.
    fn look_again(
        &self,
        fresh: Vec<Fresh<'_>>,
        known: &Mutex<Known>,
        sender: &mpsc::Sender<Looked>,
    ) -> Option<()> {
        let Some(newest) = fresh.iter().map(|(_, file, _)| file.modified_ms).max() else {
            return Some(());
        };
        let age = now_ms().saturating_sub(newest).max(0) as u64;
        std::thread::sleep(FRESH.saturating_sub(Duration::from_millis(age)));
        for (path, file, beside) in fresh {
            if self.stopped() {
                return None;
            }
            let now = std::fs::metadata(self.root.join(&path));
            let same = now.as_ref().is_ok_and(|m| {
                (m.len(), mostra_media::walk::modified_ms(m)) == (file.size, file.modified_ms)
            });
            let looked = match now {
                Ok(_) if same => self.read(path, file, &beside, known),
                Ok(_) => Looked::Growing(path),
                Err(_) => {
                    self.progress.done.fetch_add(1, Ordering::Relaxed);
                    continue;
                }
            };
            self.tell(sender, looked)?;
        }
        Some(())
    }

    fn is_fresh(&self, modified_ms: i64) -> bool {
        let age = now_ms().saturating_sub(modified_ms);
        (0..FRESH.as_millis() as i64).contains(&age)
    }

    fn with_sidecars(
        &self,
        path: String,
        serial: u32,
        captions: Vec<Caption>,
        art: Option<String>,
    ) -> Looked {
        match self.catalogue.recorded(serial) {
            Some(file) => {
                let facts = Facts { captions, art, ..(*file.facts).clone() };
                let facts = Box::new(facts);
                Looked::Facts { path, facts, serial: Some(serial), moved_from: None }
            }
            None => Looked::Same(path),
        }
    }

    fn read(&self, path: String, file: &Listed, beside: &Beside, known: &Mutex<Known>) -> Looked {
        let extension = extension(&file.name);
        if ["m3u", "m3u8", "pls", "xspf"].contains(&extension.as_str()) {
            return self.read_playlist(path, &extension);
        }
        if beside.has_media && sidecar::is_cover(&file.name) {
            let reason = Reason::Beside("a cover; it is shown with what lies beside it");
            return Looked::Left(LeftOut { path, reason: reason.to_string() });
        }
        let (captions, art) = beside.of_file(&file.name);
        let around = path.rsplit_once('/').map_or("", |(around, _)| around);
        let recorded = self.inventory.get(around).and_then(|d| d.files.get(&file.name));
        let names: Vec<String> = path.split('/').map(str::to_owned).collect();
        if recorded.is_none()
            && let Some((from, serial)) = self.moved(file, known)
            && let Some(before) = self.catalogue.recorded(serial)
            && before.facts.reader == READER
        {
            let mut facts = Facts { captions, art, ..(*before.facts).clone() };
            if facts.kind == Kind::Video {
                facts.episode = episode::read(&names);
            }
            let facts = Box::new(facts);
            return Looked::Facts { path, facts, serial: Some(serial), moved_from: Some(from) };
        }
        match probe(&self.root.join(&path), file.size, file.modified_ms) {
            Ok(facts) if self.kinds.holds(facts.kind) => {
                let before = recorded.and_then(|r| self.catalogue.recorded(r.serial));
                let added_ms = match before {
                    Some(before) => before.facts.added_ms,
                    None if self.first => file.modified_ms,
                    None => now_ms().max(file.modified_ms),
                };
                let video = facts.kind == Kind::Video;
                let facts = Facts {
                    captions: if video { captions } else { Vec::new() },
                    art: art.filter(|_| facts.kind != Kind::Picture),
                    episode: if video { episode::read(&names) } else { None },
                    added_ms,
                    ..facts
                };
                let mut facts = facts;
                if facts.kind == Kind::Music && facts.track.0.is_none() {
                    facts.track.0 = episode::track(&file.name);
                }
                let serial = recorded.map(|r| r.serial);
                Looked::Facts { path, facts: Box::new(facts), serial, moved_from: None }
            }
            Ok(facts) => left_out(path, &Reason::OtherKind(facts.kind)),
            // It may be damaged only because the rest of it is still to come.
            Err(Reason::Broken(_) | Reason::Empty) if self.is_fresh(file.modified_ms) => {
                Looked::Growing(path)
            }
            Err(reason) => left_out(path, &reason),
        }
    }

    /// A recorded file of this size and age that is no longer where it was.
    fn moved(&self, file: &Listed, known: &Mutex<Known>) -> Option<(String, u32)> {
        let mut known = known.lock().unwrap_or_else(PoisonError::into_inner);
        let candidates = known.get_mut(&(file.size, file.modified_ms))?;
        let gone = |(path, _): &(String, u32)| {
            extension(path) == extension(&file.name) && !self.root.join(path).exists()
        };
        // One of the same name first, as whole directories move more often.
        let same = |(path, serial): &(String, u32)| {
            path.rsplit('/').next() == Some(&file.name) && gone(&(path.clone(), *serial))
        };
        let at = candidates.iter().position(same).or_else(|| candidates.iter().position(gone))?;
        Some(candidates.swap_remove(at))
    }

    fn read_playlist(&self, path: String, extension: &str) -> Looked {
        let whole = self.root.join(&path);
        let mut bytes = Vec::new();
        let read = std::fs::File::open(&whole)
            .and_then(|file| file.take((4 << 20) + 1).read_to_end(&mut bytes));
        if let Err(error) = read {
            return left_out(path, &Reason::Unreadable(error.to_string()));
        }
        match playlist::read(&bytes, extension) {
            Ok(entries) => {
                let (mut paths, mut streams) = (Vec::new(), 0);
                for entry in entries {
                    match entry.target {
                        Target::Path(entry) => paths.extend(playlist::resolve(&whole, &entry)),
                        Target::Stream(_) => streams += 1,
                    }
                }
                Looked::Playlist { path, entries: paths, streams }
            }
            Err(error) => Looked::Left(LeftOut { path, reason: format!("playlist: {error}") }),
        }
    }

    fn left(&self, sender: &mpsc::Sender<Looked>, path: String, reason: &Reason) -> Option<()> {
        self.progress.found.fetch_add(1, Ordering::Relaxed);
        self.tell(sender, left_out(path, reason))
    }

    fn tell(&self, sender: &mpsc::Sender<Looked>, looked: Looked) -> Option<()> {
        if matches!(looked, Looked::Left(_)) {
            self.progress.left_out.fetch_add(1, Ordering::Relaxed);
        }
        self.progress.done.fetch_add(1, Ordering::Relaxed);
        sender.blocking_send(looked).ok()
    }
}

/// What lies beside a file and belongs to it.
pub(super) struct Beside {
    captions: Vec<String>,
    /// Pictures by the lower-case stem of their names.
    pictures: HashMap<String, String>,
    has_media: bool,
}

impl Beside {
    fn of(listing: &Listing) -> Beside {
        let mut beside =
            Beside { captions: Vec::new(), pictures: HashMap::new(), has_media: false };
        for file in &listing.files {
            match extension(&file.name).as_str() {
                "srt" | "vtt" => beside.captions.push(file.name.clone()),
                "jpg" | "jpeg" | "png" | "webp" => {
                    let stem = file.name.rsplit_once('.').map_or("", |(stem, _)| stem);
                    beside.pictures.entry(stem.to_lowercase()).or_insert(file.name.clone());
                }
                "txt" | "nfo" | "gif" | "heic" | "avif" | "m3u" | "m3u8" | "pls" | "xspf" => {}
                _ => beside.has_media = true,
            }
        }
        beside
    }

    fn of_file(&self, name: &str) -> (Vec<Caption>, Option<String>) {
        let extension = extension(name);
        if ["jpg", "jpeg", "png", "webp", "gif", "heic", "avif"].contains(&extension.as_str()) {
            return (Vec::new(), None);
        }
        let sound = ["mp3", "m4a", "aac", "flac", "ogg", "opus", "wav", "aiff", "aif", "wma"];
        let captions = if self.captions.is_empty() || sound.contains(&extension.as_str()) {
            Vec::new()
        } else {
            let names: Vec<&str> = self.captions.iter().map(String::as_str).collect();
            sidecar::captions(name, &names)
        };
        let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem).to_lowercase();
        let named = |stem: &str| self.pictures.get(stem).cloned();
        let art = named(&stem).or_else(|| sidecar::COVERS.into_iter().find_map(named));
        (captions, art)
    }
}

pub(super) fn join(path: &str, name: &str) -> String {
    if path.is_empty() { name.to_owned() } else { format!("{path}/{name}") }
}

fn extension(name: &str) -> String {
    let last = Path::new(name).extension();
    last.map(|e| e.to_string_lossy().to_lowercase()).unwrap_or_default()
}

fn left_out(path: String, reason: &Reason) -> Looked {
    Looked::Left(LeftOut { path, reason: reason.to_string() })
}

/// The clock by which file systems stamp.
fn now_ms() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(0)
}
