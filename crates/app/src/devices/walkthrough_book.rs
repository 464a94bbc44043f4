//! The walkthroughs of devices: one at a time of each, kept over restarts.

use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;
use std::sync::{MutexGuard, PoisonError};

use mostra_core::Moment;
use mostra_core::device::DeviceBook;
use mostra_core::ids::DeviceId;
use mostra_core::sighting::{Act, Attempt, Sighting};
use mostra_core::streaming::AcknowledgedBytes;
use mostra_core::walkthrough::{Circumstances, Covers, Question, Walkthrough};
use mostra_store::{StoreError, UnsavedRecords};

use super::Devices;
use crate::Topic;
use crate::not_saved::Saving;

/// The latest walkthrough of each device.
pub(super) struct WalkthroughBook {
    latest: BTreeMap<DeviceId, Walkthrough>,
    unsaved: BTreeSet<DeviceId>,
    last_id: u32,
}

impl WalkthroughBook {
    /// Those of the records; who is in the middle of one goes on.
    pub(super) fn load(recorded: Vec<Walkthrough>, book: &mut DeviceBook) -> WalkthroughBook {
        let last_id = recorded.iter().map(|one| one.id).max().unwrap_or(0);
        let latest: BTreeMap<_, _> = recorded.into_iter().map(|one| (one.device, one)).collect();
        for (id, one) in &latest {
            if let Some(device) = book.get_mut(*id) {
                device.in_walkthrough = one.finished.is_none();
            }
        }
        WalkthroughBook { latest, unsaved: BTreeSet::new(), last_id }
    }

    fn running(&mut self, id: DeviceId) -> Option<&mut Walkthrough> {
        self.latest.get_mut(&id).filter(|one| one.finished.is_none())
    }
}

impl Devices {
    fn walkthroughs(&self) -> MutexGuard<'_, WalkthroughBook> {
        self.walkthrough_book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins a walkthrough of a device, or goes on with the one that runs. `Ok(None)`: there is no
    /// such device; else whether it goes on.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved; then none begins.
    pub async fn start_walkthrough(
        &self,
        id: DeviceId,
        covers: Covers,
    ) -> Result<Option<bool>, StoreError> {
        let now = self.context.now();
        // Held from looking at the device on: what was decided meanwhile must not be undone.
        let recording = self.recording.lock().await;
        let (device, one) = {
            let book = self.book();
            let id = book.current(id);
            let Some(device) = book.get(id).cloned() else { return Ok(None) };
            let mut walkthroughs = self.walkthroughs();
            if walkthroughs.running(id).is_some() {
                return Ok(Some(true));
            }
            walkthroughs.last_id += 1;
            (device, Walkthrough::start(walkthroughs.last_id, id, now, covers))
        };
        let id = device.id;
        // It may have been met a moment ago, and not be recorded yet.
        self.context.records.save_devices(std::slice::from_ref(&device)).await?;
        self.context.records.save_walkthrough(&one).await?;
        drop(recording);
        {
            let mut walkthroughs = self.walkthroughs();
            // Somebody else may have begun one meanwhile.
            if walkthroughs.running(id).is_some() {
                return Ok(Some(true));
            }
            walkthroughs.latest.insert(id, one);
        }
        // What is being played now begins anew as far as its pace goes.
        self.streams.book().watch_anew(now, id);
        self.set_in_walkthrough(id, true);
        Ok(Some(false))
    }

    /// Ends the walkthrough of a device; false where none runs.
    ///
    /// # Errors
    /// [`StoreError`] when that was not saved; then it goes on.
    pub async fn finish_walkthrough(
        &self,
        id: DeviceId,
        circumstances: &Circumstances,
    ) -> Result<bool, StoreError> {
        let now = self.context.now();
        let finished = self.change_walkthrough(id, |one| {
            let runs = one.finished.is_none();
            if runs {
                one.finish(now, circumstances);
            }
            runs
        });
        if !finished.await? {
            return Ok(false);
        }
        self.set_in_walkthrough(id, false);
        // The test pieces are not shown to it any more.
        self.end_uncovered();
        Ok(true)
    }

    /// Changes the latest walkthrough of a device, durably; false where there is none, or where
    /// `change` says that nothing changed.
    async fn change_walkthrough(
        &self,
        id: DeviceId,
        change: impl Fn(&mut Walkthrough) -> bool,
    ) -> Result<bool, StoreError> {
        let Some(mut changed) = self.walkthroughs().latest.get(&id).cloned() else {
            return Ok(false);
        };
        if !change(&mut changed) {
            return Ok(false);
        }
        self.context.records.save_walkthrough(&changed).await?;
        let mut walkthroughs = self.walkthroughs();
        // What it ticked meanwhile stays.
        if let Some(one) = walkthroughs.latest.get_mut(&id) {
            change(one);
            walkthroughs.unsaved.insert(id);
        }
        Ok(true)
    }

    /// What the device sees has changed: it alone is told.
    fn set_in_walkthrough(&self, id: DeviceId, is: bool) {
        let device = {
            let mut book = self.book();
            let Some(device) = book.get_mut(id) else { return };
            device.in_walkthrough = is;
            device.update_offset = device.update_offset.wrapping_add(1);
            device.clone()
        };
        self.note_change(id);
        self.tell_one(&device);
        self.context.changed(Topic::Walkthroughs);
        self.context.changed(Topic::Devices);
    }

    /// A person answers a question of the walkthrough that runs or ended last, or takes the answer
    /// back; false where there is none.
    ///
    /// # Errors
    /// [`StoreError`] when that was not saved; then nothing is said.
    pub async fn say_in_walkthrough(
        &self,
        id: DeviceId,
        question: Question,
        said: Option<bool>,
    ) -> Result<bool, StoreError> {
        let say = |one: &mut Walkthrough| {
            one.say(question, said);
            true
        };
        let is_there = self.change_walkthrough(id, say).await?;
        if is_there {
            self.context.changed(Topic::Walkthroughs);
        }
        Ok(is_there)
    }

    /// Looks at the latest walkthrough of a device.
    pub fn with_walkthrough<T>(
        &self,
        id: DeviceId,
        look: impl FnOnce(&Walkthrough) -> T,
    ) -> Option<T> {
        self.walkthroughs().latest.get(&id).map(look)
    }

    /// Devices that were walked through, those with the latest walkthrough first.
    pub fn with_walkthroughs(&self) -> Vec<DeviceId> {
        let walkthroughs = self.walkthroughs();
        let mut all: Vec<_> =
            walkthroughs.latest.values().map(|one| (one.id, one.device)).collect();
        all.sort_unstable_by(|a, b| b.cmp(a));
        all.into_iter().map(|(_, device)| device).collect()
    }

    /// The walkthroughs of a device, the latest first.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer.
    pub async fn walkthroughs_of(&self, id: DeviceId) -> Result<Vec<Walkthrough>, StoreError> {
        self.save_walkthroughs().await;
        self.context.records.walkthroughs_of(id).await
    }

    /// A device that is being walked through did something; true if that ticks a step.
    pub(super) fn note_in_walkthrough(&self, sighting: &Sighting) -> bool {
        let mut walkthroughs = self.walkthroughs();
        let Some(one) = walkthroughs.running(sighting.device) else { return false };
        let ticked = one.note(sighting);
        if ticked {
            walkthroughs.unsaved.insert(sighting.device);
        }
        drop(walkthroughs);
        if ticked {
            self.context.changed(Topic::Walkthroughs);
        }
        ticked
    }

    /// A refused device at an address searched for what we are, and was not answered: noted if it is
    /// being walked through, as that is what it is to come to.
    pub(crate) fn searched_in_vain(&self, address: Ipv4Addr) {
        let Some(id) = self.at(address) else { return };
        let in_walkthrough = self.book().get(id).is_some_and(|device| device.in_walkthrough);
        if in_walkthrough {
            self.report_at(address, Act::Denied { attempt: Attempt::Search });
        }
    }

    /// A device took bytes of a piece; noted if it is being walked through.
    pub(super) fn note_bytes_in_walkthrough(
        &self,
        at: Moment,
        bytes: &AcknowledgedBytes<'_>,
        format: &str,
    ) {
        if let Some(one) = self.walkthroughs().running(bytes.device) {
            one.take(at, bytes, format);
        }
    }

    /// What is not saved of walkthroughs now that the service stops; where saving them was cut off, any
    /// of them may not be.
    pub(super) fn left_of_walkthroughs(&self, cut_off: bool, left: &mut UnsavedRecords) {
        let walkthroughs = self.walkthroughs();
        let is_left = |id: &DeviceId| cut_off || walkthroughs.unsaved.contains(id);
        for (_, one) in walkthroughs.latest.iter().filter(|(id, _)| is_left(id)) {
            if let Err(error) = left.add_walkthrough(one) {
                tracing::warn!("a walkthrough is not saved: {error}");
            }
        }
    }

    /// Saves the walkthroughs that are others than recorded.
    pub(super) async fn save_walkthroughs(&self) {
        if self.walkthroughs().unsaved.is_empty() {
            return;
        }
        let known: BTreeSet<DeviceId> = self.book().iter().map(|device| device.id).collect();
        let unsaved: Vec<Walkthrough> = {
            let mut walkthroughs = self.walkthroughs();
            walkthroughs.latest.retain(|id, _| known.contains(id));
            let ids = std::mem::take(&mut walkthroughs.unsaved);
            ids.iter().filter_map(|id| walkthroughs.latest.get(id).cloned()).collect()
        };
        let mut not_now = None;
        for one in unsaved {
            let Err(error) = self.context.records.save_walkthrough(&one).await else { continue };
            match error.not_now() {
                Some(why) => {
                    not_now = Some(why);
                    self.walkthroughs().unsaved.insert(one.device);
                }
                None => {
                    let mut row = UnsavedRecords::default();
                    let added = row.add_walkthrough(&one);
                    self.context.set_aside(
                        "a walkthrough",
                        &row,
                        added.as_ref().err().unwrap_or(&error),
                    );
                }
            }
        }
        self.context.note_saving(Saving::Walkthroughs, not_now);
    }
}
