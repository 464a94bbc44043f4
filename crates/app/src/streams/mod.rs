//! What is on its way to devices, and the streams that come of it.

mod transfers;

use std::sync::{Mutex, MutexGuard, PoisonError};

use mostra_core::ids::StreamId;
use mostra_core::streaming::StreamBook;

pub use transfers::{Load, Media, Moved, Transfer, Transfers};

use crate::context::{Context, Topic};

/// Transfers and streams.
pub struct Streams {
    context: Context,
    /// Answers on their way.
    pub transfers: Transfers,
    book: Mutex<StreamBook>,
}

impl Streams {
    /// None yet.
    pub fn new(context: Context) -> Streams {
        Streams { context, transfers: Transfers::default(), book: Mutex::default() }
    }

    /// The book of streams.
    pub fn book(&self) -> MutexGuard<'_, StreamBook> {
        self.book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Ends all that is on its way to devices.
    pub fn end_all(&self) {
        self.transfers.all().iter().for_each(|transfer| transfer.end());
    }

    /// Ends a stream; true if there is one of this number.
    pub fn end(&self, id: StreamId) -> bool {
        let ended = self.book().end(self.context.now(), id);
        let Some((device, resource)) = ended else { return false };
        let all = self.transfers.media();
        let its = all.iter().filter(|t| t.device == device && t.load.resource() == Some(resource));
        its.for_each(|transfer| transfer.end());
        self.context.changed(Topic::Streams);
        true
    }
}
