//! Walkthroughs.

use mostra_core::Moment;
use mostra_core::ids::DeviceId;
use mostra_core::walkthrough::Walkthrough;
use sea_orm::sea_query::OnConflict;
use sea_orm::{ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect};

use crate::accounts::millis;
use crate::entity::walkthrough;
use crate::{Records, StoreError};

/// Walkthroughs kept of one device.
const KEPT: u64 = 20;

impl Records {
    /// The latest walkthrough of each device.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer or a record does not read back.
    pub async fn walkthroughs(&self) -> Result<Vec<Walkthrough>, StoreError> {
        let rows = walkthrough::Entity::find()
            .distinct_on([walkthrough::Column::DeviceId])
            .order_by_asc(walkthrough::Column::DeviceId)
            .order_by_desc(walkthrough::Column::Id)
            .all(&self.database)
            .await?;
        rows.into_iter().map(read).collect()
    }

    /// The walkthroughs of a device, the latest first.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer or a record does not read back.
    pub async fn walkthroughs_of(&self, device: DeviceId) -> Result<Vec<Walkthrough>, StoreError> {
        let rows = walkthrough::Entity::find()
            .filter(walkthrough::Column::DeviceId.eq(i64::from(device)))
            .order_by_desc(walkthrough::Column::Id)
            .all(&self.database)
            .await?;
        rows.into_iter().map(read).collect()
    }

    /// Saves a walkthrough as it is; of one device the latest are kept.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn save_walkthrough(&self, one: &Walkthrough) -> Result<(), StoreError> {
        let noted = serde_json::to_value(one.noted())
            .map_err(|_| StoreError::Damaged("a walkthrough".into()))?;
        let row = walkthrough::ActiveModel {
            id: Set(i64::from(one.id)),
            device_id: Set(i64::from(one.device)),
            started_ms: Set(millis(one.started)),
            finished_ms: Set(one.finished.map(millis)),
            noted: Set(noted),
        };
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

fn read(row: walkthrough::Model) -> Result<Walkthrough, StoreError> {
    let damaged = || StoreError::Damaged("a walkthrough".into());
    let number = |id: i64| u32::try_from(id).map_err(|_| damaged());
    let moment = |ms: i64| Moment::from_millis(u64::try_from(ms).unwrap_or(0));
    let noted = serde_json::from_value(row.noted).map_err(|_| damaged())?;
    let (started, finished) = (moment(row.started_ms), row.finished_ms.map(moment));
    let device = DeviceId(number(row.device_id)?);
    Ok(Walkthrough::recorded(number(row.id)?, device, started, finished, noted))
}
