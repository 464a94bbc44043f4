//! How the catalogue that everybody is shown comes from the records and changes.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use arc_swap::ArcSwap;
use mostra_core::catalogue::{Catalogue, CatalogueOptions, Change, File, Touched};
use mostra_core::ids::{FolderId, UpdateId};
use mostra_media::mounts::Mounts;
use mostra_store::{Counter, Loaded, RawFiles, StoreError};
use rayon::iter::{ParallelDrainRange as _, ParallelIterator as _};
use tokio::sync::{mpsc, watch};

use super::Library;
use crate::context::Topic;
use crate::memory;

/// Update ids taken from the counter at a time.
pub(super) const UPDATE_IDS: u32 = 100_000;

/// The catalogue that everybody is shown.
#[derive(Debug)]
pub struct SharedCatalogue {
    current: ArcSwap<Catalogue>,
    loaded: watch::Sender<bool>,
    changed_ms: AtomicU64,
}

impl SharedCatalogue {
    /// Shows a catalogue whose folders are not loaded yet.
    pub fn new(catalogue: Catalogue) -> SharedCatalogue {
        SharedCatalogue {
            current: ArcSwap::from_pointee(catalogue),
            loaded: watch::channel(false).0,
            changed_ms: AtomicU64::new(0),
        }
    }

    /// The catalogue as it is now.
    pub fn get(&self) -> Arc<Catalogue> {
        self.current.load_full()
    }

    fn set(&self, next: Catalogue) {
        self.current.store(Arc::new(next));
    }

    /// Whether it is loaded from the records.
    pub fn is_loaded(&self) -> bool {
        *self.loaded.borrow()
    }

    /// Waits a little for it to be loaded; gives whether it is.
    pub async fn loaded_soon(&self) -> bool {
        let mut loaded = self.loaded.subscribe();
        let wait = loaded.wait_for(|loaded| *loaded);
        tokio::time::timeout(Duration::from_secs(10), wait).await.is_ok()
    }

    /// When it last changed, Unix milliseconds.
    pub fn changed_ms(&self) -> Option<u64> {
        Some(self.changed_ms.load(Ordering::Relaxed)).filter(|ms| *ms > 0)
    }
}

impl Library {
    /// Loads the catalogue from the records.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer or are damaged.
    pub async fn load(&self) -> Result<(), StoreError> {
        let loaded = self.context.records.load(None).await?;
        let mounts = Mounts::read();
        for folder in &loaded.folders {
            let serial = folder.folder.serial;
            let left = self.context.records.left_out(serial).await?.len() as u32;
            self.scans.note(serial, |known| {
                known.scanned = folder.scanned;
                known.excluded.clone_from(&folder.excluded);
                known.link_rule = folder.link_rule;
                known.links.clone_from(&folder.links);
                let root = Path::new(&folder.folder.root);
                let renamed = |drives| mounts.renamed(drives, root, &folder.links);
                known.drives = folder.drives.as_ref().map(renamed);
                known.left_out = left;
            });
        }
        self.put_loaded(loaded, None).await?;
        if !self.options.test_pieces && self.catalogue().folder(FolderId::TEST_PIECES).is_some() {
            // They stay in the records, for when they are switched on again.
            self.apply(vec![Change::RemoveFolder(FolderId::TEST_PIECES)]).await?;
        }
        self.catalogue.loaded.send_replace(true);
        self.context.changed(Topic::House);
        Ok(())
    }

    /// Shows what the records hold: of all folders, or of one that is back.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer or are damaged.
    pub async fn put_loaded(
        &self,
        loaded: Loaded,
        only: Option<FolderId>,
    ) -> Result<(), StoreError> {
        let (sender, mut receiver) = mpsc::channel::<RawFiles>(16);
        let mut last_id = self.changing.lock().await;
        self.more_update_ids(&mut last_id).await?;
        let mut batch = self.catalogue().batch();
        // Reading facts and making lists go on beside fetching.
        let records = self.context.records.clone();
        let made = tokio::task::spawn_blocking(move || {
            let folders = loaded.folders.into_iter().flat_map(|f| {
                let links = Change::PutLinks(f.folder.serial, Arc::new(f.links));
                [Change::PutFolder(f.folder), links]
            });
            let directories = loaded.directories.into_iter().filter(|d| d.parent.is_some());
            folders.chain(directories.map(Change::PutDirectory)).for_each(|c| batch.put(c));
            let mut pieces = Vec::new();
            while receiver.blocking_recv_many(&mut pieces, 16) > 0 {
                let files = pieces.par_drain(..).map(|piece| piece.read(&records));
                let files: Vec<Vec<File>> = files.collect::<Result<_, _>>()?;
                files.into_iter().flatten().for_each(|file| batch.put(Change::PutFile(file)));
            }
            let playlists = loaded.playlists.into_iter().map(Change::PutPlaylist);
            playlists.for_each(|change| batch.put(change));
            let finished = batch.finish();
            memory::give_back();
            Ok::<_, StoreError>(finished)
        });
        self.context.records.files(only, &sender).await?;
        drop(sender);
        let (next, touched) = made.await.map_err(|e| StoreError::Damaged(e.to_string()))??;
        self.catalogue.set(next);
        drop(last_id);
        memory::give_back();
        self.devices.tell_all(&touched);
        self.context.changed(Topic::Catalogue);
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
        self.catalogue.set(next);
        drop(last_id);
        if !touched.containers.is_empty() {
            // That test pieces come is no change of what people published.
            let of_people = |folder: &FolderId| *folder != FolderId::TEST_PIECES;
            if touched.folders.is_empty() || touched.folders.iter().any(of_people) {
                self.note_change();
            }
            self.devices.tell_all(&touched);
            self.context.changed(Topic::Catalogue);
        }
        Ok(())
    }

    fn note_change(&self) {
        let now = crate::clock::ms(self.context.now());
        self.catalogue.changed_ms.store(now, Ordering::Relaxed);
    }

    /// Changes how the catalogue is made, durably.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn change_options(&self, options: CatalogueOptions) -> Result<(), StoreError> {
        if options == *self.catalogue().options() {
            return Ok(());
        }
        let mimes = serde_json::to_string(&options.mimes)
            .map_err(|e| StoreError::Damaged(e.to_string()))?;
        let records = &self.context.records;
        let settings = [
            ("titles", options.titles.word()),
            ("picture_order", options.pictures.word()),
            ("locale", options.locale.word()),
            ("mimes", &mimes),
        ];
        records.set_settings(&settings).await?;
        let mut last_id = self.changing.lock().await;
        self.more_update_ids(&mut last_id).await?;
        let before = self.catalogue();
        // A million files take seconds; requests go on meanwhile.
        let next = tokio::task::spawn_blocking(move || before.with_options(options))
            .await
            .map_err(|e| StoreError::Damaged(e.to_string()))?;
        self.catalogue.set(next);
        drop(last_id);
        let touched = Touched {
            containers: vec![("0".into(), self.catalogue().update_id())],
            folders: Default::default(),
        };
        self.note_change();
        self.devices.tell_all(&touched);
        self.context.changed(Topic::Catalogue);
        self.context.changed(Topic::House);
        Ok(())
    }

    async fn more_update_ids(&self, last: &mut UpdateId) -> Result<(), StoreError> {
        // The ids go round, so that only their distance counts.
        if last.since(self.catalogue().update_id()) <= 2 {
            self.context.records.reserve(Counter::UpdateId, UPDATE_IDS).await?;
            *last = last.plus(UPDATE_IDS);
        }
        Ok(())
    }
}
