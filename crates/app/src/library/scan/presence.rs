//! Whether folders and drives are there: unplugged, unmounted, not answering.

use std::collections::{BTreeMap, HashSet};
use std::io;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, LazyLock, Mutex, PoisonError};
use std::time::{Duration, Instant};

use mostra_core::catalogue::{Change, Folder};
use mostra_media::mounts::Mounts;

use super::look::is_below_any;
use super::{AwayReason, ScanError};
use crate::Topic;
use crate::library::Library;

/// Whether a place answers within a time. A drive that hangs holds one thread, however often
/// it is asked.
pub fn answers(place: PathBuf, within: Duration) -> bool {
    static ASKED: LazyLock<Mutex<HashSet<PathBuf>>> = LazyLock::new(Mutex::default);
    let asked = || ASKED.lock().unwrap_or_else(PoisonError::into_inner);
    let deadline = Instant::now() + within;
    // Somebody else may just be asking; one that hangs will still be then.
    while !asked().insert(place.clone()) {
        if Instant::now() >= deadline {
            return false;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    let (sender, receiver) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        let found = std::fs::metadata(&place).and_then(|metadata| match metadata.is_dir() {
            true => std::fs::read_dir(&place).map(|mut entries| drop(entries.next())),
            false => Ok(()),
        });
        ASKED.lock().unwrap_or_else(PoisonError::into_inner).remove(&place);
        let _ = sender.send(found.is_ok());
    });
    let left = deadline.saturating_duration_since(Instant::now());
    receiver.recv_timeout(left).unwrap_or(false)
}

/// Sees to it that a folder is there. One that is not becomes away: its items are hidden, not
/// forgotten. One that is back is shown as it was recorded, before it is looked at.
pub(super) async fn present(library: &Arc<Library>, folder: &Folder) -> Result<(), ScanError> {
    match is_there(library, folder).await {
        There::Yes => {}
        There::NoPermission(error) => return Err(ScanError::NoPermission(error)),
        There::No(why) => return Err(away(library, folder, why).await),
    }
    let known = library.scans.known(folder.serial);
    let parts_back = !known.hidden.is_empty() && {
        let (known, root) = (known.clone(), PathBuf::from(&folder.root));
        let back = move || {
            let away = known.drives_away(&root, |path| known.hidden.contains(path));
            let mut hidden = known.hidden.iter().filter(|path| !is_below_any(path, &away));
            hidden.any(|path| answers(root.join(path), Duration::from_secs(1)))
        };
        tokio::task::spawn_blocking(back).await.unwrap_or(false)
    };
    if known.away.is_some() || parts_back {
        let loaded = library.context.records.load(Some(folder.serial)).await?;
        library.put_loaded(loaded, Some(folder.serial)).await?;
        library.scans.note(folder.serial, |known| {
            known.away = None;
            known.hidden.clear();
        });
        tracing::info!("{:?} is back", folder.label);
        library.context.changed(Topic::Folders);
    }
    Ok(())
}

/// Whether a folder is there.
pub(super) enum There {
    /// It is.
    Yes,
    /// It is, but the service's user may not read it.
    NoPermission(Arc<io::Error>),
    /// It is not, or does not answer.
    No(AwayReason),
}

/// How long a folder may take to answer: a drive that wakes up takes a moment.
const PATIENCE: Duration = Duration::from_secs(4);

/// Looks whether a folder is there. A mount that hangs answers nothing at all, so there is
/// never more than one look at it under way.
pub(super) async fn is_there(library: &Library, folder: &Folder) -> There {
    let known = library.scans.known(folder.serial);
    let silent = || There::No(AwayReason::NoAnswer);
    // The board must know the folder, so that all look by the same sign.
    library.scans.note(folder.serial, |_| {});
    let looking = library.scans.known(folder.serial).looking;
    if looking.swap(true, Ordering::SeqCst) {
        // Somebody else may just be looking; one that hangs will still be then.
        for _ in 0..40 {
            tokio::time::sleep(PATIENCE / 40).await;
            if !looking.swap(true, Ordering::SeqCst) {
                return look_for(library, folder, known.away.is_some(), looking).await;
            }
        }
        return silent();
    }
    look_for(library, folder, known.away.is_some(), looking).await
}

async fn look_for(
    library: &Library,
    folder: &Folder,
    was_away: bool,
    looking: Arc<AtomicBool>,
) -> There {
    let root = PathBuf::from(&folder.root);
    let read = tokio::task::spawn_blocking(move || {
        let empty = std::fs::read_dir(&root).map(|mut entries| entries.next().is_none());
        let real = std::fs::canonicalize(&root).unwrap_or(root);
        looking.store(false, Ordering::SeqCst);
        empty.map(|empty| (empty, Mounts::read().drives(&real, &BTreeMap::new())))
    });
    let known = library.scans.known(folder.serial);
    let recorded = library.catalogue().folder_counts(folder.serial) != [0; 3];
    match tokio::time::timeout(PATIENCE, read).await {
        Ok(Ok(Ok((empty, now)))) => {
            let holds = (recorded || was_away) && !known.as_it_is;
            let same = known.drives.as_ref().map(|before| before.get("") == now.get(""));
            match (holds, same, empty) {
                // An empty mount point is a drive that is unplugged, not a folder that was
                // emptied; on the drive on which it was before, it was emptied.
                (true, None | Some(false), true) => There::No(AwayReason::NotMounted),
                (true, Some(false), false) => There::No(AwayReason::OtherDrive),
                _ => There::Yes,
            }
        }
        Ok(Ok(Err(error))) if error.kind() == std::io::ErrorKind::PermissionDenied => {
            There::NoPermission(Arc::new(error))
        }
        Ok(Ok(Err(error))) => There::No(AwayReason::Unreadable(Arc::new(error))),
        Ok(Err(error)) => There::No(AwayReason::Unreadable(Arc::new(io::Error::other(error)))),
        Err(_) => There::No(AwayReason::NoAnswer),
    }
}

/// Hides a folder that is not there; gives why its scan ends. A scan of it that runs is
/// given up, since it may never end.
pub(super) async fn away(library: &Arc<Library>, folder: &Folder, why: AwayReason) -> ScanError {
    library.scans.cancel(folder.serial);
    let since = library.context.now();
    let new = library.scans.known(folder.serial).away.is_none();
    if new {
        library.scans.note(folder.serial, |known| {
            known.away = Some(since);
            // What is mounted there when it is back are other directories.
            known.watched = None;
        });
        if let Err(error) = library.apply(vec![Change::HideFolder(folder.serial)]).await {
            return error.into();
        }
        tracing::warn!("{:?} is away: {why}", folder.label);
        library.context.changed(Topic::Folders);
    }
    ScanError::Away(why)
}
