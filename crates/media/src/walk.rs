//! Listing what lies in a directory.

use std::fs::{File, Metadata};
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::fs::MetadataExt as _;

use nix::dir::{Dir, Type};
use nix::errno::Errno;
use nix::fcntl::AtFlags;
use nix::sys::stat::{FileStat, fstat, fstatat};

use crate::unreadable;
use mostra_core::left_out::Reason;

/// What tells one state of a file from another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stat {
    /// Bytes.
    pub size: u64,
    /// Last modification, Unix time in milliseconds; 0 where the system has none or it lies
    /// before 1970.
    pub modified_ms: i64,
}

impl Stat {
    /// That of an open file.
    ///
    /// # Errors
    /// When the system does not tell.
    pub fn of(file: &File) -> io::Result<Stat> {
        Ok(Stat::new(&fstat(file)?))
    }

    fn new(stat: &FileStat) -> Stat {
        let size = u64::try_from(stat.st_size).unwrap_or(0);
        Stat { size, modified_ms: millis(stat.st_mtime, stat.st_mtime_nsec) }
    }
}

impl From<&Metadata> for Stat {
    fn from(metadata: &Metadata) -> Stat {
        let modified_ms = millis(metadata.mtime(), metadata.mtime_nsec());
        Stat { size: metadata.len(), modified_ms }
    }
}

fn millis(seconds: i64, nanos: i64) -> i64 {
    seconds.saturating_mul(1000).saturating_add(nanos / 1_000_000).max(0)
}

/// A regular file in a directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// Its name.
    pub name: String,
    /// Its state, if that was asked for.
    pub stat: Option<Stat>,
}

/// What lies in one directory, each sort by name.
#[derive(Debug, Default)]
pub struct DirectoryListing {
    /// Regular files.
    pub files: Vec<Listed>,
    /// Directories.
    pub directories: Vec<String>,
    /// Symbolic links, whatever they lead to.
    pub links: Vec<String>,
    /// What cannot be published whatever it holds: (name made readable, why).
    pub left_out: Vec<(String, Reason)>,
}

/// Lists an open directory, with the state of each file if `stats`: where all will be opened anyway, it
/// is cheaper had then. Hidden entries are passed over silently (SEC-14); links are named and
/// not followed; special files are left out. Errors on single entries do not stop it.
///
/// # Errors
/// When the directory itself cannot be read.
pub fn list(directory: OwnedFd, stats: bool) -> io::Result<DirectoryListing> {
    let mut listing = DirectoryListing::default();
    // The directory is open once more for questions, as the entries hold it while they come.
    let asked = directory.try_clone()?;
    let mut entries = Dir::from_fd(directory)?;
    for entry in entries.iter() {
        let entry = entry?;
        if entry.file_name().to_bytes().starts_with(b".") {
            continue;
        }
        let Ok(name) = entry.file_name().to_str().map(str::to_owned) else {
            let readable = entry.file_name().to_string_lossy().into_owned();
            listing.left_out.push((readable, Reason::Name));
            continue;
        };
        let ask = || fstatat(&asked, entry.file_name(), AtFlags::AT_SYMLINK_NOFOLLOW);
        let mut stat = None;
        let kind = match entry.file_type() {
            Some(kind) if !(stats && kind == Type::File) => Ok(Some(kind)),
            // Some file systems do not tell kinds in a listing.
            _ => ask().map(|found| {
                stat = Some(Stat::new(&found));
                kind_of(&found)
            }),
        };
        match kind {
            Ok(Some(Type::Directory)) => listing.directories.push(name),
            Ok(Some(Type::Symlink)) => listing.links.push(name),
            Ok(Some(Type::File)) => listing.files.push(Listed { name, stat }),
            Ok(_) => listing.left_out.push((name, Reason::Special)),
            // Gone between listing and looking.
            Err(Errno::ENOENT) => {}
            Err(error) => listing.left_out.push((name, unreadable(&error.into()))),
        }
    }
    listing.files.sort_unstable_by(|a, b| a.name.cmp(&b.name));
    listing.directories.sort_unstable();
    listing.links.sort_unstable();
    Ok(listing)
}

/// What it is, of what is published; `None` for what is special.
fn kind_of(stat: &FileStat) -> Option<Type> {
    match stat.st_mode & libc::S_IFMT {
        libc::S_IFREG => Some(Type::File),
        libc::S_IFDIR => Some(Type::Directory),
        libc::S_IFLNK => Some(Type::Symlink),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::ffi::OsStrExt;
    use std::path::Path;

    fn list(directory: &Path, stats: bool) -> io::Result<DirectoryListing> {
        super::list(std::fs::File::open(directory)?.into(), stats)
    }

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
        let mut listing = list(root, true).unwrap();
        let bare = list(root, false).unwrap();
        assert!(bare.files.iter().all(|file| file.stat.is_none()));
        for (bare, file) in bare.files.iter().zip(&listing.files) {
            let metadata = std::fs::metadata(root.join(&file.name)).unwrap();
            assert_eq!(file.stat, Some(Stat::from(&metadata)));
            let opened = std::fs::File::open(root.join(&file.name)).unwrap();
            assert_eq!((&bare.name, file.stat), (&file.name, Stat::of(&opened).ok()));
        }
        let names: Vec<&str> = listing.files.iter().map(|f| f.name.as_str()).collect();
        assert_eq!((names, listing.directories), (vec!["a.mp3", "two.mp4"], vec!["b".to_owned()]));
        std::os::unix::net::UnixListener::bind(root.join("socket.mp4")).unwrap();
        listing = list(root, false).unwrap();
        listing.left_out.sort_by(|a, b| a.0.cmp(&b.0));
        let reasons: Vec<&Reason> = listing.left_out.iter().map(|(_, r)| r).collect();
        assert_eq!(
            (reasons, listing.links),
            (vec![&Reason::Name, &Reason::Special], vec!["link.mp4".to_owned()])
        );
        assert!(list(&root.join("nowhere"), true).is_err());
    }
}
