//! What each scan did, and where people stopped in files.

use mostra_core::Moment;
use mostra_core::ids::{FileId, FolderId};
use mostra_core::link_rule::LinkRule;

use mostra_core::drives::Drives;
use sea_orm::sea_query::OnConflict;
use sea_orm::{
    ActiveValue::NotSet, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder,
    QuerySelect, TransactionTrait,
};

use crate::accounts::millis;
use crate::entity::{folder, position, scan_report};

use crate::{Records, StoreError};

/// What a scan did to one file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum What {
    /// New.
    Added,
    /// Other contents, another name or place.
    Changed,
    /// No longer there.
    Gone,
}

impl What {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            What::Added => "added",
            What::Changed => "changed",
            What::Gone => "gone",
        }
    }
}

/// A scan's report.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ScanReport {
    /// Its number.
    pub id: i64,
    /// When it began.
    pub began: Moment,
    /// When it ended.
    pub ended: Moment,
    /// What started it, in a word.
    pub why: String,
    /// Files added, changed and gone.
    pub counts: [u64; 3],
    /// The files, the first of each sort: (what, path below the folder).
    pub files: Vec<(String, String)>,
}

/// Files listed of each sort in a report.
pub const LISTED: usize = 1000;
/// Reports kept of a folder.
const KEPT: u64 = 30;

/// Where somebody stopped in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Position {
    /// The file's serial.
    pub file: FileId,
    /// Milliseconds from the beginning.
    pub position_ms: u64,
    /// Whether it counts as seen.
    pub seen: bool,
    /// When it was noted.
    pub at: Moment,
}

impl Records {
    /// Records what a scan did; of old reports only the last are kept.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn add_scan_report(
        &self,
        folder: FolderId,
        report: &ScanReport,
    ) -> Result<(), StoreError> {
        let damaged = |e: serde_json::Error| StoreError::Damaged(e.to_string());
        let files = serde_json::to_string(&report.files).map_err(damaged)?;
        let transaction = self.database.begin().await?;
        let count = |at: usize| Set(report.counts[at] as i64);
        let row = scan_report::ActiveModel {
            id: NotSet,
            folder_id: Set(i64::from(folder)),
            began_ms: Set(millis(report.began)),
            ended_ms: Set(millis(report.ended)),
            why: Set(report.why.clone()),
            added: count(0),
            changed: count(1),
            gone: count(2),
            files: Set(files),
        };
        scan_report::Entity::insert(row).exec_without_returning(&transaction).await?;
        let oldest = scan_report::Entity::find()
            .filter(scan_report::Column::FolderId.eq(i64::from(folder)))
            .order_by_desc(scan_report::Column::Id)
            .offset(KEPT)
            .one(&transaction)
            .await?;
        if let Some(oldest) = oldest {
            scan_report::Entity::delete_many()
                .filter(scan_report::Column::FolderId.eq(i64::from(folder)))
                .filter(scan_report::Column::Id.lte(oldest.id))
                .exec(&transaction)
                .await?;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// The last reports of a folder, the newest first, each with its files.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn scan_reports(&self, folder: FolderId) -> Result<Vec<ScanReport>, StoreError> {
        let rows = scan_report::Entity::find()
            .filter(scan_report::Column::FolderId.eq(i64::from(folder)))
            .order_by_desc(scan_report::Column::Id)
            .all(&self.database)
            .await?;
        let time = |ms: i64| Moment::from_millis(ms.max(0) as u64);
        let report = |row: scan_report::Model| {
            let files = serde_json::from_str(&row.files);
            let files = self.unread.pass_over(|| format!("scan report {}", row.id), files);
            ScanReport {
                id: row.id,
                began: time(row.began_ms),
                ended: time(row.ended_ms),
                why: row.why,
                counts: [row.added, row.changed, row.gone].map(|n| n.max(0) as u64),
                files: files.unwrap_or_default(),
            }
        };
        Ok(rows.into_iter().map(report).collect())
    }

    /// Leaves sub-folders out of a folder, by path below it.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_excluded(&self, serial: FolderId, paths: &[String]) -> Result<(), StoreError> {
        let row = folder::ActiveModel {
            id: Set(i64::from(serial)),
            excluded: Set(paths.into()),
            ..Default::default()
        };
        folder::Entity::update(row).exec(&self.database).await?;
        Ok(())
    }

    /// Sets which links that lead out of a folder are followed.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_link_rule(&self, serial: FolderId, rule: LinkRule) -> Result<(), StoreError> {
        let row = folder::ActiveModel {
            id: Set(i64::from(serial)),
            link_rule: Set(rule.word().to_owned()),
            ..Default::default()
        };
        folder::Entity::update(row).exec(&self.database).await?;
        Ok(())
    }

    /// Notes which drives a folder is on; `None` forgets it.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_drives(
        &self,
        serial: FolderId,
        drives: Option<&Drives>,
    ) -> Result<(), StoreError> {
        let drives = drives.map(serde_json::to_value).transpose();
        let row = folder::ActiveModel {
            id: Set(i64::from(serial)),
            drives: Set(drives.map_err(|e| StoreError::Damaged(e.to_string()))?),
            ..Default::default()
        };
        folder::Entity::update(row).exec(&self.database).await?;
        Ok(())
    }

    /// Notes which links in a folder were followed.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_links(
        &self,
        serial: FolderId,
        links: &std::collections::BTreeMap<String, String>,
    ) -> Result<(), StoreError> {
        let links = serde_json::to_value(links).map_err(|e| StoreError::Damaged(e.to_string()))?;
        let row = folder::ActiveModel {
            id: Set(i64::from(serial)),
            links: Set(links),
            ..Default::default()
        };
        folder::Entity::update(row).exec(&self.database).await?;
        Ok(())
    }

    /// Notes where somebody stopped.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_position(&self, account: &str, at: &Position) -> Result<(), StoreError> {
        let row = position::ActiveModel {
            account: Set(account.to_owned()),
            file_id: Set(i64::from(at.file)),
            position_ms: Set(at.position_ms as i64),
            seen: Set(at.seen),
            at_ms: Set(millis(at.at)),
        };
        let replace = OnConflict::columns([position::Column::Account, position::Column::FileId])
            .update_columns([
                position::Column::PositionMs,
                position::Column::Seen,
                position::Column::AtMs,
            ])
            .to_owned();
        position::Entity::insert(row)
            .on_conflict(replace)
            .exec_without_returning(&self.database)
            .await?;
        Ok(())
    }

    /// Where somebody stopped in these files, or in all, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn positions(
        &self,
        account: &str,
        files: Option<&[FileId]>,
    ) -> Result<Vec<Position>, StoreError> {
        let mut query = position::Entity::find().filter(position::Column::Account.eq(account));
        if let Some(files) = files {
            let ids = files.iter().map(|f| i64::from(*f));
            query = query.filter(position::Column::FileId.is_in(ids));
        }
        let rows =
            query.order_by_desc(position::Column::AtMs).limit(500).all(&self.database).await?;
        Ok(rows
            .into_iter()
            .filter_map(|row| {
                Some(Position {
                    file: FileId(u32::try_from(row.file_id).ok()?),
                    position_ms: row.position_ms.max(0) as u64,
                    seen: row.seen,
                    at: Moment::from_millis(row.at_ms.max(0) as u64),
                })
            })
            .collect())
    }
}
