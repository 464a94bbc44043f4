//! Subscribers to events, and the wake-up for whoever delivers to them.

use std::sync::{Mutex, MutexGuard, PoisonError};

use mostra_protocol::server::Publisher;
use tokio::sync::Notify;

/// Who subscribes, and what is to be delivered.
#[derive(Debug, Default)]
pub struct Subscriptions {
    publisher: Mutex<Publisher>,
    due: Notify,
}

impl Subscriptions {
    /// The publisher. Whoever changes something calls [`wake`](Self::wake) afterwards.
    pub fn publisher(&self) -> MutexGuard<'_, Publisher> {
        self.publisher.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Ends all subscriptions: nobody is told anything any more.
    pub fn end_all(&self) {
        *self.publisher() = Publisher::new();
    }

    /// Something may be due.
    pub fn wake(&self) {
        self.due.notify_one();
    }

    /// Completes when something may be due.
    pub(super) async fn woken(&self) {
        self.due.notified().await;
    }
}
