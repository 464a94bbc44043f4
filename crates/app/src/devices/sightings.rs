//! From what devices do to what is proven, and how that is kept.
//!
//! Handlers report everything and never wait; reports are put together where they come in floods.
//! One task turns them into proof, which [`mostra_core::proof`] tells, and has them recorded.

use std::sync::atomic::Ordering;
use std::sync::{Arc, PoisonError};
use std::time::Duration;

use mostra_core::access::Standing;
use mostra_core::device::Denied;
use mostra_core::sighting::{Act, Sighting};
use mostra_core::streaming::AcknowledgedBytes;
use mostra_protocol::Moment;

use super::Devices;
use super::records::{Unsaved, left, save};
use crate::Topic;
use crate::streams::{Load, Moved};

/// How often it is looked at what was reported and acknowledged, and how often devices are saved.
const LOOK: Duration = Duration::from_millis(100);
const SAVE: Duration = Duration::from_millis(500);
/// How long the last saving may take when the service stops.
const LAST_SAVE: Duration = Duration::from_secs(4);
/// How often a device that asks in vain again and again is saved and shown.
const DENIED: Duration = Duration::from_secs(60);
/// How often consoles are told how streams go on.
const TELL_STREAMS: Duration = Duration::from_secs(1);
/// When old sightings are first thinned out, and how often after that.
const THIN_OUT: (Duration, Duration) = (Duration::from_secs(600), Duration::from_secs(6 * 3600));

/// Turns reports into proof until the house stops.
pub async fn run(devices: Arc<Devices>) {
    let mut unsaved = devices.unsaved.lock().await;
    let unsaved = &mut *unsaved;
    let mut look = tokio::time::interval(LOOK);
    let mut save_due = tokio::time::interval(SAVE);
    let start = tokio::time::Instant::now() + THIN_OUT.0;
    let mut thin_out = tokio::time::interval_at(start, THIN_OUT.1);
    for interval in [&mut look, &mut save_due, &mut thin_out] {
        interval.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    }
    let mut streams_before = 0;
    let mut streams_told = devices.context.now();
    loop {
        tokio::select! {
            _ = look.tick() => {
                // Proof is saved at once, all else with the next batch.
                if digest(&devices, unsaved) {
                    save(&devices, unsaved).await;
                }
                // What began while a decision was made is ended here.
                devices.end_uncovered();
                let media = devices.streams.transfers.media();
                let open = media.iter().filter_map(|t| Some((t.device, t.load.resource()?))).collect();
                let now = devices.context.now();
                let mut book = devices.streams.book();
                book.settle(now, open);
                let streams = book.count();
                drop(book);
                let is_time = now.since(streams_told) >= TELL_STREAMS;
                if streams != streams_before || streams > 0 && is_time {
                    streams_told = now;
                    devices.context.changed(Topic::Streams);
                }
                streams_before = streams;
            }
            _ = save_due.tick() => {
                close_minute(&devices, unsaved, false);
                save(&devices, unsaved).await;
                devices.save_walkthroughs().await;
            }
            () = devices.record_wanted.notified() => {
                digest(&devices, unsaved);
                close_minute(&devices, unsaved, true);
                save(&devices, unsaved).await;
                devices.recorded.send_modify(|times| *times += 1);
            }
            _ = thin_out.tick() => {
                let (records, now) = (devices.context.records.clone(), devices.context.now());
                devices.book().rest(now);
                tokio::spawn(async move {
                    if let Err(error) = records.thin_out_sightings(now).await {
                        tracing::warn!("old sightings are not thinned out: {error}");
                    }
                });
            }
            () = devices.context.stopping() => break,
        }
    }
    // What came in just before the stop is kept as well.
    digest(&devices, unsaved);
    close_minute(&devices, unsaved, true);
    let saved = async {
        save(&devices, unsaved).await;
        devices.save_walkthroughs().await;
    };
    let cut_off = tokio::time::timeout(LAST_SAVE, saved).await.is_err();
    // What PostgreSQL does not take now waits in a file for the next start.
    let mut left = left(&devices, unsaved);
    devices.left_of_walkthroughs(cut_off, &mut left);
    devices.context.keep_unsaved(left);
}

/// Takes what the minute held, once it is over.
fn close_minute(devices: &Devices, unsaved: &mut Unsaved, over: bool) {
    let dropped = unsaved.close_minute(devices.context.now(), over);
    devices.lost.fetch_add(dropped, Ordering::Relaxed);
}

/// Notes what was reported and acknowledged since the last look; true if that is to be saved at
/// once.
fn digest(devices: &Devices, unsaved: &mut Unsaved) -> bool {
    let changed = {
        let mut changed = devices.changed.lock().unwrap_or_else(PoisonError::into_inner);
        std::mem::take(&mut *changed)
    };
    let reported = devices.reports.lock().unwrap_or_else(PoisonError::into_inner).take();
    let mut news = !changed.is_empty();
    unsaved.devices.extend(changed);
    for sighting in reported.into_iter().chain(acknowledged(devices)) {
        news |= note(devices, unsaved, sighting);
    }
    if news {
        devices.context.changed(Topic::Devices);
    }
    news
}

/// What devices acknowledged since the last look.
fn acknowledged(devices: &Devices) -> Vec<Sighting> {
    let at = devices.context.now();
    let moved = devices.streams.transfers.look();
    let mut streams = devices.streams.book();
    let mut kept = Vec::new();
    for Moved { transfer, received, .. } in &moved {
        if let Load::Media(media) = &transfer.load {
            let taken = AcknowledgedBytes {
                device: transfer.device,
                resource: media.resource,
                title: &media.title,
                kind: media.kind(),
                size: media.size,
                duration_ms: media.duration_ms,
                bytes: *received,
                position: media.from + transfer.received(),
            };
            devices.note_bytes_in_walkthrough(at, &taken, &media.format);
            if let Some(time) = streams.take(at, &taken) {
                let seconds = u32::try_from(time.as_secs()).unwrap_or(u32::MAX);
                let act = Act::Kept { title: media.title.clone(), kind: media.kind(), seconds };
                kept.push(Sighting::new(transfer.device, transfer.contact, at, act));
            }
        }
    }
    drop(streams);
    let acts =
        moved.iter().filter(|m| m.proven).filter_map(|Moved { transfer, before, .. }| {
            let act = match &transfer.load {
                Load::Answer(act) => {
                    (transfer.delivered() == transfer.length).then(|| act.clone())?
                }
                Load::Media(media) if media.broadcast => return None,
                Load::Media(media) => Act::Took {
                    resource: media.resource,
                    title: media.title.clone(),
                    layout: media.layout,
                    runs: vec![(media.from + before, media.from + transfer.delivered())],
                },
            };
            Some(Sighting::new(transfer.device, transfer.contact, at, act))
        });
    acts.chain(kept).collect()
}

/// Notes a sighting; true if it confirmed a step, or says something new of a device that is not let
/// in.
fn note(devices: &Devices, unsaved: &mut Unsaved, mut sighting: Sighting) -> bool {
    let mut book = devices.book();
    sighting.device = book.current(sighting.device);
    let id = sighting.device;
    let Some(device) = book.get_mut(id) else { return false };
    if !matches!(sighting.act, Act::Connected) {
        devices.note_active(&sighting);
    }
    // A datagram may have been heard before the connection that made the device known.
    device.first_seen = device.first_seen.min(sighting.first);
    let mut changed = false;
    if let Act::Denied { attempt } = sighting.act
        && device.standing != Standing::Admitted
    {
        let now = Denied { at: sighting.last, attempt };
        let before = device.denied.replace(now);
        // A player that tries again and again is saved and shown once a minute.
        changed = before
            .is_none_or(|before| before.attempt != attempt || now.at.since(before.at) > DENIED);
    }
    let steps = device.proof.apply(&mut sighting);
    let in_walkthrough = device.in_walkthrough;
    for step in &steps {
        let Some(proof) = device.proof.ladder.proof(*step) else { continue };
        tracing::info!(
            device = device.label(),
            item = proof.item,
            bytes = proof.bytes,
            "{}: {}",
            step.word(),
            proof.evidence
        );
    }
    if sighting.proves {
        unsaved.forget_files(id, device.proof.forget_files());
    }
    changed |= !steps.is_empty() || sighting.proves;
    let seen: Moment = device.last_seen;
    drop(book);
    if in_walkthrough {
        changed |= devices.note_in_walkthrough(&sighting);
    }
    if let Act::Listed { files, .. } = &mut sighting.act {
        // They were counted, and are not kept.
        files.clear();
    }
    // That it was seen is saved along with whatever else changes, or once a minute.
    if unsaved.is_stale(id, seen, changed) {
        unsaved.devices.insert(id);
    }
    let lost = unsaved.keep(devices.context.now(), sighting);
    devices.lost.fetch_add(lost, Ordering::Relaxed);
    changed
}
