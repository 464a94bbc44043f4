//! The house's records in PostgreSQL, through SeaORM.
//!
//! [`Records`] is the one door: a few operations in the house's own words. What a command
//! confirmed is committed before it returns. There is deliberately no look-up of a file by its
//! path: files are found through the catalogue, with a pass.

mod accounts;
mod batch;
mod copied;
mod devices;
mod entity;
mod error;
mod folders;
mod hold;
mod migration;
mod reports;
mod saving;
mod settings;
mod sightings;
mod stream;
mod unread;
mod unsaved;
mod walkthroughs;

use std::sync::Arc;
use std::time::{Duration, Instant};

use mostra_core::not_now::NotNow;
use sea_orm::{ConnectOptions, ConnectionTrait as _, Database, DatabaseConnection, Statement};
use sea_orm_migration::MigratorTrait;

use unread::UnreadRows;

pub use batch::Batch;
pub use devices::{Decided, DecisionNote};
pub use error::StoreError;
pub use folders::{LeftOut, Loaded, LoadedFolder, NewFolder};
pub use hold::Hold;
pub use reports::{LISTED, Position, ScanReport, What};
pub use saving::{RowsError, Snapshot, Tried, known_schemas, restore, try_out};
pub use settings::Counter;
pub use stream::RawFiles;
pub use unsaved::UnsavedRecords;

/// The records.
#[derive(Debug, Clone)]
pub struct Records {
    database: DatabaseConnection,
    unread: Arc<UnreadRows>,
}

/// Why the records were not opened, and whether that may pass by itself.
struct NotOpened {
    error: StoreError,
    may_pass: bool,
}

impl From<StoreError> for NotOpened {
    fn from(error: StoreError) -> NotOpened {
        NotOpened { error, may_pass: false }
    }
}

/// What a server says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Health {
    /// Its version.
    pub version: String,
    /// Bytes of these records.
    pub size: u64,
    /// Where it keeps its files, where it tells.
    pub directory: Option<String>,
}

impl Records {
    /// Connects and brings the tables up to date. A server that is slow or still starting is
    /// waited for as long as `patience`; one that is not there is told at once.
    ///
    /// # Errors
    /// [`StoreError`] when the server cannot be reached or a migration fails.
    pub async fn open(url: &str, patience: Duration) -> Result<Records, StoreError> {
        let begin = Instant::now();
        loop {
            match Self::connect(url).await {
                Ok(database) => return Ok(Records { database, unread: Arc::default() }),
                Err(error) if error.may_pass && begin.elapsed() < patience => {}
                Err(error) => return Err(error.error),
            }
        }
    }

    /// Connects, and leaves the tables as they are, of whatever version: enough to save and to
    /// restore them whole.
    ///
    /// # Errors
    /// [`StoreError`] when the server cannot be reached.
    pub async fn open_as_it_is(url: &str, patience: Duration) -> Result<Records, StoreError> {
        let begin = Instant::now();
        loop {
            match Self::reach(url).await {
                Ok(database) => return Ok(Records { database, unread: Arc::default() }),
                Err(error) if error.may_pass && begin.elapsed() < patience => {}
                Err(error) => return Err(error.error),
            }
        }
    }

    async fn reach(url: &str) -> Result<DatabaseConnection, NotOpened> {
        let mut options = ConnectOptions::new(url);
        options
            .max_connections(8)
            .connect_timeout(Duration::from_secs(10))
            .acquire_timeout(Duration::from_secs(3))
            .sqlx_logging(false);
        Database::connect(options).await.map_err(|error| NotOpened {
            may_pass: error::is_busy(&error),
            error: match error.into() {
                // Whatever it says at the door: this service is not let in.
                StoreError::Refused(why) => StoreError::NotNow(NotNow::NotLetIn, why),
                other => other,
            },
        })
    }

    async fn connect(url: &str) -> Result<DatabaseConnection, NotOpened> {
        let database = Self::reach(url).await?;
        Self::refuse_later(&database).await?;
        migration::Migrator::up(&database, None).await.map_err(|error| NotOpened {
            may_pass: error::is_busy(&error),
            error: match error.into() {
                StoreError::Refused(why) => StoreError::NotMigrated(why),
                other => other,
            },
        })?;
        Ok(database)
    }

    /// Touches nothing that a later version wrote.
    async fn refuse_later(database: &DatabaseConnection) -> Result<(), StoreError> {
        let known = known_schemas();
        for version in saving::applied(database).await? {
            if !known.contains(&version) {
                return Err(StoreError::Later(version));
            }
        }
        Ok(())
    }

    /// What the server says of itself and of these records.
    ///
    /// # Errors
    /// [`StoreError`] when it does not answer.
    pub async fn health(&self) -> Result<Health, StoreError> {
        let backend = self.database.get_database_backend();
        let ask = |sql: &str| Statement::from_string(backend, sql);
        let sql = "SELECT current_setting('server_version') AS version, \
                   pg_database_size(current_database()) AS size";
        let row = self.database.query_one_raw(ask(sql)).await?;
        let row = row.ok_or_else(|| StoreError::Damaged("no answer about itself".into()))?;
        // Where its files are is told to few.
        let place = self.database.query_one_raw(ask("SHOW data_directory")).await.ok().flatten();
        let place = place.and_then(|row| row.try_get::<String>("", "data_directory").ok());
        Ok(Health {
            version: row.try_get("", "version")?,
            size: u64::try_from(row.try_get::<i64>("", "size")?).unwrap_or(0),
            directory: place,
        })
    }

    /// Rows that cannot be read, and so are passed over: table and number, and why.
    pub fn unread(&self) -> Vec<(String, String)> {
        self.unread.all()
    }

    /// Whether the records at a URL can be connected to now.
    ///
    /// # Errors
    /// [`StoreError`] when they cannot.
    pub async fn can_be_reached(url: &str) -> Result<(), StoreError> {
        let database = Self::reach(url).await.map_err(|failed| failed.error)?;
        let asked = database.ping().await;
        database.close().await?;
        Ok(asked?)
    }
}
