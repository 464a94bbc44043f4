//! The folder picker: the usual media folders and attached volumes first, then any directory.

use std::path::{Path, PathBuf};

use mostra_api::{Place, Places};

use super::problem::Failure;

/// Names under which people keep media.
const USUAL: [&str; 8] =
    ["Videos", "Movies", "Films", "Music", "Pictures", "Photos", "Media", "Public"];

/// What to propose before anything is chosen.
pub fn proposals(published: &[(String, String)]) -> Places {
    let mut places: Vec<Place> = Vec::new();
    let mut propose = |path: PathBuf, why: &str| {
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
    Places { path: String::new(), parent: None, places }
}

/// The directories inside a directory.
///
/// # Errors
/// [`Failure`] when it cannot be listed.
pub fn inside(path: &str, published: &[(String, String)]) -> Result<Places, Failure> {
    let asked = Path::new(path);
    if !asked.is_absolute() {
        return Err(Failure::invalid("The path is not absolute"));
    }
    let real = std::fs::canonicalize(asked).map_err(|_| {
        Failure::missing("There is no such folder")
            .why(format!("{path} does not exist on the host."))
    })?;
    std::fs::read_dir(&real).map_err(|_| {
        Failure::invalid("No rights to read the folder")
            .why(format!("The service's user may not read {path}."))
    })?;
    let places = directories(&real).iter().filter_map(|p| place(p, None, published)).collect();
    let parent = real.parent().and_then(Path::to_str).map(str::to_owned);
    Ok(Places { path: real.to_string_lossy().into_owned(), parent, places })
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
    let mounts = std::fs::read_to_string("/proc/self/mounts").unwrap_or_default();
    let points = mounts.lines().filter_map(|line| line.split(' ').nth(1));
    let points = points.map(|p| PathBuf::from(p.replace("\\040", " ")));
    points
        .filter(|p| ["/media", "/mnt", "/run/media"].iter().any(|base| p.starts_with(base)))
        .collect()
}

fn place(path: &Path, why: Option<&str>, published: &[(String, String)]) -> Option<Place> {
    let text = path.to_str()?;
    let name =
        path.file_name().map_or_else(|| text.to_owned(), |n| n.to_string_lossy().into_owned());
    let holder = published.iter().find(|(root, _)| path.starts_with(root));
    let problem = match holder {
        Some((root, label)) if Path::new(root) == path => {
            Some(format!("already published as {label}"))
        }
        Some((_, label)) => Some(format!("inside {label}, which is published")),
        None if std::fs::read_dir(path).is_err() => Some("the service may not read it".into()),
        None => None,
    };
    Some(Place { name, path: text.to_owned(), why: why.map(str::to_owned), problem })
}
