//! What waits to be saved and why, and what was refused for itself and is kept aside.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use mostra_core::not_now::NotNow;
use mostra_store::{Records, UnsavedRecords};
use serde_json::Value;

/// What is saved apart from other things, in the words of the sentence "… is not saved".
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Saving {
    /// Devices, and what they did.
    Devices,
    /// What the doorway decided.
    Doorway,
    /// Walkthroughs.
    Walkthroughs,
    /// What scans found.
    Scans,
}

impl Saving {
    /// As a sentence begins.
    pub fn words(self) -> &'static str {
        match self {
            Saving::Devices => "what devices did",
            Saving::Doorway => "what the doorway decided",
            Saving::Walkthroughs => "walkthroughs",
            Saving::Scans => "what scans found",
        }
    }
}

/// Bytes of what is kept aside.
const ASIDE: u64 = 4 << 20;
/// The file of what was refused for itself, below the data directory.
const ASIDE_FILE: &str = "set-aside.jsonl";

/// The file of what could not be saved before the last stop, below the data directory.
const LEFT_FILE: &str = "unsaved.json";

/// Other records took the place of those for which a stop left something: it is kept under another name,
/// and not saved into them.
pub(crate) fn supersede(data: &Path) {
    let file = data.join(LEFT_FILE);
    let _ = std::fs::rename(&file, file.with_extension("superseded"));
}

/// Reads what a stop left; nothing where there is none. A file that cannot be read is kept.
fn read_left(file: &Path) -> Option<UnsavedRecords> {
    let text = std::fs::read(file).ok()?;
    let read = serde_json::from_slice(&text);
    if let Err(error) = &read {
        tracing::warn!("{} cannot be read, and is kept: {error}", file.display());
        let _ = std::fs::rename(file, file.with_extension("unread"));
    }
    read.ok()
}

/// What waits to be saved, the same for all who hold a copy.
#[derive(Debug, Clone)]
pub(crate) struct NotSaved {
    waits: Arc<Mutex<BTreeMap<Saving, NotNow>>>,
    aside: Arc<Mutex<u64>>,
    file: Arc<PathBuf>,
}

impl NotSaved {
    pub(crate) fn below(data: &Path) -> NotSaved {
        let file = data.join(ASIDE_FILE);
        let lines = std::fs::read(&file).unwrap_or_default();
        let kept = lines.iter().filter(|byte| **byte == b'\n').count() as u64;
        NotSaved { waits: Arc::default(), aside: Arc::new(Mutex::new(kept)), file: Arc::new(file) }
    }

    fn waits(&self) -> MutexGuard<'_, BTreeMap<Saving, NotNow>> {
        self.waits.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Notes that something waits, or waits no more; true if that is news.
    pub(crate) fn note(&self, what: Saving, why: Option<NotNow>) -> bool {
        let mut waits = self.waits();
        match why {
            Some(why) => waits.insert(what, why) != Some(why),
            None => waits.remove(&what).is_some(),
        }
    }

    /// What waits, and why.
    pub(crate) fn all(&self) -> Vec<(Saving, NotNow)> {
        self.waits().iter().map(|(what, why)| (*what, *why)).collect()
    }

    /// Keeps what was refused for itself, as a line of a file: what it is, and why it was refused.
    pub(crate) fn set_aside(&self, what: &str, row: Value, why: &str) {
        let mut count = self.aside.lock().unwrap_or_else(PoisonError::into_inner);
        *count += 1;
        tracing::warn!("{what} was refused, and is set aside: {why}");
        let line = serde_json::json!({ "what": what, "why": why, "row": row }).to_string();
        let kept = std::fs::metadata(&*self.file).map_or(0, |file| file.len());
        if kept + line.len() as u64 > ASIDE {
            return;
        }
        let mut options = std::fs::OpenOptions::new();
        let file = options.create(true).append(true).open(&*self.file);
        if let Err(error) = file.and_then(|mut file| writeln!(file, "{line}")) {
            tracing::warn!("{} cannot be written: {error}", self.file.display());
        }
    }

    /// Writes what is not saved into a file that the next start reads first; what a former stop left
    /// there stays.
    pub(crate) fn keep_for_next_start(&self, left: UnsavedRecords) -> std::io::Result<()> {
        let file = self.file.with_file_name(LEFT_FILE);
        let part = file.with_extension("part");
        let mut all = read_left(&file).unwrap_or_default();
        all.join(left);
        let mut written = std::fs::File::create(&part)?;
        serde_json::to_writer(&mut written, &all)?;
        written.sync_all()?;
        std::fs::rename(part, file)?;
        tracing::warn!("what is not saved waits in {LEFT_FILE} for the next start");
        Ok(())
    }

    /// Saves what the last stop left. What is refused for itself is kept under another name.
    pub(crate) async fn save_what_was_left(&self, records: &Records) {
        let file = self.file.with_file_name(LEFT_FILE);
        let Some(left) = read_left(&file) else { return };
        match records.save_unsaved(left).await {
            Ok(()) => {
                tracing::info!("what could not be saved before the last stop is saved");
                let _ = std::fs::remove_file(file);
            }
            Err(error) if error.not_now().is_some() => {
                tracing::warn!("what was left of the last run is not saved yet: {error}");
            }
            Err(error) => {
                tracing::warn!("what was left of the last run is refused, and set aside: {error}");
                let _ = std::fs::rename(&file, file.with_extension("refused"));
            }
        }
    }

    /// How many were refused and set aside, and the file that holds them.
    pub(crate) fn aside(&self) -> (u64, &Path) {
        (*self.aside.lock().unwrap_or_else(PoisonError::into_inner), &self.file)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_refused_is_kept_and_counted_over_restarts() {
        let data = tempfile::tempdir().unwrap();
        let one = NotSaved::below(data.path());
        assert!(one.note(Saving::Devices, Some(NotNow::DiskFull)));
        assert!(!one.note(Saving::Devices, Some(NotNow::DiskFull)), "no news");
        assert_eq!(one.all(), [(Saving::Devices, NotNow::DiskFull)]);
        assert!(one.note(Saving::Devices, None) && one.all().is_empty());
        for number in 0..3 {
            one.set_aside("a sighting", serde_json::json!({ "number": number }), "22021");
        }
        let again = NotSaved::below(data.path());
        assert_eq!(again.aside().0, 3);
        assert!(std::fs::read_to_string(again.aside().1).unwrap().contains("\"number\":2"));
    }
}
