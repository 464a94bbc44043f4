//! What every owner of state has: the clock, the records, and a way to say that something changed.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use mostra_protocol::Moment;
use mostra_store::Records;
use tokio::sync::{broadcast, watch};

use crate::clock::Clock;

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
}

impl Context {
    /// A running house with these records.
    pub fn new(clock: Clock, records: Records) -> Context {
        Context {
            clock,
            records,
            changes: broadcast::channel(256).0,
            stop: watch::channel(false).0,
            records_answer: Arc::new(AtomicBool::new(true)),
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

    /// Completes when the house stops.
    pub async fn stopping(&self) {
        let mut stop = self.stop.subscribe();
        let _ = stop.wait_for(|stop| *stop).await;
    }

    /// Stops all tasks.
    pub fn stop(&self) {
        self.stop.send_replace(true);
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
