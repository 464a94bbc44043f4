//! Folders, directories and files.

use std::sync::Arc;
use std::time::Duration;

use mostra_core::Kinds;
use mostra_core::catalogue::{Directory, File, Folder};
use mostra_core::facts::Facts;
use sea_orm::sea_query::OnConflict;
use sea_orm::{
    ActiveValue::NotSet, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder,
    TransactionTrait,
};

use crate::accounts::millis;
use crate::entity::{container, file, folder, left_out};
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
    /// Directories that are new.
    pub directories: Vec<Directory>,
    /// Files that are new or changed.
    pub files: Vec<FileRow>,
    /// Serials of files that have gone.
    pub gone_files: Vec<u32>,
    /// Serials of directories that have gone.
    pub gone_directories: Vec<u32>,
}

impl Batch {
    /// Whether it holds nothing.
    pub fn is_empty(&self) -> bool {
        self.directories.is_empty()
            && self.files.is_empty()
            && self.gone_files.is_empty()
            && self.gone_directories.is_empty()
    }
}

/// Everything of which the catalogue is made.
#[derive(Debug, Default)]
pub struct Loaded {
    /// Folders, each with the time of its last scan.
    pub folders: Vec<(Folder, Option<Duration>)>,
    /// Directories, parents before children.
    pub directories: Vec<Directory>,
    /// Files.
    pub files: Vec<FileRow>,
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

    /// Reads everything of which the catalogue is made.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer or a record does not read back.
    pub async fn load(&self) -> Result<Loaded, StoreError> {
        let damaged = |what: &str| StoreError::Damaged(what.to_owned());
        let number = |id: i64| u32::try_from(id).map_err(|_| damaged("a serial out of range"));
        let mut loaded = Loaded::default();
        for row in folder::Entity::find().all(&self.database).await? {
            let kinds: Kinds = row.kinds.parse().map_err(|e: String| StoreError::Damaged(e))?;
            let scanned = row.scanned_ms.map(|ms| Duration::from_millis(ms.max(0) as u64));
            let folder = Folder {
                serial: number(row.id)?,
                label: row.label,
                kinds,
                root: row.root,
                container: number(row.container_id)?,
            };
            loaded.folders.push((folder, scanned));
        }
        // A directory's serial is always greater than that of the one around it.
        for row in container::Entity::find()
            .order_by_asc(container::Column::Id)
            .all(&self.database)
            .await?
        {
            let parent = row.parent_id.map(number).transpose()?;
            let (serial, folder) = (number(row.id)?, number(row.folder_id)?);
            loaded.directories.push(Directory { serial, folder, parent, name: row.name });
        }
        for row in file::Entity::find().all(&self.database).await? {
            let facts: Facts = serde_json::from_value(row.facts)
                .map_err(|e| damaged(&format!("file {}: {e}", row.id)))?;
            let (serial, directory) = (number(row.id)?, number(row.container_id)?);
            loaded.files.push(File { serial, directory, name: row.name, facts: Arc::new(facts) });
        }
        Ok(loaded)
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
        for rows in batch.directories.chunks(ROWS) {
            let rows = rows.iter().map(container_row);
            container::Entity::insert_many(rows).exec_without_returning(&transaction).await?;
        }
        for rows in batch.files.chunks(ROWS) {
            let rows: Result<Vec<_>, StoreError> = rows.iter().map(file_row).collect();
            let replace = OnConflict::column(file::Column::Id)
                .update_columns([file::Column::Facts, file::Column::Name])
                .to_owned();
            file::Entity::insert_many(rows?)
                .on_conflict(replace)
                .exec_without_returning(&transaction)
                .await?;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// Records that a scan is done, and what it left out.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn scanned(
        &self,
        serial: u32,
        at: Duration,
        left: &[LeftOut],
    ) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        let of_folder = left_out::Column::FolderId.eq(i64::from(serial));
        left_out::Entity::delete_many().filter(of_folder).exec(&transaction).await?;
        for rows in left.chunks(ROWS) {
            let rows = rows.iter().map(|l| left_out::ActiveModel {
                id: NotSet,
                folder_id: Set(i64::from(serial)),
                path: Set(l.path.replace('\0', "")),
                reason: Set(l.reason.clone()),
            });
            left_out::Entity::insert_many(rows).exec_without_returning(&transaction).await?;
        }
        let row = folder::ActiveModel {
            id: Set(i64::from(serial)),
            scanned_ms: Set(Some(millis(at))),
            ..Default::default()
        };
        folder::Entity::update(row).exec(&transaction).await?;
        transaction.commit().await?;
        Ok(())
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

fn container_row(directory: &Directory) -> container::ActiveModel {
    container::ActiveModel {
        id: Set(i64::from(directory.serial)),
        folder_id: Set(i64::from(directory.folder)),
        parent_id: Set(directory.parent.map(i64::from)),
        name: Set(directory.name.clone()),
    }
}

fn file_row(file: &FileRow) -> Result<file::ActiveModel, StoreError> {
    let facts =
        serde_json::to_value(&*file.facts).map_err(|e| StoreError::Damaged(e.to_string()))?;
    Ok(file::ActiveModel {
        id: Set(i64::from(file.serial)),
        container_id: Set(i64::from(file.directory)),
        name: Set(file.name.clone()),
        facts: Set(facts),
    })
}
