//! Pictures are made before anybody asks, so that a television that pages through an album does not
//! wait: first the neighbours of what was asked for last, then the newest of all.

use std::collections::HashSet;
use std::sync::Arc;
use std::time::Duration;

use mostra_core::Kind;
use mostra_core::ids::FileId;
use mostra_core::present;
use tokio::sync::broadcast::error::RecvError;
use tokio::time::Instant;

use super::Library;
use crate::context::Topic;

/// Of how many items of a kind pictures are made; those of films and tracks take longer, and are
/// looked at one at a time.
const NEWEST: [(Kind, usize); 3] =
    [(Kind::Picture, 10_000), (Kind::Music, 2_000), (Kind::Video, 1_000)];
/// Items remembered as done.
const MOST_DONE: usize = 50_000;
/// How long the catalogue stands still before its newest are made.
const STILL: Duration = Duration::from_secs(2);
/// How often it is looked whether streams have ended.
const PAUSE: Duration = Duration::from_secs(5);

/// Makes pictures one after the other, for as long as the house runs.
pub async fn run(library: Arc<Library>) {
    let mut changes = library.context.changes();
    let mut ahead = Ahead { library, done: HashSet::new() };
    loop {
        ahead.newest().await;
        // Until the catalogue has changed and stands still again; what else changes is no matter.
        let mut due: Option<Instant> = None;
        loop {
            let still = async {
                match due {
                    Some(due) => tokio::time::sleep_until(due).await,
                    None => std::future::pending().await,
                }
            };
            tokio::select! {
                () = ahead.library.pictures.wanted.notified() => ahead.asked().await,
                () = still => break,
                change = changes.recv() => match change {
                    Ok(Topic::Catalogue) | Err(RecvError::Lagged(_)) => due = Some(Instant::now() + STILL),
                    Ok(_) => {}
                    Err(RecvError::Closed) => return,
                },
            }
        }
    }
}

struct Ahead {
    library: Arc<Library>,
    /// What was made or cannot be, with the stamp of what it was made of.
    done: HashSet<(FileId, u64)>,
}

impl Ahead {
    /// Makes what is newest. Whoever watches has the drives for themselves meanwhile.
    async fn newest(&mut self) {
        let catalogue = self.library.catalogue();
        let newest: Vec<FileId> = NEWEST
            .into_iter()
            .flat_map(|(kind, most)| catalogue.newest_pictured(kind, most))
            .collect();
        drop(catalogue);
        let still: HashSet<FileId> = newest.iter().copied().collect();
        self.done.retain(|(file, _)| still.contains(file));
        for file in newest {
            self.asked().await;
            while self.library.devices.is_streaming() {
                let library = self.library.clone();
                tokio::select! {
                    () = tokio::time::sleep(PAUSE) => {}
                    // Whoever looks through an album meanwhile waits for its pictures.
                    () = library.pictures.wanted.notified() => self.asked().await,
                }
            }
            self.one(file).await;
        }
    }

    /// Makes the neighbours of what somebody asked for, until something else is asked for.
    async fn asked(&mut self) {
        while let Some(file) = self.library.pictures.take_asked() {
            for file in self.library.catalogue().pictured_beside(file) {
                self.one(file).await;
                if self.library.pictures.is_asked() {
                    break;
                }
            }
        }
    }

    async fn one(&mut self, file: FileId) {
        let found = self.library.catalogue().to_picture(file);
        let Some((item, located)) = found else { return };
        let stamp = present::art_stamp(&item.facts);
        if self.done.len() > MOST_DONE {
            self.done.clear();
        }
        if !self.library.pictures.has_room() || !self.done.insert((file, stamp)) {
            return;
        }
        let made = self.library.pictures.make_ahead(&self.library.files, &item, located).await;
        if made.is_err() {
            // Its drive may be back another time.
            self.done.remove(&(file, stamp));
        }
    }
}
