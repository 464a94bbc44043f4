//! The test pieces: made when a walkthrough first wants them, and kept. They are a folder of their own
//! in the catalogue, which only devices see that are being walked through.

use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use mostra_core::catalogue::{Change, Folder};
use mostra_core::ids::FolderId;
use mostra_core::link_rule::LinkRule;
use mostra_core::{Kind, Kinds};
use mostra_media::test_pieces::{MAIN, PIECES};
use mostra_store::{Counter, NewFolder, StoreError};

use super::Library;
use super::scan::{self, ScanScope};
use crate::context::Topic;

/// Where they lie in the service's own directory, and while they are made.
const PLACE: &str = "test-pieces";
const UNFINISHED: &str = "test-pieces-unfinished";
/// Bytes that they need, with some room.
const ROOM: u64 = 1 << 30;

/// How the test pieces stand.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TestPieceState {
    /// How many are there and shown.
    pub made: u32,
    /// The title of the one that is being made.
    pub making: Option<String>,
    /// Why some are missing, in words, with what to do.
    pub problem: Option<String>,
}

/// What is known of them, and whether they are being made.
#[derive(Debug, Default)]
pub(super) struct TestPieceMaker {
    state: Mutex<TestPieceState>,
    runs: AtomicBool,
}

impl TestPieceMaker {
    fn set(&self, set: impl FnOnce(&mut TestPieceState)) {
        set(&mut self.state.lock().unwrap_or_else(PoisonError::into_inner));
    }
}

impl Library {
    /// How the test pieces stand.
    pub fn test_pieces(&self) -> TestPieceState {
        let state = self.test_pieces.state.lock().unwrap_or_else(PoisonError::into_inner).clone();
        TestPieceState { made: self.catalogue().test_piece_files().len() as u32, ..state }
    }

    /// How many test pieces there can be.
    pub fn test_pieces_in_all(&self) -> u32 {
        if self.options.test_pieces { PIECES.len() as u32 } else { 0 }
    }

    /// The titles of the pieces to play, in the order of [`Kind::ALL`]: those that are there.
    pub fn main_pieces(&self) -> [Option<String>; 3] {
        let shown = match self.options.test_pieces {
            true => self.catalogue().test_piece_files(),
            false => Vec::new(),
        };
        Kind::ALL.map(|kind| {
            let file = MAIN[kind.index()];
            let there = shown.iter().any(|shown| shown == file);
            there.then(|| file.rsplit_once('.').map_or(file, |(title, _)| title).to_owned())
        })
    }

    fn test_piece_place(&self) -> PathBuf {
        self.data().join(PLACE)
    }

    /// Has the test pieces made that are missing, one after the other; each is shown once it is there.
    pub fn want_test_pieces(self: &Arc<Self>) {
        if !self.options.test_pieces || self.test_pieces.runs.swap(true, Ordering::SeqCst) {
            return;
        }
        let library = self.clone();
        tokio::spawn(async move {
            let problem = library.make_test_pieces().await.err();
            library.test_pieces.set(|state| {
                state.making = None;
                state.problem = problem;
            });
            library.test_pieces.runs.store(false, Ordering::SeqCst);
            library.context.changed(Topic::Devices);
        });
    }

    async fn make_test_pieces(self: &Arc<Self>) -> Result<(), String> {
        let place = self.test_piece_place();
        let unfinished = self.data().join(UNFINISHED);
        let cannot = |error: std::io::Error| {
            format!("Test pieces cannot be kept in {}: {error}", place.display())
        };
        std::fs::create_dir_all(&place).map_err(cannot)?;
        let folder = self
            .test_piece_folder()
            .await
            .map_err(|error| format!("The records do not take the test pieces: {error}"))?;
        let there = |file: &str| place.join(file).exists();
        scan::start(self, &folder, ScanScope::Whole("asked"));
        let missing: Vec<_> = PIECES.iter().filter(|piece| !there(piece.file)).collect();
        if missing.is_empty() {
            return Ok(());
        }
        if crate::preflight::free(&place).is_some_and(|free| free < ROOM) {
            return Err(format!(
                "There is too little room for the test pieces: they need 1 GB in {}.",
                place.display()
            ));
        }
        let stop = Arc::new(AtomicBool::new(false));
        let mut failed = Vec::new();
        for piece in missing {
            self.test_pieces.set(|state| state.making = Some(piece.title().to_owned()));
            self.context.changed(Topic::Devices);
            let (place, unfinished, stop_it) = (place.clone(), unfinished.clone(), stop.clone());
            let mut making =
                tokio::task::spawn_blocking(move || piece.make(&place, &unfinished, &stop_it));
            let made = tokio::select! {
                made = &mut making => made,
                () = self.context.stopping() => {
                    stop.store(true, Ordering::Relaxed);
                    making.await
                }
            };
            if stop.load(Ordering::Relaxed) {
                return Ok(());
            }
            match made {
                Ok(Ok(())) => {
                    scan::start(self, &folder, ScanScope::Whole("asked"));
                }
                Ok(Err(error)) if error.kind() == std::io::ErrorKind::NotFound => {
                    return Err("Test pieces are made by ffmpeg, which is not installed here: \
                                sudo apt install ffmpeg"
                        .to_owned());
                }
                _ => failed.push(piece.title()),
            }
        }
        if failed.is_empty() {
            return Ok(());
        }
        Err(format!("ffmpeg could not make these test pieces: {}.", failed.join("; ")))
    }

    /// The folder with the test pieces, as it is to be now.
    async fn test_piece_folder(&self) -> Result<Folder, StoreError> {
        let root = self.test_piece_place();
        let root = std::fs::canonicalize(&root).unwrap_or(root).to_string_lossy().into_owned();
        let records = &self.context.records;
        let known = self.catalogue().folder(FolderId::TEST_PIECES).cloned();
        let folder = match known {
            Some(folder) if folder.root == root => return Ok(folder),
            Some(folder) => {
                records.move_folder(folder.serial, &root).await?;
                Folder { root, ..folder }
            }
            None => {
                let container = records.reserve(Counter::Serial, 1).await?;
                let (serial, label) = (FolderId::TEST_PIECES, "Test pieces".to_owned());
                let folder = Folder { serial, label, kinds: Kinds::ALL, root, container };
                let link_rule = LinkRule::default();
                let new = NewFolder { folder: folder.clone(), link_rule, at: self.context.now() };
                records.add_folder(&new).await?;
                folder
            }
        };
        self.apply(vec![Change::PutFolder(folder.clone())]).await?;
        Ok(folder)
    }
}
