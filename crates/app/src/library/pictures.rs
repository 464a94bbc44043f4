//! Pictures of things, made once when somebody asks for them and kept in the data directory.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use bytes::Bytes;
use mostra_core::catalogue::{ItemView, Located};
use mostra_core::present;
use mostra_core::profile::Rendition;
use mostra_media::art::{Made, PictureSource, make_apart};
use mostra_media::open::open;
use tokio::sync::Semaphore;

use super::files::Files;
use super::volume_pool::Work;

/// Bytes of pictures kept at most.
const KEPT: u64 = 512 << 20;

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
        }
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
        let stamp = present::art_stamp(&item.facts);
        let name = format!("{:x}-{stamp:x}-{}.jpg", item.serial.0, rendition.word());
        // A few hundred directories, so that none grows large.
        let path = self.directory.join(format!("{:02x}", item.serial.0 % 256)).join(name);
        if let Some(found) = kept(path.clone()).await? {
            return Ok(Some(found).filter(|b| !b.is_empty()));
        }
        let maker = {
            let mut making = self.making.lock().unwrap_or_else(PoisonError::into_inner);
            making.retain(|_, maker| Arc::strong_count(maker) > 1);
            making.entry(path.clone()).or_default().clone()
        };
        let _only = maker.lock().await;
        if let Some(found) = kept(path.clone()).await? {
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
        if self.late().get(&path).is_some_and(|at| at.elapsed() < LATER) {
            return Err(took_long());
        }
        // Both are kept until the process has gone, which on a drive that hangs may be never.
        let turn = pool.makers.clone().acquire_owned().await.map_err(io::Error::other)?;
        let all = self.makers.clone().acquire_owned().await.map_err(io::Error::other)?;
        // Not on the drive's own threads: that a large picture takes its time says nothing of
        // the drive, and whoever streams from it must not notice.
        let making = {
            let (path, time) = (path.clone(), Work::Picture.deadline());
            tokio::task::spawn_blocking(move || {
                let jpeg = match make_apart(source, rendition, time, (turn, all)) {
                    Made::Picture(jpeg) => jpeg,
                    Made::None => Vec::new(),
                    Made::Late => return Ok(None),
                };
                // An empty file says that there is none, so that it is not tried again.
                keep(&path, &jpeg)?;
                io::Result::Ok(Some(jpeg))
            })
        };
        let Some(jpeg) = making.await.map_err(io::Error::other)?? else {
            let mut late = self.late();
            late.retain(|_, at| at.elapsed() < LATER);
            if late.len() < LATE {
                late.insert(path, Instant::now());
            }
            return Err(took_long());
        };
        let all = self.kept.fetch_add(jpeg.len() as u64, Ordering::Relaxed) + jpeg.len() as u64;
        if all > KEPT {
            self.tidy().await;
        }
        Ok(Some(Bytes::from(jpeg)).filter(|b| !b.is_empty()))
    }

    fn late(&self) -> MutexGuard<'_, HashMap<PathBuf, Instant>> {
        self.late.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Removes the oldest pictures until a tenth is free.
    async fn tidy(&self) {
        let directory = self.directory.clone();
        let left = tokio::task::spawn_blocking(move || {
            let mut all = files(&directory);
            all.sort_by_key(|(_, _, made)| *made);
            let mut total: u64 = all.iter().map(|(_, size, _)| size).sum();
            for (path, size, _) in all {
                if total <= KEPT / 10 * 9 {
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

async fn kept(path: PathBuf) -> io::Result<Option<Bytes>> {
    match tokio::fs::read(path).await {
        Ok(bytes) => Ok(Some(Bytes::from(bytes))),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
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
