//! Folders, directories and files.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

use futures_util::StreamExt as _;
use mostra_core::Kinds;
use mostra_core::catalogue::{Directory, File, Folder, Playlist};
use mostra_core::facts::Facts;
use sea_orm::sea_query::{Expr, OnConflict};
use sea_orm::sqlx;
use sea_orm::{
    ActiveValue::NotSet, ActiveValue::Set, ColumnTrait, ConnectionTrait, DatabaseBackend,
    EntityTrait, PaginatorTrait, QueryFilter, QueryOrder, Statement, TransactionTrait,
};
use serde::Serialize;
use tokio::sync::mpsc::Sender;

use crate::accounts::millis;
use crate::entity::{container, file, folder, left_out, playlist};
use crate::{Records, StoreError};

/// A folder to publish.
#[derive(Debug, Clone)]
pub struct NewFolder {
    /// The folder, with numbers taken from [`Counter`](crate::Counter)s.
    pub folder: Folder,
    /// When.
    pub at: Duration,
}

/// A file as recorded.
pub type FileRow = File;

/// Something the last scan left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftOut {
    /// Its path below the folder.
    pub path: String,
    /// Why, in words.
    pub reason: String,
}

/// What a scan found since its last batch.
#[derive(Debug, Clone, Default)]
pub struct Batch {
    /// Directories that are new, or have another name or place.
    pub directories: Vec<Directory>,
    /// Files that are new or changed.
    pub files: Vec<FileRow>,
    /// Serials of files that have gone.
    pub gone_files: Vec<u32>,
    /// Serials of directories that have gone.
    pub gone_directories: Vec<u32>,
    /// Playlists that are new or changed.
    pub playlists: Vec<Playlist>,
    /// Serials of playlists that have gone.
    pub gone_playlists: Vec<u32>,
}

impl Batch {
    /// Whether it holds nothing.
    pub fn is_empty(&self) -> bool {
        self.directories.is_empty()
            && self.files.is_empty()
            && self.gone_files.is_empty()
            && self.gone_directories.is_empty()
            && self.playlists.is_empty()
            && self.gone_playlists.is_empty()
    }
}

/// Everything of which the catalogue is made.
#[derive(Debug, Default)]
pub struct Loaded {
    /// Folders, each with the time of its last scan.
    pub folders: Vec<LoadedFolder>,
    /// Directories, parents before children.
    pub directories: Vec<Directory>,
    /// Playlists.
    pub playlists: Vec<Playlist>,
}

/// A folder as recorded.
#[derive(Debug, Clone)]
pub struct LoadedFolder {
    /// The folder.
    pub folder: Folder,
    /// When its last scan ended.
    pub scanned: Option<Duration>,
    /// Sub-folders left out, by path below it.
    pub excluded: Vec<String>,
}

/// A file's record, not yet read.
#[derive(Debug)]
pub struct RawFile((i64, i64, String, String));

impl RawFile {
    /// Reads it.
    ///
    /// # Errors
    /// [`StoreError::Damaged`] when it does not read.
    pub fn read(self) -> Result<File, StoreError> {
        let (id, container, name, facts) = self.0;
        let damaged = |what: String| StoreError::Damaged(format!("file {id}: {what}"));
        let number = |n: i64| u32::try_from(n).map_err(|_| damaged("out of range".into()));
        let facts: Facts = serde_json::from_str(&facts).map_err(|e| damaged(e.to_string()))?;
        let (serial, directory) = (number(id)?, number(container)?);
        Ok(File { serial, directory, name, facts: Arc::new(facts) })
    }
}

/// Rows in one statement; PostgreSQL takes at most 65,535 parameters.
const ROWS: usize = 2000;

impl Records {
    /// Publishes a folder: the folder and its top container, in one commit.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn add_folder(&self, new: &NewFolder) -> Result<(), StoreError> {
        let Folder { serial, label, kinds, root, container } = new.folder.clone();
        let transaction = self.database.begin().await?;
        let row = folder::ActiveModel {
            id: Set(i64::from(serial)),
            label: Set(label.clone()),
            root: Set(root),
            kinds: Set(kinds.to_string()),
            container_id: Set(i64::from(container)),
            added_ms: Set(millis(new.at)),
            scanned_ms: Set(None),
            excluded: Set(serde_json::Value::Array(Vec::new())),
        };
        folder::Entity::insert(row).exec_without_returning(&transaction).await?;
        let top = Directory { serial: container, folder: serial, parent: None, name: label };
        container::Entity::insert(container_row(&top)).exec_without_returning(&transaction).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Stops publishing a folder. Its records go; its files are not touched.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn remove_folder(&self, serial: u32) -> Result<(), StoreError> {
        folder::Entity::delete_by_id(i64::from(serial)).exec(&self.database).await?;
        Ok(())
    }

    /// Reads everything of which the catalogue is made but files; or, of one folder, only what
    /// is in it.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer or a record does not read back.
    pub async fn load(&self, only: Option<u32>) -> Result<Loaded, StoreError> {
        let number = |id: i64| {
            u32::try_from(id).map_err(|_| StoreError::Damaged("a serial out of range".into()))
        };
        let mut loaded = Loaded::default();
        let mut folders = folder::Entity::find();
        let mut containers = container::Entity::find();
        let mut playlists = playlist::Entity::find();
        if let Some(folder) = only {
            let within =
                format!("container_id in (select id from container where folder_id = {folder})");
            folders = folders.filter(folder::Column::Id.eq(i64::from(folder)));
            containers = containers.filter(container::Column::FolderId.eq(i64::from(folder)));
            playlists = playlists.filter(Expr::cust(within));
        }
        for row in folders.all(&self.database).await? {
            let kinds: Kinds = row.kinds.parse().map_err(|e: String| StoreError::Damaged(e))?;
            let folder = Folder {
                serial: number(row.id)?,
                label: row.label,
                kinds,
                root: row.root,
                container: number(row.container_id)?,
            };
            let scanned = row.scanned_ms.map(|ms| Duration::from_millis(ms.max(0) as u64));
            let excluded = serde_json::from_value(row.excluded).unwrap_or_default();
            loaded.folders.push(LoadedFolder { folder, scanned, excluded });
        }
        for row in containers.all(&self.database).await? {
            let parent = row.parent_id.map(number).transpose()?;
            let (serial, folder) = (number(row.id)?, number(row.folder_id)?);
            loaded.directories.push(Directory { serial, folder, parent, name: row.name });
        }
        parents_first(&mut loaded.directories);
        for row in playlists.all(&self.database).await? {
            loaded.playlists.push(Playlist {
                serial: number(row.id)?,
                directory: number(row.container_id)?,
                name: row.name,
                entries: serde_json::from_value(row.entries).unwrap_or_default(),
            });
        }
        Ok(loaded)
    }

    /// Reads all files, or those of one folder, and sends them in batches: a million of them
    /// are read at start, and none is kept here.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn files(
        &self,
        only: Option<u32>,
        sender: &Sender<Vec<RawFile>>,
    ) -> Result<(), StoreError> {
        let mut query = "select id, container_id, name, facts::text from file".to_owned();
        if let Some(folder) = only {
            query.push_str(&format!(
                " where container_id in (select id from container where folder_id = {folder})"
            ));
        }
        let mut rows = sqlx::query_as::<_, (i64, i64, String, String)>(sqlx::AssertSqlSafe(query))
            .fetch(self.database.get_postgres_connection_pool());
        let mut batch = Vec::with_capacity(ROWS);
        while let Some(row) = rows.next().await {
            batch.push(RawFile(row.map_err(|e| StoreError::Away(e.to_string()))?));
            // Nobody listens any more: whoever asked has given up.
            if batch.len() == ROWS && sender.send(std::mem::take(&mut batch)).await.is_err() {
                return Ok(());
            }
        }
        let _ = sender.send(batch).await;
        Ok(())
    }

    /// Records what a scan found, in one commit.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved; then nothing of it is.
    pub async fn record(&self, batch: &Batch) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        for gone in batch.gone_files.chunks(ROWS) {
            let ids = gone.iter().map(|id| i64::from(*id));
            file::Entity::delete_many()
                .filter(file::Column::Id.is_in(ids))
                .exec(&transaction)
                .await?;
        }
        for gone in batch.gone_directories.chunks(ROWS) {
            let ids = gone.iter().map(|id| i64::from(*id));
            container::Entity::delete_many()
                .filter(container::Column::Id.is_in(ids))
                .exec(&transaction)
                .await?;
        }
        for gone in batch.gone_playlists.chunks(ROWS) {
            let ids = gone.iter().map(|id| i64::from(*id));
            let gone = playlist::Column::Id.is_in(ids);
            playlist::Entity::delete_many().filter(gone).exec(&transaction).await?;
        }
        for rows in batch.directories.chunks(ROWS) {
            let rows = rows.iter().map(container_row);
            let replace = OnConflict::column(container::Column::Id)
                .update_columns([container::Column::ParentId, container::Column::Name])
                .to_owned();
            container::Entity::insert_many(rows)
                .on_conflict(replace)
                .exec_without_returning(&transaction)
                .await?;
        }
        for rows in batch.files.chunks(ROWS) {
            // One parameter for all rows: PostgreSQL reads a list of records much faster than
            // thousands of parameters.
            let rows: Vec<FileRecord<'_>> = rows.iter().map(FileRecord::of).collect();
            let rows =
                serde_json::to_string(&rows).map_err(|e| StoreError::Damaged(e.to_string()))?;
            let put = Statement::from_sql_and_values(
                DatabaseBackend::Postgres,
                "insert into file (id, container_id, name, facts) \
                 select * from jsonb_to_recordset($1::jsonb) \
                 as r(id bigint, container_id bigint, name text, facts jsonb) \
                 on conflict (id) do update set container_id = excluded.container_id, \
                 name = excluded.name, facts = excluded.facts",
                [rows.into()],
            );
            transaction.execute_raw(put).await?;
        }
        for list in &batch.playlists {
            let row = playlist::ActiveModel {
                id: Set(i64::from(list.serial)),
                container_id: Set(i64::from(list.directory)),
                name: Set(list.name.clone()),
                stamp_ms: Set(0),
                entries: Set(serde_json::to_value(&list.entries)
                    .map_err(|e| StoreError::Damaged(e.to_string()))?),
            };
            let replace = OnConflict::column(playlist::Column::Id)
                .update_columns([
                    playlist::Column::ContainerId,
                    playlist::Column::Name,
                    playlist::Column::Entries,
                ])
                .to_owned();
            playlist::Entity::insert(row)
                .on_conflict(replace)
                .exec_without_returning(&transaction)
                .await?;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// Records what a scan left out, and that it is done if it was a whole one. One that
    /// looked at some directories only says of no others. Gives how many are left out in all.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn scanned(
        &self,
        serial: u32,
        at: Option<Duration>,
        left: &[LeftOut],
        only: Option<&HashSet<String>>,
    ) -> Result<u32, StoreError> {
        let transaction = self.database.begin().await?;
        let of_folder = left_out::Column::FolderId.eq(i64::from(serial));
        match only {
            None => {
                left_out::Entity::delete_many()
                    .filter(of_folder.clone())
                    .exec(&transaction)
                    .await?;
            }
            Some(directories) => {
                let rows =
                    left_out::Entity::find().filter(of_folder.clone()).all(&transaction).await?;
                let old = rows.iter().filter(|row| {
                    let around = row.path.rsplit_once('/').map_or("", |(around, _)| around);
                    directories.contains(around)
                });
                let ids: Vec<i64> = old.map(|row| row.id).collect();
                for ids in ids.chunks(ROWS) {
                    let old = left_out::Column::Id.is_in(ids.iter().copied());
                    left_out::Entity::delete_many().filter(old).exec(&transaction).await?;
                }
            }
        }
        for rows in left.chunks(ROWS) {
            let rows = rows.iter().map(|l| left_out::ActiveModel {
                id: NotSet,
                folder_id: Set(i64::from(serial)),
                path: Set(l.path.replace('\0', "")),
                reason: Set(l.reason.clone()),
            });
            left_out::Entity::insert_many(rows).exec_without_returning(&transaction).await?;
        }
        if let Some(at) = at {
            let row = folder::ActiveModel {
                id: Set(i64::from(serial)),
                scanned_ms: Set(Some(millis(at))),
                ..Default::default()
            };
            folder::Entity::update(row).exec(&transaction).await?;
        }
        let all = left_out::Entity::find().filter(of_folder).count(&transaction).await?;
        transaction.commit().await?;
        Ok(u32::try_from(all).unwrap_or(u32::MAX))
    }

    /// What the last scan of a folder left out.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn left_out(&self, serial: u32) -> Result<Vec<LeftOut>, StoreError> {
        let rows = left_out::Entity::find()
            .filter(left_out::Column::FolderId.eq(i64::from(serial)))
            .order_by_asc(left_out::Column::Path)
            .all(&self.database)
            .await?;
        Ok(rows.into_iter().map(|r| LeftOut { path: r.path, reason: r.reason }).collect())
    }
}

/// Orders directories so that each comes after the one around it.
fn parents_first(directories: &mut Vec<Directory>) {
    let mut by_parent: HashMap<Option<u32>, Vec<Directory>> = HashMap::new();
    for directory in directories.drain(..) {
        by_parent.entry(directory.parent).or_default().push(directory);
    }
    let mut open = by_parent.remove(&None).unwrap_or_default();
    while let Some(directory) = open.pop() {
        open.extend(by_parent.remove(&Some(directory.serial)).unwrap_or_default());
        directories.push(directory);
    }
}

fn container_row(directory: &Directory) -> container::ActiveModel {
    container::ActiveModel {
        id: Set(i64::from(directory.serial)),
        folder_id: Set(i64::from(directory.folder)),
        parent_id: Set(directory.parent.map(i64::from)),
        name: Set(directory.name.clone()),
    }
}

/// A file as the table has it.
#[derive(Serialize)]
struct FileRecord<'a> {
    id: u32,
    container_id: u32,
    name: &'a str,
    facts: &'a Facts,
}

impl FileRecord<'_> {
    fn of(file: &FileRow) -> FileRecord<'_> {
        FileRecord {
            id: file.serial,
            container_id: file.directory,
            name: &file.name,
            facts: &file.facts,
        }
    }
}
