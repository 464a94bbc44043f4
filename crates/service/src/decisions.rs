//! Decisions on devices: durable first, then in force; a refusal the other way round.

use mostra_core::access::{Chosen, Decision, Standing};
use mostra_core::device::{Device, DeviceBook};
use mostra_core::traits::Traits;
use mostra_protocol::wire::Service;
use mostra_store::StoreError;

use crate::house::{House, Topic};

impl House {
    /// Decides on a device, durably; of its grant, what is not chosen stays as it was. A refusal is
    /// in force at once, whether it is saved or not. Whatever runs and is not covered any more
    /// ends.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved. `Ok(None)`: there is no such device.
    pub async fn decide(
        &self,
        id: u32,
        standing: Standing,
        chosen: Chosen,
        name: Option<String>,
        who: &str,
    ) -> Result<Option<Device>, StoreError> {
        if standing == Standing::Refused {
            let mut book = self.devices();
            let Some(grant) = book.get(id).map(|device| device.grant.clone()) else {
                return Ok(None);
            };
            book.decide(id, standing, grant);
            drop(book);
            self.end_uncovered();
        }
        let _recording = self.recording_devices.lock().await;
        let after = {
            let Some(before) = self.devices().get(id).cloned() else { return Ok(None) };
            let grant = before.grant.clone().with(chosen);
            let mut trial = DeviceBook::load([before], self.config.rules.clone());
            let mut after = match trial.decide(id, standing, grant) {
                Some(after) => after.clone(),
                None => return Ok(None),
            };
            after.name = name.clone().or(after.name);
            after
        };
        self.records.decide(&after, self.clock.now(), who).await?;
        let device = {
            let mut book = self.devices();
            book.decide(id, standing, after.grant);
            let Some(device) = book.get_mut(id) else { return Ok(None) };
            device.name = name.or(device.name.take());
            device.clone()
        };
        self.end_uncovered();
        tracing::info!(device = device.label(), who, "{}", standing.word());
        self.tell_one(&device);
        self.tell(Topic::Devices);
        Ok(Some(device))
    }

    /// The device's update ids moved: it alone is told.
    fn tell_one(&self, device: &Device) {
        let id = self.update_id_for(&device.decision(), device.update_offset);
        let mut publisher = self.publisher();
        let variables = [("SystemUpdateID", id.to_string())];
        publisher.change(Service::ContentDirectory, device.address, &variables);
        publisher.change_containers(device.address, [("0".to_owned(), id)]);
        drop(publisher);
        self.events_due.notify_one();
    }

    /// The house's update id as a device sees it. One that is not let in sees nothing, so nothing
    /// changes for it but decisions on itself.
    pub fn update_id_for(&self, decision: &Decision, offset: u32) -> u32 {
        match decision {
            Decision::Admitted(_) => self.catalogue().update_id().wrapping_add(offset),
            Decision::Waiting | Decision::Refused => offset,
        }
    }

    /// Renames a device, durably.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn name_device(&self, id: u32, name: String) -> Result<Option<Device>, StoreError> {
        let _recording = self.recording_devices.lock().await;
        let Some(mut device) = self.devices().get(id).cloned() else { return Ok(None) };
        device.name = Some(name.clone());
        self.records.save_devices(std::slice::from_ref(&device)).await?;
        if let Some(device) = self.devices().get_mut(id) {
            device.name = Some(name);
        }
        self.tell(Topic::Devices);
        Ok(Some(device))
    }

    /// Sets what a device needs done differently, durably. It alone reads its listings again.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_traits(
        &self,
        id: u32,
        traits: Traits,
        who: &str,
    ) -> Result<Option<Device>, StoreError> {
        let _recording = self.recording_devices.lock().await;
        let Some(before) = self.devices().get(id).cloned() else { return Ok(None) };
        let mut trial = DeviceBook::load([before], self.config.rules.clone());
        let Some(after) = trial.set_traits(id, traits.clone()).cloned() else { return Ok(None) };
        self.records.save_devices(std::slice::from_ref(&after)).await?;
        let Some(device) = self.devices().set_traits(id, traits).cloned() else { return Ok(None) };
        tracing::info!(device = device.label(), who, "traits changed");
        self.tell_one(&device);
        self.tell(Topic::Devices);
        Ok(Some(device))
    }

    /// Forgets a device, durably.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn forget(&self, id: u32, who: &str) -> Result<bool, StoreError> {
        let _recording = self.recording_devices.lock().await;
        if self.devices().get(id).is_none() {
            return Ok(false);
        }
        self.records.forget_device(id, self.clock.now(), who).await?;
        self.devices().forget(id);
        self.end_uncovered();
        self.tell(Topic::Devices);
        Ok(true)
    }
}
