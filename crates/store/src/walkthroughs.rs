//! Walkthroughs.

use mostra_core::Moment;
use mostra_core::ids::DeviceId;
use mostra_core::walkthrough::Walkthrough;
use sea_orm::sea_query::OnConflict;
use sea_orm::{
    ActiveModelTrait, ColumnTrait, EntityTrait, IntoActiveModel, QueryFilter, QueryOrder,
    QuerySelect,
};

use crate::accounts::millis;
use crate::entity::walkthrough;
use crate::{Records, StoreError};

/// Walkthroughs kept of one device.
const KEPT: u64 = 20;

impl Records {
    /// The latest walkthrough of each device.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn walkthroughs(&self) -> Result<Vec<Walkthrough>, StoreError> {
        let rows = walkthrough::Entity::find()
            .distinct_on([walkthrough::Column::DeviceId])
            .order_by_asc(walkthrough::Column::DeviceId)
            .order_by_desc(walkthrough::Column::Id)
            .all(&self.database)
            .await?;
        Ok(self.readable_walkthroughs(rows))
    }

    /// The walkthroughs of a device, the latest first.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn walkthroughs_of(&self, device: DeviceId) -> Result<Vec<Walkthrough>, StoreError> {
        let rows = walkthrough::Entity::find()
            .filter(walkthrough::Column::DeviceId.eq(i64::from(device)))
            .order_by_desc(walkthrough::Column::Id)
            .all(&self.database)
            .await?;
        Ok(self.readable_walkthroughs(rows))
    }

    /// Those of some rows that can be read.
    fn readable_walkthroughs(&self, rows: Vec<walkthrough::Model>) -> Vec<Walkthrough> {
        let read = |row: walkthrough::Model| {
            let id = row.id;
            self.unread.pass_over(|| format!("walkthrough {id}"), read(row))
        };
        rows.into_iter().filter_map(read).collect()
    }

    /// Saves a walkthrough as it is; of one device the latest are kept.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn save_walkthrough(&self, one: &Walkthrough) -> Result<(), StoreError> {
        let row = row(one)?.into_active_model().reset_all();
        use walkthrough::Column::{DeviceId as Device, FinishedMs, Id, Noted};
        let again = OnConflict::column(Id).update_columns([Device, FinishedMs, Noted]).to_owned();
        walkthrough::Entity::insert(row)
            .on_conflict(again)
            .exec_without_returning(&self.database)
            .await?;
        let of_device = Device.eq(i64::from(one.device));
        let beyond = walkthrough::Entity::find()
            .filter(of_device.clone())
            .order_by_desc(Id)
            .offset(KEPT)
            .limit(1)
            .one(&self.database)
            .await?;
        if let Some(last) = beyond {
            walkthrough::Entity::delete_many()
                .filter(of_device)
                .filter(Id.lte(last.id))
                .exec(&self.database)
                .await?;
        }
        Ok(())
    }
}

/// A walkthrough's row.
pub(crate) fn row(one: &Walkthrough) -> Result<walkthrough::Model, StoreError> {
    let noted = serde_json::to_value(one.noted());
    Ok(walkthrough::Model {
        id: i64::from(one.id),
        device_id: i64::from(one.device),
        started_ms: millis(one.started),
        finished_ms: one.finished.map(millis),
        noted: noted.map_err(|_| StoreError::Damaged("a walkthrough".into()))?,
    })
}

fn read(row: walkthrough::Model) -> Result<Walkthrough, StoreError> {
    let damaged = || StoreError::Damaged("a walkthrough".into());
    let number = |id: i64| u32::try_from(id).map_err(|_| damaged());
    let moment = |ms: i64| Moment::from_millis(u64::try_from(ms).unwrap_or(0));
    let noted = serde_json::from_value(row.noted).map_err(|_| damaged())?;
    let (started, finished) = (moment(row.started_ms), row.finished_ms.map(moment));
    let device = DeviceId(number(row.device_id)?);
    Ok(Walkthrough::recorded(number(row.id)?, device, started, finished, noted))
}
