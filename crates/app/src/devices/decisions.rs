//! Decisions on devices: durable first, then in force; a refusal the other way round.

use mostra_core::access::{Chosen, Standing};
use mostra_core::device::{Device, DeviceBook};
use mostra_core::ids::DeviceId;
use mostra_core::proof::ProofState;
use mostra_core::sighting::Contact;
use mostra_core::traits::Traits;
use mostra_store::StoreError;

use super::Devices;
use crate::Topic;

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
        who: &str,
    ) -> Result<Option<Device>, StoreError> {
        if standing == Standing::Refused {
            let mut book = self.book();
            let Some(grant) = book.get(id).map(|device| device.grant.clone()) else {
                return Ok(None);
            };
            book.decide(id, standing, grant);
            drop(book);
            self.end_uncovered();
        }
        let _recording = self.recording.lock().await;
        let after = {
            let Some(before) = self.book().get(id).cloned() else { return Ok(None) };
            let grant = before.grant.clone().with(chosen);
            let mut trial = DeviceBook::load([before], self.rules.clone());
            let mut after = match trial.decide(id, standing, grant) {
                Some(after) => after.clone(),
                None => return Ok(None),
            };
            after.name = name.clone().or(after.name);
            after
        };
        self.context.records.decide(&after, self.context.now(), who).await?;
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
        self.end_uncovered();
        self.context.changed(Topic::Devices);
        Ok(true)
    }
}
