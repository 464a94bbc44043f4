use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is open to whom.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Exposure {
    /// Where something can be reached.
    pub listeners: Vec<Listener>,
    /// The rule for new devices.
    pub doorway: String,
    /// Published folders and how many devices may see them.
    pub folders: Vec<FolderExposure>,
    /// Devices that are let in, in the order in which they were.
    pub devices: Vec<AdmittedDevice>,
    /// Accounts of the console.
    pub accounts: Vec<AccountExposure>,
    /// What is wider than it needs to be, what matters most first.
    pub wide: Vec<Wide>,
    /// What a decision on a device protects from, and what not.
    pub honest: String,
}

/// A listener.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Listener {
    /// What it serves.
    pub what: String,
    /// Its address and port.
    pub address: String,
    /// Who reaches it.
    pub who: String,
}

/// A folder and who may see it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FolderExposure {
    /// Its label.
    pub label: String,
    /// Where it is.
    pub root: String,
    /// How many devices may see something of it.
    pub devices: u32,
}

/// A device that is let in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AdmittedDevice {
    /// Its number.
    pub id: u32,
    /// Its name.
    pub label: String,
    /// The kinds it may see.
    pub kinds: Vec<String>,
    /// The labels of the folders it may see; left out: all, also those to come.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folders: Option<Vec<String>>,
    /// Who let it in: an account, or the doorway.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// Since when.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since_ms: Option<u64>,
}

/// An account.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AccountExposure {
    /// Its name.
    pub name: String,
    /// How many sessions it has.
    pub sessions: u32,
}

/// Something that is wider than it needs to be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Wide {
    /// What is open, and why that may be more than is needed.
    pub what: String,
    /// The command that narrows it.
    pub command: String,
}
