//! The published folders: whether they are there, and how fast their drives are.

use std::fs::File;
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use mostra_core::catalogue::{Catalogue, Folder};
use mostra_core::preflight::{FolderFacts, FolderTrouble};
use mostra_media::mounts::Mounts;
use nix::fcntl::{PosixFadviseAdvice, posix_fadvise};

use crate::library::Library;
use crate::library::rights;
use crate::library::scan::ScanError;

/// Entries looked at for a large file.
const ENTRIES: usize = 2000;
/// Bytes of a file that says something of a drive.
const LARGE: u64 = 4 << 20;
/// Bytes read, and how long at most.
const READ: u64 = 32 << 20;
const READING: Duration = Duration::from_secs(1);

/// What is known of the folders, asking their drives. Only a whole look does so: a drive that sleeps
/// is left asleep.
pub(super) async fn look(library: &Library) -> Vec<FolderFacts> {
    let catalogue = library.catalogue();
    let mounts = Mounts::read();
    let mut all = Vec::new();
    for folder in catalogue.folders() {
        let root = PathBuf::from(&folder.root);
        let mut facts = FolderFacts::default();
        bring_up_to_date(library, &catalogue, folder, &mut facts);
        facts.file_system = mounts.kind_of(&root).map(str::to_owned);
        if facts.trouble.is_none() {
            let pool = library.pool_of(&root);
            let place = root.clone();
            let looked = pool.run(move || Ok((rights::what_stops(&place), super::free(&place))));
            if let Ok((stops, free)) = looked.await {
                facts.free = free;
                facts.trouble = stops.map(|(obstacle, command)| FolderTrouble::NotReadable {
                    stops: obstacle.path,
                    command: Some(command),
                });
            }
            if facts.trouble.is_none() {
                facts.read_speed = pool.run(move || speed(&root)).await.ok().flatten();
            }
        }
        all.push(facts);
    }
    all
}

/// Puts into a folder's facts what is known without asking its drive.
pub(super) fn bring_up_to_date(
    library: &Library,
    catalogue: &Catalogue,
    folder: &Folder,
    facts: &mut FolderFacts,
) {
    let known = library.scans.known(folder.serial);
    let away = known.away.is_some();
    facts.failed = known.problem.filter(ScanError::is_failure).map(|problem| problem.to_string());
    facts.hidden = known.hidden.into_iter().collect();
    facts.number = folder.serial.0;
    facts.label.clone_from(&folder.label);
    facts.path.clone_from(&folder.root);
    facts.items = catalogue.folder_counts(folder.serial).iter().map(|n| u64::from(*n)).sum();
    match (away, &facts.trouble) {
        (true, _) => facts.trouble = Some(FolderTrouble::Away),
        (false, Some(FolderTrouble::Away)) => facts.trouble = None,
        (false, _) => {}
    }
}

/// Bytes a second at which a large file of a folder is read; `None` where it has none.
fn speed(root: &Path) -> io::Result<Option<u64>> {
    let Some(path) = large_file(root) else { return Ok(None) };
    let file = File::open(path)?;
    // What the system still has in memory says nothing of the drive.
    let whole = i64::try_from(READ).unwrap_or(i64::MAX);
    posix_fadvise(&file, 0, whole, PosixFadviseAdvice::POSIX_FADV_DONTNEED)?;
    let mut file = file.take(READ);
    let mut piece = vec![0; 1 << 20];
    let (began, mut read) = (Instant::now(), 0);
    loop {
        let count = file.read(&mut piece)?;
        read += count as u64;
        if count == 0 || began.elapsed() > READING {
            break;
        }
    }
    let seconds = began.elapsed().as_secs_f64();
    Ok((read >= LARGE && seconds > 0.0).then(|| (read as f64 / seconds) as u64))
}

/// The largest file among the first entries, breadth first.
fn large_file(root: &Path) -> Option<PathBuf> {
    let mut open = std::collections::VecDeque::from([root.to_owned()]);
    let mut largest: Option<(u64, PathBuf)> = None;
    let mut looked = 0;
    while let Some(directory) = open.pop_front() {
        for entry in std::fs::read_dir(directory).into_iter().flatten().flatten() {
            looked += 1;
            if looked > ENTRIES {
                return largest.map(|(_, path)| path);
            }
            let Ok(kind) = entry.file_type() else { continue };
            if kind.is_dir() {
                open.push_back(entry.path());
            } else if kind.is_file()
                && let Ok(size) = entry.metadata().map(|metadata| metadata.len())
                && size >= LARGE
                && largest.as_ref().is_none_or(|(known, _)| size > *known)
            {
                largest = Some((size, entry.path()));
            }
        }
    }
    largest.map(|(_, path)| path)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_largest_file_is_read_and_small_ones_say_nothing() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("a")).unwrap();
        std::fs::write(folder.path().join("small"), [0; 1000]).unwrap();
        assert_eq!(speed(folder.path()).unwrap(), None);
        std::fs::write(folder.path().join("a/large"), vec![1; 5 << 20]).unwrap();
        std::fs::write(folder.path().join("a/larger"), vec![1; 6 << 20]).unwrap();
        assert!(large_file(folder.path()).unwrap().ends_with("larger"));
        assert!(speed(folder.path()).unwrap().unwrap() > 0);
    }
}
