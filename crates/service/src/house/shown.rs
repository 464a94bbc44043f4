//! How the catalogue that everybody is shown comes from the records and changes.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use mostra_core::access::Decision;
use mostra_core::catalogue::{Change, File, Touched};
use mostra_core::present;
use mostra_protocol::wire::Service;
use mostra_store::{Counter, Loaded, RawFiles, StoreError};
use rayon::iter::{ParallelDrainRange as _, ParallelIterator as _};
use tokio::sync::mpsc;

use super::{House, Topic, UPDATE_IDS};
use crate::memory;

impl House {
    /// Loads the catalogue from the records.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer or are damaged.
    pub async fn load_catalogue(&self) -> Result<(), StoreError> {
        let loaded = self.records.load(None).await?;
        for folder in &loaded.folders {
            let serial = folder.folder.serial;
            let left = self.records.left_out(serial).await?.len() as u32;
            self.scans.note(serial, |known| {
                known.scanned = folder.scanned;
                known.excluded.clone_from(&folder.excluded);
                known.links.clone_from(&folder.links);
                known.drives.clone_from(&folder.drives);
                known.left_out = left;
            });
        }
        self.put_loaded(loaded, None).await?;
        self.loaded.send_replace(true);
        self.tell(Topic::House);
        Ok(())
    }

    /// Shows what the records hold: of all folders, or of one that is back.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer or are damaged.
    pub async fn put_loaded(&self, loaded: Loaded, only: Option<u32>) -> Result<(), StoreError> {
        let (sender, mut receiver) = mpsc::channel::<RawFiles>(16);
        let mut last_id = self.changing.lock().await;
        self.more_update_ids(&mut last_id).await?;
        let mut batch = self.catalogue().batch();
        // Reading facts and making lists go on beside fetching.
        let made = tokio::task::spawn_blocking(move || {
            let folders = loaded.folders.into_iter().flat_map(|f| {
                let links = Change::PutLinks(f.folder.serial, Arc::new(f.links));
                [Change::PutFolder(f.folder), links]
            });
            let directories = loaded.directories.into_iter().filter(|d| d.parent.is_some());
            folders.chain(directories.map(Change::PutDirectory)).for_each(|c| batch.put(c));
            let mut pieces = Vec::new();
            while receiver.blocking_recv_many(&mut pieces, 16) > 0 {
                let files = pieces.par_drain(..).map(RawFiles::read);
                let files: Vec<Vec<File>> = files.collect::<Result<_, _>>()?;
                files.into_iter().flatten().for_each(|file| batch.put(Change::PutFile(file)));
            }
            let playlists = loaded.playlists.into_iter().map(Change::PutPlaylist);
            playlists.for_each(|change| batch.put(change));
            let finished = batch.finish();
            memory::give_back();
            Ok::<_, StoreError>(finished)
        });
        self.records.files(only, &sender).await?;
        drop(sender);
        let (next, touched) = made.await.map_err(|e| StoreError::Damaged(e.to_string()))??;
        self.catalogue.store(Arc::new(next));
        drop(last_id);
        memory::give_back();
        self.tell_devices(&touched);
        self.tell(Topic::Catalogue);
        Ok(())
    }

    /// Applies changes that are already recorded, and tells devices and consoles.
    ///
    /// # Errors
    /// [`StoreError`] when new update ids had to be reserved and were not.
    pub async fn apply(&self, changes: Vec<Change>) -> Result<(), StoreError> {
        let mut last_id = self.changing.lock().await;
        self.more_update_ids(&mut last_id).await?;
        let mut next = (*self.catalogue()).clone();
        // Of many changes this takes a while; requests go on meanwhile.
        let (next, touched) = tokio::task::spawn_blocking(move || {
            let touched = next.apply(changes);
            (next, touched)
        })
        .await
        .map_err(|e| StoreError::Damaged(e.to_string()))?;
        self.catalogue.store(Arc::new(next));
        drop(last_id);
        if !touched.containers.is_empty() {
            self.changed_ms.store(crate::clock::ms(self.clock.now()), Ordering::Relaxed);
            self.tell_devices(&touched);
            self.tell(Topic::Catalogue);
        }
        Ok(())
    }

    /// Events for the admitted devices that subscribe, each with its own update ids and only
    /// the containers that it sees.
    pub(super) fn tell_devices(&self, touched: &Touched) {
        let catalogue = self.catalogue();
        let mut publisher = self.publisher();
        for source in publisher.sources(Service::ContentDirectory) {
            let Some(device) = self.devices().at(source).cloned() else { continue };
            let Decision::Admitted(pass) = device.decision() else { continue };
            let offset = device.update_offset;
            let seen = touched.containers.iter().filter(|(id, _)| catalogue.is_seen(&pass, id));
            let pairs: Vec<(String, u32)> = seen
                .flat_map(|(id, update)| {
                    let parts = present::ids_of_parts(&catalogue, &pass, id, &device.shown);
                    let ids = std::iter::once(id.clone()).chain(parts);
                    ids.map(move |id| (id, update.wrapping_add(offset)))
                })
                .collect();
            if pairs.is_empty() {
                continue;
            }
            let id = catalogue.update_id().wrapping_add(offset).to_string();
            publisher.change(Service::ContentDirectory, source, &[("SystemUpdateID", id)]);
            publisher.change_containers(source, pairs);
        }
        drop(publisher);
        self.events_due.notify_one();
    }

    pub(super) async fn more_update_ids(&self, last: &mut u32) -> Result<(), StoreError> {
        // The ids go round, so that only their distance counts.
        if last.wrapping_sub(self.catalogue().update_id()) <= 2 {
            self.records.reserve(Counter::UpdateId, UPDATE_IDS).await?;
            *last = last.wrapping_add(UPDATE_IDS);
        }
        Ok(())
    }
}
