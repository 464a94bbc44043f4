//! Why records were not saved, checked or restored, and what a person can do about it.

use std::io;
use std::path::PathBuf;

use mostra_core::saving::Unfit;
use mostra_store::{DumpError, StoreError};

use super::ArchiveError;

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
    Dump(#[from] DumpError),
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
            SavingError::Archive(ArchiveError::Other) => {
                "Name a file that `mostra records save` wrote.".into()
            }
            SavingError::Archive(ArchiveError::Io(_)) => {
                "See that the service may write below its data directory, and that there is room.".into()
            }
            SavingError::Dump(DumpError::NotRun { .. }) => {
                "Install PostgreSQL's client programs (Debian: postgresql-client).".into()
            }
            SavingError::Dump(DumpError::Unguarded) => {
                "Update PostgreSQL's client programs (15.14, 16.10, 17.6 or later), and try again.".into()
            }
            SavingError::Dump(DumpError::Failed { said, .. })
                if said.contains("permission denied to create database") =>
            {
                "A check needs an empty database beside the house's. As PostgreSQL's user: createdb --owner=mostra mostra_scratch".into()
            }
            SavingError::Dump(_) | SavingError::Store(_) | SavingError::Counts { .. } => {
                "See PostgreSQL's log.".into()
            }
        }
    }
}
