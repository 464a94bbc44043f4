//! From what devices do to what is proven.
//!
//! Handlers put small facts into a bounded channel and never wait. One task turns them into
//! device records and proof, and keeps them in PostgreSQL in batches; while that is away, the
//! devices concerned stay marked and are saved when it is back.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use mostra_core::device::Device;
use mostra_core::facts::Facts;
use mostra_core::playback::Playback;
use mostra_core::proof::{Proof, Step};
use mostra_core::streaming::Taken;
use mostra_protocol::Moment;
use tokio::sync::mpsc;

use crate::house::{House, Topic};
use mostra_store::StoreError;

use crate::transfers::{Load, Moved};

/// One observed fact.
#[derive(Debug, Clone)]
pub enum Fact {
    /// The device was met for the first time.
    Met,
    /// It searched for something.
    Searched(String),
    /// It announced itself.
    Announced,
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
pub async fn run(house: Arc<House>, mut receiver: mpsc::Receiver<Sighting>) {
    let mut plays: HashMap<(u32, u32), Playback> = HashMap::new();
    let mut unsaved: BTreeSet<u32> = BTreeSet::new();
    let mut look = tokio::time::interval(LOOK);
    let mut save = tokio::time::interval(SAVE);
    for interval in [&mut look, &mut save] {
        interval.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    }
    let mut streams_before = 0;
    let mut proven = false;
    loop {
        tokio::select! {
            sighting = receiver.recv() => {
                let Some(sighting) = sighting else { break };
                proven |= digest(&house, &mut plays, &mut unsaved, sighting);
            }
            _ = look.tick() => {
                for sighting in acknowledged(&house) {
                    proven |= digest(&house, &mut plays, &mut unsaved, sighting);
                }
                // Proof is saved at once, all else with the next batch.
                if proven {
                    proven = false;
                    save_devices(&house, &mut unsaved).await;
                }
                let open = house.transfers.media().iter().filter_map(|t| t.load.file().map(|f| (t.device, f))).collect();
                let mut book = house.streams();
                book.settle(house.clock.now(), open);
                let streams = book.count();
                drop(book);
                if streams > 0 || streams_before > 0 {
                    house.tell(Topic::Streams);
                }
                streams_before = streams;
            }
            _ = save.tick() => save_devices(&house, &mut unsaved).await,
            () = house.stopping() => break,
        }
    }
    // What came in just before the stop is kept as well.
    while let Ok(sighting) = receiver.try_recv() {
        digest(&house, &mut plays, &mut unsaved, sighting);
    }
    for sighting in acknowledged(&house) {
        digest(&house, &mut plays, &mut unsaved, sighting);
    }
    save_devices(&house, &mut unsaved).await;
}

/// What devices acknowledged since the last look.
fn acknowledged(house: &House) -> Vec<Sighting> {
    let at = house.clock.now();
    let moved = house.transfers.look();
    let mut streams = house.streams();
    for Moved { transfer, received, .. } in &moved {
        if let Load::Media { file, title, facts, from } = &transfer.load {
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
            Load::Media { file, title, facts, from } => Fact::Took {
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

async fn save_devices(house: &House, unsaved: &mut BTreeSet<u32>) {
    if unsaved.is_empty() {
        return;
    }
    let _recording = house.recording_devices.lock().await;
    let devices: Vec<Device> = {
        let book = house.devices();
        unsaved.iter().filter_map(|id| book.get(*id).cloned()).collect()
    };
    match house.records.save_devices(&devices).await {
        Ok(()) => {
            unsaved.clear();
            house.set_records_answer(true);
        }
        // One of them cannot be saved as it is; that is no reason to lose the others.
        Err(StoreError::Refused(_)) => {
            for device in &devices {
                if let Err(error) = house.records.save_devices(std::slice::from_ref(device)).await {
                    tracing::warn!(device = device.label(), "not saved: {error}");
                }
            }
            unsaved.clear();
        }
        Err(error) => {
            tracing::warn!("devices are not saved yet: {error}");
            house.set_records_answer(false);
        }
    }
}

/// Notes a sighting; true if it confirmed a step or brought a new device.
fn digest(
    house: &House,
    plays: &mut HashMap<(u32, u32), Playback>,
    unsaved: &mut BTreeSet<u32>,
    sighting: Sighting,
) -> bool {
    let Sighting { device: id, at, fact } = sighting;
    let mut steps: Vec<(Step, Proof)> = Vec::new();
    let mut met = false;
    let mut step = |step: Step, what: String, item: Option<String>, bytes: Option<u64>| {
        steps.push((step, Proof { at, what, item, bytes }));
    };
    let mut name = None;
    match fact {
        Fact::Met => met = true,
        Fact::Searched(target) => step(Step::Seen, format!("searched for {}", target), None, None),
        Fact::Announced => step(Step::Seen, "announced itself".into(), None, None),
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
    let mut book = house.devices();
    let Some(device) = book.get_mut(id) else { return false };
    let mut changed = met;
    if let Some(name) = name
        && device.user_agent.as_ref() != Some(&name)
    {
        device.user_agent = Some(name);
        changed = true;
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
    drop(book);
    // The time last seen is saved along with whatever else changes, or once in a while.
    unsaved.insert(id);
    if changed {
        house.tell(Topic::Devices);
    }
    changed
}
