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
    /// The names of the accounts that it brought.
    #[serde(default)]
    pub accounts: Vec<String>,
}

/// What is to be restored.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Waiting {
    name: String,
    schema: String,
    accounts: Vec<String>,
}

/// The rows that are to be restored, first while that is not decided, and what is known of them.
fn files(data: &Path) -> [PathBuf; 4] {
    let place = data.join(PLACE);
    ["restore.part", "restore.rows", "restore.json", "restored.json"].map(|name| place.join(name))
}

/// Makes rows ready; they are restored once that is decided.
pub(super) fn prepare(
    data: &Path,
    extract: impl FnOnce(&Path) -> Result<Manifest, ArchiveError>,
) -> Result<(PathBuf, Manifest), SavingError> {
    let [part, rows, ..] = files(data);
    let _ = std::fs::remove_file(&rows);
    match extract(&part) {
        Ok(manifest) => Ok((part, manifest)),
        Err(error) => {
            let _ = std::fs::remove_file(&part);
            Err(error.into())
        }
    }
}

/// Notes what is to be restored.
pub(super) fn note(
    data: &Path,
    name: &str,
    manifest: &Manifest,
    accounts: Vec<String>,
) -> std::io::Result<()> {
    let [_, _, of, _] = files(data);
    let waiting = Waiting { name: name.to_owned(), schema: manifest.schema.clone(), accounts };
    std::fs::write(of, serde_json::to_vec(&waiting)?)
}

/// Decides that what was made ready is restored at the next start.
pub(super) fn decide(data: &Path) -> std::io::Result<()> {
    let [part, rows, ..] = files(data);
    std::fs::rename(part, rows)
}

/// What the last restoring did.
pub(super) fn outcome(data: &Path) -> Option<Restored> {
    let [.., outcome] = files(data);
    serde_json::from_slice(&std::fs::read(outcome).ok()?).ok()
}

/// Restores what is to be restored, all or nothing, once; whether there was something. What it did
/// is kept.
pub async fn restore_pending(data: &Path, url: &str) -> bool {
    let [part, rows, of, outcome] = files(data);
    let _ = std::fs::remove_file(part);
    if !rows.exists() {
        return false;
    }
    let waiting = std::fs::read(&of).map_err(|error| error.to_string()).and_then(|text| {
        serde_json::from_slice::<Waiting>(&text).map_err(|error| error.to_string())
    });
    let (waiting, restored) = match waiting {
        Ok(waiting) => {
            let restored = mostra_store::restore(url, &rows, &waiting.schema).await;
            (waiting, restored.map_err(|error| error.to_string()))
        }
        Err(why) => (Waiting::default(), Err(why)),
    };
    let Waiting { name, accounts, .. } = waiting;
    let problem = restored.err();
    match &problem {
        None => {
            crate::not_saved::supersede(data);
            tracing::warn!(name, "the records were restored");
        }
        Some(why) => {
            tracing::error!(name, "the records were not restored, and are as before: {why}")
        }
    }
    let done = Restored { name, at_ms: ms(Clock::wall()), problem, accounts };
    let _ = std::fs::write(outcome, serde_json::to_vec(&done).unwrap_or_default());
    let _ = std::fs::remove_file(of);
    let _ = std::fs::remove_file(rows);
    true
}
