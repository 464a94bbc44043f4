//! Listing what lies in a directory.

use std::io;
use std::path::Path;
use std::time::UNIX_EPOCH;

use crate::{Reason, unreadable};

/// Directories deeper than this below a folder are not entered: CDS-5 allows 32 steps to the
/// root.
pub const DEPTH: usize = 28;

/// A regular file in a directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// Its name.
    pub name: String,
    /// Bytes.
    pub size: u64,
    /// Last modification, Unix time in milliseconds.
    pub modified_ms: i64,
}

/// What lies in one directory, each sort by name.
#[derive(Debug, Default)]
pub struct Listing {
    /// Regular files.
    pub files: Vec<Listed>,
    /// Directories.
    pub directories: Vec<String>,
    /// Symbolic links, whatever they lead to.
    pub links: Vec<String>,
    /// What cannot be published whatever it holds: (name made readable, why).
    pub left_out: Vec<(String, Reason)>,
}

/// Lists a directory. Hidden entries are passed over silently (SEC-14); links are named and
/// not followed; special files are left out. Errors on single entries do not stop it.
///
/// # Errors
/// When the directory itself cannot be read.
pub fn list(directory: &Path) -> io::Result<Listing> {
    let mut listing = Listing::default();
    for entry in std::fs::read_dir(directory)? {
        let entry = entry?;
        let name = entry.file_name();
        let readable = name.to_string_lossy();
        if readable.starts_with('.') {
            continue;
        }
        let Some(name) = name.to_str().map(str::to_owned) else {
            listing.left_out.push((readable.into_owned(), Reason::Name));
            continue;
        };
        let kind = match entry.file_type() {
            Ok(kind) => kind,
            Err(error) => {
                listing.left_out.push((name, unreadable(&error)));
                continue;
            }
        };
        if kind.is_dir() {
            listing.directories.push(name);
        } else if kind.is_symlink() {
            listing.links.push(name);
        } else if kind.is_file() {
            match entry.metadata() {
                Ok(metadata) => listing.files.push(Listed {
                    name,
                    size: metadata.len(),
                    modified_ms: modified_ms(&metadata),
                }),
                // Gone between listing and looking.
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                Err(error) => listing.left_out.push((name, unreadable(&error))),
            }
        } else {
            listing.left_out.push((name, Reason::Special));
        }
    }
    listing.files.sort_by(|a, b| a.name.cmp(&b.name));
    listing.directories.sort();
    listing.links.sort();
    Ok(listing)
}

/// A file's modification time as Unix milliseconds; 0 where the system has none.
pub fn modified_ms(metadata: &std::fs::Metadata) -> i64 {
    let since = metadata.modified().ok().and_then(|t| t.duration_since(UNIX_EPOCH).ok());
    since.and_then(|d| i64::try_from(d.as_millis()).ok()).unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::ffi::OsStrExt;

    #[test]
    fn hidden_is_passed_over_and_odd_names_are_told() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path();
        for name in ["b", ".trash"] {
            std::fs::create_dir(root.join(name)).unwrap();
        }
        for name in ["two.mp4", "a.mp3", ".hidden.mp3"] {
            std::fs::write(root.join(name), b"x").unwrap();
        }
        std::fs::write(root.join(std::ffi::OsStr::from_bytes(b"bad\xff.mp3")), b"x").unwrap();
        std::os::unix::fs::symlink("/etc/passwd", root.join("link.mp4")).unwrap();
        let mut listing = list(root).unwrap();
        let names: Vec<&str> = listing.files.iter().map(|f| f.name.as_str()).collect();
        assert_eq!((names, listing.directories), (vec!["a.mp3", "two.mp4"], vec!["b".to_owned()]));
        std::os::unix::net::UnixListener::bind(root.join("socket.mp4")).unwrap();
        listing = list(root).unwrap();
        listing.left_out.sort_by(|a, b| a.0.cmp(&b.0));
        let reasons: Vec<&Reason> = listing.left_out.iter().map(|(_, r)| r).collect();
        assert_eq!(
            (reasons, listing.links),
            (vec![&Reason::Name, &Reason::Special], vec!["link.mp4".to_owned()])
        );
        assert!(list(&root.join("nowhere")).is_err());
    }
}
