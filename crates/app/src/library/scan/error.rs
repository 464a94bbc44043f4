//! Why a scan ended early.

use std::io;
use std::sync::Arc;

use mostra_store::StoreError;
use tokio::task::JoinError;

/// Why a folder is not there.
#[derive(Debug, Clone, thiserror::Error)]
pub enum AwayReason {
    /// What it is on does not answer.
    #[error("the drive or network share does not answer")]
    NoAnswer,
    /// Another drive than before is mounted there, or none.
    #[error(
        "another drive than before is mounted there, or none. When that is meant to be so, take \
         it as it is"
    )]
    OtherDrive,
    /// Its mount point is empty.
    #[error("nothing is mounted there")]
    NotMounted,
    /// Its drive went while it was looked at.
    #[error("it is not on the drive on which it was")]
    DriveGone,
    /// It went while it was looked at.
    #[error("it is not there")]
    Gone,
    /// It cannot be read.
    #[error("the folder cannot be read: {0}")]
    Unreadable(#[source] Arc<io::Error>),
}

/// Why a scan ended early.
#[derive(Debug, Clone, thiserror::Error)]
pub enum ScanError {
    /// A person stopped it. What has been read stays published.
    #[error("it was stopped; a rescan goes on from there")]
    Stopped,
    /// The folder is not there.
    #[error("the folder is away: {0}")]
    Away(#[from] AwayReason),
    /// The service's user may not read the folder.
    #[error("the folder cannot be read: {0}")]
    NoPermission(#[source] Arc<io::Error>),
    /// The system lacks descriptors, threads or memory now.
    #[error("it is put off, as the system has too little left: {0}")]
    PutOff(String),
    /// What it found was not recorded.
    #[error("not saved: {0}")]
    NotSaved(#[source] Arc<StoreError>),
    /// A task of it failed.
    #[error("a part of it failed: {0}")]
    Task(#[source] Arc<JoinError>),
}

impl ScanError {
    /// Whether a scan that ended so leaves the catalogue other than the disk, by nobody's doing.
    pub fn is_failure(&self) -> bool {
        self.may_pass()
    }

    /// Whether it is worth to try the same again, without anybody's doing.
    pub(super) fn may_pass(&self) -> bool {
        matches!(self, ScanError::PutOff(_) | ScanError::NotSaved(_) | ScanError::Task(_))
    }
}

impl From<StoreError> for ScanError {
    fn from(error: StoreError) -> ScanError {
        ScanError::NotSaved(Arc::new(error))
    }
}

impl From<JoinError> for ScanError {
    fn from(error: JoinError) -> ScanError {
        ScanError::Task(Arc::new(error))
    }
}
