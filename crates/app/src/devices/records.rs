//! Saving devices and what they did. While PostgreSQL is away they stay marked, and are saved when
//! it is back.

use std::collections::{BTreeSet, HashMap};
use std::ops::Range;
use std::sync::PoisonError;
use std::time::Duration;

use mostra_core::device::Device;
use mostra_core::ids::{DeviceId, FileId};
use mostra_core::not_now::NotNow;
use mostra_core::sighting::{Coalescer, Sighting};
use mostra_protocol::Moment;
use mostra_store::{DecisionNote, UnsavedRecords};

use super::Devices;
use crate::not_saved::Saving;

/// How long sightings of the same are put together before they are recorded.
const MINUTE: Duration = Duration::from_secs(60);
/// Sightings that differ, kept until then.
const OPEN: usize = 4096;
/// Sightings kept while PostgreSQL takes none; of those that prove something, more.
const WAITING: usize = 20_000;
const PROVING: usize = 100_000;

/// Bytes of one device's sightings that are recorded in an hour beside its proof.
const HOURLY: usize = 512 << 10;
const HOUR: Duration = Duration::from_secs(3600);
/// What a row takes beside what was done.
const ROW: usize = 120;

/// What each device may still have recorded in this hour.
#[derive(Debug, Default)]
struct HourlyRoom {
    began: Option<Moment>,
    taken: HashMap<DeviceId, usize>,
}

impl HourlyRoom {
    /// Whether there is room for a sighting; takes it then.
    fn take(&mut self, now: Moment, sighting: &Sighting) -> bool {
        if self.began.is_none_or(|began| now.since(began) >= HOUR) {
            self.began = Some(now);
            self.taken.clear();
        }
        let taken = self.taken.entry(sighting.device).or_default();
        let act = serde_json::to_string(&sighting.act).map_or(0, |text| text.len());
        let fits = *taken + act + ROW <= HOURLY;
        if fits {
            *taken += act + ROW;
        }
        fits
    }
}

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
    /// What each device may still have recorded.
    room: HourlyRoom,
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
            room: HourlyRoom::default(),
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
            if self.sightings.len() >= PROVING {
                return u64::from(sighting.times);
            }
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

    /// Takes what the minute held, once it is over. Gives how many sightings found no room.
    pub(super) fn close_minute(&mut self, now: Moment, over: bool) -> u64 {
        let over = over || self.opened.is_some_and(|opened| now.since(opened) > MINUTE);
        if !over || self.sightings.len() >= WAITING {
            return 0;
        }
        self.opened = None;
        let mut dropped = 0;
        for sighting in self.open.take() {
            match self.room.take(now, &sighting) {
                true => self.sightings.push(sighting),
                false => dropped += u64::from(sighting.times),
            }
        }
        dropped
    }
}

pub(super) async fn save(devices: &Devices, unsaved: &mut Unsaved) {
    forget_evicted(devices, unsaved).await;
    let saved = match save_devices(devices, unsaved).await {
        Ok(()) => save_sightings(devices, unsaved).await,
        not_now => not_now,
    };
    devices.context.note_saving(Saving::Devices, saved.err());
    let whose = unsaved.sightings.iter().filter(|sighting| sighting.proves);
    let whose = whose.map(|sighting| sighting.device).chain(unsaved.devices.iter().copied());
    let waiting: BTreeSet<DeviceId> = if saved.is_ok() { BTreeSet::new() } else { whose.collect() };
    devices.set_unsaved(waiting);
    let saved = save_doorway(devices).await;
    devices.context.note_saving(Saving::Doorway, saved.err());
}

/// Saves devices; those that are refused for themselves are set aside.
async fn save_devices(devices: &Devices, unsaved: &mut Unsaved) -> Result<(), NotNow> {
    if unsaved.devices.is_empty() {
        return Ok(());
    }
    let _recording = devices.recording.lock().await;
    let known: Vec<Device> = {
        let book = devices.book();
        unsaved.devices.iter().filter_map(|id| book.get(*id).cloned()).collect()
    };
    let records = &devices.context.records;
    let whole = records.save_devices(&known).await;
    devices.context.note_records(&whole);
    if let Err(error) = whole {
        if let Some(why) = error.not_now() {
            return Err(why);
        }
        // One of them cannot be saved as it is; that is no reason to lose the others.
        for device in &known {
            let Err(error) = records.save_devices(std::slice::from_ref(device)).await else {
                continue;
            };
            if let Some(why) = error.not_now() {
                return Err(why);
            }
            let mut row = UnsavedRecords::default();
            row.add_device(device);
            devices.context.set_aside("a device", &row, &error);
        }
    }
    unsaved.devices.clear();
    Ok(())
}

/// Records what the doorway decided.
async fn save_doorway(devices: &Devices) -> Result<(), NotNow> {
    let decided = || devices.by_doorway.lock().unwrap_or_else(PoisonError::into_inner);
    let _recording = devices.recording.lock().await;
    loop {
        let Some((id, when, standing)) = decided().first().copied() else { return Ok(()) };
        let device = devices.book().get(id).cloned();
        if let Some(device) = device {
            let device = Device { standing, ..device };
            let note = doorway_note(when);
            if let Err(error) = devices.context.records.note_decision(&device, note).await {
                if let Some(why) = error.not_now() {
                    return Err(why);
                }
                let mut row = UnsavedRecords::default();
                row.add_decision(&device, note);
                devices.context.set_aside("a decision of the doorway", &row, &error);
            }
        }
        decided().remove(0);
    }
}

fn doorway_note(at: Moment) -> DecisionNote<'static> {
    DecisionNote { at, who: DOORWAY, why: None, before: None }
}

/// Records sightings; those that are refused for themselves are set aside.
async fn save_sightings(devices: &Devices, unsaved: &mut Unsaved) -> Result<(), NotNow> {
    if unsaved.sightings.is_empty() && unsaved.files.is_empty() {
        return Ok(());
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
    // Of some that are refused, each half is tried by itself, down to the one that is at fault.
    let mut pieces: Vec<Range<usize>> = Vec::new();
    pieces.push(0..unsaved.sightings.len());
    let mut done = 0;
    while let Some(piece) = pieces.pop() {
        let saved = records.add_sightings(&unsaved.sightings[piece.clone()]).await;
        devices.context.note_records(&saved);
        let Err(error) = saved else {
            done = piece.end;
            continue;
        };
        if let Some(why) = error.not_now() {
            unsaved.sightings.drain(..done);
            return Err(why);
        }
        if piece.len() > 1 {
            let middle = piece.start + piece.len() / 2;
            pieces.extend([middle..piece.end, piece.start..middle]);
            continue;
        }
        done = piece.end;
        let mut row = UnsavedRecords::default();
        unsaved.sightings[piece].iter().for_each(|sighting| row.add_sighting(sighting));
        devices.context.set_aside("a sighting", &row, &error);
    }
    unsaved.sightings.clear();
    while let Some((device, files)) = unsaved.files.last() {
        if let Err(error) = records.forget_files(*device, files).await {
            if let Some(why) = error.not_now() {
                return Err(why);
            }
            tracing::warn!("the proof of files is not forgotten: {error}");
        }
        unsaved.files.pop();
    }
    Ok(())
}

/// What is not saved now that the service stops.
pub(super) fn left(devices: &Devices, unsaved: &Unsaved) -> UnsavedRecords {
    let mut left = UnsavedRecords::default();
    let book = devices.book();
    unsaved.devices.iter().filter_map(|id| book.get(*id)).for_each(|one| left.add_device(one));
    let decided = devices.by_doorway.lock().unwrap_or_else(PoisonError::into_inner);
    for (id, when, standing) in decided.iter() {
        let Some(device) = book.get(*id) else { continue };
        let device = Device { standing: *standing, ..device.clone() };
        left.add_decision(&device, doorway_note(*when));
    }
    unsaved.sightings.iter().for_each(|sighting| left.add_sighting(sighting));
    left
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

#[cfg(test)]
mod tests {
    use mostra_core::sighting::{Act, Contact};

    use super::*;

    /// What an hour of a device adds that does as many different things as there are, as often as it
    /// can.
    #[test]
    fn an_hour_of_the_worst_sender_adds_less_than_a_mebibyte() {
        let mut unsaved = Unsaved::default();
        let contact = Contact::Address([192, 0, 2, 7].into());
        let (mut now, mut bytes) = (Moment::from_secs(1_767_225_600), 0);
        for n in 0..36_000_u32 {
            now += Duration::from_millis(100);
            let act = match n % 3 {
                0 => Act::Faulted { action: format!("A{n}").repeat(40), code: n as u16 },
                1 => Act::Refused { status: n as u16 },
                _ => Act::Searched { target: format!("uuid:{n}") },
            };
            unsaved.keep(now, Sighting::new(DeviceId(1), contact, now, act));
            unsaved.close_minute(now, false);
        }
        unsaved.close_minute(now, true);
        for sighting in &unsaved.sightings {
            bytes += serde_json::to_string(&sighting.act).unwrap().len() + ROW;
        }
        assert!(bytes < 1 << 20, "{bytes} bytes");
        assert!(!unsaved.sightings.is_empty());
        // Another loses nothing by it.
        unsaved.keep(now, Sighting::new(DeviceId(2), contact, now, Act::Connected));
        unsaved.close_minute(now, true);
        assert!(unsaved.sightings.iter().any(|sighting| sighting.device == DeviceId(2)));
    }
}
