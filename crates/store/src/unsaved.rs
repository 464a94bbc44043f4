//! What could not be saved before the service stopped, in a form that a file holds until the next
//! start saves it.

use mostra_core::device::Device;
use mostra_core::sighting::Sighting;
use mostra_core::walkthrough::Walkthrough;
use sea_orm::sea_query::OnConflict;
use sea_orm::{
    ActiveModelTrait, ActiveValue::NotSet, EntityTrait, IntoActiveModel, QuerySelect,
    TransactionTrait,
};
use serde::{Deserialize, Serialize};

use crate::devices::{DeviceRows, put_device};
use crate::entity::{decision, device, sighting, walkthrough};
use crate::{DecisionNote, Records, StoreError, devices, sightings, walkthroughs};

/// Rows in one statement.
const ROWS: usize = 1000;

/// Devices, what they did, and what was decided, as rows that are to be saved.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct UnsavedRecords {
    devices: Vec<DeviceRows>,
    decisions: Vec<decision::Model>,
    sightings: Vec<sighting::Model>,
    walkthroughs: Vec<walkthrough::Model>,
}

impl UnsavedRecords {
    /// Adds a device as it is, with its proof.
    pub fn add_device(&mut self, device: &Device) {
        self.devices.push(DeviceRows::of(device));
    }

    /// Adds a decision on a device, which is given as it is after it.
    pub fn add_decision(&mut self, device: &Device, note: DecisionNote<'_>) {
        self.decisions.push(devices::decision_row(device, note));
    }

    /// Adds a sighting.
    pub fn add_sighting(&mut self, sighting: &Sighting) {
        self.sightings.push(sightings::row(sighting));
    }

    /// Adds a walkthrough.
    ///
    /// # Errors
    /// [`StoreError::Damaged`] when it cannot be written.
    pub fn add_walkthrough(&mut self, one: &Walkthrough) -> Result<(), StoreError> {
        self.walkthroughs.push(walkthroughs::row(one)?);
        Ok(())
    }

    /// Adds what was left later.
    pub fn join(&mut self, later: UnsavedRecords) {
        self.devices.extend(later.devices);
        self.decisions.extend(later.decisions);
        self.sightings.extend(later.sightings);
        self.walkthroughs.extend(later.walkthroughs);
    }

    /// Whether it holds nothing.
    pub fn is_empty(&self) -> bool {
        self.devices.is_empty()
            && self.decisions.is_empty()
            && self.sightings.is_empty()
            && self.walkthroughs.is_empty()
    }
}

impl Records {
    /// Saves what a former run could not save, all or nothing. What is of devices that are not
    /// recorded any more is passed over.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn save_unsaved(&self, unsaved: UnsavedRecords) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        for device in unsaved.devices {
            put_device(&transaction, device).await?;
        }
        let known: Vec<i64> = device::Entity::find()
            .select_only()
            .column(device::Column::Id)
            .into_tuple()
            .all(&transaction)
            .await?;
        let is_known = |id: i64| known.contains(&id);
        let all = unsaved.decisions.into_iter().filter(|row| is_known(row.device_id)).map(|row| {
            let row = row.into_active_model().reset_all();
            decision::ActiveModel { id: NotSet, ..row }
        });
        let all: Vec<_> = all.collect();
        for rows in all.chunks(ROWS) {
            decision::Entity::insert_many(rows.to_vec())
                .exec_without_returning(&transaction)
                .await?;
        }
        let all = unsaved.sightings.into_iter().filter(|row| is_known(row.device_id)).map(|row| {
            let row = row.into_active_model().reset_all();
            sighting::ActiveModel { id: NotSet, ..row }
        });
        let all: Vec<_> = all.collect();
        for rows in all.chunks(ROWS) {
            sighting::Entity::insert_many(rows.to_vec())
                .exec_without_returning(&transaction)
                .await?;
        }
        for row in unsaved.walkthroughs.into_iter().filter(|row| is_known(row.device_id)) {
            use walkthrough::Column::{FinishedMs, Id, Noted};
            let again = OnConflict::column(Id).update_columns([FinishedMs, Noted]).to_owned();
            walkthrough::Entity::insert(row.into_active_model().reset_all())
                .on_conflict(again)
                .exec_without_returning(&transaction)
                .await?;
        }
        transaction.commit().await?;
        Ok(())
    }
}
