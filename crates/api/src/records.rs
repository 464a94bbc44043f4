//! Saved records.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A file of saved records.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SavedRecords {
    /// Its name.
    pub name: String,
    /// When it was made.
    pub made_ms: u64,
    /// Its bytes.
    pub bytes: u64,
    /// Why it was made: `nightly`, `asked`, `before-restore` or `before-upgrade`.
    pub because: String,
    /// The house's name then.
    pub house: String,
    /// The version of the service that made it.
    pub version: String,
    /// What is in it.
    pub holds: RecordCounts,
    /// The folders that were published, with their paths then.
    pub folders: Vec<SavedFolder>,
    /// When it was checked since the service started.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub checked_ms: Option<u64>,
    /// What the check found wrong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
}

/// A file of saved records that was tried out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CheckedRecords {
    /// The file.
    pub saved: SavedRecords,
    /// The names of the accounts that it brings.
    pub accounts: Vec<String>,
}

/// A folder when records were saved.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SavedFolder {
    /// Its label.
    pub label: String,
    /// Its path.
    pub path: String,
}

/// How much records hold.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RecordCounts {
    /// Published folders.
    pub folders: u64,
    /// Files.
    pub files: u64,
    /// Devices.
    pub devices: u64,
    /// What devices did.
    pub sightings: u64,
    /// Accounts.
    pub accounts: u64,
}

/// The saved records, and what is being done with them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RecordsState {
    /// The files, the newest first.
    pub saved: Vec<SavedRecords>,
    /// What the house holds now.
    pub now: RecordCounts,
    /// What is being done: `saving`, `checking`, `restoring` or `receiving`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub doing: Option<String>,
    /// Since when.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since_ms: Option<u64>,
    /// Why the last save failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
    /// The last restoring.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub restored: Option<RestoredRecords>,
}

/// A restoring of saved records.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RestoredRecords {
    /// The file.
    pub name: String,
    /// When.
    pub at_ms: u64,
    /// Why it was not done; the records are as before then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
    /// The names of the accounts that it brought, with which one signs in now.
    #[serde(default)]
    pub accounts: Vec<String>,
}
