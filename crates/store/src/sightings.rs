//! Sightings of devices.

use mostra_core::Moment;

use mostra_core::ids::{DeviceId, FileId};
use mostra_core::sighting::{Act, Sighting, thin_out};
use sea_orm::{
    ActiveValue::NotSet, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter,
    QueryOrder, QuerySelect, TransactionTrait,
};

use crate::accounts::millis;
use crate::devices::number;
use crate::entity::{device, sighting};
use crate::{Records, StoreError};

/// Rows in one statement.
const ROWS: usize = 1000;

impl Records {
    /// Adds sightings, in the order in which they were made. Those of devices that are not recorded
    /// any more are passed over.
    ///
    /// # Errors
    /// [`StoreError`] when they were not saved; then none of them is.
    pub async fn add_sightings(&self, sightings: &[Sighting]) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        let mut ids: Vec<i64> = sightings.iter().map(|s| number(s.device)).collect();
        ids.sort_unstable();
        ids.dedup();
        let known: Vec<i64> = device::Entity::find()
            .select_only()
            .column(device::Column::Id)
            .filter(device::Column::Id.is_in(ids))
            .into_tuple()
            .all(&transaction)
            .await?;
        let of_known = |s: &&Sighting| known.contains(&number(s.device));
        let rows: Vec<&Sighting> = sightings.iter().filter(of_known).collect();
        insert(&transaction, &rows).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// The sightings that prove something, in the order in which they were made.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer or a record does not read back.
    pub(crate) async fn proving_sightings(&self) -> Result<Vec<Sighting>, StoreError> {
        let proving = sighting::Entity::find().filter(sighting::Column::Proves.eq(true));
        let rows = proving.order_by_asc(sighting::Column::Id).all(&self.database).await?;
        rows.into_iter().map(read).collect()
    }

    /// The sightings of a device, in the order in which they were made.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer or a record does not read back.
    pub async fn sightings_of(&self, device: DeviceId) -> Result<Vec<Sighting>, StoreError> {
        of(&self.database, device).await
    }

    /// The latest sightings of a device, the latest first.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer or a record does not read back.
    pub async fn latest_sightings(
        &self,
        device: DeviceId,
        most: u64,
    ) -> Result<Vec<Sighting>, StoreError> {
        let rows = sighting::Entity::find()
            .filter(sighting::Column::DeviceId.eq(number(device)))
            .order_by_desc(sighting::Column::Id)
            .limit(most)
            .all(&self.database)
            .await?;
        rows.into_iter().map(read).collect()
    }

    /// Thins out the sightings of all devices by the rule of
    /// [`thin_out`].
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer; what was thinned out by then stays so.
    pub async fn thin_out_sightings(&self, now: Moment) -> Result<(), StoreError> {
        let devices: Vec<i64> = sighting::Entity::find()
            .select_only()
            .column(sighting::Column::DeviceId)
            .distinct()
            .into_tuple()
            .all(&self.database)
            .await?;
        for id in devices {
            let id = DeviceId(u32::try_from(id).unwrap_or(u32::MAX));
            let transaction = self.database.begin().await?;
            let before = of(&transaction, id).await?;
            let count = before.len();
            let kept = thin_out(before, now);
            if kept.len() == count {
                continue;
            }
            sighting::Entity::delete_many()
                .filter(sighting::Column::DeviceId.eq(number(id)))
                .exec(&transaction)
                .await?;
            insert(&transaction, &kept.iter().collect::<Vec<_>>()).await?;
            transaction.commit().await?;
        }
        Ok(())
    }

    /// Forgets the proof of files of a device.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn forget_files(&self, device: DeviceId, files: &[FileId]) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        let of_device = sighting::Entity::find()
            .filter(sighting::Column::DeviceId.eq(number(device)))
            .filter(sighting::Column::Proves.eq(true))
            .all(&transaction)
            .await?;
        let goes = |row: &sighting::Model| {
            let act: Option<Act> = serde_json::from_str(&row.act).ok();
            matches!(act, Some(Act::Took { resource, .. }) if files.contains(&resource.file))
        };
        let gone: Vec<i64> = of_device.iter().filter(|row| goes(row)).map(|row| row.id).collect();
        sighting::Entity::delete_many()
            .filter(sighting::Column::Id.is_in(gone))
            .exec(&transaction)
            .await?;
        transaction.commit().await?;
        Ok(())
    }
}

async fn of(
    connection: &impl ConnectionTrait,
    device: DeviceId,
) -> Result<Vec<Sighting>, StoreError> {
    let rows = sighting::Entity::find()
        .filter(sighting::Column::DeviceId.eq(number(device)))
        .order_by_asc(sighting::Column::Id)
        .all(connection)
        .await?;
    rows.into_iter().map(read).collect()
}

async fn insert(
    connection: &impl ConnectionTrait,
    sightings: &[&Sighting],
) -> Result<(), StoreError> {
    for piece in sightings.chunks(ROWS) {
        let rows = piece.iter().map(|sighting| sighting::ActiveModel {
            id: NotSet,
            device_id: Set(number(sighting.device)),
            contact: Set(sighting.contact.to_string()),
            first_ms: Set(millis(sighting.first)),
            last_ms: Set(millis(sighting.last)),
            times: Set(i64::from(sighting.times)),
            proves: Set(sighting.proves),
            act: Set(serde_json::json!(sighting.act).to_string()),
        });
        sighting::Entity::insert_many(rows).exec_without_returning(connection).await?;
    }
    Ok(())
}

fn read(row: sighting::Model) -> Result<Sighting, StoreError> {
    let damaged = |what: &str| StoreError::Damaged(format!("sighting {}: {what}", row.id));
    let at = |ms: i64| Moment::from_millis(ms.max(0) as u64);
    Ok(Sighting {
        device: DeviceId(u32::try_from(row.device_id).map_err(|_| damaged("device"))?),
        contact: row.contact.parse().map_err(|_| damaged("contact"))?,
        first: at(row.first_ms),
        last: at(row.last_ms),
        times: u32::try_from(row.times).map_err(|_| damaged("times"))?,
        act: serde_json::from_str(&row.act).map_err(|_| damaged("act"))?,
        proves: row.proves,
    })
}
