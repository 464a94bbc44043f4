//! From what devices do to what is proven.
//!
//! Handlers put small facts into a bounded channel and never wait. One task turns them into
//! device records and proof, and keeps them in PostgreSQL in batches; while that is away, the
//! devices concerned stay marked and are saved when it is back.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use mostra_core::access::Standing;
use mostra_core::device::{Denied, Device};
use mostra_core::facts::Facts;
use mostra_core::playback::Playback;
use mostra_core::proof::{Proof, Step};
use mostra_core::streaming::Taken;
use mostra_protocol::Moment;
use tokio::sync::mpsc;

use mostra_store::StoreError;

use super::Devices;
use crate::Topic;
use crate::streams::{Load, Moved};

/// One observed fact.
#[derive(Debug, Clone)]
pub enum Fact {
    /// The device was met for the first time.
    Met,
    /// It searched for something, or announced itself; in words.
    Heard(String),
    /// It asked for something, in words, and got nothing, as it is not let in.
    Denied(&'static str),
    /// It connected.
    Connected,
    /// It names itself so.
    Named(String),
    /// The description was delivered.
    Read,
    /// A Browse was answered and delivered.
    Listed {
        /// Whether it was one of the root.
        root: bool,
        /// The container's title.
        title: String,
        /// Granted items in it.
        items: u32,
    },
    /// Media data was acknowledged, from a byte of the file to another (excluded).
    Took {
        /// The file's serial.
        file: u32,
        /// Its title.
        title: String,
        /// Its facts.
        facts: Arc<Facts>,
        /// First byte.
        from: u64,
        /// First byte after.
        to: u64,
    },
}

/// A fact about a device.
#[derive(Debug)]
pub struct Sighting {
    /// The device's number.
    pub device: u32,
    /// When.
    pub at: Moment,
    /// What.
    pub fact: Fact,
}

/// Facts waiting at most.
const WAITING: usize = 8192;
/// Plays in progress remembered at most.
const PLAYS: usize = 1024;
/// How often transfers are looked at, and devices saved.
const LOOK: Duration = Duration::from_millis(100);
const SAVE: Duration = Duration::from_millis(500);
/// How often it is saved and shown that a device is still there.
const SEEN: Duration = Duration::from_secs(60);
/// How often consoles are told how streams go on.
const TELL_STREAMS: Duration = Duration::from_secs(1);

/// The way in.
#[derive(Debug)]
pub struct Sightings {
    sender: mpsc::Sender<Sighting>,
    dropped: AtomicU64,
}

impl Sightings {
    /// The way in and what comes out of it.
    pub fn channel() -> (Sightings, mpsc::Receiver<Sighting>) {
        let (sender, receiver) = mpsc::channel(WAITING);
        (Sightings { sender, dropped: AtomicU64::new(0) }, receiver)
    }

    /// Notes a fact. Never waits; what does not fit is counted.
    pub fn note(&self, device: u32, at: Moment, fact: Fact) {
        if self.sender.try_send(Sighting { device, at, fact }).is_err() {
            self.dropped.fetch_add(1, Ordering::Relaxed);
        }
    }

    /// Facts dropped so far; proof may be incomplete if there are any.
    pub fn dropped(&self) -> u64 {
        self.dropped.load(Ordering::Relaxed)
    }
}

/// Turns sightings into proof until the channel closes or the house stops.
pub async fn run(devices: Arc<Devices>, mut receiver: mpsc::Receiver<Sighting>) {
    let mut plays: HashMap<(u32, u32), Playback> = HashMap::new();
    let mut unsaved = Unsaved::default();
    let mut look = tokio::time::interval(LOOK);
    let mut save = tokio::time::interval(SAVE);
    for interval in [&mut look, &mut save] {
        interval.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    }
    let mut streams_before = 0;
    let mut streams_told = devices.context.now();
    let mut proven = false;
    loop {
        tokio::select! {
            sighting = receiver.recv() => {
                let Some(sighting) = sighting else { break };
                proven |= digest(&devices, &mut plays, &mut unsaved, sighting);
            }
            _ = look.tick() => {
                for sighting in acknowledged(&devices) {
                    proven |= digest(&devices, &mut plays, &mut unsaved, sighting);
                }
                // Proof is saved at once, all else with the next batch.
                if proven {
                    proven = false;
                    save_devices(&devices, &mut unsaved).await;
                }
                // What began while a decision was made is ended here.
                devices.end_uncovered();
                let open = devices.streams.transfers.media().iter().filter_map(|t| t.load.file().map(|f| (t.device, f))).collect();
                let now = devices.context.now();
                let mut book = devices.streams.book();
                book.settle(now, open);
                let streams = book.count();
                drop(book);
                let is_time = now.saturating_sub(streams_told) >= TELL_STREAMS;
                if streams != streams_before || streams > 0 && is_time {
                    streams_told = now;
                    devices.context.changed(Topic::Streams);
                }
                streams_before = streams;
            }
            _ = save.tick() => save_devices(&devices, &mut unsaved).await,
            () = devices.context.stopping() => break,
        }
    }
    // What came in just before the stop is kept as well.
    while let Ok(sighting) = receiver.try_recv() {
        digest(&devices, &mut plays, &mut unsaved, sighting);
    }
    for sighting in acknowledged(&devices) {
        digest(&devices, &mut plays, &mut unsaved, sighting);
    }
    save_devices(&devices, &mut unsaved).await;
}

/// What devices acknowledged since the last look.
fn acknowledged(devices: &Devices) -> Vec<Sighting> {
    let at = devices.context.now();
    let moved = devices.streams.transfers.look();
    let mut streams = devices.streams.book();
    for Moved { transfer, received, .. } in &moved {
        if let Load::Media { file, title, facts, from, .. } = &transfer.load {
            let taken = Taken {
                device: transfer.device,
                file: *file,
                title,
                kind: facts.kind,
                size: facts.size,
                duration_ms: facts.duration_ms,
                bytes: *received,
                position: from + transfer.received(),
            };
            streams.take(at, &taken);
        }
    }
    drop(streams);
    let facts = moved.iter().filter(|m| m.proven).filter_map(|Moved { transfer, .. }| {
        let fact = match &transfer.load {
            Load::Answer(fact) => {
                (transfer.delivered() == transfer.length).then(|| fact.clone())?
            }
            // A broadcast has no places to skip to, and goes on by itself.
            Load::Media { facts, .. } if facts.station.is_some() => return None,
            Load::Media { file, title, facts, from, .. } => Fact::Took {
                file: *file,
                title: title.clone(),
                facts: facts.clone(),
                from: *from,
                to: from + transfer.delivered(),
            },
        };
        Some(Sighting { device: transfer.device, at, fact })
    });
    facts.collect()
}

/// What is to be saved of devices.
#[derive(Default)]
struct Unsaved {
    devices: BTreeSet<u32>,
    /// When each was last seen, as saved.
    seen: HashMap<u32, Moment>,
}

async fn save_devices(devices: &Devices, unsaved: &mut Unsaved) {
    forget_evicted(devices, unsaved).await;
    if unsaved.devices.is_empty() {
        return;
    }
    let _recording = devices.recording.lock().await;
    let known: Vec<Device> = {
        let book = devices.book();
        unsaved.devices.iter().filter_map(|id| book.get(*id).cloned()).collect()
    };
    match devices.context.records.save_devices(&known).await {
        Ok(()) => {
            unsaved.devices.clear();
            devices.context.set_records_answer(true);
        }
        // One of them cannot be saved as it is; that is no reason to lose the others.
        Err(StoreError::Refused(_)) => {
            for device in &known {
                if let Err(error) =
                    devices.context.records.save_devices(std::slice::from_ref(device)).await
                {
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

/// Notes a sighting; true if it confirmed a step or brought a new device.
fn digest(
    devices: &Devices,
    plays: &mut HashMap<(u32, u32), Playback>,
    unsaved: &mut Unsaved,
    sighting: Sighting,
) -> bool {
    let Sighting { device: id, at, fact } = sighting;
    let mut steps: Vec<(Step, Proof)> = Vec::new();
    let mut met = false;
    let mut step = |step: Step, what: String, item: Option<String>, bytes: Option<u64>| {
        steps.push((step, Proof { at, what, item, bytes }));
    };
    let (mut name, mut denied) = (None, None);
    match fact {
        Fact::Met => met = true,
        Fact::Heard(what) => step(Step::Seen, what, None, None),
        Fact::Denied(what) => denied = Some(what),
        Fact::Connected => step(Step::Seen, "connected to the device listener".into(), None, None),
        Fact::Named(user_agent) => name = Some(user_agent),
        Fact::Read => step(Step::Read, "took the description".into(), None, None),
        Fact::Listed { root, title, items } => {
            if root {
                step(Step::Opened, "opened the root menu".into(), None, None);
            }
            if items > 0 {
                let plural = if items == 1 { "" } else { "s" };
                step(Step::Listed, format!("listed {items} item{plural}"), Some(title), None);
            }
        }
        Fact::Took { file, title, facts, from, to } => {
            if plays.len() >= PLAYS && !plays.contains_key(&(id, file)) {
                plays.clear();
            }
            let play = plays.entry((id, file)).or_insert_with(|| Playback::new(&facts));
            if let Some(confirmed) = play.deliver(from, to) {
                let what = match confirmed.step {
                    Step::Started => format!("started {}", facts.kind.word()),
                    _ => "went to a later place and played on".to_owned(),
                };
                step(confirmed.step, what, Some(title), Some(confirmed.bytes));
            }
        }
    }
    let mut book = devices.book();
    let Some(device) = book.get_mut(id) else { return false };
    // A datagram may have been heard before the connection that made the device known.
    device.first_seen = device.first_seen.min(at);
    let mut changed = met;
    if let Some(name) = name
        && device.user_agent.as_ref() != Some(&name)
    {
        device.user_agent = Some(name);
        changed = true;
    }
    if let Some(what) = denied.filter(|_| device.standing != Standing::Admitted) {
        let before = device.denied.replace(Denied { at, what: what.to_owned() });
        // A player that tries again and again is saved and shown once a minute.
        changed |=
            before.is_none_or(|before| before.what != what || at.saturating_sub(before.at) > SEEN);
    }
    for (step, proof) in steps {
        if device.ladder.confirm(step, proof.clone()) {
            tracing::info!(
                device = device.label(),
                item = proof.item,
                bytes = proof.bytes,
                "{}: {}",
                step.word(),
                proof.what
            );
            changed = true;
        }
    }
    let seen = device.last_seen;
    drop(book);
    // That it was seen is saved along with whatever else changes, or once a minute.
    let saved = unsaved.seen.entry(id).or_insert(seen);
    if changed || seen.saturating_sub(*saved) > SEEN {
        *saved = seen;
        unsaved.devices.insert(id);
    }
    if changed {
        devices.context.changed(Topic::Devices);
    }
    changed
}
