//! Devices, decisions and proof.

use std::collections::HashMap;
use std::time::Duration;

use mostra_core::Kinds;
use mostra_core::access::{Grant, Standing};
use mostra_core::device::{DEVICES, Denied, Device};
use mostra_core::proof::{Ladder, Proof, Step};
use mostra_core::text::{NAME, TITLE, tame};
use sea_orm::sea_query::OnConflict;
use sea_orm::{
    ActiveValue::NotSet, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter,
    QueryOrder, QuerySelect, TransactionTrait,
};

use crate::accounts::millis;
use crate::entity::{decision, device, proof};
use crate::{Records, StoreError};

impl Records {
    /// The devices with their proof, at most [`DEVICES`]: those that somebody decided on first, then
    /// those seen last. Others on which nobody decided are removed.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer or a record does not read back.
    pub async fn devices(&self) -> Result<Vec<Device>, StoreError> {
        let rows = device::Entity::find()
            .order_by_desc(device::Column::Decided)
            .order_by_desc(device::Column::LastSeenMs)
            .limit(DEVICES as u64)
            .all(&self.database)
            .await?;
        let mut proofs: HashMap<i64, Vec<proof::Model>> = HashMap::new();
        let numbers: Vec<i64> = rows.iter().map(|row| row.id).collect();
        if numbers.len() >= DEVICES {
            device::Entity::delete_many()
                .filter(device::Column::Id.is_not_in(numbers.iter().copied()))
                .filter(device::Column::Decided.eq(false))
                .exec(&self.database)
                .await?;
        }
        let of_these = proof::Column::DeviceId.is_in(numbers);
        for proof in proof::Entity::find().filter(of_these).all(&self.database).await? {
            proofs.entry(proof.device_id).or_default().push(proof);
        }
        rows.into_iter()
            .map(|row| {
                let proofs = proofs.remove(&row.id).unwrap_or_default();
                read(row, proofs)
            })
            .collect()
    }

    /// The largest number that a device ever had; numbers are not used again.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn last_device(&self) -> Result<u32, StoreError> {
        let newest = device::Entity::find().order_by_desc(device::Column::Id);
        let newest = newest.one(&self.database).await?.map_or(0, |row| row.id);
        Ok(u32::try_from(newest).unwrap_or(u32::MAX))
    }

    /// Forgets devices of which only the latest are kept, with their proof; nobody decided on
    /// them.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn drop_devices(&self, ids: &[u32]) -> Result<(), StoreError> {
        let ids = ids.iter().map(|id| i64::from(*id));
        device::Entity::delete_many()
            .filter(device::Column::Id.is_in(ids))
            .filter(device::Column::Decided.eq(false))
            .exec(&self.database)
            .await?;
        Ok(())
    }

    /// Saves devices as they are, with their proof.
    ///
    /// # Errors
    /// [`StoreError`] when they were not saved; then none of them is.
    pub async fn save_devices(&self, devices: &[Device]) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        for device in devices {
            save(&transaction, device).await?;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// Records a decision, and the device as it is after it, in one commit.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn decide(&self, device: &Device, at: Duration, who: &str) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        save(&transaction, device).await?;
        let what = match device.standing {
            Standing::Admitted => format!("admitted to {}", device.grant),
            other => other.word().to_owned(),
        };
        note(&transaction, device.id, at, who, what).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Forgets a device and its proof; the decision to do so is kept.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn forget_device(&self, id: u32, at: Duration, who: &str) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        device::Entity::delete_by_id(i64::from(id)).exec(&transaction).await?;
        note(&transaction, id, at, who, "forgotten".into()).await?;
        transaction.commit().await?;
        Ok(())
    }
}

async fn note(
    connection: &impl ConnectionTrait,
    id: u32,
    at: Duration,
    who: &str,
    what: String,
) -> Result<(), StoreError> {
    let model = decision::ActiveModel {
        id: NotSet,
        device_id: Set(i64::from(id)),
        at_ms: Set(millis(at)),
        who: Set(tame(who, NAME).into_owned()),
        what: Set(what),
    };
    decision::Entity::insert(model).exec_without_returning(connection).await?;
    Ok(())
}

/// As PostgreSQL can hold it, whoever it came from.
fn fit(text: Option<&str>) -> Option<String> {
    text.map(|text| tame(text, TITLE).into_owned())
}

async fn save(connection: &impl ConnectionTrait, device: &Device) -> Result<(), StoreError> {
    use device::Column;
    let folders = device.grant.folders.as_ref().map(|f| serde_json::json!(f));
    let model = device::ActiveModel {
        id: Set(i64::from(device.id)),
        address: Set(device.address.to_string()),
        hardware: Set(device.hardware.map(|h| h.to_string())),
        name: Set(fit(device.name.as_deref())),
        user_agent: Set(fit(device.user_agent.as_deref())),
        standing: Set(device.standing.word().to_owned()),
        kinds: Set(device.grant.kinds.to_string()),
        folders: Set(folders),
        update_offset: Set(i64::from(device.update_offset)),
        first_seen_ms: Set(millis(device.first_seen)),
        last_seen_ms: Set(millis(device.last_seen)),
        traits: Set(serde_json::json!(device.traits)),
        rules: Set(serde_json::json!(device.rules)),
        denied_ms: Set(device.denied.as_ref().map(|denied| millis(denied.at))),
        denied: Set(fit(device.denied.as_ref().map(|denied| denied.what.as_str()))),
        decided: Set(device.decided),
    };
    let replace = OnConflict::column(Column::Id)
        .update_columns([
            Column::Address,
            Column::Hardware,
            Column::Name,
            Column::UserAgent,
            Column::Standing,
            Column::Kinds,
            Column::Folders,
            Column::UpdateOffset,
            Column::LastSeenMs,
            Column::Traits,
            Column::Rules,
            Column::DeniedMs,
            Column::Denied,
            Column::Decided,
        ])
        .to_owned();
    device::Entity::insert(model).on_conflict(replace).exec_without_returning(connection).await?;
    let proofs: Vec<proof::ActiveModel> = device
        .ladder
        .confirmed()
        .map(|(step, confirmed)| proof::ActiveModel {
            device_id: Set(i64::from(device.id)),
            step: Set(step.word().to_owned()),
            at_ms: Set(millis(confirmed.at)),
            what: Set(tame(&confirmed.what, NAME).into_owned()),
            item: Set(fit(confirmed.item.as_deref())),
            bytes: Set(confirmed.bytes.map(|b| b as i64)),
        })
        .collect();
    if !proofs.is_empty() {
        let keep = OnConflict::columns([proof::Column::DeviceId, proof::Column::Step])
            .do_nothing()
            .to_owned();
        proof::Entity::insert_many(proofs)
            .on_conflict(keep)
            .exec_without_returning(connection)
            .await?;
    }
    Ok(())
}

fn read(row: device::Model, proofs: Vec<proof::Model>) -> Result<Device, StoreError> {
    let damaged = |what: &str| StoreError::Damaged(format!("device {}: {what}", row.id));
    let at = |ms: i64| Duration::from_millis(ms.max(0) as u64);
    let mut ladder = Ladder::default();
    for proof in proofs {
        let step = Step::from_word(&proof.step).ok_or_else(|| damaged("unknown step"))?;
        let bytes = proof.bytes.map(|b| b.max(0) as u64);
        let (what, item) = (proof.what, proof.item);
        ladder.confirm(step, Proof { at: at(proof.at_ms), what, item, bytes });
    }
    let kinds: Kinds = row.kinds.parse().map_err(|_| damaged("unknown kinds"))?;
    let folders = match &row.folders {
        None => None,
        Some(list) => Some(serde_json::from_value(list.clone()).map_err(|_| damaged("folders"))?),
    };
    Ok(Device {
        id: u32::try_from(row.id).map_err(|_| damaged("number"))?,
        address: row.address.parse().map_err(|_| damaged("address"))?,
        hardware: row.hardware.as_ref().and_then(|h| h.parse().ok()),
        standing: Standing::from_word(&row.standing).ok_or_else(|| damaged("unknown standing"))?,
        grant: Grant { kinds, folders },
        update_offset: row.update_offset as u32,
        first_seen: at(row.first_seen_ms),
        last_seen: at(row.last_seen_ms),
        name: row.name,
        user_agent: row.user_agent,
        ladder,
        denied: row.denied_ms.zip(row.denied).map(|(ms, what)| Denied { at: at(ms), what }),
        decided: row.decided,
        // What an older or newer version knew of traits costs no device.
        traits: serde_json::from_value(row.traits).unwrap_or_default(),
        rules: serde_json::from_value(row.rules).unwrap_or_default(),
        shown: Default::default(),
    })
}
