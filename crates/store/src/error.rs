//! Why the records did not do something, told apart by SQLSTATE and kind, never by words: PostgreSQL
//! says them in the language that it is set to.

use std::io;

use mostra_core::not_now::NotNow;
use sea_orm::{DbErr, RuntimeErr, sqlx};

/// Why the records did not do something.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// PostgreSQL takes nothing now, or cannot be reached; nothing was saved, and may be later.
    #[error("{cause} {said}", cause = .0.sentence(), said = .1)]
    NotNow(NotNow, String),
    /// PostgreSQL refused this for itself.
    #[error("the database refused: {0}")]
    Refused(String),
    /// Another service uses the database.
    #[error("another service uses this database: {0}")]
    Held(String),
    /// A later version wrote the records.
    #[error("a later version wrote these records: they have {0}, which this one does not know")]
    Later(String),
    /// The tables could not be brought to this version's form.
    #[error("the records could not be brought to this version's form, and are as they were: {0}")]
    NotMigrated(String),
    /// A record does not read back.
    #[error("a record is damaged: {0}")]
    Damaged(String),
}

impl StoreError {
    /// Why it may do later what it did not do now; `None` for what it will never do.
    pub fn not_now(&self) -> Option<NotNow> {
        match self {
            StoreError::NotNow(cause, _) => Some(*cause),
            _ => None,
        }
    }
}

impl From<DbErr> for StoreError {
    fn from(error: DbErr) -> StoreError {
        match &error {
            DbErr::Exec(RuntimeErr::SqlxError(cause))
            | DbErr::Query(RuntimeErr::SqlxError(cause))
            | DbErr::Conn(RuntimeErr::SqlxError(cause)) => told_apart(cause, &error),
            DbErr::ConnectionAcquire(_) | DbErr::Conn(_) => {
                StoreError::NotNow(NotNow::NoAnswer, error.to_string())
            }
            _ => StoreError::Refused(error.to_string()),
        }
    }
}

impl From<sqlx::Error> for StoreError {
    fn from(error: sqlx::Error) -> StoreError {
        told_apart(&error, &error)
    }
}

fn told_apart(cause: &sqlx::Error, whole: &dyn std::fmt::Display) -> StoreError {
    use sqlx::Error;
    let cause = match cause {
        Error::Database(said) => said.code().and_then(|code| NotNow::from_sqlstate(&code)),
        Error::Io(_)
        | Error::Tls(_)
        | Error::Protocol(_)
        | Error::PoolTimedOut
        | Error::PoolClosed
        | Error::WorkerCrashed => Some(NotNow::NoAnswer),
        _ => None,
    };
    match cause {
        Some(cause) => StoreError::NotNow(cause, whole.to_string()),
        None => StoreError::Refused(whole.to_string()),
    }
}

/// Whether a server that could not be connected to is there, but slow or not ready yet.
pub(crate) fn is_busy(error: &DbErr) -> bool {
    match error {
        DbErr::ConnectionAcquire(sea_orm::ConnAcquireErr::Timeout) => true,
        DbErr::Conn(RuntimeErr::SqlxError(cause)) => match &**cause {
            sqlx::Error::PoolTimedOut => true,
            sqlx::Error::Io(error) => error.kind() == io::ErrorKind::TimedOut,
            sqlx::Error::Database(said) => {
                let cause = said.code().and_then(|code| NotNow::from_sqlstate(&code));
                matches!(cause, Some(NotNow::NotReady | NotNow::TooManyConnections))
            }
            _ => false,
        },
        _ => false,
    }
}
