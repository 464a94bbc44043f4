//! Recording and showing what a scan found, while it goes on.

use std::sync::Arc;

use mostra_core::catalogue::Change;
use mostra_core::ids::FolderId;
use mostra_store::{Batch, StoreError};
use tokio::sync::mpsc;

use super::ScanError;
use crate::library::Library;

/// Records batches and shows them, while the next is being gathered. What a device sees is
/// never ahead of the records.
pub(super) struct Writer {
    batches: Option<mpsc::Sender<Batch>>,
    task: tokio::task::JoinHandle<Result<(), StoreError>>,
}

impl Writer {
    pub(super) fn start(library: &Arc<Library>, folder: FolderId) -> Writer {
        let (batches, mut receiver) = mpsc::channel::<Batch>(1);
        let library = library.clone();
        let task = tokio::spawn(async move {
            // One batch is shown while the next is recorded.
            let mut showing: Option<tokio::task::JoinHandle<Result<(), StoreError>>> = None;
            while let Some(batch) = receiver.recv().await {
                library.context.records.record(folder, &batch).await?;
                if let Some(showing) = showing.take() {
                    showing.await.map_err(|e| StoreError::Damaged(e.to_string()))??;
                }
                let library = library.clone();
                showing = Some(tokio::spawn(async move { library.apply(changes(batch)).await }));
            }
            match showing {
                Some(showing) => showing.await.map_err(|e| StoreError::Damaged(e.to_string()))?,
                None => Ok(()),
            }
        });
        Writer { batches: Some(batches), task }
    }

    pub(super) async fn put(&mut self, batch: Batch) -> Result<(), ScanError> {
        if batch.is_empty() {
            return Ok(());
        }
        let sent = match &self.batches {
            Some(batches) => batches.send(batch).await.is_ok(),
            None => false,
        };
        // It listens no more only when it failed.
        if sent {
            return Ok(());
        }
        self.finish().await?;
        Err(StoreError::Damaged("its task ended early".into()).into())
    }

    pub(super) async fn finish(&mut self) -> Result<(), ScanError> {
        self.batches = None;
        Ok((&mut self.task).await??)
    }
}

fn changes(batch: Batch) -> Vec<Change> {
    let gone = batch.gone_files.into_iter().map(Change::RemoveFile);
    let lists = batch.gone_playlists.into_iter().map(Change::RemovePlaylist);
    let directories = batch.directories.into_iter().map(Change::PutDirectory);
    let files = batch.new_files.into_iter().chain(batch.files).map(Change::PutFile);
    let put_lists = batch.playlists.into_iter().map(Change::PutPlaylist);
    // A directory goes after what moved out of it.
    let gone_directories = batch.gone_directories.into_iter().map(Change::RemoveDirectory);
    let changes = gone.chain(lists).chain(directories).chain(files);
    changes.chain(put_lists).chain(gone_directories).collect()
}
