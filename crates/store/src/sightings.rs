//! Sightings of devices.

use mostra_core::Moment;

use mostra_core::ids::{DeviceId, FileId};
use mostra_core::sighting::{Act, Sighting, thin_out};
use sea_orm::{
    ActiveModelTrait, ActiveValue::NotSet, ColumnTrait, ConnectionTrait, EntityTrait,
    IntoActiveModel, QueryFilter, QueryOrder, QuerySelect, TransactionTrait,
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
    /// [`StoreError`] when the database does not answer.
    pub(crate) async fn proving_sightings(&self) -> Result<Vec<Sighting>, StoreError> {
        let proving = sighting::Entity::find().filter(sighting::Column::Proves.eq(true));
        let rows = proving.order_by_asc(sighting::Column::Id).all(&self.database).await?;
        Ok(self.readable(rows))
    }

    /// The sightings of a device, in the order in which they were made.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn sightings_of(&self, device: DeviceId) -> Result<Vec<Sighting>, StoreError> {
        let rows = sighting::Entity::find()
            .filter(sighting::Column::DeviceId.eq(number(device)))
            .order_by_asc(sighting::Column::Id)
            .all(&self.database)
            .await?;
        Ok(self.readable(rows))
    }

    /// Those of some rows that can be read.
    fn readable(&self, rows: Vec<sighting::Model>) -> Vec<Sighting> {
        rows.into_iter().filter_map(|row| self.read(row)).collect()
    }

    fn read(&self, row: sighting::Model) -> Option<Sighting> {
        let id = row.id;
        self.unread.pass_over(|| format!("sighting {id}"), read(row))
    }

    /// The latest sightings of a device, the latest first.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
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
        Ok(self.readable(rows))
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
            self.thin_out_one(id, now).await?;
        }
        Ok(())
    }

    /// Thins out the sightings of one device. What cannot be read stays as it is.
    async fn thin_out_one(&self, device: i64, now: Moment) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        let (mut before, mut ids, mut after) = (Vec::new(), Vec::new(), i64::MIN);
        loop {
            let rows = sighting::Entity::find()
                .filter(sighting::Column::DeviceId.eq(device))
                .filter(sighting::Column::Id.gt(after))
                .order_by_asc(sighting::Column::Id)
                .limit(ROWS as u64)
                .all(&transaction)
                .await?;
            let Some(last) = rows.last() else { break };
            after = last.id;
            for row in rows {
                let id = row.id;
                if let Some(sighting) = self.read(row) {
                    before.push(sighting);
                    ids.push(id);
                }
            }
        }
        let count = before.len();
        let kept = thin_out(before, now);
        if kept.len() == count {
            return Ok(());
        }
        for piece in ids.chunks(ROWS) {
            let these = sighting::Column::Id.is_in(piece.iter().copied());
            sighting::Entity::delete_many().filter(these).exec(&transaction).await?;
        }
        insert(&transaction, &kept.iter().collect::<Vec<_>>()).await?;
        transaction.commit().await?;
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

/// A sighting's row; its number is the database's to give.
pub(crate) fn row(sighting: &Sighting) -> sighting::Model {
    sighting::Model {
        id: 0,
        device_id: number(sighting.device),
        contact: sighting.contact.to_string(),
        first_ms: millis(sighting.first),
        last_ms: millis(sighting.last),
        times: i64::from(sighting.times),
        proves: sighting.proves,
        act: serde_json::json!(sighting.act).to_string(),
    }
}

async fn insert(
    connection: &impl ConnectionTrait,
    sightings: &[&Sighting],
) -> Result<(), StoreError> {
    for piece in sightings.chunks(ROWS) {
        let rows = piece.iter().map(|sighting| sighting::ActiveModel {
            id: NotSet,
            ..row(sighting).into_active_model().reset_all()
        });
        sighting::Entity::insert_many(rows).exec_without_returning(connection).await?;
    }
    Ok(())
}

fn read(row: sighting::Model) -> Result<Sighting, String> {
    let damaged = |what: &str| what.to_owned();
    let at = |ms: i64| Moment::from_millis(ms.max(0) as u64);
    Ok(Sighting {
        device: DeviceId(u32::try_from(row.device_id).map_err(|_| damaged("device"))?),
        contact: row.contact.parse().map_err(|_| damaged("contact"))?,
        first: at(row.first_ms),
        last: at(row.last_ms),
        times: u32::try_from(row.times).map_err(|_| damaged("times"))?,
        act: serde_json::from_str(&row.act).map_err(|e| e.to_string())?,
        proves: row.proves,
    })
}
