//! Publishing folders, and what a person does about them.

use std::io;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;

use mostra_core::Kinds;
use mostra_core::catalogue::{Change, Folder, Inventory};
use mostra_core::ids::FolderId;
use mostra_core::link_rule::LinkRule;
use mostra_core::rights::Obstacle;
use mostra_store::{Counter, LeftOut, NewFolder, ScanReport, StoreError};

use super::Library;
use super::rights::what_stops;
use super::scan::{self, ScanScope};
use super::volume_pool::Work;
use crate::context::Topic;

/// Why something about a folder was not done.
#[derive(Debug, thiserror::Error)]
pub enum FolderError {
    /// The records did not do it.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The catalogue is not loaded yet.
    #[error("the catalogue is still loading")]
    Loading,
    /// There is no folder of this number.
    #[error("no such folder")]
    Missing,
    /// A path that does not begin at the root.
    #[error("the path is not absolute")]
    Relative,
    /// There is nothing at the path.
    #[error("{} does not exist", .0.display())]
    NotThere(PathBuf),
    /// There is a file at the path.
    #[error("{} is a file", .0.display())]
    NoDirectory(PathBuf),
    /// The service may not read it.
    #[error("the service's user may not read {}", .path.display())]
    NoRights {
        /// The path.
        path: PathBuf,
        /// What stops it, and the command that opens that; nothing where permission bits do not.
        stopped: Option<(Obstacle, String)>,
    },
    /// It cannot be read.
    #[error("the folder cannot be read: {0}")]
    Unreadable(#[source] io::Error),
    /// It holds the system itself.
    #[error("it holds the system itself")]
    System,
    /// It is in the service's own directory.
    #[error("it is the service's own directory")]
    Own,
    /// Its path is not valid text.
    #[error("its path is not valid text")]
    NoText,
    /// A label that is too long or not plain.
    #[error("that label does not work")]
    Label,
    /// It is published already.
    #[error("{path} is {:?}", .other.label)]
    Published {
        /// The path.
        path: String,
        /// The folder that it is.
        other: Folder,
    },
    /// It lies in one that is published.
    #[error("{path} lies in {:?}", .other.label)]
    Inside {
        /// The path.
        path: String,
        /// The folder in which it lies.
        other: Folder,
    },
    /// One that is published lies in it.
    #[error("{:?} lies in it", .other.label)]
    Around {
        /// The folder that lies in it.
        other: Folder,
    },
    /// A path that is no place in the folder.
    #[error("{path} does not lie in {}", .folder.root)]
    Outside {
        /// The path as given.
        path: String,
        /// The folder.
        folder: Folder,
    },
    /// A path that is no directory in the folder.
    #[error("{path:?} is no directory in {}", .folder.root)]
    NoSubFolder {
        /// The path below the folder.
        path: String,
        /// The folder.
        folder: Folder,
    },
    /// The whole folder was to be left out.
    #[error("the whole folder cannot be left out")]
    WholeLeftOut,
    /// What is at the path is not what is recorded of the folder.
    #[error("{path} does not hold what is recorded of {:?}", .folder.label)]
    Other {
        /// The path.
        path: String,
        /// The folder.
        folder: Folder,
        /// Recorded files that were looked for there.
        looked_for: usize,
        /// How many of them are there.
        found: usize,
    },
    /// A scan of the folder does not end.
    #[error("a scan of it does not end")]
    Scanned,
    /// No scan is running.
    #[error("no scan is running")]
    NoScan,
}

/// Characters of a label at most.
const LABEL: usize = 63;

impl Library {
    /// A published folder by number.
    ///
    /// # Errors
    /// [`FolderError::Missing`] when there is none.
    pub fn folder(&self, id: FolderId) -> Result<Folder, FolderError> {
        let catalogue = self.catalogue();
        let found = catalogue.folders().iter().find(|folder| folder.serial == id).cloned();
        found.ok_or(FolderError::Missing)
    }

    /// Publishes a directory of the host and scans it.
    ///
    /// # Errors
    /// [`FolderError`] when it is not published.
    pub async fn publish(
        self: &Arc<Self>,
        path: String,
        label: Option<String>,
        kinds: Kinds,
        link_rule: LinkRule,
    ) -> Result<Folder, FolderError> {
        if !self.shared().loaded_soon().await {
            return Err(FolderError::Loading);
        }
        let own = std::fs::canonicalize(self.data()).unwrap_or_default();
        let root = tokio::task::spawn_blocking(move || usable(&path, &own)).await;
        let root = root.map_err(|error| FolderError::Unreadable(io::Error::other(error)))??;
        let path = root.to_str().map(str::to_owned).ok_or(FolderError::NoText)?;
        for folder in self.catalogue().folders() {
            overlap(&root, &path, folder)?;
        }
        let name = root.file_name().map(|n| n.to_string_lossy().into_owned());
        let label = label
            .map(|l| l.trim().to_owned())
            .filter(|l| !l.is_empty())
            .or(name)
            .unwrap_or_else(|| "Folder".into());
        if label.chars().count() > LABEL || label.chars().any(char::is_control) {
            return Err(FolderError::Label);
        }
        let records = &self.context.records;
        let serial = records.reserve(Counter::Folder, 1).await?;
        let container = records.reserve(Counter::Serial, 1).await?;
        let folder = Folder { serial: FolderId(serial), label, kinds, root: path, container };
        let new = NewFolder { folder: folder.clone(), link_rule, at: self.context.now() };
        records.add_folder(&new).await?;
        self.scans.note(folder.serial, |known| known.link_rule = link_rule);
        self.apply(vec![Change::PutFolder(folder.clone())]).await?;
        scan::start(self, &folder, ScanScope::Whole("first"));
        // What others lead to by links is in a folder of its own now.
        for other in self.catalogue().folders() {
            let links = self.scans.known(other.serial).links;
            let leads_there = |target: &String| {
                let target = Path::new(target);
                target.starts_with(&folder.root) || Path::new(&folder.root).starts_with(target)
            };
            if other.serial != folder.serial && links.values().any(leads_there) {
                scan::start(self, other, ScanScope::Whole("link"));
            }
        }
        tracing::info!(path = folder.root, "published {:?}", folder.label);
        Ok(folder)
    }

    /// Stops publishing a folder; what is on its way from it ends.
    ///
    /// # Errors
    /// [`FolderError`] when it stays published.
    pub async fn withdraw(&self, id: FolderId) -> Result<(), FolderError> {
        let folder = self.folder(id)?;
        self.scans.cancel(folder.serial);
        self.context.records.remove_folder(folder.serial).await?;
        self.scans.forget(folder.serial);
        self.apply(vec![Change::RemoveFolder(folder.serial)]).await?;
        self.devices.end_uncovered();
        self.context.changed(Topic::Folders);
        Ok(())
    }

    /// Scans a folder again, or a directory in it, by path below the folder or absolute.
    /// `as_it_is`: the drives are meant to be as they are now.
    ///
    /// # Errors
    /// [`FolderError`] when there is nothing to scan.
    pub async fn rescan(
        self: &Arc<Self>,
        id: FolderId,
        path: Option<String>,
        as_it_is: bool,
    ) -> Result<Folder, FolderError> {
        let folder = self.folder(id)?;
        let scope = match path.filter(|path| !path.is_empty()) {
            None => ScanScope::Whole("asked"),
            Some(path) => {
                let path = below(&folder, &path)?;
                if !self.is_directory(&folder, &path).await {
                    return Err(FolderError::NoSubFolder { path, folder });
                }
                ScanScope::ScanPlaces { places: [(path, true)].into(), asked: true }
            }
        };
        if as_it_is {
            self.scans.note(folder.serial, |known| known.as_it_is = true);
        }
        scan::start(self, &folder, scope);
        Ok(folder)
    }

    /// Scans all folders again, why in a word.
    pub fn rescan_all(self: &Arc<Self>, why: &'static str) {
        for folder in self.catalogue().folders() {
            scan::start(self, folder, ScanScope::Whole(why));
        }
    }

    /// Whether something is a directory, on disk or in the records: one that went is to be looked
    /// for as well.
    async fn is_directory(&self, folder: &Folder, path: &str) -> bool {
        let (catalogue, serial, path) = (self.catalogue(), folder.serial, path.to_owned());
        let place = Path::new(&folder.root).join(&path);
        let recorded = tokio::task::spawn_blocking(move || {
            Inventory::of(catalogue, serial).directory(&path).is_some()
        });
        recorded.await.unwrap_or(false)
            || self
                .files
                .volumes
                .presence(&place, Work::Folder)
                .await
                .is_ok_and(|found| found.is_directory)
    }

    /// Leaves sub-folders out of a folder, durably, and scans it again.
    ///
    /// # Errors
    /// [`FolderError`] when that was not noted.
    pub async fn exclude(
        self: &Arc<Self>,
        id: FolderId,
        paths: &[String],
    ) -> Result<Folder, FolderError> {
        let folder = self.folder(id)?;
        let mut excluded = Vec::new();
        for path in paths {
            let path = below(&folder, path)?;
            if path.is_empty() {
                return Err(FolderError::WholeLeftOut);
            }
            excluded.push(path);
        }
        excluded.sort();
        excluded.dedup();
        self.context.records.set_excluded(folder.serial, &excluded).await?;
        self.scans.note(folder.serial, |known| known.excluded = excluded);
        scan::start(self, &folder, ScanScope::Whole("asked"));
        Ok(folder)
    }

    /// Sets which links that lead out of a folder are followed, durably, and scans it again.
    ///
    /// # Errors
    /// [`FolderError`] when that was not noted.
    pub async fn set_link_rule(
        self: &Arc<Self>,
        id: FolderId,
        rule: LinkRule,
    ) -> Result<Folder, FolderError> {
        let folder = self.folder(id)?;
        self.context.records.set_link_rule(folder.serial, rule).await?;
        self.scans.note(folder.serial, |known| known.link_rule = rule);
        scan::start(self, &folder, ScanScope::Whole("asked"));
        Ok(folder)
    }

    /// Ends a folder's scan.
    ///
    /// # Errors
    /// [`FolderError`] when none is running.
    pub fn stop_scan(&self, id: FolderId) -> Result<Folder, FolderError> {
        let folder = self.folder(id)?;
        if self.scans.cancel(folder.serial) { Ok(folder) } else { Err(FolderError::NoScan) }
    }

    /// What the last scans of a folder did.
    ///
    /// # Errors
    /// [`FolderError`] when there is no such folder, or the records do not answer.
    pub async fn scan_reports(&self, id: FolderId) -> Result<Vec<ScanReport>, FolderError> {
        let folder = self.folder(id)?;
        Ok(self.context.records.scan_reports(folder.serial).await?)
    }

    /// What the last scan of a folder left out.
    ///
    /// # Errors
    /// [`FolderError`] when there is no such folder, or the records do not answer.
    pub async fn left_out(&self, id: FolderId) -> Result<Vec<LeftOut>, FolderError> {
        let folder = self.folder(id)?;
        Ok(self.context.records.left_out(folder.serial).await?)
    }
}

impl FolderError {
    /// The service may not read a path; looks for what stops it.
    pub(super) fn no_rights(path: &Path) -> FolderError {
        FolderError::NoRights { path: path.to_owned(), stopped: what_stops(path) }
    }
}

/// The real path of a directory that we can read, and that is not our own.
pub(super) fn usable(path: &str, own: &Path) -> Result<PathBuf, FolderError> {
    let path = Path::new(path);
    if !path.is_absolute() {
        return Err(FolderError::Relative);
    }
    let real = std::fs::canonicalize(path).map_err(|error| match error.kind() {
        io::ErrorKind::NotFound => FolderError::NotThere(path.to_owned()),
        io::ErrorKind::PermissionDenied => FolderError::no_rights(path),
        _ => FolderError::Unreadable(error),
    })?;
    if !real.is_dir() {
        return Err(FolderError::NoDirectory(path.to_owned()));
    }
    if real == Path::new("/") || ["/proc", "/sys", "/dev"].iter().any(|p| real.starts_with(p)) {
        return Err(FolderError::System);
    }
    if real.starts_with(own) {
        return Err(FolderError::Own);
    }
    std::fs::read_dir(&real).map_err(|_| FolderError::no_rights(&real))?;
    Ok(real)
}

pub(super) fn overlap(root: &Path, path: &str, other: &Folder) -> Result<(), FolderError> {
    let their = Path::new(&other.root);
    let (path, other) = (path.to_owned(), other.clone());
    if root == their {
        return Err(FolderError::Published { path, other });
    }
    if root.starts_with(their) {
        return Err(FolderError::Inside { path, other });
    }
    if their.starts_with(root) {
        return Err(FolderError::Around { other });
    }
    Ok(())
}

/// A directory's path below a folder, from that or from an absolute one.
fn below(folder: &Folder, path: &str) -> Result<String, FolderError> {
    let given = Path::new(path);
    let relative = given.strip_prefix(&folder.root).unwrap_or(given);
    let plain = relative.components().all(|part| matches!(part, Component::Normal(_)));
    let text = relative.to_str().map(|t| t.trim_matches('/').to_owned());
    text.filter(|_| plain && !relative.is_absolute())
        .ok_or_else(|| FolderError::Outside { path: path.to_owned(), folder: folder.clone() })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder(root: &str) -> Folder {
        let (label, root) = ("Films".to_owned(), root.to_owned());
        Folder { serial: FolderId(1), label, kinds: Kinds::ALL, root, container: 1 }
    }

    #[test]
    fn a_place_in_a_folder_is_named_from_it_or_from_the_root() {
        let films = folder("/srv/Films");
        for (given, path) in [("Old", "Old"), ("/srv/Films/Old/", "Old"), ("/srv/Films", "")] {
            assert_eq!(below(&films, given).unwrap(), path);
        }
        for outside in ["../Other", "/srv/Other", "Old/../../x", "/"] {
            assert!(
                matches!(below(&films, outside), Err(FolderError::Outside { .. })),
                "{outside}"
            );
        }
    }

    #[test]
    fn one_file_is_published_once() {
        let films = folder("/srv/Films");
        let overlap = |root: &str| overlap(Path::new(root), root, &films);
        assert!(matches!(overlap("/srv/Films"), Err(FolderError::Published { .. })));
        assert!(matches!(overlap("/srv/Films/Old"), Err(FolderError::Inside { .. })));
        assert!(matches!(overlap("/srv"), Err(FolderError::Around { .. })));
        assert!(overlap("/srv/Films2").is_ok() && overlap("/srv/Sound").is_ok());
    }

    #[test]
    fn only_a_directory_that_can_be_read_and_is_not_the_systems_is_usable() {
        let place = tempfile::tempdir().unwrap();
        let own = place.path().join("own");
        std::fs::create_dir_all(own.join("art")).unwrap();
        std::fs::write(place.path().join("file"), "x").unwrap();
        let usable = |path: &Path| usable(path.to_str().unwrap(), &own);
        assert!(usable(place.path()).is_ok());
        assert!(matches!(usable(Path::new("Films")), Err(FolderError::Relative)));
        assert!(matches!(usable(&place.path().join("no")), Err(FolderError::NotThere(_))));
        assert!(matches!(usable(&place.path().join("file")), Err(FolderError::NoDirectory(_))));
        assert!(matches!(usable(&own.join("art")), Err(FolderError::Own)));
        assert!(matches!(usable(Path::new("/proc")), Err(FolderError::System)));
    }
}
