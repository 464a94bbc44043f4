//! Devices, decisions and proof.

use std::collections::{BTreeSet, HashMap};

use mostra_core::Kinds;
use mostra_core::Moment;
use mostra_core::access::{Grant, Standing};
use mostra_core::device::{DEVICES, Denied, Device, DeviceKind, Endpoint};
use mostra_core::ids::{DeviceId, FolderId};
use mostra_core::proof::{Proof, ProofState, Step};
use mostra_core::sighting::{Attempt, Contact};
use mostra_core::text::{NAME, TITLE, tame};
use sea_orm::sea_query::{Expr, OnConflict};
use sea_orm::{
    ActiveModelTrait, ActiveValue::NotSet, ActiveValue::Set, ColumnTrait, ConnectionTrait,
    EntityTrait, IntoActiveModel, Iterable, QueryFilter, QueryOrder, QuerySelect, TransactionTrait,
};

use serde::{Deserialize, Serialize};

use crate::accounts::millis;
use crate::entity::{decision, device, endpoint, proof, sighting};
use crate::unread::UnreadRows;
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
        let of_these = proof::Column::DeviceId.is_in(numbers.iter().copied());
        for proof in proof::Entity::find().filter(of_these).all(&self.database).await? {
            proofs.entry(proof.device_id).or_default().push(proof);
        }
        let mut endpoints: HashMap<i64, Vec<endpoint::Model>> = HashMap::new();
        let of_these = endpoint::Column::DeviceId.is_in(numbers);
        for endpoint in endpoint::Entity::find().filter(of_these).all(&self.database).await? {
            endpoints.entry(endpoint.device_id).or_default().push(endpoint);
        }
        let mut proven: HashMap<DeviceId, ProofState> = HashMap::new();
        for mut sighting in self.proving_sightings().await? {
            proven.entry(sighting.device).or_default().apply(&mut sighting);
        }
        let read = |row: device::Model| {
            let id = row.id;
            let proofs = proofs.remove(&id).unwrap_or_default();
            let endpoints = endpoints.remove(&id).unwrap_or_default();
            let read = read(row, proofs, endpoints, &self.unread);
            let mut device = self.unread.pass_over(|| format!("device {id}"), read)?;
            device.proof.merge(proven.remove(&device.id).unwrap_or_default());
            Some(device)
        };
        Ok(rows.into_iter().filter_map(read).collect())
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
    pub async fn drop_devices(&self, ids: &[DeviceId]) -> Result<(), StoreError> {
        let ids = ids.iter().map(|id| number(*id));
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
    pub async fn decide(&self, device: &Device, note: DecisionNote<'_>) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        save(&transaction, device).await?;
        insert_decision(&transaction, device, note).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Records a decision on a device that is saved already.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn note_decision(
        &self,
        device: &Device,
        note: DecisionNote<'_>,
    ) -> Result<(), StoreError> {
        insert_decision(&self.database, device, note).await
    }

    /// The decisions on a device, the latest first.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn decisions(&self, id: DeviceId, most: u64) -> Result<Vec<Decided>, StoreError> {
        let rows = decision::Entity::find()
            .filter(decision::Column::DeviceId.eq(number(id)))
            .order_by_desc(decision::Column::Id)
            .limit(most)
            .all(&self.database)
            .await?;
        let read = |row: decision::Model| {
            // What was before is needed only to undo it.
            let before = row.before.and_then(|before| {
                let before = serde_json::from_value::<Before>(before).map_err(|e| e.to_string());
                let before = before.and_then(|before| {
                    let standing =
                        Standing::from_word(&before.standing).ok_or("unknown standing")?;
                    let kinds = before.kinds.parse().map_err(|_| "unknown kinds")?;
                    Ok((standing, Grant { kinds, folders: before.folders }))
                });
                self.unread.pass_over(|| format!("decision {}", row.id), before)
            });
            Decided {
                at: Moment::from_millis(row.at_ms.max(0) as u64),
                who: row.who,
                what: row.what,
                why: row.why,
                before,
            }
        };
        Ok(rows.into_iter().map(read).collect())
    }

    /// The last admission of each device: who and when.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn admissions(&self) -> Result<HashMap<DeviceId, (String, Moment)>, StoreError> {
        let rows = decision::Entity::find()
            .distinct_on([decision::Column::DeviceId])
            .filter(decision::Column::What.starts_with("admitted"))
            .order_by_asc(decision::Column::DeviceId)
            .order_by_desc(decision::Column::Id)
            .all(&self.database)
            .await?;
        let read = |row: decision::Model| {
            let id = DeviceId(u32::try_from(row.device_id).ok()?);
            Some((id, (row.who, Moment::from_millis(row.at_ms.max(0) as u64))))
        };
        Ok(rows.into_iter().filter_map(read).collect())
    }

    /// Forgets a device and its proof; the decision to do so is kept.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn forget_device(
        &self,
        id: DeviceId,
        at: Moment,
        who: &str,
    ) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        device::Entity::delete_by_id(number(id)).exec(&transaction).await?;
        note(&transaction, id, at, who, "forgotten".into()).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Records that `gone` was put together with a device, which is given as it is afterwards.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved; then nothing is.
    pub async fn merge_devices(
        &self,
        device: &Device,
        gone: DeviceId,
        at: Moment,
        who: &str,
    ) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        // It may have been met a moment ago, and not be recorded yet.
        save(&transaction, device).await?;
        sighting::Entity::update_many()
            .col_expr(sighting::Column::DeviceId, Expr::value(number(device.id)))
            .filter(sighting::Column::DeviceId.eq(number(gone)))
            .exec(&transaction)
            .await?;
        device::Entity::delete_by_id(number(gone)).exec(&transaction).await?;
        note(&transaction, device.id, at, who, format!("put together with device {gone}")).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Records that one of a device's endpoints is a device of its own: both are given as they are
    /// afterwards. Sightings by that endpoint go with it.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved; then nothing is.
    pub async fn split_device(
        &self,
        device: &Device,
        apart: &Device,
        contact: Contact,
        at: Moment,
        who: &str,
    ) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        proof::Entity::delete_many()
            .filter(proof::Column::DeviceId.eq(number(device.id)))
            .exec(&transaction)
            .await?;
        save(&transaction, device).await?;
        save(&transaction, apart).await?;
        sighting::Entity::update_many()
            .col_expr(sighting::Column::DeviceId, Expr::value(number(apart.id)))
            .filter(sighting::Column::DeviceId.eq(number(device.id)))
            .filter(sighting::Column::Contact.eq(contact.to_string()))
            .exec(&transaction)
            .await?;
        let what = format!("{contact} taken apart as device {}", apart.id);
        note(&transaction, device.id, at, who, what).await?;
        transaction.commit().await?;
        Ok(())
    }
}

/// What is recorded of a decision beside what it is.
#[derive(Debug, Clone, Copy)]
pub struct DecisionNote<'a> {
    /// When.
    pub at: Moment,
    /// Who decided: an account, or the doorway.
    pub who: &'a str,
    /// Why, in a person's words.
    pub why: Option<&'a str>,
    /// What was before, so that it can be undone.
    pub before: Option<(Standing, &'a Grant)>,
}

/// A decision as it was recorded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Decided {
    /// When.
    pub at: Moment,
    /// Who decided.
    pub who: String,
    /// What.
    pub what: String,
    /// Why, in a person's words.
    pub why: Option<String>,
    /// What was before.
    pub before: Option<(Standing, Grant)>,
}

/// What was before a decision, as it is recorded.
#[derive(Serialize, Deserialize)]
struct Before {
    standing: String,
    kinds: String,
    folders: Option<BTreeSet<FolderId>>,
}

/// A decision's row; its number is the database's to give.
pub(crate) fn decision_row(device: &Device, note: DecisionNote<'_>) -> decision::Model {
    let what = match device.standing {
        Standing::Admitted => format!("admitted to {}", device.grant),
        other => other.word().to_owned(),
    };
    let DecisionNote { at, who, why, before } = note;
    let before = before.map(|(standing, grant)| Before {
        standing: standing.word().to_owned(),
        kinds: grant.kinds.to_string(),
        folders: grant.folders.clone(),
    });
    decision::Model {
        id: 0,
        device_id: number(device.id),
        at_ms: millis(at),
        who: tame(who, NAME).into_owned(),
        what,
        why: fit(why),
        before: before.map(|before| serde_json::json!(before)),
    }
}

async fn insert_decision(
    connection: &impl ConnectionTrait,
    device: &Device,
    note: DecisionNote<'_>,
) -> Result<(), StoreError> {
    let row = decision_row(device, note).into_active_model().reset_all();
    let row = decision::ActiveModel { id: NotSet, ..row };
    decision::Entity::insert(row).exec_without_returning(connection).await?;
    Ok(())
}

/// A device's number as it is recorded.
pub(crate) fn number(id: DeviceId) -> i64 {
    i64::from(id.0)
}

async fn note(
    connection: &impl ConnectionTrait,
    id: DeviceId,
    at: Moment,
    who: &str,
    what: String,
) -> Result<(), StoreError> {
    let model = decision::ActiveModel {
        id: NotSet,
        device_id: Set(number(id)),
        at_ms: Set(millis(at)),
        who: Set(tame(who, NAME).into_owned()),
        what: Set(what),
        why: Set(None),
        before: Set(None),
    };
    decision::Entity::insert(model).exec_without_returning(connection).await?;
    Ok(())
}

/// As PostgreSQL can hold it, whoever it came from.
fn fit(text: Option<&str>) -> Option<String> {
    text.map(|text| tame(text, TITLE).into_owned())
}

/// The rows of one device.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct DeviceRows {
    device: device::Model,
    endpoints: Vec<endpoint::Model>,
    proofs: Vec<proof::Model>,
}

impl DeviceRows {
    pub(crate) fn of(device: &Device) -> DeviceRows {
        let id = number(device.id);
        let row = device::Model {
            id,
            name: fit(device.name.as_deref()),
            user_agent: fit(device.user_agent.as_deref()),
            standing: device.standing.word().to_owned(),
            kinds: device.grant.kinds.to_string(),
            folders: device.grant.folders.as_ref().map(|f| serde_json::json!(f)),
            update_offset: i64::from(device.update_offset),
            first_seen_ms: millis(device.first_seen),
            last_seen_ms: millis(device.last_seen),
            traits: serde_json::json!(device.traits),
            rules: serde_json::json!(device.rules),
            denied_ms: device.denied.as_ref().map(|denied| millis(denied.at)),
            denied: device.denied.map(|denied| denied.attempt.word().to_owned()),
            decided: device.decided,
            udns: serde_json::json!(device.udns),
            described_name: fit(device.described_name.as_deref()),
            kind: device.kind.map(|kind| kind.word().to_owned()),
            room: fit(device.room.as_deref()),
            note: fit(device.note.as_deref()),
            asked_ms: device.asked.map(millis),
            by_doorway_ms: device.by_doorway.map(millis),
        };
        let endpoints = device.endpoints.iter().map(|endpoint| endpoint::Model {
            id: 0,
            device_id: id,
            hardware: endpoint.hardware.map(|hardware| hardware.to_string()),
            address: endpoint.address.to_string(),
            last_seen_ms: millis(endpoint.last_seen),
        });
        let proofs = device.proof.ladder.confirmed().map(|(step, confirmed)| proof::Model {
            device_id: id,
            step: step.word().to_owned(),
            at_ms: millis(confirmed.at),
            what: serde_json::json!(confirmed.evidence).to_string(),
            item: fit(confirmed.item.as_deref()),
            bytes: confirmed.bytes.map(|b| b as i64),
        });
        DeviceRows { device: row, endpoints: endpoints.collect(), proofs: proofs.collect() }
    }
}

async fn save(connection: &impl ConnectionTrait, device: &Device) -> Result<(), StoreError> {
    put_device(connection, DeviceRows::of(device)).await
}

/// Puts a device's rows in place of those that are recorded; of proof the earlier stays.
pub(crate) async fn put_device(
    connection: &impl ConnectionTrait,
    rows: DeviceRows,
) -> Result<(), StoreError> {
    use device::Column;
    let id = rows.device.id;
    let changed = Column::iter().filter(|column| !matches!(column, Column::Id));
    let replace = OnConflict::column(Column::Id).update_columns(changed).to_owned();
    device::Entity::insert(rows.device.into_active_model().reset_all())
        .on_conflict(replace)
        .exec_without_returning(connection)
        .await?;
    endpoint::Entity::delete_many()
        .filter(endpoint::Column::DeviceId.eq(id))
        .exec(connection)
        .await?;
    let endpoints = rows
        .endpoints
        .into_iter()
        .map(|row| endpoint::ActiveModel { id: NotSet, ..row.into_active_model().reset_all() });
    let endpoints: Vec<endpoint::ActiveModel> = endpoints.collect();
    if !endpoints.is_empty() {
        endpoint::Entity::insert_many(endpoints).exec_without_returning(connection).await?;
    }
    let proofs = rows.proofs.into_iter().map(|row| row.into_active_model().reset_all());
    let proofs: Vec<proof::ActiveModel> = proofs.collect();
    if !proofs.is_empty() {
        // Of two records of one device, the earlier proof counts.
        let earlier = OnConflict::columns([proof::Column::DeviceId, proof::Column::Step])
            .update_columns([
                proof::Column::AtMs,
                proof::Column::What,
                proof::Column::Item,
                proof::Column::Bytes,
            ])
            .action_and_where(Expr::cust("excluded.at_ms < proof.at_ms"))
            .to_owned();
        proof::Entity::insert_many(proofs)
            .on_conflict(earlier)
            .exec_without_returning(connection)
            .await?;
    }
    Ok(())
}

fn read(
    row: device::Model,
    proofs: Vec<proof::Model>,
    endpoints: Vec<endpoint::Model>,
    unread: &UnreadRows,
) -> Result<Device, String> {
    let damaged = |what: &str| what.to_owned();
    let at = |ms: i64| Moment::from_millis(ms.max(0) as u64);
    let mut state = ProofState::default();
    for proof in proofs {
        let named = || format!("proof of device {}, {}", row.id, proof.step);
        let step = Step::from_word(&proof.step).ok_or("unknown step");
        let Some(step) = unread.pass_over(named, step) else { continue };
        let evidence = serde_json::from_str(&proof.what);
        let Some(evidence) = unread.pass_over(named, evidence) else { continue };
        let bytes = proof.bytes.map(|b| b.max(0) as u64);
        let proof = Proof { at: at(proof.at_ms), evidence, item: proof.item, bytes };
        state.ladder.confirm(step, proof);
    }
    let endpoints = endpoints.into_iter().map(|endpoint| {
        Ok::<_, String>(Endpoint {
            hardware: endpoint.hardware.as_ref().and_then(|h| h.parse().ok()),
            address: endpoint.address.parse().map_err(|_| damaged("address"))?,
            last_seen: at(endpoint.last_seen_ms),
        })
    });
    let kinds: Kinds = row.kinds.parse().map_err(|_| damaged("unknown kinds"))?;
    let folders = match &row.folders {
        None => None,
        Some(list) => Some(serde_json::from_value(list.clone()).map_err(|_| damaged("folders"))?),
    };
    Ok(Device {
        id: DeviceId(u32::try_from(row.id).map_err(|_| damaged("number"))?),
        endpoints: endpoints.collect::<Result<_, _>>()?,
        udns: serde_json::from_value(row.udns.clone()).map_err(|_| damaged("udns"))?,
        standing: Standing::from_word(&row.standing).ok_or_else(|| damaged("unknown standing"))?,
        grant: Grant { kinds, folders },
        update_offset: row.update_offset as u32,
        first_seen: at(row.first_seen_ms),
        last_seen: at(row.last_seen_ms),
        name: row.name,
        described_name: row.described_name,
        // One that a later version knows costs no device.
        kind: row.kind.as_deref().and_then(DeviceKind::from_word),
        room: row.room,
        note: row.note,
        asked: row.asked_ms.map(at),
        by_doorway: row.by_doorway_ms.map(at),
        user_agent: row.user_agent,
        proof: state,
        denied: row.denied_ms.zip(row.denied).and_then(|(ms, word)| {
            Some(Denied { at: at(ms), attempt: Attempt::from_word(&word)? })
        }),
        decided: row.decided,
        in_walkthrough: false,
        // What an older or newer version knew of traits costs no device.
        traits: serde_json::from_value(row.traits).unwrap_or_default(),
        rules: serde_json::from_value(row.rules).unwrap_or_default(),
        shown: Default::default(),
    })
}
