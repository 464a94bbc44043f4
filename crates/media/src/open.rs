//! Opening what the catalogue located, and nothing else (SEC-13).

use std::fs::File;
use std::io;
use std::os::fd::AsRawFd;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use mostra_core::catalogue::Located;

/// Opens a located file for reading. The real path, after all links, must lie inside the real
/// path of its folder at the moment of opening, or inside what the scan found a link in it to
/// lead to, and it must be a regular file.
///
/// # Errors
/// Those of opening; `PermissionDenied` for a path that leads out of the folder.
pub fn open(located: &Located) -> io::Result<File> {
    // O_NONBLOCK so that a FIFO put in the place of a file cannot hold us up.
    let file = File::options().read(true).custom_flags(0o4000).open(located.path())?;
    // The path of what is really open, not of what the name says a moment later.
    let real = std::fs::read_link(Path::new("/proc/self/fd").join(file.as_raw_fd().to_string()))?;
    let root = std::fs::canonicalize(located.root())?;
    if !located.allows(&root, &real) || !file.metadata()?.is_file() {
        return Err(io::Error::new(
            io::ErrorKind::PermissionDenied,
            "not a file inside its folder",
        ));
    }
    Ok(file)
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
