//! Decisions on devices: durable first, then in force; a refusal the other way round.

use std::collections::HashMap;
use std::net::Ipv4Addr;

use mostra_core::Moment;
use mostra_core::access::{Chosen, Standing};
use mostra_core::device::{Device, DeviceBook, DeviceKind, Hardware};
use mostra_core::ids::DeviceId;
use mostra_core::preset::OwnPresets;
use mostra_core::proof::ProofState;
use mostra_core::sighting::Contact;
use mostra_core::traits::Traits;
use mostra_store::{Decided, DecisionNote, StoreError};

use super::Devices;
use crate::Topic;

/// The setting that holds presets.
const PRESETS: &str = "presets";

/// Decisions of one device that are listed.
const DECISIONS: u64 = 500;

/// What a person says of a device; what is left out stays, and what is empty is taken back.
#[derive(Debug, Clone, Default)]
pub struct AboutDevice {
    /// What sort of device it is.
    pub kind: Option<Option<DeviceKind>>,
    /// The room it is in.
    pub room: Option<String>,
    /// A note.
    pub note: Option<String>,
}

impl AboutDevice {
    fn note(self, device: &mut Device) {
        let filled = |text: String| Some(text).filter(|text| !text.trim().is_empty());
        if let Some(kind) = self.kind {
            device.kind = kind;
        }
        if let Some(room) = self.room {
            device.room = filled(room);
        }
        if let Some(note) = self.note {
            device.note = filled(note);
        }
    }
}

impl Devices {
    /// Decides on a device, durably; of its grant, what is not chosen stays as it was. A refusal is
    /// in force at once, whether it is saved or not. Whatever runs and is not covered any more
    /// ends.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved. `Ok(None)`: there is no such device.
    pub async fn decide(
        &self,
        id: DeviceId,
        standing: Standing,
        chosen: Chosen,
        name: Option<String>,
        (who, why): (&str, Option<&str>),
    ) -> Result<Option<Device>, StoreError> {
        // What was before, by which this can be undone: a refusal is in force before it is saved.
        let was = self.book().get(id).map(|device| (device.standing, device.grant.clone()));
        let Some(was) = was else { return Ok(None) };
        if standing == Standing::Refused {
            self.book().decide(id, standing, was.1.clone());
            self.end_uncovered();
        }
        let _recording = self.recording.lock().await;
        let Some(before) = self.book().get(id).cloned() else { return Ok(None) };
        let after = {
            let grant = before.grant.clone().with(chosen);
            let mut trial = DeviceBook::load([before], self.rules.clone());
            let mut after = match trial.decide(id, standing, grant) {
                Some(after) => after.clone(),
                None => return Ok(None),
            };
            after.name = name.clone().or(after.name);
            after
        };
        let before = Some((was.0, &was.1));
        let note = DecisionNote { at: self.context.now(), who, why, before };
        self.context.records.decide(&after, note).await?;
        let device = {
            let mut book = self.book();
            book.decide(id, standing, after.grant);
            let Some(device) = book.get_mut(id) else { return Ok(None) };
            device.name = name.or(device.name.take());
            device.clone()
        };
        self.end_uncovered();
        tracing::info!(device = device.label(), who, "{}", standing.word());
        self.tell_one(&device);
        self.context.changed(Topic::Devices);
        Ok(Some(device))
    }

    /// Undoes the last decision on a device that can be undone, by another decision: history only
    /// grows, and undoing that again brings back what was undone.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved. `Ok(None)`: there is no such device, or no such decision.
    pub async fn undo(&self, id: DeviceId, who: &str) -> Result<Option<Device>, StoreError> {
        let decisions = self.decisions(id).await?;
        let Some((standing, grant)) = decisions.into_iter().find_map(|decided| decided.before)
        else {
            return Ok(None);
        };
        let chosen = Chosen { kinds: Some(grant.kinds), folders: Some(grant.folders) };
        self.decide(id, standing, chosen, None, (who, Some("undone"))).await
    }

    /// The decisions on a device, the latest first.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer.
    pub async fn decisions(&self, id: DeviceId) -> Result<Vec<Decided>, StoreError> {
        let id = self.book().current(id);
        self.context.records.decisions(id, DECISIONS).await
    }

    /// The presets of this house.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer or are damaged.
    pub async fn presets(&self) -> Result<OwnPresets, StoreError> {
        Ok(self.context.records.json_setting(PRESETS).await?.unwrap_or_default())
    }

    /// Changes the presets, and gives them as they are then. What `change` refuses changes nothing.
    ///
    /// # Errors
    /// [`StoreError`] when they were not read or saved; inside, what `change` refused.
    pub async fn change_presets<E>(
        &self,
        change: impl FnOnce(&mut OwnPresets) -> Result<(), E>,
    ) -> Result<Result<OwnPresets, E>, StoreError> {
        let _held = self.presets.lock().await;
        let mut presets = self.presets().await?;
        if let Err(refused) = change(&mut presets) {
            return Ok(Err(refused));
        }
        let text =
            serde_json::to_string(&presets).map_err(|e| StoreError::Damaged(e.to_string()))?;
        self.context.records.set_setting(PRESETS, &text).await?;
        self.context.changed(Topic::Devices);
        Ok(Ok(presets))
    }

    /// Who let devices in last, and when.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer.
    pub async fn admissions(&self) -> Result<HashMap<DeviceId, (String, Moment)>, StoreError> {
        self.context.records.admissions().await
    }

    /// A person adds a device, durably: it waits for a decision until it has one.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved. `Ok(None)`: there is no room for one more.
    pub async fn add(
        &self,
        address: Ipv4Addr,
        hardware: Option<Hardware>,
        name: Option<String>,
    ) -> Result<Option<Device>, StoreError> {
        let _recording = self.recording.lock().await;
        let known = self.book().find(address, hardware).is_some();
        let device = {
            let mut book = self.book();
            let Some((id, forgotten)) = book.add_by_hand(self.context.now(), address, hardware)
            else {
                return Ok(None);
            };
            self.evicted().extend(forgotten);
            let Some(device) = book.get_mut(id) else { return Ok(None) };
            device.name = name.or(device.name.take());
            device.clone()
        };
        if let Err(error) = self.context.records.save_devices(std::slice::from_ref(&device)).await {
            // What is not saved is not there.
            if !known {
                self.book().forget(device.id);
            }
            return Err(error);
        }
        self.context.changed(Topic::Devices);
        Ok(Some(device))
    }

    /// Notes what a person says of a device, durably.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved. `Ok(None)`: there is no such device.
    pub async fn note_about(
        &self,
        id: DeviceId,
        about: AboutDevice,
    ) -> Result<Option<Device>, StoreError> {
        let _recording = self.recording.lock().await;
        let Some(mut device) = self.book().get(id).cloned() else { return Ok(None) };
        about.clone().note(&mut device);
        self.context.records.save_devices(std::slice::from_ref(&device)).await?;
        if let Some(device) = self.book().get_mut(id) {
            about.note(device);
        }
        self.context.changed(Topic::Devices);
        Ok(Some(device))
    }

    /// Renames a device, durably.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn rename(&self, id: DeviceId, name: String) -> Result<Option<Device>, StoreError> {
        let _recording = self.recording.lock().await;
        let Some(mut device) = self.book().get(id).cloned() else { return Ok(None) };
        device.name = Some(name.clone());
        self.context.records.save_devices(std::slice::from_ref(&device)).await?;
        if let Some(device) = self.book().get_mut(id) {
            device.name = Some(name);
        }
        self.context.changed(Topic::Devices);
        Ok(Some(device))
    }

    /// Sets what a device needs done differently, durably. It alone reads its listings again.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_traits(
        &self,
        id: DeviceId,
        traits: Traits,
        who: &str,
    ) -> Result<Option<Device>, StoreError> {
        let _recording = self.recording.lock().await;
        let Some(before) = self.book().get(id).cloned() else { return Ok(None) };
        let mut trial = DeviceBook::load([before], self.rules.clone());
        let Some(after) = trial.set_traits(id, traits.clone()).cloned() else { return Ok(None) };
        self.context.records.save_devices(std::slice::from_ref(&after)).await?;
        let Some(device) = self.book().set_traits(id, traits).cloned() else { return Ok(None) };
        tracing::info!(device = device.label(), who, "traits changed");
        self.tell_one(&device);
        self.context.changed(Topic::Devices);
        Ok(Some(device))
    }

    /// Puts two records together that are of one device, durably: `into` stays as it stands and has
    /// from then on the sight and proof of both.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved. `Ok(None)`: there are no two such devices.
    pub async fn merge(
        &self,
        into: DeviceId,
        other: DeviceId,
        who: &str,
    ) -> Result<Option<Device>, StoreError> {
        let _recording = self.recording.lock().await;
        let after = {
            let mut trial = self.book().clone();
            match trial.merge(into, other) {
                Some(after) => after.clone(),
                None => return Ok(None),
            }
        };
        self.context.records.merge_devices(&after, other, self.context.now(), who).await?;
        let Some(device) = self.book().merge(into, other).cloned() else { return Ok(None) };
        self.end_uncovered();
        tracing::info!(device = device.label(), who, "put together with device {other}");
        self.tell_one(&device);
        self.context.changed(Topic::Devices);
        Ok(Some(device))
    }

    /// Makes a device of its own of one of a device's endpoints, durably. It has the sight and proof
    /// that came by that endpoint, and stands as the doorway lets strangers stand.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved. `Ok(None)`: there is no such device, or no such
    /// endpoint beside another.
    pub async fn split(
        &self,
        id: DeviceId,
        contact: Contact,
        who: &str,
    ) -> Result<Option<Device>, StoreError> {
        let _recording = self.recording.lock().await;
        let Some(before) = self.book().get(id).cloned() else { return Ok(None) };
        let id = before.id;
        let all = self.context.records.sightings_of(id).await?;
        let (mut its, mut others): (Vec<_>, Vec<_>) =
            all.into_iter().partition(|sighting| sighting.contact == contact);
        let proven = ProofState::fold(&mut its);
        let mut rest = ProofState::fold(&mut others);
        // What was proven before sightings were kept stays with the one that it was proven of.
        if its.is_empty() {
            rest.merge(before.proof.clone());
        }
        let proofs = (proven, rest);
        let doorway = self.doorway();
        let (new, mut trial) = {
            let mut book = self.book();
            (book.new_id(), book.clone())
        };
        let Some(apart) = trial.split(id, new, contact, doorway, proofs.clone()).cloned() else {
            return Ok(None);
        };
        let Some(device) = trial.get(id) else { return Ok(None) };
        let records = &self.context.records;
        records.split_device(device, &apart, contact, self.context.now(), who).await?;
        let apart = self.book().split(id, new, contact, doorway, proofs).cloned();
        let Some(apart) = apart else { return Ok(None) };
        self.end_uncovered();
        tracing::info!(device = apart.label(), who, "taken apart from device {id}");
        self.context.changed(Topic::Devices);
        Ok(Some(apart))
    }

    /// Forgets a device, durably.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn forget(&self, id: DeviceId, who: &str) -> Result<bool, StoreError> {
        let _recording = self.recording.lock().await;
        if self.book().get(id).is_none() {
            return Ok(false);
        }
        self.context.records.forget_device(id, self.context.now(), who).await?;
        self.book().forget(id);
        self.recordings.forget(id);
        self.end_uncovered();
        self.context.changed(Topic::Devices);
        Ok(true)
    }
}
