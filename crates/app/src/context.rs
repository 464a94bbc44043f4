//! What every owner of state has: the clock, the records, and a way to say that something changed.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use mostra_core::not_now::NotNow;
use mostra_protocol::Moment;
use mostra_store::{Records, StoreError, UnsavedRecords};
use tokio::sync::{broadcast, watch};

use crate::clock::Clock;
use crate::not_saved::{NotSaved, Saving};

/// A part of the house that changed, for consoles to read again.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Topic {
    /// Name, doorway, attention.
    House,
    /// Folders and scans.
    Folders,
    /// The catalogue.
    Catalogue,
    /// Devices and proof.
    Devices,
    /// Streams.
    Streams,
    /// What was found on the network.
    Network,
    /// State variables that somebody watches.
    State,
    /// How walkthroughs go on.
    Walkthroughs,
}

impl Topic {
    /// All of them.
    pub const ALL: [Topic; 8] = [
        Topic::House,
        Topic::Folders,
        Topic::Catalogue,
        Topic::Devices,
        Topic::Streams,
        Topic::Network,
        Topic::State,
        Topic::Walkthroughs,
    ];

    /// The word in a live event.
    pub fn word(self) -> &'static str {
        match self {
            Topic::House => "house",
            Topic::Folders => "folders",
            Topic::Catalogue => "catalogue",
            Topic::Devices => "devices",
            Topic::Streams => "streams",
            Topic::Network => "network",
            Topic::State => "state",
            Topic::Walkthroughs => "walkthroughs",
        }
    }
}

/// The clock, the records and what goes on, the same for all who hold a copy.
#[derive(Debug, Clone)]
pub struct Context {
    /// The clock.
    pub clock: Clock,
    pub(crate) records: Records,
    changes: broadcast::Sender<Topic>,
    stop: watch::Sender<bool>,
    records_answer: Arc<AtomicBool>,
    pub(crate) not_saved: NotSaved,
    ended: Arc<Mutex<BTreeMap<&'static str, u32>>>,
}

impl Context {
    /// A running house with these records, and its own data in a directory.
    pub fn new(clock: Clock, records: Records, data: &Path) -> Context {
        Context {
            clock,
            records,
            changes: broadcast::channel(256).0,
            stop: watch::channel(false).0,
            records_answer: Arc::new(AtomicBool::new(true)),
            not_saved: NotSaved::below(data),
            ended: Arc::default(),
        }
    }

    /// Now.
    pub fn now(&self) -> Moment {
        self.clock.now()
    }

    /// What changes from now on.
    pub fn changes(&self) -> broadcast::Receiver<Topic> {
        self.changes.subscribe()
    }

    /// Tells whoever listens that something changed.
    pub fn changed(&self, topic: Topic) {
        let _ = self.changes.send(topic);
    }

    /// Saves what the run before could not save, before anything reads the records.
    pub async fn save_what_was_left(&self) {
        self.not_saved.save_what_was_left(&self.records).await;
    }

    /// Rows of the records that cannot be read, and how many were refused and are set aside, with the
    /// file that holds them.
    pub fn set_aside_rows(&self) -> (Vec<(String, String)>, u64, String) {
        let (refused, file) = self.not_saved.aside();
        (self.records.unread(), refused, file.display().to_string())
    }

    /// Notes that a part of the service ended by itself and is started anew.
    pub fn note_ended(&self, part: &'static str) {
        let mut ended = self.ended.lock().unwrap_or_else(PoisonError::into_inner);
        *ended.entry(part).or_default() += 1;
        drop(ended);
        self.changed(Topic::House);
    }

    /// Parts of the service that ended by themselves, and how many times.
    pub fn ended(&self) -> Vec<(&'static str, u32)> {
        let ended = self.ended.lock().unwrap_or_else(PoisonError::into_inner);
        ended.iter().map(|(part, times)| (*part, *times)).collect()
    }

    /// Completes when the house stops.
    pub async fn stopping(&self) {
        let mut stop = self.stop.subscribe();
        let _ = stop.wait_for(|stop| *stop).await;
    }

    /// Stops all tasks.
    pub fn stop(&self) {
        self.stop.send_replace(true);
    }

    /// Notes whether something waits to be saved, and why.
    pub fn note_saving(&self, what: Saving, why: Option<NotNow>) {
        if self.not_saved.note(what, why) {
            match why {
                Some(why) => {
                    tracing::warn!("{} is not saved yet: {}", what.words(), why.sentence());
                }
                None => tracing::info!("{} is saved", what.words()),
            }
            self.changed(Topic::House);
        }
    }

    /// What waits to be saved, and why.
    pub fn waiting_to_be_saved(&self) -> Vec<(Saving, NotNow)> {
        self.not_saved.all()
    }

    /// Keeps what is not saved when the service stops in a file, which the next start reads first.
    pub(crate) fn keep_unsaved(&self, left: UnsavedRecords) {
        if !left.is_empty()
            && let Err(error) = self.not_saved.keep_for_next_start(left)
        {
            tracing::error!("what is not saved is lost: {error}");
        }
    }

    /// Notes what an attempt to save says of PostgreSQL: whether it answers.
    pub(crate) fn note_records<T>(&self, saved: &Result<T, StoreError>) {
        let away = |error: &StoreError| error.not_now() == Some(NotNow::NoAnswer);
        self.set_records_answer(!saved.as_ref().is_err_and(away));
    }

    /// Keeps what was refused for itself.
    pub(crate) fn set_aside(&self, what: &str, row: &UnsavedRecords, why: &StoreError) {
        let row = serde_json::to_value(row).unwrap_or_default();
        self.not_saved.set_aside(what, row, &why.to_string());
        self.changed(Topic::House);
    }

    /// Whether PostgreSQL answered last.
    pub fn records_answer(&self) -> bool {
        self.records_answer.load(Ordering::Relaxed)
    }

    /// Notes whether PostgreSQL answers.
    pub fn set_records_answer(&self, answers: bool) {
        if self.records_answer.swap(answers, Ordering::Relaxed) != answers {
            self.changed(Topic::House);
        }
    }
}
