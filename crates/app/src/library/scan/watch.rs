//! Noticing changes: by the kernel's word where it gives it, else by looking from time to time.

use std::collections::{BTreeMap, HashMap};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use mostra_core::catalogue::Folder;
use mostra_core::ids::FolderId;
use mostra_media::mounts::Mounts;
use tokio::io::Interest;
use tokio::io::unix::AsyncFd;
use tokio::time::Instant;

use super::look::{is_below, is_below_any};
use super::presence::{There, away, is_there, part_answers};
use super::watched::{WatchEvent, Watched};
use super::{ScanScope, start};
use crate::library::Library;
use crate::library::volume_pool::Work;

/// How changes in a folder are noticed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Noticed {
    /// Not yet known.
    #[default]
    Unknown,
    /// The kernel tells of them.
    Watched,
    /// The folder is looked through every so many seconds.
    Polled(u64),
}

/// Changes gather until nothing comes for this long, or since the first of them for longer.
const QUIET: Duration = Duration::from_millis(150);
const LATEST: Duration = Duration::from_millis(500);
/// How often it is looked whether the folder is there.
const AWAY: Duration = Duration::from_secs(2);

/// Keeps watch over all folders until the house stops.
pub async fn keep(library: Arc<Library>) {
    let mut live = library.context.changes();
    let mut tasks: HashMap<(FolderId, String), tokio::task::JoinHandle<()>> = HashMap::new();
    loop {
        let folders: Vec<Folder> = library.catalogue().all_folders().to_vec();
        // One that is at another path now is another one to watch.
        tasks.retain(|(serial, root), task| {
            let stays = folders.iter().any(|f| f.serial == *serial && f.root == *root);
            if !stays {
                task.abort();
            }
            stays
        });
        for folder in folders {
            tasks
                .entry((folder.serial, folder.root.clone()))
                .or_insert_with(|| tokio::spawn(watch(library.clone(), folder)));
        }
        tokio::select! {
            _ = library.context.stopping() => break,
            _ = live.recv() => {}
        }
    }
    tasks.into_values().for_each(|task| task.abort());
}

async fn watch(library: Arc<Library>, folder: Folder) {
    let poll = Duration::from_secs(library.options.poll_seconds.max(1));
    loop {
        let gone = library.scans.known(folder.serial).away.is_some();
        let watched = if gone { None } else { library.scans.watched(&folder) };
        let watcher = watched.clone().and_then(|watched| {
            // SAFETY: the descriptor is open for as long as `watched` lives, and never another.
            #[allow(unsafe_code)]
            let watcher = unsafe { AsyncFd::register_with_interest(watched, Interest::READABLE) };
            watcher
                .inspect_err(|error| {
                    tracing::warn!("{:?} cannot be watched: {error}", folder.label)
                })
                .ok()
        });
        let mut noticed = Noticed::Unknown;
        let mut next_poll = Instant::now() + poll;
        let mut look_for_it = tokio::time::interval(AWAY);
        look_for_it.tick().await;
        // Until the folder went away or came back; then it is watched anew.
        loop {
            let was_away = library.scans.known(folder.serial).away.is_some();
            let now = match &watcher {
                Some(watcher) if watcher.get_ref().incomplete().is_none() => Noticed::Watched,
                _ => Noticed::Polled(poll.as_secs()),
            };
            if noticed != now {
                noticed = now;
                library.scans.note(folder.serial, |known| known.noticed = now);
                if let Some(why) =
                    watcher.as_ref().and_then(|watcher| watcher.get_ref().incomplete())
                {
                    tracing::info!("{:?} is looked through from time to time: {why}", folder.label);
                }
            }
            tokio::select! {
                first = first(watcher.as_ref()) => {
                    let events = gather(first, watcher.as_ref()).await;
                    if events.lost {
                        start(&library, &folder, ScanScope::Whole("many"));
                    } else if !events.places.is_empty() {
                        start(&library, &folder, ScanScope::changed(events.places));
                    }
                }
                () = tokio::time::sleep_until(next_poll),
                    if !was_away && matches!(noticed, Noticed::Polled(_)) =>
                {
                    start(&library, &folder, ScanScope::Whole("poll"));
                    next_poll = Instant::now() + poll;
                }
                _ = look_for_it.tick() => match is_there(&library, &folder).await {
                    There::Yes(_) if was_away => {
                        start(&library, &folder, ScanScope::Whole("back"));
                        // It is watched again once it is shown again.
                        for _ in 0..100 {
                            if library.scans.known(folder.serial).away.is_none() {
                                break;
                            }
                            tokio::time::sleep(Duration::from_millis(100)).await;
                        }
                        break;
                    }
                    // A scan that somebody asked for found that it is back.
                    There::Yes(_) if !library.scans.watches(folder.serial, watched.as_ref()) => break,
                    There::Yes(root) if drives_changed(&library, &folder, &root).await => {
                        start(&library, &folder, ScanScope::Whole("drive"));
                    }
                    There::Yes(_) if is_readable_again(&library, &folder).await => {
                        start(&library, &folder, ScanScope::Whole("back"));
                    }
                    There::Yes(root) if links_changed(&library, &folder, &root).await => {
                        start(&library, &folder, ScanScope::Whole("link"));
                    }
                    There::No(why) if !was_away => {
                        away(&library, &folder, why).await;
                        break;
                    }
                    _ => {}
                },
            }
        }
    }
}

/// Whether a drive below the folder, or behind a link, was mounted or unmounted since the last
/// scan. The folder's top really is `root`.
async fn drives_changed(library: &Library, folder: &Folder, root: &Path) -> bool {
    let known = library.scans.known(folder.serial);
    let Some(recorded) = known.drives.as_ref().filter(|_| known.running.is_none()) else {
        return false;
    };
    let now = Mounts::read().drives(root, &known.links);
    for path in recorded.keys().chain(now.keys()) {
        // What is known to be away is so until it is as recorded, and answers.
        let changed = match recorded.get(path) == now.get(path) {
            true if !known.hidden.contains(path) => false,
            true => part_answers(&library.files.volumes, &known, folder, path).await,
            false => !known.hidden.iter().any(|out| is_below(path, out)),
        };
        if changed {
            return true;
        }
    }
    false
}

/// Whether a directory that is hidden, as it could not be read, can be read again.
async fn is_readable_again(library: &Library, folder: &Folder) -> bool {
    let known = library.scans.known(folder.serial);
    if known.running.is_some() {
        return false;
    }
    let on_drive = |path: &String| {
        known.links.contains_key(path)
            || known.drives.as_ref().is_some_and(|drives| drives.contains_key(path))
    };
    for path in known.hidden.iter().filter(|path| !on_drive(path)).take(100) {
        if part_answers(&library.files.volumes, &known, folder, path).await {
            return true;
        }
    }
    false
}

/// Whether a drive behind a link went, or one that was gone is back. The folder's top really is
/// `root`.
async fn links_changed(library: &Library, folder: &Folder, root: &Path) -> bool {
    let known = library.scans.known(folder.serial);
    if known.running.is_some() || known.links.is_empty() {
        return false;
    }
    let away = known.drives_away(root, |path| known.hidden.contains(path));
    let mut asked: BTreeMap<&str, bool> = BTreeMap::new();
    // Files are not asked one by one: there may be thousands of links to them.
    let links = known.links.iter().take(100).filter(|(path, _)| !is_below_any(path, &away));
    for (path, target) in links {
        let there = match asked.get(target.as_str()) {
            Some(there) => *there,
            None => {
                let looked = library.files.volumes.presence(Path::new(target), Work::Link).await;
                asked.insert(target, looked.is_ok());
                looked.is_ok()
            }
        };
        if there == known.hidden.contains(path) {
            return true;
        }
    }
    false
}

/// The kind of a file system whose changes the kernel does not all see.
pub(super) fn remote(path: &Path) -> Option<&'static str> {
    // From linux/magic.h.
    let kind = nix::sys::statfs::statfs(path).ok()?.filesystem_type().0;
    Some(match kind {
        0x6969 => "a network file system (NFS)",
        0x517b | 0xff53_4d42 | 0xfe53_4d42 => "a network share (SMB)",
        0x6573_5546 => "a file system in user space",
        0x0102_1997 => "a shared folder (9P)",
        _ => return None,
    })
}

/// The first of what changed.
async fn first(watcher: Option<&AsyncFd<Arc<Watched>>>) -> WatchEvent {
    let Some(watcher) = watcher else { return std::future::pending().await };
    let mut events = WatchEvent::default();
    read_events(watcher, &mut events).await;
    events
}

/// What else changes, until nothing more comes for a while.
async fn gather(mut events: WatchEvent, watcher: Option<&AsyncFd<Arc<Watched>>>) -> WatchEvent {
    let latest = Instant::now() + LATEST;
    while let Some(watcher) = watcher {
        let until = (Instant::now() + QUIET).min(latest);
        if tokio::time::timeout_at(until, read_events(watcher, &mut events)).await.is_err() {
            break;
        }
    }
    events
}

/// Waits for something that the kernel tells.
async fn read_events(watcher: &AsyncFd<Arc<Watched>>, events: &mut WatchEvent) {
    loop {
        // Without the runtime there is nothing to wait for any more.
        let Ok(mut ready) = watcher.readable().await else { return std::future::pending().await };
        match ready.try_io(|watcher| watcher.get_ref().read(events)) {
            Ok(Ok(())) => return,
            // It cannot be read now; it is no use to ask at once.
            Ok(Err(_)) => tokio::time::sleep(AWAY).await,
            Err(_nothing_yet) => {}
        }
    }
}
