//! Saving devices and what they did. While PostgreSQL is away they stay marked, and are saved when
//! it is back.

use std::collections::{BTreeSet, HashMap};
use std::sync::PoisonError;
use std::time::Duration;

use mostra_core::device::Device;
use mostra_core::ids::{DeviceId, FileId};
use mostra_core::sighting::{Coalescer, Sighting};
use mostra_protocol::Moment;
use mostra_store::{DecisionNote, StoreError};

use super::Devices;

/// How long sightings of the same are put together before they are recorded.
const MINUTE: Duration = Duration::from_secs(60);
/// Sightings that differ, kept until then.
const OPEN: usize = 4096;
/// Sightings kept while PostgreSQL is away.
const WAITING: usize = 20_000;

/// Who decided, where the doorway did.
const DOORWAY: &str = "the doorway";

/// What is to be saved.
pub(super) struct Unsaved {
    pub devices: BTreeSet<DeviceId>,
    /// When each was last seen, as saved.
    seen: HashMap<DeviceId, Moment>,
    /// Sightings of this minute.
    open: Coalescer,
    opened: Option<Moment>,
    /// Sightings to be recorded.
    sightings: Vec<Sighting>,
    /// Files of which no proof is kept any more.
    files: Vec<(DeviceId, Vec<FileId>)>,
}

impl Default for Unsaved {
    fn default() -> Unsaved {
        Unsaved {
            devices: BTreeSet::new(),
            seen: HashMap::new(),
            open: Coalescer::new(OPEN),
            opened: None,
            sightings: Vec::new(),
            files: Vec::new(),
        }
    }
}

impl Unsaved {
    /// Keeps a sighting to be recorded: with others of its minute, or at once if it proves
    /// something. Gives how many found no room.
    pub(super) fn keep(&mut self, now: Moment, sighting: Sighting) -> u64 {
        if sighting.proves {
            self.sightings.push(sighting);
            return 0;
        }
        self.opened.get_or_insert(now);
        let before = self.open.dropped();
        self.open.note(sighting);
        self.open.dropped() - before
    }

    /// Files of a device are forgotten.
    pub(super) fn forget_files(&mut self, device: DeviceId, files: Vec<FileId>) {
        if !files.is_empty() {
            self.files.push((device, files));
        }
    }

    /// Whether a device was seen so much later than is saved that it is saved again.
    pub(super) fn is_stale(&mut self, device: DeviceId, seen: Moment, changed: bool) -> bool {
        let saved = self.seen.entry(device).or_insert(seen);
        let stale = changed || seen.since(*saved) > MINUTE;
        if stale {
            *saved = seen;
        }
        stale
    }

    /// Takes what the minute held, once it is over.
    pub(super) fn close_minute(&mut self, now: Moment, over: bool) {
        let over = over || self.opened.is_some_and(|opened| now.since(opened) > MINUTE);
        if over && self.sightings.len() < WAITING {
            self.opened = None;
            self.sightings.extend(self.open.take());
        }
    }
}

pub(super) async fn save(devices: &Devices, unsaved: &mut Unsaved) {
    forget_evicted(devices, unsaved).await;
    save_devices(devices, unsaved).await;
    save_doorway(devices).await;
    save_sightings(devices, unsaved).await;
}

async fn save_devices(devices: &Devices, unsaved: &mut Unsaved) {
    if unsaved.devices.is_empty() {
        return;
    }
    let _recording = devices.recording.lock().await;
    let known: Vec<Device> = {
        let book = devices.book();
        unsaved.devices.iter().filter_map(|id| book.get(*id).cloned()).collect()
    };
    let records = &devices.context.records;
    match records.save_devices(&known).await {
        Ok(()) => {
            unsaved.devices.clear();
            devices.context.set_records_answer(true);
        }
        // One of them cannot be saved as it is; that is no reason to lose the others.
        Err(StoreError::Refused(_)) => {
            for device in &known {
                if let Err(error) = records.save_devices(std::slice::from_ref(device)).await {
                    tracing::warn!(device = device.label(), "not saved: {error}");
                }
            }
            unsaved.devices.clear();
        }
        Err(error) => {
            tracing::warn!("devices are not saved yet: {error}");
            devices.context.set_records_answer(false);
        }
    }
}

/// Records what the doorway decided.
async fn save_doorway(devices: &Devices) {
    let decided = {
        let mut decided = devices.by_doorway.lock().unwrap_or_else(PoisonError::into_inner);
        std::mem::take(&mut *decided)
    };
    if decided.is_empty() {
        return;
    }
    let _recording = devices.recording.lock().await;
    for (at, (id, when, standing)) in decided.iter().enumerate() {
        let Some(device) = devices.book().get(*id).cloned() else { continue };
        let device = Device { standing: *standing, ..device };
        let note = DecisionNote { at: *when, who: DOORWAY, why: None, before: None };
        let noted = devices.context.records.note_decision(&device, note).await;
        if noted.is_err_and(|error| !matches!(error, StoreError::Refused(_))) {
            // They are tried again with the others.
            let mut waiting = devices.by_doorway.lock().unwrap_or_else(PoisonError::into_inner);
            waiting.extend_from_slice(&decided[at..]);
            return;
        }
    }
}

async fn save_sightings(devices: &Devices, unsaved: &mut Unsaved) {
    if unsaved.sightings.is_empty() && unsaved.files.is_empty() {
        return;
    }
    let _recording = devices.recording.lock().await;
    {
        // What began under a record that was put together with another is of that.
        let book = devices.book();
        for sighting in &mut unsaved.sightings {
            sighting.device = book.current(sighting.device);
        }
    }
    let records = &devices.context.records;
    match records.add_sightings(&unsaved.sightings).await {
        Ok(()) => unsaved.sightings.clear(),
        Err(StoreError::Refused(why)) => {
            tracing::warn!("sightings are not saved: {why}");
            unsaved.sightings.clear();
        }
        Err(error) => {
            tracing::warn!("sightings are not saved yet: {error}");
            devices.context.set_records_answer(false);
            return;
        }
    }
    for (device, files) in std::mem::take(&mut unsaved.files) {
        if let Err(error) = records.forget_files(device, &files).await {
            tracing::warn!("the proof of files is not forgotten: {error}");
        }
    }
}

/// Removes from the records whoever had to go from memory.
async fn forget_evicted(devices: &Devices, unsaved: &mut Unsaved) {
    let gone = std::mem::take(&mut *devices.evicted());
    if gone.is_empty() {
        return;
    }
    for id in &gone {
        unsaved.devices.remove(id);
        unsaved.seen.remove(id);
    }
    let _recording = devices.recording.lock().await;
    if let Err(error) = devices.context.records.drop_devices(&gone).await {
        tracing::warn!("devices are not forgotten yet: {error}");
        devices.evicted().extend(gone);
    }
}
