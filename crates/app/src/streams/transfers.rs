//! Answers on their way to a device, watched until the device has acknowledged them.

use std::collections::HashSet;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use mostra_core::Kind;
use mostra_core::ids::{DeviceId, FolderId};
use mostra_core::playback::Layout;
use mostra_core::resource::ResourceId;
use mostra_core::sighting::{Act, Contact};
use mostra_net::TcpProbe;

/// Bytes of an answer's head at most; counted as not delivered until the whole answer is.
const HEAD: u64 = 1024;

/// What is on its way.
#[derive(Debug)]
pub enum Load {
    /// An answer that proves something once it is delivered.
    Answer(Act),
    /// Media data of a resource.
    Media(Media),
}

/// A resource of which media data are on their way.
#[derive(Debug, Clone)]
pub struct Media {
    /// Which resource.
    pub resource: ResourceId,
    /// The folder that it is in.
    pub folder: FolderId,
    /// Its title.
    pub title: String,
    /// Its format, as a MIME type.
    pub format: String,
    /// What it takes to play it.
    pub layout: Layout,
    /// Its bytes.
    pub size: u64,
    /// Milliseconds that it plays.
    pub duration_ms: Option<u64>,
    /// Whether it is a broadcast, which has no places to skip to and goes on by itself.
    pub broadcast: bool,
    /// The first byte of the resource in this answer.
    pub from: u64,
}

impl Media {
    /// Its kind.
    pub fn kind(&self) -> Kind {
        self.layout.kind
    }
}

impl Load {
    /// The resource, of media.
    pub fn resource(&self) -> Option<ResourceId> {
        match self {
            Load::Media(media) => Some(media.resource),
            Load::Answer(_) => None,
        }
    }
}

/// An answer on its way.
#[derive(Debug)]
pub struct Transfer {
    /// The device's number.
    pub device: DeviceId,
    /// By what it was told apart.
    pub contact: Contact,
    /// What it is.
    pub load: Load,
    /// Bytes of the body; of a broadcast, more than there will ever be.
    pub length: u64,
    probe: Arc<TcpProbe>,
    /// Acknowledged bytes of the connection after which this answer begins.
    begins: u64,
    /// Whether all of the body was handed over.
    handed: AtomicBool,
    /// Whether the answer was given up before that.
    dropped: AtomicBool,
    delivered: AtomicU64,
    received: AtomicU64,
}

/// An answer of which more arrived.
pub struct Moved {
    /// The answer.
    pub transfer: Arc<Transfer>,
    /// Whether more of it is proven to be delivered.
    pub proven: bool,
    /// Bytes that were proven to be delivered before.
    pub before: u64,
    /// Bytes that the device's end acknowledged since the last look.
    pub received: u64,
}

impl Transfer {
    /// Body bytes that the device has acknowledged.
    pub fn delivered(&self) -> u64 {
        self.delivered.load(Ordering::Relaxed)
    }

    /// Body bytes that the device's end has acknowledged; some may still lie unread in its
    /// buffer, so that they prove nothing.
    pub fn received(&self) -> u64 {
        self.received.load(Ordering::Relaxed)
    }

    /// All of the body was handed to the server.
    pub fn hand_over(&self) {
        self.handed.store(true, Ordering::Relaxed);
    }

    /// Ends the connection that it goes over.
    pub fn end(&self) {
        self.probe.end();
    }

    /// The answer was given up.
    pub fn drop_rest(&self) {
        self.dropped.store(true, Ordering::Relaxed);
    }

    /// Looks at the connection; true while more may be acknowledged.
    fn look(&self) -> bool {
        // Asked before reading, so that the last reading is taken after the close.
        let open = self.probe.is_open();
        let reading = self.probe.read();
        let whole = self.handed.load(Ordering::Relaxed)
            && reading.queued <= 1
            && reading.roomy
            && reading.acked > self.begins.saturating_add(self.length);
        let now =
            if whole { self.length } else { reading.read.saturating_sub(HEAD).min(self.length) };
        self.delivered.fetch_max(now, Ordering::Relaxed);
        let received = match whole {
            true => self.length,
            false => reading.acked.saturating_sub(self.begins + HEAD).min(self.length),
        };
        self.received.fetch_max(received, Ordering::Relaxed);
        let given_up = self.dropped.load(Ordering::Relaxed) && !self.handed.load(Ordering::Relaxed);
        open && !whole && !given_up
    }
}

/// All transfers under way.
#[derive(Debug, Default)]
pub struct Transfers(Mutex<Vec<Arc<Transfer>>>);

impl Transfers {
    /// Watches an answer of `length` bytes that is about to be written to a connection.
    pub fn begin(
        &self,
        probe: &Arc<TcpProbe>,
        (device, contact): (DeviceId, Contact),
        load: Load,
        length: u64,
    ) -> Arc<Transfer> {
        let reading = probe.begin();
        let transfer = Arc::new(Transfer {
            device,
            contact,
            load,
            length,
            probe: probe.clone(),
            // What is still queued belongs to earlier answers.
            begins: reading.acked + reading.queued,
            handed: AtomicBool::new(false),
            dropped: AtomicBool::new(false),
            delivered: AtomicU64::new(0),
            received: AtomicU64::new(0),
        });
        self.lock().push(transfer.clone());
        transfer
    }

    /// Looks at all of them and forgets those that are over. Gives what moved.
    pub fn look(&self) -> Vec<Moved> {
        let all: Vec<Arc<Transfer>> = self.lock().clone();
        let mut moved = Vec::new();
        let mut over: HashSet<*const Transfer> = HashSet::new();
        for transfer in all {
            let before = (transfer.delivered(), transfer.received());
            if !transfer.look() {
                over.insert(Arc::as_ptr(&transfer));
            }
            let proven = transfer.delivered() > before.0;
            let received = transfer.received() - before.1;
            if proven || received > 0 {
                moved.push(Moved { transfer, proven, before: before.0, received });
            }
        }
        self.lock().retain(|t| !over.contains(&Arc::as_ptr(t)));
        moved
    }

    /// The transfers under way.
    pub fn all(&self) -> Vec<Arc<Transfer>> {
        self.lock().clone()
    }

    /// The media transfers under way.
    pub fn media(&self) -> Vec<Arc<Transfer>> {
        self.lock().iter().filter(|t| matches!(t.load, Load::Media(_))).cloned().collect()
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Vec<Arc<Transfer>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
