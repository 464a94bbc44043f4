//! Opening what the catalogue located, and what a scan looks at, beneath the folder and nowhere else
//! (SEC-13).

use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

use mostra_core::catalogue::{Beneath, Located};
use nix::errno::Errno;
use nix::fcntl::{AT_FDCWD, OFlag, OpenHow, ResolveFlag, openat2};

/// How often an open is tried again while something on its way is being renamed.
const ATTEMPTS: usize = 16;

/// How what was listed as a file is opened: a pipe or device that has taken its place meanwhile must
/// not hold us up.
const FILE: OFlag =
    OFlag::O_RDONLY.union(OFlag::O_CLOEXEC).union(OFlag::O_NONBLOCK).union(OFlag::O_NOCTTY);
const DIRECTORY: OFlag = OFlag::O_RDONLY.union(OFlag::O_CLOEXEC).union(OFlag::O_DIRECTORY);

/// Opens a located file for reading. It must be a regular file, and nothing on the way from its
/// folder, or from what the scan found a link in it to lead to, may lead out of there at the moment
/// of opening.
///
/// # Errors
/// Those of opening; `PermissionDenied` for a path that leads out of the folder.
pub fn open(located: &Located) -> io::Result<File> {
    let beneath = located.beneath();
    let file = open_file(&beneath)?;
    if beneath.by_link {
        // A link that was removed or leads elsewhere now shows nothing of where it led before.
        let (named, opened) = (std::fs::metadata(located.path())?, file.metadata()?);
        if (named.dev(), named.ino()) != (opened.dev(), opened.ino()) {
            return Err(out_of_folder());
        }
    }
    Ok(file)
}

/// Opens a regular file for reading.
///
/// # Errors
/// As of [`open`].
pub fn open_file(beneath: &Beneath) -> io::Result<File> {
    regular(open_beneath(beneath, FILE)?)
}

/// Opens a directory for listing.
///
/// # Errors
/// As of [`open`].
pub fn open_directory(beneath: &Beneath) -> io::Result<OwnedFd> {
    open_beneath(beneath, DIRECTORY)
}

/// Opens a regular file of an open directory by its name.
///
/// # Errors
/// As of [`open`].
pub fn open_in(directory: &OwnedFd, name: &str) -> io::Result<File> {
    regular(open_at(directory, Path::new(name), FILE)?)
}

fn regular(opened: OwnedFd) -> io::Result<File> {
    let file = File::from(opened);
    match file.metadata()?.is_file() {
        true => Ok(file),
        false => Err(out_of_folder()),
    }
}

fn out_of_folder() -> io::Error {
    io::Error::new(io::ErrorKind::PermissionDenied, "not a file inside its folder")
}

fn open_beneath(beneath: &Beneath, flags: OFlag) -> io::Result<OwnedFd> {
    let Beneath { root, by_link, rest } = beneath;
    let itself = rest.as_os_str().is_empty();
    if *by_link {
        // The scan found it without any link on its way: what has one now is something else.
        let resolve = ResolveFlag::RESOLVE_NO_SYMLINKS | ResolveFlag::RESOLVE_NO_MAGICLINKS;
        let at_root = if itself { flags } else { DIRECTORY | OFlag::O_PATH };
        let how = OpenHow::new().flags(at_root).resolve(resolve);
        let root = openat2(AT_FDCWD, root, how).map_err(refused)?;
        return if itself { Ok(root) } else { open_at(&root, rest, flags) };
    }
    // A person named the folder: links on the way to it are meant.
    let at_root = if itself { flags } else { DIRECTORY | OFlag::O_PATH };
    let root = nix::fcntl::open(root, at_root, nix::sys::stat::Mode::empty())?;
    if itself { Ok(root) } else { open_at(&root, rest, flags) }
}

fn open_at(root: &OwnedFd, rest: &Path, flags: OFlag) -> io::Result<OwnedFd> {
    let resolve = ResolveFlag::RESOLVE_BENEATH | ResolveFlag::RESOLVE_NO_MAGICLINKS;
    let how = OpenHow::new().flags(flags).resolve(resolve);
    for _ in 1..ATTEMPTS {
        match openat2(root, rest, how) {
            Err(Errno::EAGAIN) => {}
            opened => return opened.map_err(refused),
        }
    }
    openat2(root, rest, how).map_err(refused)
}

/// What the kernel says of a path that leads out.
fn refused(error: Errno) -> io::Error {
    match error {
        Errno::EXDEV | Errno::ELOOP => out_of_folder(),
        error => error.into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeMap;
    use std::sync::Arc;

    use mostra_core::access::{Decision, Grant, Standing, decide};
    use mostra_core::catalogue::{Catalogue, Change, Directory, File as Item, Folder, ObjectId};
    use mostra_core::facts::Facts;
    use mostra_core::format::Format;
    use mostra_core::ids::{FileId, FolderId, UpdateId};
    use mostra_core::{Kind, Kinds};

    /// Locates `sub/film.mp4` below a root.
    fn locate(root: &Path) -> Located {
        locate_with(root, BTreeMap::new())
    }

    /// The same in a folder with links that were followed.
    fn locate_with(root: &Path, links: BTreeMap<String, String>) -> Located {
        let mut catalogue = Catalogue::new("q3v9d0", UpdateId(1));
        let facts = Arc::new(Facts::bare(Kind::Video, Format::Mp4, 1, 0));
        catalogue.apply([
            Change::PutFolder(Folder {
                serial: FolderId(1),
                label: "Films".into(),
                kinds: Kinds::ALL,
                root: root.to_str().unwrap().into(),
                container: 1,
            }),
            Change::PutDirectory(Directory {
                serial: 2,
                folder: FolderId(1),
                parent: Some(1),
                name: "sub".into(),
            }),
            Change::PutLinks(FolderId(1), Arc::new(links)),
            Change::PutFile(Item {
                serial: FileId(1),
                directory: 2,
                name: "film.mp4".into(),
                facts,
            }),
        ]);
        let Decision::Admitted(pass) = decide(Standing::Admitted, &Grant::everything()) else {
            panic!()
        };
        catalogue.locate(&pass, &ObjectId::File(1).id("q3v9d0")).unwrap()
    }

    #[test]
    fn no_path_escapes_root() {
        let folder = tempfile::tempdir().unwrap();
        let outside = tempfile::tempdir().unwrap();
        std::fs::write(outside.path().join("film.mp4"), b"secret").unwrap();
        let sub = folder.path().join("sub");
        std::fs::create_dir(&sub).unwrap();
        std::fs::write(sub.join("film.mp4"), b"film").unwrap();
        let located = locate(folder.path());
        assert!(open(&located).is_ok());
        // The file swapped for a link out of the folder.
        std::fs::remove_file(sub.join("film.mp4")).unwrap();
        std::os::unix::fs::symlink(outside.path().join("film.mp4"), sub.join("film.mp4")).unwrap();
        assert_eq!(open(&located).unwrap_err().kind(), io::ErrorKind::PermissionDenied);
        // The directory swapped for a link out of the folder.
        std::fs::remove_dir_all(&sub).unwrap();
        std::os::unix::fs::symlink(outside.path(), &sub).unwrap();
        assert_eq!(open(&located).unwrap_err().kind(), io::ErrorKind::PermissionDenied);
        // The same link, once the scan has followed it; another target is refused still.
        let real = std::fs::canonicalize(outside.path()).unwrap();
        let links = [("sub".to_owned(), real.to_str().unwrap().to_owned())];
        let followed = locate_with(folder.path(), links.into());
        assert!(open(&followed).is_ok());
        assert_eq!(followed.beyond_links(), real.join("film.mp4"));
        let elsewhere = tempfile::tempdir().unwrap();
        std::fs::write(elsewhere.path().join("film.mp4"), b"other").unwrap();
        std::fs::remove_file(&sub).unwrap();
        std::os::unix::fs::symlink(elsewhere.path(), &sub).unwrap();
        assert_eq!(open(&followed).unwrap_err().kind(), io::ErrorKind::PermissionDenied);
        std::fs::remove_file(&sub).unwrap();
        assert_eq!(open(&located).unwrap_err().kind(), io::ErrorKind::NotFound);
    }
}
