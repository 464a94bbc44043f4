//! What the threads of a walk do: listing directories, following links, looking at files.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use mostra_core::left_out::{DEPTH, ReadFailure, Reason};
use mostra_media::link_owner::{LedTo, could_read};
use mostra_media::walk::{DirectoryListing, Listed, Stat, list};
use mostra_media::{open, unreadable};

use super::super::look::{Finding, is_below_any, join, left_out};
use super::super::sidecar_index::SidecarIndex;
use super::{Reporter, Walk};

/// Files of one directory that are looked at in one go.
const PIECE: usize = 256;

pub(super) enum Task {
    /// A directory, with all below it if `deep`.
    List { path: String, deep: bool },
    /// A link, and what lies beside it.
    Follow { path: String, sidecar_index: Arc<SidecarIndex> },
    /// Some files of a directory.
    Look {
        path: Arc<str>,
        listing: Arc<DirectoryListing>,
        from: usize,
        sidecar_index: Arc<SidecarIndex>,
    },
    /// A file that was just written.
    Again { path: String, file: Listed, sidecar_index: Arc<SidecarIndex> },
}

impl Walk {
    pub(super) fn run_task(self: Arc<Self>, queue: usize, task: Task, reporter: &mut Reporter<'_>) {
        match task {
            Task::List { path, deep } => self.list(path, deep, reporter),
            Task::Follow { path, sidecar_index } => self.follow(path, &sidecar_index, reporter),
            Task::Look { path, listing, from, sidecar_index } => {
                let around = self.around(&path);
                for file in listing.files.iter().skip(from).take(PIECE) {
                    if self.job.stopped() {
                        return;
                    }
                    let looked =
                        AssertUnwindSafe(|| self.job.look(&path, file, &sidecar_index, &around));
                    let looked = catch_unwind(looked)
                        .unwrap_or_else(|_| Some(reader_failed(join(&path, &file.name))));
                    match looked {
                        Some(looked) => reporter.report(looked),
                        None => {
                            let (path, file) = (join(&path, &file.name), file.clone());
                            let task =
                                Task::Again { path, file, sidecar_index: sidecar_index.clone() };
                            self.lock().fresh.push((queue, task));
                            continue;
                        }
                    }
                    self.job.progress.done.fetch_add(1, Ordering::Relaxed);
                }
            }
            Task::Again { path, file, sidecar_index } => {
                let failed = path.clone();
                let around = self.around(path.rsplit_once('/').map_or("", |(around, _)| around));
                let looked =
                    AssertUnwindSafe(|| self.job.look_again(path, &file, &sidecar_index, &around));
                let looked = catch_unwind(looked).unwrap_or_else(|_| Some(reader_failed(failed)));
                if let Some(looked) = looked {
                    reporter.report(looked);
                }
                self.job.progress.done.fetch_add(1, Ordering::Relaxed);
            }
        }
    }

    fn list(self: Arc<Self>, path: String, deep: bool, reporter: &mut Reporter<'_>) {
        let job = &self.job;
        if job.stopped()
            || job.is_excluded(&path)
            || is_below_any(&path, &self.away)
            || !self.lock().seen.directories.insert(path.clone())
        {
            return;
        }
        // What is hidden is shown as it was recorded before it is looked at: where it can be read
        // again since this scan began, the next one does so.
        if job.hidden.contains(&path) && !job.as_it_is {
            let mut state = self.lock();
            state.seen.directories.remove(&path);
            state.seen.unreadable.push(path.clone());
            drop(state);
            reporter.left(path, Reason::Unreadable(ReadFailure::NoPermission));
            return;
        }
        // Before it is listed, so that whatever changes from here on is noticed.
        if let Some(watched) = &job.watched {
            watched.add(&path);
        }
        let owners = self.owners(&path);
        let opened = open::open_directory(&self.beneath(&path)).and_then(|directory| {
            let readable = owners.iter().all(|owner| could_read(owner, &directory, true));
            readable.then(|| list(directory, job.asks_for_stats())).transpose()
        });
        let listing = match opened {
            Ok(Some(listing)) => listing,
            Ok(None) => {
                reporter.left(path, Reason::LinkOwner);
                return;
            }
            Err(error) => {
                let mut state = self.lock();
                state.seen.directories.remove(&path);
                match error.kind() {
                    std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory => {
                        state.seen.absent.push(path);
                    }
                    _ if job.progress.put_off_by(&error) => {}
                    // What cannot be read is away, and not gone, unless a person says so.
                    kind => {
                        let forgotten =
                            kind == std::io::ErrorKind::PermissionDenied && job.as_it_is;
                        if !forgotten {
                            state.seen.unreadable.push(path.clone());
                        }
                        drop(state);
                        if !forgotten
                            && !path.is_empty()
                            && job.inventory.directory(&path).is_some()
                        {
                            reporter.report(Finding::Away(path.clone()));
                        }
                        reporter.left(path, unreadable(&error));
                    }
                }
                return;
            }
        };
        job.progress.found.fetch_add(listing.files.len() as u64, Ordering::Relaxed);
        let depth = path.split('/').filter(|p| !p.is_empty()).count();
        for (name, reason) in &listing.left_out {
            reporter.left(join(&path, name), reason.clone());
        }
        let place = self.behind(&path);
        for name in &listing.directories {
            let below = join(&path, name);
            if depth >= DEPTH {
                reporter.left(below, Reason::TooDeep);
            } else if place.join(name) == job.own {
                reporter.left(below, Reason::Own);
            } else if self.is_behind_a_link(&place.join(name)) {
                reporter.left(below, Reason::ListedAlready);
            } else if deep || job.inventory.directory(&below).is_none() {
                self.give(&place.join(name), Task::List { path: below, deep: true });
            }
        }
        if !job.scope.is_whole() && job.inventory.directory(&path).is_some() {
            job.note_absent(&path, &listing, &mut self.lock().seen);
        }
        let sidecar_index = Arc::new(SidecarIndex::of(&listing));
        for name in &listing.links {
            let below = join(&path, name);
            if depth >= DEPTH {
                reporter.left(below, Reason::TooDeep);
                continue;
            }
            // Only the link itself is read here; what it leads to may lie on another drive.
            if let Ok(target) = std::fs::read_link(job.root.join(&below)) {
                let task = Task::Follow { path: below, sidecar_index: sidecar_index.clone() };
                self.give(&place.join(target), task);
            }
        }
        let (path, listing) = (Arc::from(path), Arc::new(listing));
        for from in (0..listing.files.len()).step_by(PIECE) {
            let (listing, sidecar_index) = (listing.clone(), sidecar_index.clone());
            let task = Task::Look { path: Arc::clone(&path), listing, from, sidecar_index };
            self.give(&place, task);
        }
    }

    /// Follows a link, unless that leads around in a circle or where nothing is to be shown.
    fn follow(
        self: Arc<Self>,
        path: String,
        sidecar_index: &Arc<SidecarIndex>,
        reporter: &mut Reporter<'_>,
    ) {
        let job = &self.job;
        if is_below_any(&path, &self.away) {
            return;
        }
        let found = self.led_to(&path);
        // What is hidden is shown as it was recorded before it is looked at; a drive that came
        // back since this scan began waits for the next.
        let found = found.ok().filter(|_| !job.hidden.contains(&path));
        let LedTo { real, metadata, owner } = match found {
            Some(found) => found,
            None => {
                if job.inventory.directory(&path).is_some() || job.serial_of(&path).is_some() {
                    reporter.report(Finding::Away(path.clone()));
                }
                let mut state = self.lock();
                if let Some(target) = job.links.get(&path) {
                    state.links.insert(path.clone(), target.clone());
                }
                state.seen.unreadable.push(path.clone());
                drop(state);
                reporter.left(path, Reason::DeadLink);
                return;
            }
        };
        let Some(target) = real.to_str().map(str::to_owned) else {
            reporter.left(path, Reason::Name);
            return;
        };
        if is_forbidden(&real) || real.starts_with(&job.own) {
            reporter.left(path, Reason::Forbidden);
            return;
        }
        // What the other folder holds is for those who may see that folder.
        let other =
            job.others.iter().find(|(root, _)| real.starts_with(root) || root.starts_with(&real));
        if let Some((_, label)) = other {
            reporter.left(path, Reason::OtherFolder(label.clone()));
            return;
        }
        let is_directory = metadata.is_dir();
        // Links of which this one is the second to one place.
        let mut before = job.links.iter().filter(|(link, target)| {
            is_directory && **link != path && real.starts_with(target.as_str())
        });
        let before = !job.links.contains_key(&path)
            && before.any(|(link, target)| self.is_followed_still(link, target));
        // What its owner could not read is not for others to see by the link.
        if !self.may_follow(&path, owner, &real, &metadata) {
            reporter.left(path, Reason::LinkOwner);
            return;
        }
        {
            let mut state = self.lock();
            let overlaps = |other: &Path| real.starts_with(other) || other.starts_with(&real);
            // Of two links to one place the one that was followed before stays so.
            let stays = job.links.get(&path) == Some(&target);
            let other = !stays
                && state.links.iter().any(|(link, target)| {
                    *link != path && is_directory && real.starts_with(target)
                });
            let twice = if is_directory {
                other || before || overlaps(&self.real_root)
            } else {
                real.starts_with(&self.real_root)
            };
            if twice {
                drop(state);
                reporter.left(path, Reason::ListedAlready);
                return;
            }
            state.links.insert(path.clone(), target);
        }
        if is_directory {
            // A partial walk looks into what is new; watching tells of changes in the rest.
            let deep = job.scope.is_whole() || job.inventory.directory(&path).is_none();
            if deep {
                self.give(&real, Task::List { path, deep });
            }
            return;
        }
        if !metadata.is_file() {
            reporter.left(path, Reason::Special);
            return;
        }
        job.progress.found.fetch_add(1, Ordering::Relaxed);
        let (around, name) = path.rsplit_once('/').unwrap_or(("", &path));
        let file = Listed { name: name.to_owned(), stat: Some(Stat::from(&metadata)) };
        let listing =
            Arc::new(DirectoryListing { files: vec![file], ..DirectoryListing::default() });
        let (path, sidecar_index) = (Arc::from(around), sidecar_index.clone());
        self.give(&real, Task::Look { path, listing, from: 0, sidecar_index });
    }
}

impl Task {
    pub(super) fn lists(&self) -> bool {
        matches!(self, Task::List { .. } | Task::Follow { .. })
    }

    /// The path below the folder at which it looks.
    pub(super) fn place(&self) -> &str {
        match self {
            Task::List { path, .. } | Task::Follow { path, .. } | Task::Again { path, .. } => path,
            Task::Look { path, .. } => path,
        }
    }

    pub(super) fn modified_ms(&self) -> Option<i64> {
        match self {
            Task::Again { file, .. } => file.stat.map(|stat| stat.modified_ms),
            _ => None,
        }
    }
}

/// What is told of a file whose reader panicked: a fault of this service costs that file alone.
fn reader_failed(path: String) -> Finding {
    left_out(path, Reason::damaged("reading it failed, by a fault of this service"))
}

/// Where the system keeps its own things, and whatever is hidden (SEC-14).
fn is_forbidden(real: &Path) -> bool {
    let system = ["/proc", "/sys", "/dev", "/etc", "/boot"];
    system.iter().any(|top| real.starts_with(top))
        || real.iter().any(|name| name.as_encoded_bytes().starts_with(b"."))
}
