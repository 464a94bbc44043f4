//! The folder picker: the usual media folders and attached volumes first, then any directory.

use std::io::ErrorKind;
use std::path::{Path, PathBuf};

use mostra_media::mounts::Mounts;

use super::folders::FolderError;

/// Names under which people keep media.
const USUAL: [&str; 8] =
    ["Videos", "Movies", "Films", "Music", "Pictures", "Photos", "Media", "Public"];

/// A directory that could be published.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublishablePlace {
    /// Its name.
    pub name: String,
    /// Its path.
    pub path: String,
    /// Why it is proposed.
    pub why: Option<&'static str>,
    /// Why it cannot be published.
    pub problem: Option<PlaceProblem>,
}

/// Why a directory cannot be published.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PlaceProblem {
    /// It is, as the folder of this label.
    Published(String),
    /// It lies in the folder of this label.
    Inside(String),
    /// The service may not read it.
    NoRights,
}

/// Directories to choose from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublishablePlaces {
    /// The directory that they are in; empty for proposals.
    pub path: String,
    /// The directory around that.
    pub parent: Option<String>,
    /// The directories.
    pub places: Vec<PublishablePlace>,
}

/// What to propose before anything is chosen.
pub fn proposals(published: &[(String, String)]) -> PublishablePlaces {
    let mut places: Vec<PublishablePlace> = Vec::new();
    let mut propose = |path: PathBuf, why: &'static str| {
        if path.is_dir() && !places.iter().any(|p| Path::new(&p.path) == path) {
            places.extend(place(&path, Some(why), published));
        }
    };
    let mut homes: Vec<PathBuf> = std::env::var_os("HOME").map(PathBuf::from).into_iter().collect();
    homes.extend(directories(Path::new("/home")));
    for base in homes.iter().map(PathBuf::as_path).chain([
        Path::new("/srv"),
        Path::new("/var/lib"),
        Path::new("/data"),
    ]) {
        for name in USUAL {
            propose(base.join(name), "media folder");
            propose(base.join(name.to_lowercase()), "media folder");
        }
    }
    for volume in volumes() {
        propose(volume, "attached volume");
    }
    propose(PathBuf::from("/srv"), "media folder");
    places.extend(place(Path::new("/"), None, published));
    PublishablePlaces { path: String::new(), parent: None, places }
}

/// The directories inside a directory.
///
/// # Errors
/// [`FolderError`] when it cannot be listed.
pub fn inside(
    path: &str,
    published: &[(String, String)],
) -> Result<PublishablePlaces, FolderError> {
    let asked = Path::new(path);
    if !asked.is_absolute() {
        return Err(FolderError::Relative);
    }
    let real = std::fs::canonicalize(asked).map_err(|error| match error.kind() {
        ErrorKind::PermissionDenied => FolderError::no_rights(asked),
        ErrorKind::NotADirectory => FolderError::NoDirectory(asked.into()),
        _ => FolderError::NotThere(asked.into()),
    })?;
    if !real.is_dir() {
        return Err(FolderError::NoDirectory(asked.into()));
    }
    std::fs::read_dir(&real).map_err(|_| FolderError::no_rights(&real))?;
    let mounts = Mounts::read();
    let media = |path: &&PathBuf| !is_system(path) && !mounts.is_system(path);
    let inside = directories(&real);
    let places = inside.iter().filter(media).filter_map(|p| place(p, None, published)).collect();
    let parent = real.parent().and_then(Path::to_str).map(str::to_owned);
    Ok(PublishablePlaces { path: real.to_string_lossy().into_owned(), parent, places })
}

/// Directories of the system, in which nobody keeps media.
fn is_system(path: &Path) -> bool {
    const SYSTEM: [&str; 14] = [
        "/bin",
        "/boot",
        "/dev",
        "/etc",
        "/lib",
        "/lib32",
        "/lib64",
        "/libx32",
        "/lost+found",
        "/proc",
        "/sbin",
        "/sys",
        "/tmp",
        "/usr",
    ];
    SYSTEM.iter().any(|system| path == Path::new(system))
}

/// Visible directories in a directory, by name.
fn directories(path: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(path).into_iter().flatten().flatten();
    let mut found: Vec<PathBuf> = entries
        .filter(|e| !e.file_name().to_string_lossy().starts_with('.'))
        .map(|e| e.path())
        .filter(|p| p.is_dir())
        .take(2000)
        .collect();
    found.sort_by_cached_key(|p| mostra_core::Locale::default().fold(&p.to_string_lossy()));
    found
}

/// Mount points of drives and network shares.
fn volumes() -> Vec<PathBuf> {
    Mounts::read()
        .points()
        .map(Path::to_owned)
        .filter(|p| ["/media", "/mnt", "/run/media"].iter().any(|base| p.starts_with(base)))
        .collect()
}

fn place(
    path: &Path,
    why: Option<&'static str>,
    published: &[(String, String)],
) -> Option<PublishablePlace> {
    let text = path.to_str()?;
    let name =
        path.file_name().map_or_else(|| text.to_owned(), |n| n.to_string_lossy().into_owned());
    let holder = published.iter().find(|(root, _)| path.starts_with(root));
    let problem = match holder {
        Some((root, label)) if Path::new(root) == path => {
            Some(PlaceProblem::Published(label.clone()))
        }
        Some((_, label)) => Some(PlaceProblem::Inside(label.clone())),
        None if std::fs::read_dir(path).is_err() => Some(PlaceProblem::NoRights),
        None => None,
    };
    Some(PublishablePlace { name, path: text.to_owned(), why, problem })
}
