//! Pictures of things, made once and kept in the data directory: when somebody asks for them, or
//! [ahead](super::pictures_ahead).

use std::collections::{HashMap, VecDeque};
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use bytes::Bytes;
use mostra_core::catalogue::{ItemView, Located};
use mostra_core::ids::FileId;
use mostra_core::present;
use mostra_core::profile::Rendition;
use mostra_media::art::{Made, PictureSource, Priority, make_apart};
use mostra_media::open::open;
use tokio::sync::{Notify, Semaphore};

use super::files::Files;
use super::volume_pool::Work;

/// Bytes of pictures kept at most, and those up to which they are made ahead.
const KEPT: u64 = 2 << 30;
const KEPT_AHEAD: u64 = KEPT / 4 * 3;
/// Items whose picture somebody asked for last, of which the neighbours are made.
const ASKED: usize = 16;

/// Makes pictures and keeps them.
#[derive(Debug)]
pub struct Pictures {
    directory: PathBuf,
    /// Bytes kept, as far as known.
    kept: AtomicU64,
    /// One maker for each picture, however many ask for it.
    making: Mutex<HashMap<PathBuf, Arc<tokio::sync::Mutex<()>>>>,
    /// Processes that make pictures, of all drives together: each takes a processor and, for a
    /// large picture, much memory.
    makers: Arc<Semaphore>,
    /// When making a picture last took too long.
    late: Mutex<HashMap<PathBuf, Instant>>,
    /// The items whose picture had to be made as somebody asked for it, the last one first.
    asked: Mutex<VecDeque<FileId>>,
    /// Woken when one is asked for.
    pub(super) wanted: Notify,
}

/// Where the pictures of an item are kept.
struct PicturePath(PathBuf);

impl PicturePath {
    fn of(&self, rendition: Rendition) -> PathBuf {
        let mut path = self.0.clone().into_os_string();
        path.push(format!("-{}.jpg", rendition.word()));
        path.into()
    }

    /// A picture that is kept; an empty one says that there is none.
    async fn kept(&self, rendition: Rendition) -> io::Result<Option<Bytes>> {
        match tokio::fs::read(self.of(rendition)).await {
            Ok(bytes) => Ok(Some(Bytes::from(bytes))),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// Keeps what was made, and gives how many bytes that is.
    fn keep(&self, made: &[(Rendition, Vec<u8>)]) -> io::Result<u64> {
        for (rendition, jpeg) in made {
            keep(&self.of(*rendition), jpeg)?;
        }
        Ok(made.iter().map(|(_, jpeg)| jpeg.len() as u64).sum())
    }
}

/// Processes that make pictures at a time, of which one drive has at most two.
const MAKERS: usize = 3;
/// For how long a picture that took too long is not tried again, and how many are remembered.
const LATER: Duration = Duration::from_secs(600);
const LATE: usize = 1000;

impl Pictures {
    /// Pictures are kept in `art` below the data directory.
    pub fn new(data: &Path) -> Pictures {
        let directory = data.join("art");
        let kept = files(&directory).iter().map(|(_, size, _)| size).sum();
        Pictures {
            directory,
            kept: AtomicU64::new(kept),
            making: Mutex::default(),
            makers: Arc::new(Semaphore::new(MAKERS)),
            late: Mutex::default(),
            asked: Mutex::default(),
            wanted: Notify::new(),
        }
    }

    fn place(&self, item: &ItemView) -> PicturePath {
        let name = format!("{:x}-{:x}", item.serial.0, present::art_stamp(&item.facts));
        // A few hundred directories, so that none grows large.
        PicturePath(self.directory.join(format!("{:02x}", item.serial.0 % 256)).join(name))
    }

    /// The picture of an item as JPEG; `None` where it has none that can be read.
    ///
    /// # Errors
    /// When the item cannot be opened for now.
    pub async fn of(
        &self,
        files: &Files,
        item: &ItemView,
        located: Located,
        rendition: Rendition,
    ) -> io::Result<Option<Bytes>> {
        let place = self.place(item);
        if let Some(found) = place.kept(rendition).await? {
            return Ok(Some(found).filter(|b| !b.is_empty()));
        }
        self.note_asked(item.serial);
        self.make(files, item, located, &place, rendition, Priority::Usual).await
    }

    /// Makes all pictures of an item that are not kept yet, with low priority.
    ///
    /// # Errors
    /// When the item cannot be opened for now.
    pub(super) async fn make_ahead(
        &self,
        files: &Files,
        item: &ItemView,
        located: Located,
    ) -> io::Result<()> {
        let place = self.place(item);
        for rendition in Rendition::ALL.into_iter().rev() {
            if place.kept(rendition).await?.is_none() {
                let low = Priority::Low;
                self.make(files, item, located.clone(), &place, rendition, low).await?;
            }
        }
        Ok(())
    }

    /// Whether more pictures are to be made ahead.
    pub(super) fn has_room(&self) -> bool {
        self.kept.load(Ordering::Relaxed) < KEPT_AHEAD
    }

    fn note_asked(&self, file: FileId) {
        let mut asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        asked.retain(|other| *other != file);
        asked.push_front(file);
        asked.truncate(ASKED);
        drop(asked);
        self.wanted.notify_one();
    }

    /// The item whose picture was asked for last.
    pub(super) fn take_asked(&self) -> Option<FileId> {
        self.asked.lock().unwrap_or_else(PoisonError::into_inner).pop_front()
    }

    /// Whether a picture was asked for that nobody has taken up.
    pub(super) fn is_asked(&self) -> bool {
        !self.asked.lock().unwrap_or_else(PoisonError::into_inner).is_empty()
    }

    async fn make(
        &self,
        files: &Files,
        item: &ItemView,
        located: Located,
        place: &PicturePath,
        rendition: Rendition,
        priority: Priority,
    ) -> io::Result<Option<Bytes>> {
        let maker = {
            let mut making = self.making.lock().unwrap_or_else(PoisonError::into_inner);
            making.retain(|_, maker| Arc::strong_count(maker) > 1);
            making.entry(place.0.clone()).or_default().clone()
        };
        let _only = maker.lock().await;
        if let Some(found) = place.kept(rendition).await? {
            return Ok(Some(found).filter(|b| !b.is_empty()));
        }
        let facts = item.facts.clone();
        let pool = files.volumes.of(&located.beyond_links());
        // Opened before its turn comes: a drive that hangs is to hold up no other pictures.
        let opened = pool.run(move || {
            let beside: Option<File> =
                facts.art.as_ref().and_then(|name| open(&located.beside(name)).ok());
            Ok(PictureSource::of(&facts, open(&located)?, beside))
        });
        let source = opened.await?;
        let took_long = || io::Error::new(io::ErrorKind::TimedOut, "making it took too long");
        if self.late().get(&place.0).is_some_and(|at| at.elapsed() < LATER) {
            return Err(took_long());
        }
        // Both are kept until the process has gone, which on a drive that hangs may be never.
        let turn = pool.makers.clone().acquire_owned().await.map_err(io::Error::other)?;
        let all = self.makers.clone().acquire_owned().await.map_err(io::Error::other)?;
        // Not on the drive's own threads: that a large picture takes its time says nothing of
        // the drive, and whoever streams from it must not notice.
        let making = {
            let (place, time) = (PicturePath(place.0.clone()), Work::Picture.deadline());
            tokio::task::spawn_blocking(move || {
                let made = match make_apart(source, rendition, priority, time, (turn, all)) {
                    Made::Pictures(made) => made,
                    // Empty files say that there is none, so that it is not tried again.
                    Made::None => Rendition::ALL.map(|one| (one, Vec::new())).into(),
                    Made::Late => return Ok(None),
                };
                let bytes = place.keep(&made)?;
                let jpeg = made.into_iter().find(|(one, _)| *one == rendition);
                io::Result::Ok(Some((jpeg.map(|(_, jpeg)| jpeg).unwrap_or_default(), bytes)))
            })
        };
        let Some((jpeg, bytes)) = making.await.map_err(io::Error::other)?? else {
            let mut late = self.late();
            late.retain(|_, at| at.elapsed() < LATER);
            if late.len() < LATE {
                late.insert(place.0.clone(), Instant::now());
            }
            return Err(took_long());
        };
        if self.kept.fetch_add(bytes, Ordering::Relaxed) + bytes > KEPT {
            self.tidy().await;
        }
        Ok(Some(Bytes::from(jpeg)).filter(|b| !b.is_empty()))
    }

    fn late(&self) -> MutexGuard<'_, HashMap<PathBuf, Instant>> {
        self.late.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Removes the oldest pictures until half is free, so that there is room again to make some
    /// ahead.
    async fn tidy(&self) {
        let directory = self.directory.clone();
        let left = tokio::task::spawn_blocking(move || {
            let mut all = files(&directory);
            all.sort_by_key(|(_, _, made)| *made);
            let mut total: u64 = all.iter().map(|(_, size, _)| size).sum();
            for (path, size, _) in all {
                if total <= KEPT / 2 {
                    break;
                }
                if std::fs::remove_file(path).is_ok() {
                    total -= size;
                }
            }
            total
        });
        if let Ok(left) = left.await {
            self.kept.store(left, Ordering::Relaxed);
        }
    }
}

/// Writes whole or not at all.
fn keep(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let around = path.parent().unwrap_or(Path::new("."));
    std::fs::create_dir_all(around)?;
    let begun = path.with_extension("part");
    std::fs::write(&begun, bytes)?;
    std::fs::rename(begun, path)
}

fn files(directory: &Path) -> Vec<(PathBuf, u64, SystemTime)> {
    let inside = |path: &Path| std::fs::read_dir(path).into_iter().flatten().flatten();
    inside(directory)
        .flat_map(|around| inside(&around.path()).collect::<Vec<_>>())
        .filter_map(|entry| {
            let metadata = entry.metadata().ok()?;
            Some((entry.path(), metadata.len(), metadata.modified().ok()?))
        })
        .collect()
}
