//! The records saved as files: by night and when somebody asks, checked, and restored.

mod archive;
mod error;
mod pending;

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use mostra_core::saving::{self, FORMAT, Manifest, SavedBecause};
use mostra_protocol::Moment;
use mostra_store::{RowsError, Tried, known_schemas};

pub use archive::ArchiveError;
pub use error::SavingError;
pub use pending::{Restored, restore_pending};

use crate::clock::{Clock, ms};
use crate::context::{Context, Topic};

/// What is being done with saved records.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Doing {
    /// They are saved.
    Saving,
    /// They are checked.
    Checking,
    /// They are made ready to be restored.
    Restoring,
    /// They come from elsewhere.
    Receiving,
}

/// A file of saved records.
#[derive(Debug, Clone)]
pub struct Saved {
    /// Its name.
    pub name: String,
    /// Its bytes.
    pub bytes: u64,
    /// What it says of itself.
    pub manifest: Manifest,
    /// When it was checked since the start of the service, and what was wrong.
    pub checked: Option<(Moment, Option<String>)>,
}

#[derive(Debug, Default)]
struct WorkState {
    doing: Option<(Doing, Moment)>,
    /// What went wrong last, and when.
    problem: Option<(Moment, String)>,
    checked: BTreeMap<String, (Moment, Option<String>)>,
}

/// The files of saved records, below the data directory.
pub struct RecordFiles {
    context: Context,
    data: PathBuf,
    databases: RecordDatabases,
    state: Mutex<WorkState>,
}

/// Where the records are, and where files of them are tried.
#[derive(Debug, Clone)]
pub struct RecordDatabases {
    /// The URL of the records.
    pub records: String,
    /// The URL of a database in which files are tried, as a role that has no right elsewhere.
    pub check: String,
}

impl RecordDatabases {
    /// Tries a file out, and compares what came with what its manifest says.
    ///
    /// # Errors
    /// [`SavingError`].
    async fn try_out(&self, rows: &Path, manifest: &Manifest) -> Result<Tried, SavingError> {
        let RecordDatabases { records, check } = self;
        let tried = mostra_store::try_out(records, check, rows, &manifest.schema).await?;
        for (table, restored) in &tried.counts {
            let saved = manifest.count(table);
            if saved != *restored {
                let (table, restored) = (table.clone(), *restored);
                return Err(SavingError::Counts { table, saved, restored });
            }
        }
        Ok(tried)
    }
}

/// Where they are, below the data directory.
const PLACE: &str = "saved";

/// That something is being done; nothing else meanwhile.
pub struct Turn<'a>(&'a RecordFiles);

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        self.0.state().doing = None;
        self.0.context.changed(Topic::House);
    }
}

impl RecordFiles {
    /// Of a house with this data directory and these databases.
    pub fn new(context: Context, data: &Path, databases: RecordDatabases) -> RecordFiles {
        RecordFiles { context, data: data.to_owned(), databases, state: Mutex::default() }
    }

    /// Removes what a service that was killed left half done.
    pub fn tidy(&self) {
        for entry in std::fs::read_dir(self.place()).into_iter().flatten().flatten() {
            if entry.path().extension().is_some_and(|extension| extension == "part") {
                let _ = std::fs::remove_file(entry.path());
            }
        }
    }

    fn state(&self) -> MutexGuard<'_, WorkState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn place(&self) -> PathBuf {
        self.data.join(PLACE)
    }

    fn turn(&self, doing: Doing) -> Result<Turn<'_>, SavingError> {
        let mut state = self.state();
        if state.doing.is_some() {
            return Err(SavingError::Busy);
        }
        state.doing = Some((doing, Clock::wall()));
        drop(state);
        self.context.changed(Topic::House);
        Ok(Turn(self))
    }

    /// What is being done, and since when.
    pub fn doing(&self) -> Option<(Doing, Moment)> {
        self.state().doing
    }

    /// What went wrong last, and when.
    pub fn problem(&self) -> Option<(Moment, String)> {
        self.state().problem.clone()
    }

    /// What the last restoring did.
    pub fn restored(&self) -> Option<Restored> {
        pending::outcome(&self.data)
    }

    /// All files, the newest first.
    pub async fn list(&self) -> Vec<Saved> {
        let place = self.place();
        let found = tokio::task::spawn_blocking(move || found_in(&place)).await;
        let mut all = found.unwrap_or_default();
        let state = self.state();
        for saved in &mut all {
            saved.checked = state.checked.get(&saved.name).cloned();
        }
        all
    }

    /// One file.
    ///
    /// # Errors
    /// [`SavingError::Missing`] when there is none of that name.
    pub async fn get(&self, name: &str) -> Result<Saved, SavingError> {
        let all = self.list().await;
        all.into_iter().find(|saved| saved.name == name).ok_or(SavingError::Missing)
    }

    /// Where a file is.
    ///
    /// # Errors
    /// [`SavingError::Missing`] for what is no name of one.
    pub fn path(&self, name: &str) -> Result<PathBuf, SavingError> {
        let path = self.place().join(name);
        if saving::is_name(name) && path.is_file() { Ok(path) } else { Err(SavingError::Missing) }
    }

    /// Removes a file.
    ///
    /// # Errors
    /// [`SavingError::Missing`], or those of the disk.
    pub fn remove(&self, name: &str) -> Result<(), SavingError> {
        std::fs::remove_file(self.path(name)?)?;
        self.context.changed(Topic::House);
        Ok(())
    }

    /// Saves the records. Older files go.
    ///
    /// # Errors
    /// [`SavingError`]; it is kept as the problem of the last save as well.
    pub async fn save(&self, because: SavedBecause) -> Result<Saved, SavingError> {
        let turn = self.turn(Doing::Saving)?;
        let outcome = self.save_now(because).await;
        drop(turn);
        self.note(&outcome);
        outcome
    }

    fn note<T>(&self, outcome: &Result<T, SavingError>) {
        let problem = outcome.as_ref().err().map(|error| (Clock::wall(), error.to_string()));
        if let Some((_, why)) = &problem {
            tracing::warn!("the records were not saved: {why}");
        }
        self.state().problem = problem;
        self.context.changed(Topic::House);
    }

    async fn save_now(&self, because: SavedBecause) -> Result<Saved, SavingError> {
        let place = self.place();
        std::fs::create_dir_all(&place)?;
        self.make_sure_of_room(None)?;
        let snapshot = self.context.records.snapshot().await?;
        let made_ms = ms(Clock::wall());
        let manifest = Manifest {
            format: FORMAT,
            version: env!("CARGO_PKG_VERSION").into(),
            schema: snapshot.schema.clone(),
            made_ms,
            because,
            house: self.context.records.setting("name").await?.unwrap_or_default(),
            counts: snapshot.counts.clone(),
            folders: snapshot.folders.clone(),
            bytes: 0,
            sha256: String::new(),
        };
        let name = format!("records-{made_ms}-{}.tar", because.word());
        // `mostrad save` may be at it as well.
        let own = |word: &str| place.join(format!("{word}-{}.part", std::process::id()));
        let (rows, part) = (own("rows"), own("tar"));
        let taken = snapshot.write(&rows).await;
        let (whole, of) = (place.join(&name), part.clone());
        let from = rows.clone();
        let written = match taken {
            Err(error) => Err(error.into()),
            Ok(()) => {
                blocking(move || {
                    let manifest = archive::write(manifest, &from, &of)?;
                    std::fs::rename(&of, &whole)?;
                    Ok((manifest, std::fs::metadata(&whole)?.len()))
                })
                .await
            }
        };
        let _ = std::fs::remove_file(&rows);
        let _ = std::fs::remove_file(&part);
        let (manifest, bytes) = written?;
        remove_outdated(&place, &name);
        tracing::info!(name, bytes, "the records are saved");
        Ok(Saved { name, bytes, manifest, checked: None })
    }

    /// Whether the disk has room for one more file of `bytes`, or like the last one.
    ///
    /// # Errors
    /// [`SavingError::Room`].
    pub fn make_sure_of_room(&self, bytes: Option<u64>) -> Result<(), SavingError> {
        let place = self.place();
        std::fs::create_dir_all(&place)?;
        let last = bytes.or_else(|| found_in(&place).first().map(|saved| saved.bytes));
        let needed = saving::room_needed(last);
        let disk = nix::sys::statvfs::statvfs(&place).map_err(io::Error::from)?;
        let free = disk.blocks_available() * disk.fragment_size();
        if free < needed {
            return Err(SavingError::Room { place, free, needed });
        }
        Ok(())
    }

    /// Tries a file out, and compares what came with what was saved. Gives the names of the accounts
    /// that it brings.
    ///
    /// # Errors
    /// [`SavingError`], which is noted of the file as well.
    pub async fn check(&self, name: &str) -> Result<Vec<String>, SavingError> {
        let path = self.path(name)?;
        let _turn = self.turn(Doing::Checking)?;
        let outcome = self.check_now(path).await;
        let problem = outcome.as_ref().err().map(ToString::to_string);
        // What could not be tried says nothing of the file.
        let told = !matches!(
            outcome,
            Err(SavingError::Rows(RowsError::NoCheckRole(_)) | SavingError::Store(_))
        );
        if told {
            self.state().checked.insert(name.to_owned(), (Clock::wall(), problem));
        }
        outcome
    }

    async fn check_now(&self, path: PathBuf) -> Result<Vec<String>, SavingError> {
        let rows = self.place().join("check.part");
        let to = rows.clone();
        let outcome = async {
            let manifest =
                blocking(move || Ok(archive::extract(&path, &known_schemas(), Some(&to))?)).await?;
            Ok(self.databases.try_out(&rows, &manifest).await?.accounts)
        };
        let outcome = outcome.await;
        let _ = std::fs::remove_file(&rows);
        outcome
    }

    /// Where a file that comes from elsewhere is written, one at a time.
    ///
    /// # Errors
    /// [`SavingError::Busy`], or those of the disk.
    pub fn incoming(&self) -> Result<(PathBuf, Turn<'_>), SavingError> {
        let turn = self.turn(Doing::Receiving)?;
        std::fs::create_dir_all(self.place())?;
        Ok((self.place().join("incoming.part"), turn))
    }

    /// Takes a file that came from elsewhere among the others, once it is checked.
    ///
    /// # Errors
    /// [`SavingError`] when it is none; the file goes then.
    pub async fn take_in(&self, incoming: PathBuf) -> Result<Saved, SavingError> {
        let place = self.place();
        let path = incoming.clone();
        let taken = blocking(move || {
            let manifest = archive::extract(&path, &known_schemas(), None)?;
            let bytes = std::fs::metadata(&path)?.len();
            let name = format!("records-{}-{}.tar", manifest.made_ms, manifest.because.word());
            std::fs::rename(&path, place.join(&name))?;
            remove_outdated(&place, &name);
            Ok(Saved { name, bytes, manifest, checked: None })
        });
        let taken = taken.await;
        let _ = std::fs::remove_file(incoming);
        self.context.changed(Topic::House);
        taken
    }

    /// Makes a file ready to be restored when the service starts next, once it was tried out; what is
    /// here is saved before. Gives the names of the accounts that it brings.
    ///
    /// # Errors
    /// [`SavingError`]; nothing is restored then.
    pub async fn prepare_restore(&self, name: &str) -> Result<Vec<String>, SavingError> {
        let path = self.path(name)?;
        let _turn = self.turn(Doing::Restoring)?;
        let bytes = std::fs::metadata(&path)?.len();
        self.make_sure_of_room(Some(bytes))?;
        let data = self.data.clone();
        let (rows, manifest) = blocking(move || {
            pending::prepare(&data, |to| archive::extract(&path, &known_schemas(), Some(to)))
        })
        .await?;
        let tried = self.databases.try_out(&rows, &manifest).await;
        let tried = tried.inspect_err(|_| drop(std::fs::remove_file(&rows)))?;
        pending::note(&self.data, name, &manifest, tried.accounts.clone())?;
        if !self.is_bare().await? {
            self.save_now(SavedBecause::BeforeRestore).await?;
        }
        pending::decide(&self.data)?;
        Ok(tried.accounts)
    }

    /// Restores a file at once, while no service runs; what is here is saved before.
    ///
    /// # Errors
    /// [`SavingError`]; the records are as before then.
    pub async fn restore_now(&self, file: &Path) -> Result<(Manifest, Tried), SavingError> {
        std::fs::create_dir_all(self.place())?;
        let (rows, of) = (self.place().join("now.part"), file.to_owned());
        let to = rows.clone();
        let known = known_schemas();
        let manifest = blocking(move || Ok(archive::extract(&of, &known, Some(&to))?)).await?;
        let restored = async {
            let tried = self.databases.try_out(&rows, &manifest).await?;
            if !self.is_bare().await? {
                self.save_now(SavedBecause::BeforeRestore).await?;
            }
            mostra_store::restore(&self.databases.records, &rows, &manifest.schema).await?;
            Ok::<_, SavingError>(tried)
        };
        let restored = restored.await;
        let _ = std::fs::remove_file(&rows);
        let tried = restored?;
        crate::not_saved::supersede(&self.data);
        Ok((manifest, tried))
    }

    /// Whether the house has nothing that restoring would take away.
    ///
    /// # Errors
    /// Those of the records.
    pub async fn is_bare(&self) -> Result<bool, SavingError> {
        let counts = self.counts().await?;
        Ok(["folder", "device"].iter().all(|table| counts.get(*table).is_none_or(|n| *n == 0)))
    }

    /// Rows of each table now.
    ///
    /// # Errors
    /// Those of the records.
    pub async fn counts(&self) -> Result<BTreeMap<String, u64>, SavingError> {
        Ok(self.context.records.snapshot().await?.counts)
    }

    /// Saves the records by itself when that is due, until the house stops. `hour` is that of the
    /// day here.
    pub async fn keep(self: Arc<Self>, hour: fn() -> u32) {
        let mut look = tokio::time::interval(Duration::from_secs(60));
        look.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut tried: Option<u64> = None;
        loop {
            tokio::select! {
                _ = look.tick() => {}
                () = self.context.stopping() => return,
            }
            let now = ms(Clock::wall());
            // What fails is not tried each minute.
            if tried.is_some_and(|tried| now.abs_diff(tried) < 3_600_000) {
                continue;
            }
            let saved = self.list().await.into_iter().map(|saved| saved.manifest.made_ms);
            if saving::is_due(saved, ms(self.context.clock.origin()), now, hour()) {
                tried = Some(now);
                let _ = self.save(SavedBecause::Nightly).await;
            }
        }
    }
}

async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, SavingError> + Send + 'static,
) -> Result<T, SavingError> {
    tokio::task::spawn_blocking(work).await.map_err(io::Error::other)?
}

/// Removes the files that are too many, but never the one that came last.
fn remove_outdated(place: &Path, last: &str) {
    let all = found_in(place).into_iter();
    let all = all.map(|saved| (saved.name, saved.manifest.because, saved.manifest.made_ms));
    for old in saving::outdated(all.collect()).into_iter().filter(|name| name != last) {
        let _ = std::fs::remove_file(place.join(old));
    }
}

/// The files in a directory, the newest first. What cannot be read is none.
fn found_in(place: &Path) -> Vec<Saved> {
    let mut all = Vec::new();
    for entry in std::fs::read_dir(place).into_iter().flatten().flatten() {
        let Ok(name) = entry.file_name().into_string() else { continue };
        if !saving::is_name(&name) {
            continue;
        }
        if let (Ok(manifest), Ok(metadata)) = (archive::manifest(&entry.path()), entry.metadata()) {
            all.push(Saved { name, bytes: metadata.len(), manifest, checked: None });
        }
    }
    all.sort_by_key(|saved| std::cmp::Reverse(saved.manifest.made_ms));
    all
}
