//! What is on its way to devices, and the streams that come of it.

mod transfers;

use std::sync::{Mutex, MutexGuard, PoisonError};

use mostra_core::Kind;
use mostra_core::ids::{FileId, StreamId};
use mostra_core::players::{Players, Playing};
use mostra_core::streaming::StreamBook;

pub use transfers::{Load, Media, Moved, Transfer, Transfers};

use crate::context::{Context, Topic};

/// Transfers and streams.
pub struct Streams {
    context: Context,
    /// Answers on their way.
    pub transfers: Transfers,
    book: Mutex<StreamBook>,
    players: Mutex<Players>,
}

impl Streams {
    /// None yet.
    pub fn new(context: Context) -> Streams {
        Streams {
            context,
            transfers: Transfers::default(),
            book: Mutex::default(),
            players: Mutex::default(),
        }
    }

    /// The book of streams.
    pub fn book(&self) -> MutexGuard<'_, StreamBook> {
        self.book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn players(&self) -> MutexGuard<'_, Players> {
        self.players.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A player of the console tells that it plays an item.
    pub fn tell_playing(&self, account: &str, file: FileId, title: &str, kind: Kind) {
        let news = self.players().tell(self.context.now(), account, file, title, kind);
        if news {
            self.context.changed(Topic::Streams);
        }
    }

    /// What an account played in the console plays no more.
    pub fn stop_playing(&self, account: &str) {
        if self.players().stop(account) {
            self.context.changed(Topic::Streams);
        }
    }

    /// What plays in the console now.
    pub fn playing(&self) -> Vec<Playing> {
        self.players().playing(self.context.now()).to_vec()
    }

    /// Ends all that is on its way to devices.
    pub fn end_all(&self) {
        self.transfers.all().iter().for_each(|transfer| transfer.end());
        self.book().end_all();
        self.context.changed(Topic::Streams);
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
