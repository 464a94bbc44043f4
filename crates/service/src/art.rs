//! Pictures of things, made once when somebody asks for them and kept in the data directory.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::SystemTime;

use bytes::Bytes;
use mostra_core::catalogue::{ItemView, Located};
use mostra_core::present;
use mostra_core::profile::Rendition;
use mostra_media::art::{Source, make};
use mostra_media::open::open;

use crate::lanes::Lanes;

/// How long making one may take, with a picture taken from a film on a slow drive.
const MAKING: std::time::Duration = std::time::Duration::from_secs(40);

/// Bytes of pictures kept at most.
const KEPT: u64 = 512 << 20;

/// Where pictures are kept.
#[derive(Debug)]
pub struct Art {
    directory: PathBuf,
    /// Bytes kept, as far as known.
    kept: AtomicU64,
    /// One maker for each picture, however many ask for it.
    making: Mutex<HashMap<PathBuf, Arc<tokio::sync::Mutex<()>>>>,
}

impl Art {
    /// Pictures are kept in `art` below the data directory.
    pub fn new(data: &Path) -> Art {
        let directory = data.join("art");
        let kept = files(&directory).iter().map(|(_, size, _)| size).sum();
        Art { directory, kept: AtomicU64::new(kept), making: Mutex::default() }
    }

    /// The picture of an item as JPEG; `None` where it has none that can be read.
    ///
    /// # Errors
    /// When the item cannot be opened for now.
    pub async fn of(
        &self,
        lanes: &Lanes,
        item: &ItemView,
        located: Located,
        rendition: Rendition,
    ) -> io::Result<Option<Bytes>> {
        let stamp = present::art_stamp(&item.facts);
        let name = format!("{:x}-{stamp:x}-{}.jpg", item.serial, rendition.word());
        // A few hundred directories, so that none grows large.
        let path = self.directory.join(format!("{:02x}", item.serial % 256)).join(name);
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
        let lane = lanes.of(&located.beyond_links());
        // Opened before its turn comes: a drive that hangs is to hold up no other pictures.
        let opened = lane.run(move || {
            let beside: Option<File> =
                facts.art.as_ref().and_then(|name| open(&located.beside(name)).ok());
            Ok(Source::of(&facts, open(&located)?, beside))
        });
        let source = opened.await?;
        let _turn = lane.makers.acquire().await.map_err(io::Error::other)?;
        let made = lane.run_within(MAKING, move || {
            let jpeg = make(source, rendition).unwrap_or_default();
            // An empty file says that there is none, so that it is not tried again.
            keep(&path, &jpeg)?;
            Ok(jpeg)
        });
        let jpeg = made.await?;
        let all = self.kept.fetch_add(jpeg.len() as u64, Ordering::Relaxed) + jpeg.len() as u64;
        if all > KEPT {
            self.tidy().await;
        }
        Ok(Some(Bytes::from(jpeg)).filter(|b| !b.is_empty()))
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
