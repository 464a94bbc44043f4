//! Decisions on devices: durable first, then in force; a refusal the other way round.

use mostra_core::access::{Chosen, Standing};
use mostra_core::device::{Device, DeviceBook};
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
        id: u32,
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
    pub async fn rename(&self, id: u32, name: String) -> Result<Option<Device>, StoreError> {
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
        id: u32,
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

    /// Forgets a device, durably.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn forget(&self, id: u32, who: &str) -> Result<bool, StoreError> {
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
