use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A folder to publish.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewFolder {
    /// Where it is on the host, absolute.
    pub path: String,
    /// The label devices see; the directory's name if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// The kinds it holds: `video`, `music`, `picture`; all if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kinds: Option<Vec<String>>,
    /// Which links that lead out of it are followed; `readable` if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub links: Option<FollowedLinks>,
}

/// Which links that lead out of a folder are followed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum FollowedLinks {
    /// Those made by the administrator, or by whoever owns what they lead to, or whose owner could
    /// read it.
    Readable,
    /// All.
    All,
}

/// A choice of links.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LinkChoice {
    /// Which are followed.
    pub links: FollowedLinks,
}

/// Items by kind.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KindCounts {
    /// Films and clips.
    pub video: u32,
    /// Tracks.
    pub music: u32,
    /// Pictures.
    pub picture: u32,
}

/// A published folder.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Folder {
    /// Its number.
    pub id: u32,
    /// Its label.
    pub label: String,
    /// Where it is on the host.
    pub path: String,
    /// The kinds it holds.
    pub kinds: Vec<String>,
    /// Items published from it.
    pub items: KindCounts,
    /// Files that are left out.
    pub left_out: u32,
    /// Sub-folders left out by the person, by path below the folder.
    pub excluded: Vec<String>,
    /// Which links that lead out of it are followed.
    pub links: FollowedLinks,
    /// Since when the folder is away, if it is: unplugged, unmounted, not answering.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub away_ms: Option<u64>,
    /// What starts the next scan, in words.
    pub next_scan: String,
    /// When the last scan ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scanned_ms: Option<u64>,
    /// The scan that runs or failed, if any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scan: Option<Scan>,
}

/// Where a scan is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ScanState {
    /// Listing and reading.
    Running,
    /// Ended early.
    Failed,
}

/// A scan's progress.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Scan {
    /// Where it is.
    pub state: ScanState,
    /// Files looked at.
    pub done: u64,
    /// Files still to look at, as far as listed.
    pub to_do: u64,
    /// Whether listing has ended, so that `to_do` is all.
    pub listed: bool,
    /// Files left out so far.
    pub left_out: u64,
    /// Files a second.
    pub rate: f64,
    /// Milliseconds left at this rate, once listed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remaining_ms: Option<u64>,
    /// Why it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
}

/// What to scan of a folder.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Rescan {
    /// A directory, by path below the folder or absolute; all of the folder if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// Whether the drives are meant to be as they are now: what was published from a drive that
    /// is not mounted any more counts as gone, and another one in its place as that drive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub as_it_is: Option<bool>,
}

/// Where a folder is now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FolderMove {
    /// The path on the host.
    pub path: String,
    /// Whether to take it though most of what is recorded is not there; that counts as gone then.
    #[serde(default)]
    pub anyway: bool,
}

/// Sub-folders to leave out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Excluded {
    /// Their paths below the folder.
    pub paths: Vec<String>,
}

/// A file that a scan found added, changed or gone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ScanChange {
    /// `added`, `changed` or `gone`.
    pub what: String,
    /// Its path below the folder.
    pub path: String,
}

/// What a scan did.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ScanReport {
    /// When it began.
    pub began_ms: u64,
    /// When it ended.
    pub ended_ms: u64,
    /// What started it: `first`, `start`, `asked`, `poll`, `change`, `back` or `away`.
    pub why: String,
    /// Files added.
    pub added: u64,
    /// Files changed, renamed or moved.
    pub changed: u64,
    /// Files gone.
    pub gone: u64,
    /// The files, the first thousand of each sort.
    pub files: Vec<ScanChange>,
}

/// What the last scans of a folder did, and how what is on disk compares with what is published.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ScanReports {
    /// The reports, the newest first.
    pub reports: Vec<ScanReport>,
}

/// A file that is not published.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LeftOut {
    /// Its path below the folder.
    pub path: String,
    /// Why, in words.
    pub reason: String,
    /// Why, as a code, with data where it has any.
    pub code: serde_json::Value,
    /// What a person can do about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
}

/// Files that are not published.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LeftOutList {
    /// The files.
    pub files: Vec<LeftOut>,
    /// Files found on disk, by the kind that their names say: those published and those not.
    pub found: KindCounts,
    /// Files found on disk whose names are of no kind.
    pub other: u32,
}

/// A directory on the host that could be published.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Place {
    /// Its name.
    pub name: String,
    /// Its absolute path.
    pub path: String,
    /// Why it is proposed: `media folder`, `attached volume`; nothing for plain directories.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// Why it cannot be chosen, if it cannot.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
}

/// What the folder picker shows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Places {
    /// The directory listed; empty for the proposals.
    pub path: String,
    /// The directory around it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<String>,
    /// What is in it.
    pub places: Vec<Place>,
}
