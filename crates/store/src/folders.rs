//! Folders, directories and files.

use mostra_core::Moment;
use std::collections::{BTreeMap, HashMap, HashSet};

use mostra_core::KindsError;
use mostra_core::catalogue::{Directory, Folder, Playlist};
use mostra_core::drives::Drives;
use mostra_core::ids::FolderId;
use mostra_core::left_out::Reason;
use mostra_core::link_rule::LinkRule;
use sea_orm::sea_query::{Expr, SimpleExpr};
use sea_orm::{
    ActiveValue::NotSet, ActiveValue::Set, ColumnTrait, ConnectionTrait as _, EntityTrait,
    PaginatorTrait, QueryFilter, QueryOrder, QuerySelect, Statement, TransactionTrait,
};
use serde_json::json;

use crate::accounts::millis;
use crate::entity::{container, file, folder, left_out, playlist};
use crate::{Records, StoreError};

/// A folder to publish.
#[derive(Debug, Clone)]
pub struct NewFolder {
    /// The folder, with numbers taken from [`Counter`](crate::Counter)s.
    pub folder: Folder,
    /// Which links that lead out of it are followed.
    pub link_rule: LinkRule,
    /// When.
    pub at: Moment,
}

/// Something the last scan left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftOut {
    /// Its path below the folder.
    pub path: String,
    /// Why.
    pub reason: Reason,
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
    pub scanned: Option<Moment>,
    /// Sub-folders left out, by path below it.
    pub excluded: Vec<String>,
    /// Which links that lead out of it are followed.
    pub link_rule: LinkRule,
    /// Links that were followed: path below it to what is behind it.
    pub links: BTreeMap<String, String>,
    /// Which drives it was on, once that is known.
    pub drives: Option<Drives>,
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
            link_rule: Set(new.link_rule.word().to_owned()),
            links: Set(serde_json::Value::Object(serde_json::Map::new())),
            drives: Set(None),
        };
        folder::Entity::insert(row).exec_without_returning(&transaction).await?;
        let top = Directory { serial: container, folder: serial, parent: None, name: label };
        container::Entity::insert(container_row(&top)).exec_without_returning(&transaction).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Publishes a folder from another path.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn move_folder(&self, serial: FolderId, root: &str) -> Result<(), StoreError> {
        let row = folder::ActiveModel {
            id: Set(i64::from(serial)),
            root: Set(root.to_owned()),
            drives: Set(None),
            ..Default::default()
        };
        folder::Entity::update(row).exec(&self.database).await?;
        Ok(())
    }

    /// Some recorded files of a folder, from all over it: serial of the directory, and name.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer or a record does not read back.
    pub async fn some_files(
        &self,
        folder: FolderId,
        most: u64,
    ) -> Result<Vec<(u32, String)>, StoreError> {
        let statement = Statement::from_sql_and_values(
            self.database.get_database_backend(),
            "select f.container_id, f.name from file f join container c on c.id = f.container_id \
             where c.folder_id = $1 order by md5(f.id::text) limit $2",
            [i64::from(folder).into(), i64::try_from(most).unwrap_or(i64::MAX).into()],
        );
        let rows = self.database.query_all_raw(statement).await?;
        let read = rows.iter().map(|row| {
            let serial: i64 = row.try_get("", "container_id")?;
            let serial = u32::try_from(serial)
                .map_err(|_| StoreError::Damaged("a serial out of range".into()))?;
            Ok((serial, row.try_get("", "name")?))
        });
        read.collect()
    }

    /// Stops publishing a folder. Its records go; its files are not touched.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn remove_folder(&self, serial: FolderId) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        // A scan that is just recording is waited for, so that nothing of it is left behind.
        folder::Entity::find_by_id(i64::from(serial)).lock_exclusive().one(&transaction).await?;
        file::Entity::delete_many().filter(of_folder(serial)).exec(&transaction).await?;
        folder::Entity::delete_by_id(i64::from(serial)).exec(&transaction).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Reads everything of which the catalogue is made but files; or, of one folder, only what
    /// is in it.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer or a record does not read back.
    pub async fn load(&self, only: Option<FolderId>) -> Result<Loaded, StoreError> {
        let number = |id: i64| {
            u32::try_from(id).map_err(|_| StoreError::Damaged("a serial out of range".into()))
        };
        let mut loaded = Loaded::default();
        let mut folders = folder::Entity::find();
        let mut containers = container::Entity::find();
        let mut playlists = playlist::Entity::find();
        if let Some(folder) = only {
            folders = folders.filter(folder::Column::Id.eq(i64::from(folder)));
            containers = containers.filter(container::Column::FolderId.eq(i64::from(folder)));
            playlists = playlists.filter(of_folder(folder));
        }
        for row in folders.all(&self.database).await? {
            let named = format!("folder {}", row.id);
            let kinds = row.kinds.parse().map_err(|e: KindsError| e.to_string());
            let Some(kinds) = self.unread.pass_over(|| named, kinds) else { continue };
            let folder = Folder {
                serial: FolderId(number(row.id)?),
                label: row.label,
                kinds,
                root: row.root,
                container: number(row.container_id)?,
            };
            let scanned = row.scanned_ms.map(|ms| Moment::from_millis(ms.max(0) as u64));
            let excluded = serde_json::from_value(row.excluded).unwrap_or_default();
            // A word of a later version follows fewer links, not more.
            let link_rule = LinkRule::from_word(&row.link_rule).unwrap_or_default();
            let links = serde_json::from_value(row.links).unwrap_or_default();
            let drives = row.drives.and_then(|drives| serde_json::from_value(drives).ok());
            loaded.folders.push(LoadedFolder {
                folder,
                scanned,
                excluded,
                link_rule,
                links,
                drives,
            });
        }
        for row in containers.all(&self.database).await? {
            let parent = row.parent_id.map(number).transpose()?;
            let (serial, folder) = (number(row.id)?, FolderId(number(row.folder_id)?));
            loaded.directories.push(Directory { serial, folder, parent, name: row.name });
        }
        parents_first(&mut loaded.directories);
        for row in playlists.all(&self.database).await? {
            loaded.playlists.push(Playlist {
                serial: number(row.id)?,
                directory: number(row.container_id)?,
                name: row.name,
                entries: self
                    .unread
                    .pass_over(
                        || format!("playlist {}", row.id),
                        serde_json::from_value(row.entries),
                    )
                    .unwrap_or_default(),
            });
        }
        Ok(loaded)
    }

    /// Records what a scan left out, and that it is done if it was a whole one. One that
    /// looked at some directories only says of no others. Gives how many are left out in all.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn scanned(
        &self,
        serial: FolderId,
        at: Option<Moment>,
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
                reason: Set(json!(l.reason).to_string()),
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
    pub async fn left_out(&self, serial: FolderId) -> Result<Vec<LeftOut>, StoreError> {
        let rows = left_out::Entity::find()
            .filter(left_out::Column::FolderId.eq(i64::from(serial)))
            .order_by_asc(left_out::Column::Path)
            .all(&self.database)
            .await?;
        let read = |row: left_out::Model| {
            let reason = serde_json::from_str(&row.reason);
            let reason = self.unread.pass_over(|| format!("left out {}", row.id), reason)?;
            Some(LeftOut { path: row.path, reason })
        };
        Ok(rows.into_iter().filter_map(read).collect())
    }
}

/// What lies in the directories of a folder.
fn of_folder(serial: FolderId) -> SimpleExpr {
    Expr::cust(format!("container_id in (select id from container where folder_id = {serial})"))
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
