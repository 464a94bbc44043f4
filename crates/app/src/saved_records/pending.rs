//! Restoring happens when the service starts, before anything reads the records.

use std::path::{Path, PathBuf};

use mostra_core::saving::Manifest;
use serde::{Deserialize, Serialize};

use super::{ArchiveError, PLACE, SavingError};
use crate::clock::{Clock, ms};

/// What a restoring did.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Restored {
    /// The file.
    pub name: String,
    /// When, in Unix milliseconds.
    pub at_ms: u64,
    /// Why it was not done; everything is as before then.
    pub problem: Option<String>,
}

/// The dump that is to be restored, and the file that it is from.
fn files(data: &Path) -> [PathBuf; 4] {
    let place = data.join(PLACE);
    ["restore.part", "restore.dump", "restore.name", "restored.json"].map(|name| place.join(name))
}

/// Makes a dump ready; it is restored once that is decided.
pub(super) fn prepare(
    data: &Path,
    name: &str,
    extract: impl FnOnce(&Path) -> Result<Manifest, ArchiveError>,
) -> Result<(), SavingError> {
    let [part, dump, of, _] = files(data);
    let _ = std::fs::remove_file(&dump);
    if let Err(error) = extract(&part) {
        let _ = std::fs::remove_file(&part);
        return Err(error.into());
    }
    std::fs::write(of, name)?;
    Ok(())
}

/// Decides that what was made ready is restored at the next start.
pub(super) fn decide(data: &Path) -> std::io::Result<()> {
    let [part, dump, ..] = files(data);
    std::fs::rename(part, dump)
}

/// What the last restoring did.
pub(super) fn outcome(data: &Path) -> Option<Restored> {
    let [.., outcome] = files(data);
    serde_json::from_slice(&std::fs::read(outcome).ok()?).ok()
}

/// Restores what is to be restored, all or nothing, once; whether there was something. What it did
/// is kept.
pub async fn restore_pending(data: &Path, url: &str) -> bool {
    let [part, dump, of, outcome] = files(data);
    let _ = std::fs::remove_file(part);
    if !dump.exists() {
        return false;
    }
    let name = std::fs::read_to_string(&of).unwrap_or_default();
    let restored = mostra_store::restore(url, &dump).await;
    let problem = restored.err().map(|error| error.to_string());
    match &problem {
        None => {
            crate::not_saved::supersede(data);
            tracing::warn!(name, "the records were restored");
        }
        Some(why) => {
            tracing::error!(name, "the records were not restored, and are as before: {why}")
        }
    }
    let done = Restored { name, at_ms: ms(Clock::wall()), problem };
    let _ = std::fs::write(outcome, serde_json::to_vec(&done).unwrap_or_default());
    let _ = std::fs::remove_file(of);
    let _ = std::fs::remove_file(dump);
    true
}
