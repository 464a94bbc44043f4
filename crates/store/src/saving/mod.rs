//! All records as one file of rows, and back.
//!
//! The tables are made by this program's own migrations, and rows come in by this program's own
//! `COPY … FROM STDIN`: no text of a file is executed, whoever wrote it. A file is tried first, by a
//! role that has no right elsewhere.

mod restoring;
mod row_file;

use std::collections::BTreeMap;
use std::path::Path;

use futures_util::StreamExt as _;
use sea_orm::{
    AccessMode, DatabaseConnection, DatabaseTransaction, IsolationLevel, Statement,
    TransactionTrait as _,
};
use sea_orm_migration::MigratorTrait as _;

use crate::migration::Migrator;
use crate::{Records, StoreError};

pub use restoring::{Tried, restore, try_out};
use row_file::{Piece, RowFileError, write};

/// Why records were not saved or restored.
#[derive(Debug, thiserror::Error)]
pub enum RowsError {
    /// PostgreSQL does not do it.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The file cannot be read or written.
    #[error(transparent)]
    Io(#[from] std::io::Error),
    /// The file holds something else than rows of these tables.
    #[error("it holds no rows that these tables take: {0}")]
    Unfit(String),
    /// There is no role that tries files out, or it could do harm.
    #[error("no role is set by which saved records are tried: {0}")]
    NoCheckRole(String),
}

impl From<RowFileError> for RowsError {
    fn from(error: RowFileError) -> RowsError {
        match error {
            RowFileError::Io(error) => RowsError::Io(error),
            RowFileError::Unfit(why) => RowsError::Unfit(why.to_owned()),
        }
    }
}

impl From<sea_orm::sqlx::Error> for RowsError {
    fn from(error: sea_orm::sqlx::Error) -> RowsError {
        RowsError::Store(error.into())
    }
}

impl From<sea_orm::DbErr> for RowsError {
    fn from(error: sea_orm::DbErr) -> RowsError {
        RowsError::Store(error.into())
    }
}

/// Tables of which no rows are saved: which migrations were made is for whoever restores to do, and
/// a session that was ended since must not be good again.
const NOT_SAVED: [&str; 2] = ["seaql_migrations", "session"];

/// The records at one moment. While it lives, they can be saved as they were then.
pub struct Snapshot {
    database: DatabaseConnection,
    transaction: DatabaseTransaction,
    id: String,
    /// Rows of each table that is saved.
    pub counts: BTreeMap<String, u64>,
    /// The last change to the form of the tables.
    pub schema: String,
    /// Published folders: label and path.
    pub folders: Vec<(String, String)>,
}

/// The changes to the form of the tables that this program knows, in order.
pub fn known_schemas() -> Vec<String> {
    Migrator::migrations().iter().map(|migration| migration.name().to_owned()).collect()
}

impl Records {
    /// Takes the records as they are now.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn snapshot(&self) -> Result<Snapshot, StoreError> {
        let (isolation, access) = (IsolationLevel::RepeatableRead, AccessMode::ReadOnly);
        let transaction = self.database.begin_with_config(Some(isolation), Some(access)).await?;
        let id = first(&transaction, "select pg_export_snapshot() as value").await?;
        let counts = count_all(&transaction, "public").await?;
        let schema = applied(&transaction).await?.into_iter().max().unwrap_or_default();
        let mut folders = Vec::new();
        let listed = match counts.contains_key("folder") {
            true => all(&transaction, "select label, root from folder order by label").await?,
            false => Vec::new(),
        };
        for row in listed {
            folders.push((row.try_get("", "label")?, row.try_get("", "root")?));
        }
        let database = self.database.clone();
        Ok(Snapshot { database, transaction, id, counts, schema, folders })
    }
}

impl Snapshot {
    /// Writes the rows of all tables into a file, each after those that it refers to.
    ///
    /// # Errors
    /// [`RowsError`] when that does not succeed; the file may be there in part then.
    pub async fn write(self, to: &Path) -> Result<(), RowsError> {
        let (sender, writing) = write(to);
        let sent = async {
            let mut copying = self.database.get_postgres_connection_pool().begin().await?;
            let begin = "set transaction isolation level repeatable read, read only";
            sea_orm::sqlx::query(begin).execute(&mut *copying).await?;
            // Its name is the server's own word, of digits and dashes.
            let same = format!("set transaction snapshot '{}'", self.id);
            sea_orm::sqlx::query(sea_orm::sqlx::AssertSqlSafe(same)).execute(&mut *copying).await?;
            for (table, columns) in tables(&self.transaction, "public").await? {
                let named = quoted(&columns);
                let head = Piece::Table { table: table.clone(), columns };
                if sender.send(head).await.is_err() {
                    return Ok(());
                }
                let statement = format!("copy public.\"{table}\" ({named}) to stdout");
                let mut rows = copying.copy_out_raw(&statement).await?;
                let mut gathered = Vec::new();
                while let Some(row) = rows.next().await {
                    gathered.extend_from_slice(&row?);
                    if gathered.len() >= row_file::GATHERED {
                        let piece = Piece::Rows(std::mem::take(&mut gathered));
                        // Whoever writes says why it ended.
                        if sender.send(piece).await.is_err() {
                            return Ok(());
                        }
                    }
                }
                if !gathered.is_empty() && sender.send(Piece::Rows(gathered)).await.is_err() {
                    return Ok(());
                }
            }
            let _ = sender.send(Piece::End).await;
            Ok::<_, RowsError>(())
        };
        let sent = sent.await;
        drop(sender);
        let written = writing.await.map_err(std::io::Error::other)?;
        sent?;
        written?;
        self.transaction.rollback().await.map_err(StoreError::from)?;
        Ok(())
    }
}

fn quoted(columns: &[String]) -> String {
    columns.iter().map(|column| format!("\"{column}\"")).collect::<Vec<_>>().join(", ")
}

/// The tables of a schema that are saved, each after those that it refers to, with their columns. They
/// are those of our own migrations: a name that is not plain is passed over.
async fn tables(
    connection: &impl sea_orm::ConnectionTrait,
    schema: &str,
) -> Result<Vec<(String, Vec<String>)>, StoreError> {
    let plain =
        |name: &str| name.bytes().all(|b| b.is_ascii_lowercase() || b"_0123456789".contains(&b));
    let columns = format!(
        "select c.relname::text as name, a.attname::text as value from pg_catalog.pg_class c \
         join pg_catalog.pg_namespace n on n.oid = c.relnamespace \
         join pg_catalog.pg_attribute a on a.attrelid = c.oid \
         where n.nspname = '{schema}' and c.relkind = 'r' and a.attnum > 0 \
         and not a.attisdropped order by c.relname, a.attnum"
    );
    let mut all_tables: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for row in all(connection, &columns).await? {
        let (table, column): (String, String) =
            (row.try_get("", "name")?, row.try_get("", "value")?);
        if plain(&table) && plain(&column) && !NOT_SAVED.contains(&table.as_str()) {
            all_tables.entry(table).or_default().push(column);
        }
    }
    let references = format!(
        "select c.relname::text as name, r.relname::text as value from pg_catalog.pg_constraint f \
         join pg_catalog.pg_class c on c.oid = f.conrelid \
         join pg_catalog.pg_class r on r.oid = f.confrelid \
         join pg_catalog.pg_namespace n on n.oid = c.relnamespace \
         where f.contype = 'f' and n.nspname = '{schema}' and f.conrelid <> f.confrelid"
    );
    let mut waits: Vec<(String, String)> = Vec::new();
    for row in all(connection, &references).await? {
        waits.push((row.try_get("", "name")?, row.try_get("", "value")?));
    }
    let mut ordered = Vec::new();
    while !all_tables.is_empty() {
        let left = |table: &String| all_tables.contains_key(table);
        let ready = all_tables
            .keys()
            .find(|table| !waits.iter().any(|(from, to)| from == *table && left(to)));
        // Tables that refer to each other in a circle would have no order; there are none.
        let next = ready.or_else(|| all_tables.keys().next()).cloned().unwrap_or_default();
        ordered.extend(all_tables.remove_entry(&next));
    }
    Ok(ordered)
}

async fn all(
    connection: &impl sea_orm::ConnectionTrait,
    statement: &str,
) -> Result<Vec<sea_orm::QueryResult>, StoreError> {
    let statement = Statement::from_string(connection.get_database_backend(), statement);
    Ok(connection.query_all_raw(statement).await?)
}

async fn first(
    connection: &impl sea_orm::ConnectionTrait,
    statement: &str,
) -> Result<String, StoreError> {
    let rows = all(connection, statement).await?;
    let row = rows.first().ok_or_else(|| StoreError::Damaged("nothing came back".into()))?;
    Ok(row.try_get("", "value")?)
}

/// The changes to the form of the tables that were made in a database; none in a new one.
pub(crate) async fn applied(
    connection: &impl sea_orm::ConnectionTrait,
) -> Result<Vec<String>, StoreError> {
    let there = "select coalesce(to_regclass('public.seaql_migrations')::text, '') as value";
    if first(connection, there).await?.is_empty() {
        return Ok(Vec::new());
    }
    let rows = all(connection, "select version as value from public.seaql_migrations").await?;
    rows.iter().map(|row| Ok(row.try_get("", "value")?)).collect()
}

/// Rows of each table of a schema that is saved.
async fn count_all(
    connection: &impl sea_orm::ConnectionTrait,
    schema: &str,
) -> Result<BTreeMap<String, u64>, StoreError> {
    let mut counts = BTreeMap::new();
    for (table, _) in tables(connection, schema).await? {
        let statement = format!("select count(*)::text as value from {schema}.\"{table}\"");
        let count = first(connection, &statement).await?.parse().unwrap_or(0);
        counts.insert(table, count);
    }
    Ok(counts)
}
