//! What a scan found, recorded in one commit. Columns go over as arrays, and new files as a copy
//! stream: a scan records a hundred thousand files in a few seconds.

use mostra_core::catalogue::{Directory, File, Playlist};
use mostra_core::ids::{FileId, FolderId};
use sea_orm::sqlx::{self, PgConnection};

use crate::{Records, StoreError, copied};

/// What a scan found since its last batch.
#[derive(Debug, Clone, Default)]
pub struct Batch {
    /// Directories that are new, or have another name or place.
    pub directories: Vec<Directory>,
    /// Files that are not recorded yet.
    pub new_files: Vec<File>,
    /// Files that are recorded and have changed.
    pub files: Vec<File>,
    /// Serials of files that have gone.
    pub gone_files: Vec<FileId>,
    /// Serials of directories that have gone. Their files must be named too.
    pub gone_directories: Vec<u32>,
    /// Playlists that are new or changed.
    pub playlists: Vec<Playlist>,
    /// Serials of playlists that have gone.
    pub gone_playlists: Vec<u32>,
}

impl Batch {
    /// Files in it.
    pub fn files(&self) -> usize {
        self.new_files.len() + self.files.len()
    }

    /// Whether it holds nothing.
    pub fn is_empty(&self) -> bool {
        self.directories.is_empty()
            && self.new_files.is_empty()
            && self.files.is_empty()
            && self.gone_files.is_empty()
            && self.gone_directories.is_empty()
            && self.playlists.is_empty()
            && self.gone_playlists.is_empty()
    }
}

impl Records {
    /// Records a batch of a folder, in one commit.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved; then nothing of it is. So when the folder has been
    /// removed meanwhile.
    pub async fn record(&self, folder: FolderId, batch: &Batch) -> Result<(), StoreError> {
        let mut transaction = self.database.get_postgres_connection_pool().begin().await?;
        // Whoever removes the folder waits for this, and the other way round.
        let there = sqlx::query("select 1 from folder where id = $1 for key share");
        let there = there.bind(i64::from(folder)).fetch_optional(&mut *transaction);
        if there.await?.is_none() {
            return Err(StoreError::Refused("the folder is published no more".into()));
        }
        let gone = [
            ("delete from file where id = any($1)", numbers(&batch.gone_files)),
            ("delete from container where id = any($1)", numbers(&batch.gone_directories)),
            ("delete from playlist where id = any($1)", numbers(&batch.gone_playlists)),
        ];
        for (statement, ids) in gone {
            if !ids.is_empty() {
                let statement = sqlx::query(statement).bind(ids);
                statement.execute(&mut *transaction).await?;
            }
        }
        put_directories(&mut transaction, &batch.directories).await?;
        copy_files(&mut transaction, &batch.new_files).await?;
        put_files(&mut transaction, &batch.files).await?;
        for list in &batch.playlists {
            let entries = serde_json::to_value(&list.entries).map_err(damaged)?;
            sqlx::query(
                "insert into playlist (id, container_id, name, stamp_ms, entries) \
                 values ($1, $2, $3, 0, $4) on conflict (id) do update set \
                 container_id = excluded.container_id, name = excluded.name, \
                 entries = excluded.entries",
            )
            .bind(i64::from(list.serial))
            .bind(i64::from(list.directory))
            .bind(&list.name)
            .bind(entries)
            .execute(&mut *transaction)
            .await?;
        }
        transaction.commit().await.map_err(StoreError::from)
    }
}

fn numbers<T: Copy + Into<i64>>(ids: &[T]) -> Vec<i64> {
    ids.iter().map(|id| (*id).into()).collect()
}

fn damaged(error: serde_json::Error) -> StoreError {
    StoreError::Damaged(error.to_string())
}

async fn put_directories(
    connection: &mut PgConnection,
    directories: &[Directory],
) -> Result<(), StoreError> {
    if directories.is_empty() {
        return Ok(());
    }
    let column = |of: fn(&Directory) -> i64| directories.iter().map(of).collect::<Vec<_>>();
    let parents: Vec<Option<i64>> = directories.iter().map(|d| d.parent.map(i64::from)).collect();
    let names: Vec<&str> = directories.iter().map(|d| d.name.as_str()).collect();
    sqlx::query(
        "insert into container (id, folder_id, parent_id, name) \
         select * from unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::text[]) \
         on conflict (id) do update set parent_id = excluded.parent_id, name = excluded.name",
    )
    .bind(column(|d| i64::from(d.serial)))
    .bind(column(|d| i64::from(d.folder)))
    .bind(parents)
    .bind(names)
    .execute(connection)
    .await?;
    Ok(())
}

async fn put_files(connection: &mut PgConnection, files: &[File]) -> Result<(), StoreError> {
    if files.is_empty() {
        return Ok(());
    }
    let facts = files.iter().map(|f| serde_json::to_string(&*f.facts));
    let facts: Vec<String> = facts.collect::<Result<_, _>>().map_err(damaged)?;
    let ids: Vec<i64> = files.iter().map(|f| i64::from(f.serial)).collect();
    let directories: Vec<i64> = files.iter().map(|f| i64::from(f.directory)).collect();
    let names: Vec<&str> = files.iter().map(|f| f.name.as_str()).collect();
    sqlx::query(
        "insert into file (id, container_id, name, facts) \
         select * from unnest($1::bigint[], $2::bigint[], $3::text[], $4::text[]) \
         on conflict (id) do update set container_id = excluded.container_id, \
         name = excluded.name, facts = excluded.facts",
    )
    .bind(ids)
    .bind(directories)
    .bind(names)
    .bind(facts)
    .execute(connection)
    .await?;
    Ok(())
}

/// Bytes sent at a time.
const PIECE: usize = 1 << 20;

async fn copy_files(connection: &mut PgConnection, files: &[File]) -> Result<(), StoreError> {
    if files.is_empty() {
        return Ok(());
    }
    let mut copy = connection
        .copy_in_raw("copy file (id, container_id, name, facts) from stdin (format binary)")
        .await?;
    let mut rows = Vec::with_capacity(PIECE + 4096);
    rows.extend_from_slice(copied::HEAD);
    for file in files {
        copied::row(&mut rows, file).map_err(damaged)?;
        if rows.len() >= PIECE {
            copy.send(rows.as_slice()).await?;
            rows.clear();
        }
    }
    rows.extend_from_slice(copied::END);
    copy.send(rows.as_slice()).await?;
    copy.finish().await?;
    Ok(())
}
