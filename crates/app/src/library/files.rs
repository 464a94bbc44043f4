//! Opening the files that the catalogue located, and reading them in pieces.

use std::fs::{File, Metadata};
use std::io;
use std::os::unix::fs::{FileExt, MetadataExt};
use std::sync::Arc;

use bytes::Bytes;
use futures_util::{Stream, stream};
use mostra_core::catalogue::Located;
use mostra_protocol::Moment;
use mostra_protocol::server::conditions::Validators;

use super::volume_pool::{VolumePool, VolumePools};
use crate::streams::Transfer;

/// Bytes read at a time: what one stream holds in memory.
const CHUNK: u64 = 128 << 10;

/// Access to the files of published folders.
#[derive(Debug, Default)]
pub struct Files {
    pub(super) volumes: Arc<VolumePools>,
}

/// A file that was opened.
#[derive(Debug)]
pub struct OpenedResource {
    /// The file.
    pub file: File,
    /// What the system says of it.
    pub metadata: Metadata,
    /// The pool of its volume.
    pub pool: Arc<VolumePool>,
}

/// A piece of an open file that is to be sent.
#[derive(Debug)]
pub struct ResourcePart {
    /// The file.
    pub opened: OpenedResource,
    /// Where the piece begins.
    pub first: u64,
    /// Its bytes.
    pub length: u64,
    /// Whether each two bytes change places, counted from the beginning of the file.
    pub swapped: bool,
    /// Where it is noted what becomes of them.
    pub transfer: Option<Arc<Transfer>>,
}

impl Files {
    /// Opens a located file.
    ///
    /// # Errors
    /// Those of opening; `TimedOut` when its volume does not answer.
    pub async fn open(&self, located: Located) -> io::Result<OpenedResource> {
        let pool = self.volumes.of(&located.beyond_links());
        let open = move || {
            let file = mostra_media::open::open(&located)?;
            let metadata = file.metadata()?;
            Ok((file, metadata))
        };
        let (file, metadata) = pool.run(open).await?;
        Ok(OpenedResource { file, metadata, pool })
    }

    /// Reads a whole small file.
    ///
    /// # Errors
    /// Those of opening and reading, and for a file of more than `most` bytes.
    pub async fn read_small(&self, located: Located, most: u64) -> io::Result<Vec<u8>> {
        let pool = self.volumes.of(&located.beyond_links());
        let read = move || {
            let file = mostra_media::open::open(&located)?;
            let mut bytes = Vec::new();
            io::Read::read_to_end(&mut io::Read::take(file, most + 1), &mut bytes)?;
            if bytes.len() as u64 > most {
                return Err(io::Error::new(io::ErrorKind::InvalidData, "too large"));
            }
            Ok(bytes)
        };
        pool.run(read).await
    }
}

impl OpenedResource {
    /// What tells one state of the file from another: size, time and inode (HTTP-3).
    pub fn validators(&self) -> Validators {
        let metadata = &self.metadata;
        let nanos = metadata.mtime_nsec().max(0) as u64;
        let (size, seconds) = (metadata.len(), metadata.mtime());
        let etag = format!("\"{size:x}-{seconds:x}-{nanos:x}-{:x}\"", metadata.ino());
        Validators { etag, modified: Some(Moment::from_secs(seconds.max(0) as u64)) }
    }
}

/// What is left to read of a piece.
struct PartReading {
    file: Arc<File>,
    pool: Arc<VolumePool>,
    swapped: bool,
    at: u64,
    left: u64,
    watched: TransferGuard,
}

/// Tells the transfer that the rest was given up, when it is.
struct TransferGuard(Option<Arc<Transfer>>);

impl Drop for TransferGuard {
    fn drop(&mut self) {
        if let Some(transfer) = &self.0 {
            transfer.drop_rest();
        }
    }
}

impl ResourcePart {
    /// The bytes, one chunk at a time: a client that pauses holds no thread.
    pub fn chunks(self) -> impl Stream<Item = io::Result<Bytes>> {
        let ResourcePart { opened, first, length, swapped, transfer } = self;
        let OpenedResource { file, pool, .. } = opened;
        let (file, watched) = (Arc::new(file), TransferGuard(transfer));
        let reading = PartReading { file, pool, swapped, at: first, left: length, watched };
        stream::try_unfold(reading, |mut reading| async move {
            if reading.left == 0 {
                return Ok(None);
            }
            let (at, length) = (reading.at, reading.left.min(CHUNK));
            let (file, swapped) = (reading.file.clone(), reading.swapped);
            let read = move || match swapped {
                false => read(&file, at, length as usize),
                true => read_swapped(&file, at, length as usize),
            };
            let bytes = reading.pool.run(read).await?;
            reading.at += length;
            reading.left -= length;
            if reading.left == 0
                && let Some(transfer) = &reading.watched.0
            {
                transfer.hand_over();
            }
            Ok(Some((bytes, reading)))
        })
    }
}

/// The same with each two bytes exchanged, of which `at` may be the second.
fn read_swapped(file: &File, at: u64, length: usize) -> io::Result<Bytes> {
    let before = (at % 2) as usize;
    let mut bytes =
        Vec::from(read(file, at - before as u64, (before + length).next_multiple_of(2))?);
    for pair in bytes.chunks_exact_mut(2) {
        pair.swap(0, 1);
    }
    Ok(Bytes::from(bytes).slice(before..before + length))
}

fn read(file: &File, at: u64, length: usize) -> io::Result<Bytes> {
    let mut buffer = vec![0; length];
    let mut filled = 0;
    while filled < length {
        match file.read_at(&mut buffer[filled..], at + filled as u64)? {
            // The file became shorter: the connection closes before the promised length
            // (HTTP-38).
            0 => return Err(io::ErrorKind::UnexpectedEof.into()),
            n => filled += n,
        }
    }
    Ok(buffer.into())
}
