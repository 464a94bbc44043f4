//! A folder that is at another path now, as on another machine.

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use mostra_core::catalogue::{Change, Directory, Folder};
use mostra_core::ids::FolderId;

use super::Library;
use super::folders::{FolderError, overlap, usable};
use super::scan::{self, ScanScope};
use crate::context::Topic;

/// Recorded files that are looked for at a new path at most.
const LOOKED_FOR: u64 = 200;
/// How long the end of a scan is waited for.
const PATIENCE: Duration = Duration::from_secs(10);

impl Library {
    /// Publishes a folder from another path. Its files keep their ids, with all that is proven of
    /// them, by their paths below it. Unless `anyway`, half of what is recorded must be there.
    ///
    /// # Errors
    /// [`FolderError`] when it stays where it is.
    pub async fn move_folder(
        self: &Arc<Self>,
        id: FolderId,
        path: String,
        anyway: bool,
    ) -> Result<Folder, FolderError> {
        if !self.shared().loaded_soon().await {
            return Err(FolderError::Loading);
        }
        let folder = self.folder(id)?;
        let own = std::fs::canonicalize(self.data()).unwrap_or_default();
        let serial = folder.serial;
        // From the records: what is away is not in the catalogue.
        let directories = self.context.records.load(Some(serial)).await?.directories;
        let files = self.context.records.some_files(serial, LOOKED_FOR).await?;
        let paths = paths_below(&directories, files);
        let found = tokio::task::spawn_blocking(move || {
            let root = usable(&path, &own)?;
            Ok::<_, FolderError>((FoundAgain::at(&paths, &root), root))
        });
        let found = found.await.map_err(|error| FolderError::Unreadable(io::Error::other(error)));
        let (recognised, root) = found??;
        let path = root.to_str().map(str::to_owned).ok_or(FolderError::NoText)?;
        for other in self.catalogue().folders().iter().filter(|other| other.serial != serial) {
            overlap(&root, &path, other)?;
        }
        if !anyway && !recognised.is_enough() {
            let FoundAgain { looked_for, found } = recognised;
            return Err(FolderError::Other { path, folder, looked_for, found });
        }
        // A scan that runs would take what is not at the old path for gone.
        self.scans.cancel(serial);
        let end = tokio::time::Instant::now() + PATIENCE;
        while self.scans.known(serial).running.is_some() {
            if tokio::time::Instant::now() > end {
                return Err(FolderError::Scanned);
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        self.context.records.move_folder(serial, &path).await?;
        let moved = Folder { root: path, ..folder };
        self.scans.moved(serial);
        self.apply(vec![Change::PutFolder(moved.clone())]).await?;
        scan::start(self, &moved, ScanScope::Whole("asked"));
        self.context.changed(Topic::Folders);
        tracing::info!(path = moved.root, "{:?} is published from there now", moved.label);
        Ok(moved)
    }
}

/// How much of what is recorded is at a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct FoundAgain {
    looked_for: usize,
    found: usize,
}

impl FoundAgain {
    /// Looks for recorded files.
    fn at(paths: &[PathBuf], root: &Path) -> FoundAgain {
        let found = paths.iter().filter(|path| root.join(path).symlink_metadata().is_ok()).count();
        FoundAgain { looked_for: paths.len(), found }
    }

    fn is_enough(self) -> bool {
        self.found * 2 >= self.looked_for
    }
}

/// The paths of files below their folder.
fn paths_below(directories: &[Directory], files: Vec<(u32, String)>) -> Vec<PathBuf> {
    let by_serial: HashMap<u32, &Directory> = directories.iter().map(|d| (d.serial, d)).collect();
    let path = |(directory, name): (u32, String)| {
        let mut names = vec![name];
        let mut at = by_serial.get(&directory);
        while let Some(directory) = at.filter(|directory| directory.parent.is_some()) {
            names.push(directory.name.clone());
            at = directory.parent.and_then(|parent| by_serial.get(&parent));
        }
        names.iter().rev().collect()
    };
    files.into_iter().map(path).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn half_of_what_is_recorded_is_enough() {
        for (looked_for, found, enough) in
            [(0, 0, true), (1, 0, false), (4, 2, true), (200, 99, false)]
        {
            assert_eq!(FoundAgain { looked_for, found }.is_enough(), enough);
        }
    }

    #[test]
    fn paths_are_below_the_top_which_has_no_name() {
        let directory = |serial, parent, name: &str| Directory {
            serial,
            folder: FolderId(1),
            parent,
            name: name.into(),
        };
        let all = [
            directory(1, None, "Films"),
            directory(2, Some(1), "Old"),
            directory(3, Some(2), "Silent"),
        ];
        let files = vec![(1, "a.mp4".into()), (3, "b.mp4".into())];
        assert_eq!(paths_below(&all, files), [Path::new("a.mp4"), Path::new("Old/Silent/b.mp4")]);
    }
}
