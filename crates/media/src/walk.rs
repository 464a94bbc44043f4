//! Listing what lies in a folder.

use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

use walkdir::{DirEntry, WalkDir};

use crate::{Reason, unreadable};

/// Something found in a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Found {
    /// A regular file.
    File {
        /// Names from the folder's root down, the file's own last.
        names: Vec<String>,
        /// Where it is.
        path: PathBuf,
        /// Bytes.
        size: u64,
        /// Last modification, Unix time in milliseconds.
        modified_ms: i64,
    },
    /// Something that cannot be published whatever it holds.
    LeftOut {
        /// Its path below the folder's root, made readable.
        path: String,
        /// Why.
        reason: Reason,
    },
}

/// Directories deeper than this are not entered (CDS-5 allows 32 steps to the root).
pub const DEPTH: usize = 28;

/// Walks a folder in order of names. Hidden files and directories are passed over silently;
/// links are left out. Errors on single entries do not stop the walk.
pub fn walk(root: &Path) -> impl Iterator<Item = Found> + '_ {
    let visible = |entry: &DirEntry| {
        entry.depth() == 0 || !entry.file_name().to_string_lossy().starts_with('.')
    };
    let entries = WalkDir::new(root).max_depth(DEPTH).follow_links(false).sort_by_file_name();
    entries.into_iter().filter_entry(visible).filter_map(move |entry| match entry {
        Ok(entry) => found(root, &entry),
        Err(error) => {
            let path = error.path().map(|p| readable(root, p)).unwrap_or_default();
            let reason = error.io_error().map_or(Reason::Special, unreadable);
            Some(Found::LeftOut { path, reason })
        }
    })
}

fn found(root: &Path, entry: &DirEntry) -> Option<Found> {
    if entry.file_type().is_dir() {
        return None;
    }
    let left_out = |reason| Some(Found::LeftOut { path: readable(root, entry.path()), reason });
    if !entry.file_type().is_file() {
        return left_out(Reason::Special);
    }
    let below = entry.path().strip_prefix(root).ok()?;
    let names: Option<Vec<String>> =
        below.iter().map(|name| name.to_str().map(str::to_owned)).collect();
    let Some(names) = names else { return left_out(Reason::Name) };
    match entry.metadata() {
        Ok(metadata) => Some(Found::File {
            names,
            path: entry.path().to_owned(),
            size: metadata.len(),
            modified_ms: modified_ms(&metadata),
        }),
        Err(error) => left_out(error.io_error().map_or(Reason::Special, unreadable)),
    }
}

/// A file's modification time as Unix milliseconds; 0 where the system has none.
pub fn modified_ms(metadata: &std::fs::Metadata) -> i64 {
    let since = metadata.modified().ok().and_then(|t| t.duration_since(UNIX_EPOCH).ok());
    since.and_then(|d| i64::try_from(d.as_millis()).ok()).unwrap_or(0)
}

fn readable(root: &Path, path: &Path) -> String {
    path.strip_prefix(root).unwrap_or(path).to_string_lossy().into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::ffi::OsStrExt;

    #[test]
    fn hidden_is_passed_over_and_odd_names_are_told() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path();
        std::fs::create_dir_all(root.join("b/.trash")).unwrap();
        for name in ["b/two.mp4", "a.mp3", ".hidden.mp3", "b/.trash/x.mp4"] {
            std::fs::write(root.join(name), b"x").unwrap();
        }
        std::fs::write(root.join(std::ffi::OsStr::from_bytes(b"bad\xff.mp3")), b"x").unwrap();
        std::os::unix::fs::symlink("/etc/passwd", root.join("link.mp4")).unwrap();
        let all: Vec<Found> = walk(root).collect();
        let names: Vec<String> = all
            .iter()
            .filter_map(|f| {
                if let Found::File { names, .. } = f { Some(names.join("/")) } else { None }
            })
            .collect();
        assert_eq!(names, ["a.mp3", "b/two.mp4"]);
        let reasons: Vec<&Reason> = all
            .iter()
            .filter_map(|f| if let Found::LeftOut { reason, .. } = f { Some(reason) } else { None })
            .collect();
        assert_eq!(reasons, [&Reason::Name, &Reason::Special]);
    }
}
