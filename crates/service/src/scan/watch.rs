//! Noticing changes: by the kernel's word where it gives it, else by looking from time to time.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use mostra_core::catalogue::Folder;
use notify::{Config, EventKindMask, RecommendedWatcher, RecursiveMode, Watcher};
use tokio::sync::mpsc;
use tokio::time::Instant;

use super::presence::{There, answers, away, is_there};
use super::{Scope, start};
use crate::house::House;

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
pub async fn keep(house: Arc<House>) {
    let mut live = house.listen();
    let mut tasks: HashMap<u32, tokio::task::JoinHandle<()>> = HashMap::new();
    loop {
        let folders: Vec<Folder> = house.catalogue().folders().to_vec();
        tasks.retain(|serial, task| {
            let stays = folders.iter().any(|f| f.serial == *serial);
            if !stays {
                task.abort();
            }
            stays
        });
        for folder in folders {
            tasks
                .entry(folder.serial)
                .or_insert_with(|| tokio::spawn(watch(house.clone(), folder)));
        }
        tokio::select! {
            _ = house.stopping() => break,
            _ = live.recv() => {}
        }
    }
    tasks.into_values().for_each(|task| task.abort());
}

async fn watch(house: Arc<House>, folder: Folder) {
    let poll = Duration::from_secs(house.config.poll_seconds.max(1));
    let root = PathBuf::from(&folder.root);
    let mut new_links = false;
    loop {
        let (sender, mut changes) = mpsc::unbounded_channel::<PathBuf>();
        let gone = house.scans.known(folder.serial).away.is_some();
        let links = house.scans.known(folder.serial).links;
        let watcher = if gone {
            Err("it is away".into())
        } else {
            let (root, behind) = (root.clone(), links.clone());
            let watcher = tokio::task::spawn_blocking(move || watcher(&root, behind, sender));
            // Walking a tree that hangs never ends.
            match tokio::time::timeout(Duration::from_secs(60), watcher).await {
                Ok(watcher) => watcher.unwrap_or_else(|e| Err(e.to_string())),
                Err(_) => Err("it takes too long to watch".into()),
            }
        };
        let noticed = match &watcher {
            Ok(_) => Noticed::Watched,
            Err(why) => {
                tracing::info!("{:?} is looked through from time to time: {why}", folder.label);
                Noticed::Polled(poll.as_secs())
            }
        };
        house.scans.note(folder.serial, |known| known.noticed = noticed);
        if std::mem::take(&mut new_links) {
            // What changed behind them since they were followed was told to nobody.
            start(&house, &folder, Scope::Whole("link"));
        }
        let mut next_poll = Instant::now() + poll;
        let mut look_for_it = tokio::time::interval(AWAY);
        look_for_it.tick().await;
        // Until the folder went away or came back; then it is watched anew.
        loop {
            let polling = watcher.is_err();
            let was_away = house.scans.known(folder.serial).away.is_some();
            tokio::select! {
                change = changes.recv(), if !polling => match change {
                    Some(first) => {
                        let places = gather(&folder.root, first, &mut changes).await;
                        if places.is_empty() {
                            continue;
                        }
                        start(&house, &folder, Scope::Places(places));
                    }
                    None => break,
                },
                () = tokio::time::sleep_until(next_poll), if polling && !was_away => {
                    start(&house, &folder, Scope::Whole("poll"));
                    next_poll = Instant::now() + poll;
                }
                _ = look_for_it.tick() => match is_there(&house, &folder).await {
                    There::Yes if !was_away && house.scans.known(folder.serial).links != links => {
                        // What is behind a new link is watched too.
                        new_links = true;
                        break;
                    }
                    There::Yes if !was_away && links_changed(&house, &folder).await => {
                        start(&house, &folder, Scope::Whole("link"));
                    }
                    There::Yes if was_away => {
                        start(&house, &folder, Scope::Whole("back"));
                        // It is watched again once it is shown again.
                        for _ in 0..100 {
                            if house.scans.known(folder.serial).away.is_none() {
                                break;
                            }
                            tokio::time::sleep(Duration::from_millis(100)).await;
                        }
                        break;
                    }
                    There::No(why) if !was_away => {
                        away(&house, &folder, &why).await;
                        break;
                    }
                    _ => {}
                },
            }
        }
    }
}

/// Whether a drive behind a link went, or one that was gone is back.
async fn links_changed(house: &House, folder: &Folder) -> bool {
    let known = house.scans.known(folder.serial);
    if known.running.is_some() || known.links.is_empty() {
        return false;
    }
    let looked = tokio::task::spawn_blocking(move || {
        let mut asked: BTreeMap<&str, bool> = BTreeMap::new();
        // Files are not asked one by one: there may be thousands of links to them.
        known.links.iter().take(100).any(|(path, target)| {
            let there = *asked
                .entry(target)
                .or_insert_with(|| answers(target.into(), Duration::from_secs(2)));
            there == known.hidden.contains(path)
        })
    });
    looked.await.unwrap_or(false)
}

/// Watches a tree; what changes in it comes out of the channel.
fn watcher(
    root: &Path,
    links: BTreeMap<String, String>,
    sender: mpsc::UnboundedSender<PathBuf>,
) -> Result<RecommendedWatcher, String> {
    let places = std::iter::once(root).chain(links.values().map(Path::new));
    if let Some(kind) = places.into_iter().find_map(remote) {
        return Err(format!("{kind} tells of no changes made elsewhere"));
    }
    let told = move |event: notify::Result<notify::Event>| {
        for path in event.into_iter().flat_map(|event| event.paths) {
            let _ = sender.send(path);
        }
    };
    // Reading is no change; that a writer is done is. The kernel tells only what is asked.
    let kinds = EventKindMask::CREATE
        | EventKindMask::REMOVE
        | EventKindMask::MODIFY_DATA
        | EventKindMask::MODIFY_META
        | EventKindMask::MODIFY_NAME
        | EventKindMask::ACCESS_CLOSE;
    // Where no link leads anywhere, the kernel need not be asked of each file whether it is one.
    let linked = !links.is_empty() || std::fs::symlink_metadata(root).is_ok_and(|m| m.is_symlink());
    let config = Config::default().with_event_kinds(kinds).with_follow_symlinks(linked);
    let mut watcher = RecommendedWatcher::new(told, config).map_err(|e| e.to_string())?;
    watcher.watch(root, RecursiveMode::Recursive).map_err(|e| match e.kind {
        notify::ErrorKind::MaxFilesWatch => {
            "the kernel watches no more directories (fs.inotify.max_user_watches)".to_owned()
        }
        other => format!("{other:?}"),
    })?;
    Ok(watcher)
}

/// The kind of a file system whose changes the kernel does not all see.
fn remote(path: &Path) -> Option<&'static str> {
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

/// The directories, by path below the root, in which something changed.
async fn gather(
    root: &str,
    first: PathBuf,
    changes: &mut mpsc::UnboundedReceiver<PathBuf>,
) -> BTreeSet<String> {
    let latest = Instant::now() + LATEST;
    let mut paths = vec![first];
    loop {
        let until = (Instant::now() + QUIET).min(latest);
        match tokio::time::timeout_at(until, changes.recv()).await {
            Ok(Some(path)) => paths.push(path),
            Ok(None) | Err(_) => break,
        }
    }
    let mut places = BTreeSet::new();
    for path in paths {
        let Ok(below) = path.strip_prefix(root) else { continue };
        let hidden = below.iter().any(|name| name.as_encoded_bytes().starts_with(b"."));
        let around = below.parent().unwrap_or(Path::new(""));
        if let Some(around) = around.to_str().filter(|_| !hidden) {
            places.insert(around.to_owned());
        }
    }
    places
}
