//! Why records were not saved, checked or restored, and what a person can do about it.

use std::io;
use std::path::PathBuf;

use mostra_core::saving::Unfit;
use mostra_store::{RowsError, StoreError};

use super::ArchiveError;

/// How a role is made by which files are tried.
const CHECK_ROLE: &str = "As PostgreSQL's superuser: create role mostra_check login password '…'; create database mostra_scratch owner mostra_check; revoke connect on database mostra from public. Then name it: check_database_url = \"postgres://mostra_check:…@HOST/mostra_scratch\" in the configuration file.";

/// Why records were not saved, checked or restored.
#[derive(Debug, thiserror::Error)]
pub enum SavingError {
    /// Another save, check or restoring is under way.
    #[error("something else is being done with saved records")]
    Busy,
    /// There is no such file.
    #[error("there are no saved records of that name")]
    Missing,
    /// The disk has too little room.
    #[error("{} has room for {free} bytes more, and {needed} are needed", .place.display())]
    Room {
        /// Where.
        place: PathBuf,
        /// Bytes that are free there.
        free: u64,
        /// Bytes that are needed.
        needed: u64,
    },
    /// The file is none, or is damaged, or of a later version.
    #[error(transparent)]
    Archive(#[from] ArchiveError),
    /// PostgreSQL did not give or take the records.
    #[error(transparent)]
    Rows(#[from] RowsError),
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Restored, they are not what was saved.
    #[error("restored, {table} has {restored} rows, and {saved} were saved")]
    Counts {
        /// The table.
        table: String,
        /// Rows saved.
        saved: u64,
        /// Rows restored.
        restored: u64,
    },
}

impl From<io::Error> for SavingError {
    fn from(error: io::Error) -> SavingError {
        SavingError::Archive(ArchiveError::Io(error))
    }
}

impl SavingError {
    /// What a person can do about it.
    pub fn remedy(&self) -> String {
        match self {
            SavingError::Busy => "Try again when that is done: mostra records list".into(),
            SavingError::Missing => "mostra records list shows what is saved.".into(),
            SavingError::Room { .. } => "Make room on that disk.".into(),
            SavingError::Archive(ArchiveError::Unfit(Unfit::Later(version))) => {
                format!("Install version {version} or later here first.")
            }
            SavingError::Archive(ArchiveError::Unfit(Unfit::Damaged)) => {
                "Take another one; the file was changed or cut off on its way.".into()
            }
            SavingError::Archive(ArchiveError::Unfit(Unfit::Earlier)) => {
                "Restore it with the version that made it, and save the records again with this one.".into()
            }
            SavingError::Archive(ArchiveError::Other) => {
                "Name a file that `mostra records save` wrote.".into()
            }
            SavingError::Archive(ArchiveError::Io(_)) => {
                "See that the service may write below its data directory, and that there is room.".into()
            }
            SavingError::Rows(RowsError::NoCheckRole(_)) => CHECK_ROLE.into(),
            SavingError::Rows(RowsError::Unfit(_)) => {
                "Take another file: its records were not written by this program.".into()
            }
            SavingError::Rows(RowsError::Io(_)) => {
                "See that the service may write below its data directory, and that there is room.".into()
            }
            SavingError::Rows(RowsError::Store(StoreError::NotNow(cause, _))) => {
                cause.remedy().into()
            }
            SavingError::Rows(_) | SavingError::Store(_) | SavingError::Counts { .. } => {
                "See PostgreSQL's log.".into()
            }
        }
    }
}
