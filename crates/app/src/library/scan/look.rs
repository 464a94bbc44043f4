//! What the disk says of a file, on a thread that may block.

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::fs::File;
use std::io::{self, Read};
use std::os::fd::OwnedFd;
use std::path::PathBuf;
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use mostra_core::catalogue::{Beneath, Catalogue, Inventory, KnownFile};
use mostra_core::drives::{self, Drives};
use mostra_core::facts::{Caption, Facts, READER};
use mostra_core::format::FileClass;
use mostra_core::ids::FileId;
use mostra_core::left_out::Reason;
use mostra_core::link_rule::{LinkOwner, LinkRule};
use mostra_core::station::{Address, Allowed};
use mostra_core::{Kind, Kinds, episode};
use mostra_media::extension::Extension;
use mostra_media::link_owner::could_read;
use mostra_media::playlist::{self, EntryTarget};
use mostra_media::walk::{DirectoryListing, Listed, Stat};
use mostra_media::{open, probe::probe_opened, sidecar, unreadable};
use mostra_protocol::model::text::{NAME, tamed};

use mostra_store::LeftOut;

use super::sidecar_index::SidecarIndex;
use super::watched::Watched;
use super::{Progress, ScanScope};
use crate::library::volume_pool::VolumePools;

/// A file that was written within this time may still be growing.
pub(super) const FRESH: Duration = Duration::from_millis(1000);

/// What the disk says of one file.
pub(super) enum Finding {
    /// As recorded.
    Same(FileId),
    /// New or changed; with its serial, if it is known by another name or from before.
    Facts { path: String, facts: Arc<Facts>, serial: Option<FileId>, moved_from: Option<String> },
    /// A playlist, with the paths that it lists below the folder or outside.
    Playlist { path: String, entries: Vec<PathBuf>, stations: Vec<Station>, refused: Vec<String> },
    /// Not published.
    Left(LeftOut),
    /// Still being written; to be looked at again.
    Growing { path: String, serial: Option<FileId> },
    /// A directory or file behind a link whose drive is not there now; its record stays.
    Away(String),
    /// The links that were followed: path below the folder and what is behind it.
    Links(BTreeMap<String, String>),
}

/// A station that a playlist lists: its path as if it were a file beside the list.
pub(super) struct Station {
    pub path: String,
    pub facts: Arc<Facts>,
    pub serial: Option<FileId>,
    /// Whether it is recorded so already.
    pub same: bool,
}

/// What was looked at in all.
#[derive(Default)]
pub(super) struct WalkedDirectories {
    /// Directories listed.
    pub directories: HashSet<String>,
    /// Directories that could not be read for now, and below which nothing counts as gone.
    pub unreadable: Vec<String>,
    /// Directories that are not there, with all that was below them.
    pub absent: Vec<String>,
    /// The drives that the folder is on now; what is away keeps what was recorded.
    pub drives: Drives,
    /// Whether the folder's own drive stopped to answer.
    pub silent: bool,
}

/// Recorded files of one size and age that are looked for on disk: of more it cannot be told
/// which one moved.
const ALIKE: usize = 32;

pub(super) struct Job {
    pub root: PathBuf,
    pub kinds: Kinds,
    pub excluded: Vec<String>,
    pub scope: ScanScope,
    pub inventory: Arc<Inventory>,
    pub catalogue: Arc<Catalogue>,
    pub progress: Arc<Progress>,
    /// Whether the folder was never scanned, so that all in it counts by its own date.
    pub first: bool,
    /// Where stations may be.
    pub stations: Allowed,
    /// Links followed before.
    pub links: BTreeMap<String, String>,
    /// Those of them behind which all is hidden for now.
    pub hidden: BTreeSet<String>,
    /// The drives on which the folder was at its last scan.
    pub drives: Option<Drives>,
    /// Whether a person said that all is meant to be as it is now.
    pub as_it_is: bool,
    /// Recorded files that were found again in another place.
    pub found_again: Mutex<HashSet<FileId>>,
    /// Which links that lead out are followed.
    pub link_rule: LinkRule,
    /// The other published folders, by where they really are, with their labels.
    pub others: Vec<(PathBuf, String)>,
    /// The service's own directory, really: nothing of it is published.
    pub own: PathBuf,
    /// The directories that are watched.
    pub watched: Option<Arc<Watched>>,
    /// By which a drive is asked whether it answers.
    pub volumes: Arc<VolumePools>,
}

/// Those whose links lead somewhere, as far as what they could not read is left out there.
pub(super) type Owners = Vec<Arc<LinkOwner>>;

/// A directory whose files are looked at; it is opened at the first that must be read, so that
/// the system does not go the whole way to each.
pub(super) struct OpenDirectory {
    beneath: Beneath,
    opened: OnceCell<io::Result<OwnedFd>>,
    owners: Owners,
    /// Links in it that were followed, by name.
    links: BTreeMap<String, (Beneath, Owners)>,
}

impl OpenDirectory {
    pub(super) fn new(
        beneath: Beneath,
        owners: Owners,
        links: BTreeMap<String, (Beneath, Owners)>,
    ) -> OpenDirectory {
        OpenDirectory { beneath, opened: OnceCell::new(), owners, links }
    }

    fn open(&self, name: &str) -> io::Result<File> {
        if let Some((beneath, _)) = self.links.get(name) {
            return open::open_file(beneath);
        }
        match self.opened.get_or_init(|| open::open_directory(&self.beneath)) {
            Ok(directory) => open::open_in(directory, name),
            // It may be none that can be opened now: the error is then the file's own.
            Err(_) => {
                let rest = self.beneath.rest.join(name);
                open::open_file(&Beneath { rest, ..self.beneath.clone() })
            }
        }
    }

    /// Whether the owners of all links on the way could read a file; what cannot be opened is left
    /// to whoever reads it.
    fn owners_could_read(&self, name: &str) -> bool {
        let owners = self.links.get(name).map_or(&self.owners, |(_, owners)| owners);
        owners.is_empty()
            || self
                .open(name)
                .map_or(true, |file| owners.iter().all(|owner| could_read(owner, &file, false)))
    }
}

impl Job {
    /// What is away of the folder, as another drive than recorded is mounted there, or none.
    pub(super) fn away(&self, now: &Drives) -> Vec<String> {
        let Some(recorded) = &self.drives else { return Vec::new() };
        // Of a link that was removed nothing is expected any more.
        let removed = |path: &str| {
            let link = self.links.keys().find(|link| is_below(path, link));
            link.is_some_and(|link| std::fs::symlink_metadata(self.root.join(link)).is_err())
        };
        drives::away(recorded, now, |path| {
            !removed(path)
                && (self.hidden.iter().any(|out| is_below(out, path) || is_below(path, out))
                    || self.inventory.holds(path))
        })
    }

    pub(super) fn stopped(&self) -> bool {
        self.progress.cancelled.load(Ordering::Relaxed)
    }

    pub(super) fn is_excluded(&self, path: &str) -> bool {
        is_below_any(path, &self.excluded)
    }

    /// Recorded directories in a listed one that are there no more.
    pub(super) fn note_absent(
        &self,
        path: &str,
        listing: &DirectoryListing,
        seen: &mut WalkedDirectories,
    ) {
        let prefix = if path.is_empty() { String::new() } else { format!("{path}/") };
        for (known, _) in self.inventory.directories() {
            let Some(name) = known.strip_prefix(&prefix) else { continue };
            let here = !name.is_empty() && !name.contains('/');
            let among = |names: &[String]| names.binary_search_by(|n| n.as_str().cmp(name)).is_ok();
            if here && !among(&listing.directories) && !among(&listing.links) {
                seen.absent.push(known.clone());
            }
        }
    }

    /// Looks at one file of a listed directory; `None` if it was written a moment ago and is to
    /// be looked at once more.
    pub(super) fn look(
        &self,
        path: &str,
        file: &Listed,
        sidecar_index: &SidecarIndex,
        around: &OpenDirectory,
    ) -> Option<Finding> {
        if !around.owners_could_read(&file.name) {
            return Some(left_out(join(path, &file.name), Reason::LinkOwner));
        }
        let Some(stat) = file.stat else {
            return Some(self.read(
                join(path, &file.name),
                &file.name,
                None,
                sidecar_index,
                around,
            ));
        };
        let recorded = self.recorded(path, &file.name);
        let unchanged = recorded.filter(|known| {
            (known.size, known.modified_ms, known.reader) == (stat.size, stat.modified_ms, READER)
        });
        if let Some(recorded) = unchanged {
            let (captions, art) = sidecar_index.of_file(&file.name);
            return Some(if captions == recorded.captions && art == recorded.art {
                Finding::Same(recorded.serial)
            } else {
                self.with_sidecars(join(path, &file.name), recorded.serial, captions, art)
            });
        }
        if self.is_fresh(stat.modified_ms) && !self.first {
            return None;
        }
        Some(self.read(join(path, &file.name), &file.name, Some(stat), sidecar_index, around))
    }

    /// Whether the state of each file is asked for before it is opened: where nothing is recorded,
    /// all will be.
    pub(super) fn asks_for_stats(&self) -> bool {
        !self.first || !self.inventory.is_bare()
    }

    /// Looks once more at a file that was just written: if it grew, it is still being written.
    /// `None` if it has gone.
    pub(super) fn look_again(
        &self,
        path: String,
        file: &Listed,
        sidecar_index: &SidecarIndex,
        around: &OpenDirectory,
    ) -> Option<Finding> {
        let now = Stat::from(&std::fs::metadata(self.root.join(&path)).ok()?);
        if file.stat != Some(now) {
            return Some(self.growing(path));
        }
        Some(self.read(path, &file.name, Some(now), sidecar_index, around))
    }

    fn growing(&self, path: String) -> Finding {
        let serial = self.serial_of(&path);
        Finding::Growing { path, serial }
    }

    /// The serial of a recorded file.
    pub(super) fn serial_of(&self, path: &str) -> Option<FileId> {
        self.inventory.file(path).map(|file| file.serial)
    }

    fn recorded(&self, around: &str, name: &str) -> Option<&KnownFile> {
        self.inventory.files(self.inventory.directory(around)?).get(name)
    }

    fn is_fresh(&self, modified_ms: i64) -> bool {
        let age = now_ms().saturating_sub(modified_ms);
        (0..FRESH.as_millis() as i64).contains(&age)
    }

    fn with_sidecars(
        &self,
        path: String,
        serial: FileId,
        captions: Vec<Caption>,
        art: Option<String>,
    ) -> Finding {
        match self.catalogue.recorded(serial) {
            Some(file) => {
                let facts = Facts { captions, art, ..(*file.facts).clone() };
                let facts = Arc::new(facts);
                Finding::Facts { path, facts, serial: Some(serial), moved_from: None }
            }
            None => Finding::Same(serial),
        }
    }

    /// Reads a file; its state is asked for where it is not known.
    fn read(
        &self,
        path: String,
        name: &str,
        stat: Option<Stat>,
        sidecar_index: &SidecarIndex,
        directory: &OpenDirectory,
    ) -> Finding {
        let extension = Extension::of(name);
        if FileClass::of_extension(&extension) == FileClass::Playlist {
            return self.read_playlist(path, name, &extension, directory);
        }
        if sidecar_index.has_media && sidecar::is_cover(name) {
            return left_out(path, Reason::Cover);
        }
        let (captions, art) = sidecar_index.of_file(name);
        let around = path.rsplit_once('/').map_or("", |(around, _)| around);
        let recorded = self.recorded(around, name);
        let names = || path.split('/').map(str::to_owned).collect::<Vec<_>>();
        if recorded.is_none()
            && let Some((from, serial)) = stat.and_then(|stat| self.moved(&path, name, stat))
            && let Some(before) = self.catalogue.recorded(serial)
            && before.facts.reader == READER
        {
            let mut facts = Facts { captions, art, ..(*before.facts).clone() };
            if facts.kind == Kind::Video {
                facts.episode = episode::read(&names());
            }
            let facts = Arc::new(facts);
            return Finding::Facts { path, facts, serial: Some(serial), moved_from: Some(from) };
        }
        let opened = directory.open(name).and_then(|file| {
            let stat = stat.map_or_else(|| Stat::of(&file), Ok)?;
            Ok((file, stat))
        });
        let (file, stat) = match opened {
            Ok(opened) => opened,
            Err(error) => {
                self.progress.put_off_by(&error);
                return left_out(path, unreadable(&error));
            }
        };
        if recorded.is_none() && self.progress.is_odd_time_over() {
            let why = "put off to the next scan, as damaged files took ten minutes of this one";
            return left_out(path, Reason::damaged(why));
        }
        let began = Instant::now();
        let probed = probe_opened(file, extension, stat);
        if matches!(probed, Err(Reason::Damaged(_))) {
            self.progress.note_odd(began.elapsed());
        }
        match probed {
            Ok(facts) if self.kinds.holds(facts.kind) => {
                let before = recorded.and_then(|r| self.catalogue.recorded(r.serial));
                let added_ms = match before {
                    Some(before) => before.facts.added_ms,
                    None if self.first => stat.modified_ms,
                    None => now_ms().max(stat.modified_ms),
                };
                let video = facts.kind == Kind::Video;
                let facts = Facts {
                    captions: if video { captions } else { Vec::new() },
                    art: art.filter(|_| facts.kind != Kind::Picture),
                    episode: if video { episode::read(&names()) } else { None },
                    added_ms,
                    ..facts
                };
                let mut facts = facts;
                if facts.kind == Kind::Music && facts.track.0.is_none() {
                    facts.track.0 = episode::track(name);
                }
                let serial = recorded.map(|r| r.serial);
                Finding::Facts { path, facts: Arc::new(facts), serial, moved_from: None }
            }
            Ok(facts) => left_out(path, Reason::OtherKind(facts.kind)),
            // It may be damaged only because the rest of it is still to come.
            Err(Reason::Damaged(_) | Reason::Empty) if self.is_fresh(stat.modified_ms) => {
                self.growing(path)
            }
            Err(reason) => left_out(path, reason),
        }
    }

    /// A recorded file of this size and age that is no longer where it was.
    fn moved(&self, path: &str, name: &str, stat: Stat) -> Option<(String, FileId)> {
        // A move goes to another place on the same drive; another one may not even answer.
        let link = self.link_above(path);
        let mut alike = self.inventory.alike(name, stat.size, stat.modified_ms, ALIKE);
        alike.find_map(|serial| {
            let before = self.catalogue.path_below(serial)?;
            let is_gone = Extension::of(&before) == Extension::of(name)
                && self.link_above(&before) == link
                && self.root.join(&before).symlink_metadata().is_err();
            let mut again = self.found_again.lock().unwrap_or_else(PoisonError::into_inner);
            (is_gone && again.insert(serial)).then_some((before, serial))
        })
    }

    /// The link behind which a path lies.
    fn link_above(&self, path: &str) -> Option<&String> {
        self.links.keys().find(|link| is_below(path, link))
    }

    fn read_playlist(
        &self,
        path: String,
        name: &str,
        extension: &str,
        directory: &OpenDirectory,
    ) -> Finding {
        let whole = self.root.join(&path);
        let mut bytes = Vec::new();
        let read = directory.open(name);
        let read = read.and_then(|file| file.take((4 << 20) + 1).read_to_end(&mut bytes));
        if let Err(error) = read {
            self.progress.put_off_by(&error);
            return left_out(path, unreadable(&error));
        }
        match playlist::read(&bytes, extension) {
            Ok(entries) => {
                let (mut paths, mut stations, mut refused) = (Vec::new(), Vec::new(), Vec::new());
                for entry in entries {
                    match entry.target {
                        EntryTarget::Path(entry) => paths.extend(playlist::resolve(&whole, &entry)),
                        EntryTarget::Stream(text) => {
                            let address = Address::parse(&text);
                            match address.filter(|a| self.stations.covers(a)) {
                                Some(address) => {
                                    let station = self.station(&path, &address, entry.title);
                                    paths.push(self.root.join(&station.path));
                                    // Listed twice, it is still one station.
                                    if !stations.iter().any(|s: &Station| s.path == station.path) {
                                        stations.push(station);
                                    }
                                }
                                None => {
                                    let host =
                                        Address::parse(&text).map_or(text, |a| a.host().to_owned());
                                    refused.push(tamed(host, NAME));
                                }
                            }
                        }
                    }
                }
                refused.sort();
                refused.dedup();
                Finding::Playlist { path, entries: paths, stations, refused }
            }
            Err(error) => left_out(path, error),
        }
    }
}

impl Job {
    fn station(&self, list: &str, address: &Address, title: Option<String>) -> Station {
        // The same address in the same list is the same object.
        let path = format!("{list}#{}", address.mark());
        let serial = self.serial_of(&path);
        let before = serial.and_then(|serial| self.catalogue.recorded(serial));
        let title = title.unwrap_or_else(|| address.host().to_owned());
        let modified_ms = std::fs::metadata(self.root.join(list))
            .map_or(0, |metadata| Stat::from(&metadata).modified_ms);
        let facts = Facts {
            station: Some(address.written()),
            title: Some(title),
            reader: READER,
            added_ms: before.as_ref().map_or(modified_ms, |before| before.facts.added_ms),
            ..Facts::bare(Kind::Music, address.format(), 0, modified_ms)
        };
        let same = before.is_some_and(|before| *before.facts == facts);
        Station { path, facts: Arc::new(facts), serial, same }
    }
}

/// Whether a path is one of some directories or below one.
pub(super) fn is_below_any(path: &str, directories: &[String]) -> bool {
    directories.iter().any(|around| is_below(path, around))
}

pub(super) use drives::is_below;

pub(super) fn join(path: &str, name: &str) -> String {
    if path.is_empty() { name.to_owned() } else { format!("{path}/{name}") }
}

pub(super) fn left_out(path: String, reason: Reason) -> Finding {
    Finding::Left(LeftOut { path, reason })
}

/// The clock by which file systems stamp.
pub(super) fn now_ms() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use std::path::Path;
    use std::time::Instant;

    use nix::sys::stat::Mode;

    use super::*;

    #[test]
    fn what_took_the_place_of_a_file_holds_up_no_scan() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        nix::unistd::mkfifo(&at("pipe.mp3"), Mode::S_IRWXU).unwrap();
        let _socket = std::os::unix::net::UnixListener::bind(at("socket.mp3")).unwrap();
        std::fs::create_dir(at("directory.mp3")).unwrap();
        std::os::unix::fs::symlink("/dev/tty", at("terminal.mp3")).unwrap();
        std::fs::write(at("file.mp3"), b"sound").unwrap();
        let began = Instant::now();
        let around = |rest: &str| {
            let beneath = Beneath::of(folder.path(), &BTreeMap::new(), Path::new(rest));
            OpenDirectory::new(beneath, Vec::new(), BTreeMap::new())
        };
        for around in [around(""), around("nowhere")] {
            for name in ["pipe.mp3", "socket.mp3", "directory.mp3", "terminal.mp3"] {
                assert!(around.open(name).is_err(), "{name}");
            }
        }
        assert!(around("").open("file.mp3").is_ok());
        assert!(began.elapsed() < Duration::from_secs(1));
    }
}
