//! Directories of which the kernel tells what changes in them. A walk has each one watched
//! before it lists it, so that nothing changes unseen between the two.

use std::collections::HashMap;
use std::io;
use std::os::fd::{AsFd as _, AsRawFd, RawFd};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, OnceLock, PoisonError};

use nix::errno::Errno;
use nix::sys::inotify::{AddWatchFlags, InitFlags, Inotify, InotifyEvent, WatchDescriptor};

use super::ScanPlaces;

/// Reading is no change; that a writer is done is.
const CHANGES: AddWatchFlags = AddWatchFlags::IN_CREATE
    .union(AddWatchFlags::IN_DELETE)
    .union(AddWatchFlags::IN_MODIFY)
    .union(AddWatchFlags::IN_ATTRIB)
    .union(AddWatchFlags::IN_MOVE)
    .union(AddWatchFlags::IN_CLOSE_WRITE)
    .union(AddWatchFlags::IN_DELETE_SELF)
    .union(AddWatchFlags::IN_MOVE_SELF)
    .union(AddWatchFlags::IN_ONLYDIR);

/// The watched directories of a folder.
#[derive(Debug)]
pub struct Watched {
    root: PathBuf,
    inotify: Inotify,
    /// By what the kernel calls them, their paths below the folder: a directory that was moved
    /// keeps its number, and one may be mounted in two places.
    directories: Mutex<HashMap<WatchDescriptor, Vec<String>>>,
    /// Why not all changes are told.
    incomplete: OnceLock<String>,
}

/// What the kernel told.
#[derive(Debug, Default)]
pub(super) struct WatchEvent {
    /// Directories in which something changed, with all below them where they have just come: one
    /// may have taken the place of another.
    pub places: ScanPlaces,
    /// Whether more changed than could be told.
    pub lost: bool,
}

impl Watched {
    /// Nothing is watched yet.
    pub fn new(root: &Path) -> io::Result<Watched> {
        Ok(Watched {
            root: root.to_owned(),
            inotify: Inotify::init(InitFlags::IN_NONBLOCK | InitFlags::IN_CLOEXEC)?,
            directories: Mutex::default(),
            incomplete: OnceLock::new(),
        })
    }

    fn lock(&self) -> MutexGuard<'_, HashMap<WatchDescriptor, Vec<String>>> {
        self.directories.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Watches a directory at a path below the folder. One that is watched stays so.
    pub fn add(&self, path: &str) {
        // Not locked meanwhile, as a drive that hangs may never answer. What is told of the directory
        // before it is noted here came before the walk lists it.
        match self.inotify.add_watch(&self.root.join(path), CHANGES) {
            Ok(number) => {
                let mut paths = self.lock().get(&number).cloned().unwrap_or_default();
                if !paths.iter().any(|known| known == path) {
                    // It may have been moved here.
                    paths.retain(|known| self.root.join(known).symlink_metadata().is_ok());
                    paths.push(path.to_owned());
                    self.lock().insert(number, paths);
                }
            }
            Err(Errno::ENOSPC) => self.set_incomplete(
                "the kernel watches no more directories (fs.inotify.max_user_watches)".into(),
            ),
            Err(Errno::ENOMEM) => {
                self.set_incomplete("there is no memory left to watch more".into())
            }
            // Gone, or not to be read: listing it says so.
            Err(_) => {}
        }
    }

    /// Watches what a walk did not come to: all directories that `enters` lets in.
    pub fn add_all(&self, top: &str, enters: &impl Fn(&str) -> bool) {
        let mut open = vec![top.to_owned()];
        while let Some(path) = open.pop().filter(|_| self.incomplete().is_none()) {
            self.add(&path);
            let entries = std::fs::read_dir(self.root.join(&path)).into_iter().flatten().flatten();
            let directories = entries.filter(|e| e.file_type().is_ok_and(|t| t.is_dir()));
            let names = directories.filter_map(|entry| entry.file_name().into_string().ok());
            let below = names.filter(|n| !n.starts_with('.')).map(|n| super::look::join(&path, &n));
            open.extend(below.filter(|path| enters(path)));
        }
    }

    /// Notes that not all changes will be told, and why.
    pub fn set_incomplete(&self, why: String) {
        // The first reason does.
        let _ = self.incomplete.set(why);
    }

    /// Why not all changes are told.
    pub fn incomplete(&self) -> Option<&str> {
        self.incomplete.get().map(String::as_str)
    }

    /// Reads what the kernel has to tell.
    ///
    /// # Errors
    /// `WouldBlock` when that is nothing.
    pub(super) fn read(&self, events: &mut WatchEvent) -> io::Result<()> {
        for event in self.inotify.read_events()? {
            self.note(&event, events);
        }
        Ok(())
    }

    fn note(&self, event: &InotifyEvent, events: &mut WatchEvent) {
        events.lost |= event.mask.contains(AddWatchFlags::IN_Q_OVERFLOW);
        let mut directories = self.lock();
        if event.mask.contains(AddWatchFlags::IN_IGNORED) {
            directories.remove(&event.wd);
            return;
        }
        let Some(paths) = directories.get(&event.wd) else { return };
        let mut put = |path: &str, deep| {
            *events.places.entry(path.to_owned()).or_default() |= deep;
        };
        let Some(name) = &event.name else {
            // Of the directory itself: whether it is still there is seen from around it. Nothing
            // is around the top, and whatever is there now is another one.
            events.lost |= paths.iter().any(String::is_empty) && event.mask.intersects(GOES);
            paths.iter().for_each(|path| put(around(path), false));
            return;
        };
        // Hidden things are not published.
        let readable = name.to_string_lossy();
        if readable.starts_with('.') {
            return;
        }
        let comes = event.mask.contains(AddWatchFlags::IN_ISDIR) && event.mask.intersects(COMES);
        for path in paths {
            put(path, false);
            if comes {
                put(&super::look::join(path, &readable), true);
            }
        }
    }
}

/// Something came into a directory.
const COMES: AddWatchFlags = AddWatchFlags::IN_CREATE.union(AddWatchFlags::IN_MOVED_TO);
/// A directory went itself.
const GOES: AddWatchFlags = AddWatchFlags::IN_DELETE_SELF
    .union(AddWatchFlags::IN_MOVE_SELF)
    .union(AddWatchFlags::IN_UNMOUNT);

/// The directory around one, by path below the folder; the folder's own top has none.
fn around(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(around, _)| around)
}

impl AsRawFd for Watched {
    fn as_raw_fd(&self) -> RawFd {
        self.inotify.as_fd().as_raw_fd()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    fn events(watched: &Watched) -> Vec<String> {
        let mut events = WatchEvent::default();
        while watched.read(&mut events).is_ok() {}
        assert!(!events.lost);
        let told = |(path, deep): (String, bool)| path + if deep { "/*" } else { "" };
        events.places.into_iter().map(told).collect()
    }

    #[test]
    fn what_could_not_be_told_is_known_to_be_lost() {
        let folder = tempfile::tempdir().unwrap();
        let watched = Watched::new(folder.path()).unwrap();
        watched.add("");
        let wd = *watched.lock().keys().next().unwrap();
        let mut events = WatchEvent::default();
        let mask = AddWatchFlags::IN_Q_OVERFLOW;
        watched.note(&InotifyEvent { wd, mask, cookie: 0, name: None }, &mut events);
        assert!(events.lost);
    }

    #[test]
    fn changes_are_told_by_the_directory_in_which_they_are() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path();
        fs::create_dir_all(root.join("a/b")).unwrap();
        fs::create_dir_all(root.join("a/.hidden")).unwrap();
        fs::create_dir_all(root.join("a/out")).unwrap();
        let watched = Watched::new(root).unwrap();
        watched.add_all("", &|path| path != "a/out");
        assert!(events(&watched).is_empty());
        fs::write(root.join("a/b/new.mp3"), b"x").unwrap();
        assert_eq!(events(&watched), ["a/b"]);
        fs::write(root.join("a/.hidden/new.mp3"), b"x").unwrap();
        fs::write(root.join("a/out/new.mp3"), b"x").unwrap();
        fs::write(root.join("a/.new.mp3"), b"x").unwrap();
        fs::read(root.join("a/b/new.mp3")).unwrap();
        assert!(events(&watched).is_empty());
        // A directory that moves is told of by its new name, once it was looked at there.
        fs::rename(root.join("a/b"), root.join("c")).unwrap();
        assert_eq!(events(&watched), ["", "a", "c/*"]);
        watched.add("c");
        fs::remove_file(root.join("c/new.mp3")).unwrap();
        assert_eq!(events(&watched), ["c"]);
        fs::remove_dir(root.join("c")).unwrap();
        assert_eq!(events(&watched), [""]);
        assert_eq!(watched.lock().len(), 2);
        // Another one comes in the place of one that was there.
        fs::rename(root.join("a"), folder.path().with_extension("aside")).unwrap();
        fs::create_dir(root.join("a")).unwrap();
        assert_eq!(events(&watched), ["", "a/*"]);
        fs::rename(folder.path().with_extension("aside"), root.join("a")).unwrap();
        assert_eq!(events(&watched), ["", "a/*"]);
        // What is no directory, or not there, is nothing to watch.
        watched.add("a/.new.mp3");
        watched.add("nowhere");
        assert_eq!((watched.lock().len(), watched.incomplete()), (2, None));
    }
}
