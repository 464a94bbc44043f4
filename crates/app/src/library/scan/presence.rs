//! Whether folders and drives are there: unplugged, unmounted, not answering.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use mostra_core::catalogue::{Change, Folder};
use mostra_media::mounts::Mounts;

use super::look::is_below_any;
use super::progress::is_shortage;
use super::{AwayReason, FolderState, ScanError};
use crate::Topic;
use crate::library::Library;
use crate::library::volume_pool::{VolumePools, Work};

/// Sees to it that a folder is there. One that is not becomes away: its items are hidden, not
/// forgotten. One that is back is shown as it was recorded, before it is looked at.
pub(super) async fn present(library: &Arc<Library>, folder: &Folder) -> Result<(), ScanError> {
    let root = match is_there(library, folder).await {
        There::Yes(root) => root,
        There::NoPermission(error) => return Err(ScanError::NoPermission(error)),
        There::Unknown(error) => return Err(ScanError::PutOff(error.to_string())),
        There::No(why) => return Err(away(library, folder, why).await),
    };
    let known = library.scans.known(folder.serial);
    let parts_back = is_part_back(&library.files.volumes, &known, folder, &root).await;
    if known.away.is_some() || parts_back {
        // One at a time: a folder that goes away meanwhile is not shown after it was hidden.
        let _alone = library.presence.lock().await;
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

/// Whether a part of a folder whose top really is `root` answers again that was away.
async fn is_part_back(
    volumes: &VolumePools,
    known: &FolderState,
    folder: &Folder,
    root: &Path,
) -> bool {
    if known.hidden.is_empty() {
        return false;
    }
    let away = known.drives_away(root, |path| known.hidden.contains(path));
    for path in known.hidden.iter().filter(|path| !is_below_any(path, &away)) {
        if part_answers(volumes, known, folder, path).await {
            return true;
        }
    }
    false
}

/// Whether a part of a folder answers. A link is looked at as it is now, and asked of the drive to
/// which it led.
pub(super) async fn part_answers(
    volumes: &VolumePools,
    known: &FolderState,
    folder: &Folder,
    path: &str,
) -> bool {
    let place = Path::new(&folder.root).join(path);
    let behind = known.links.get(path).map_or(place.as_path(), Path::new);
    volumes.presence_behind(&place, behind, Work::Part).await.is_ok()
}

/// Whether a folder is there.
pub(super) enum There {
    /// It is; its top with all links followed.
    Yes(PathBuf),
    /// It is, but the service's user may not read it.
    NoPermission(Arc<io::Error>),
    /// The system lacks what is needed to look.
    Unknown(Arc<io::Error>),
    /// It is not, or does not answer.
    No(AwayReason),
}

/// Looks whether a folder is there.
pub(super) async fn is_there(library: &Library, folder: &Folder) -> There {
    let looked = library.files.volumes.presence(Path::new(&folder.root), Work::Folder).await;
    let found = match looked {
        Ok(found) if found.is_directory => found,
        Ok(_) => {
            let file = io::Error::from(io::ErrorKind::NotADirectory);
            return There::No(AwayReason::Unreadable(Arc::new(file)));
        }
        Err(error) => {
            if is_shortage(&error) {
                return There::Unknown(error);
            }
            return match error.kind() {
                io::ErrorKind::PermissionDenied => There::NoPermission(error),
                io::ErrorKind::TimedOut => There::No(AwayReason::NoAnswer),
                _ => There::No(AwayReason::Unreadable(error)),
            };
        }
    };
    let known = library.scans.known(folder.serial);
    let recorded = library.catalogue().folder_counts(folder.serial) != [0; 3];
    let holds = (recorded || known.away.is_some()) && !known.as_it_is;
    let now = Mounts::read().drive(&found.real);
    let same = known.drives.as_ref().map(|before| before.get("") == Some(&now));
    match (holds, same, found.is_empty) {
        // An empty mount point is a drive that is unplugged, not a folder that was emptied; on
        // the drive on which it was before, it was emptied.
        (true, None | Some(false), true) => There::No(AwayReason::NotMounted),
        (true, Some(false), false) => There::No(AwayReason::OtherDrive),
        _ => There::Yes(found.real),
    }
}

/// Hides a folder that is not there; gives why its scan ends. A scan of it that runs is
/// given up, since it may never end.
pub(super) async fn away(library: &Arc<Library>, folder: &Folder, why: AwayReason) -> ScanError {
    library.scans.cancel(folder.serial);
    let since = library.context.now();
    let _alone = library.presence.lock().await;
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
