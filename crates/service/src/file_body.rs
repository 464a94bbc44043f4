//! A piece of a file as an answer's body, and what tells its states apart.

use std::fs::{File, Metadata};
use std::future::Future;
use std::io;
use std::os::unix::fs::{FileExt, MetadataExt};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use actix_web::body::{BodySize, MessageBody};
use bytes::Bytes;
use mostra_core::catalogue::Located;
use mostra_protocol::conditions::Validators;

use crate::lanes::{Lane, Lanes};
use crate::transfers::Transfer;

/// Bytes read at a time: what one stream holds in memory.
const CHUNK: u64 = 128 << 10;

/// A piece of an open file. Reading happens on the blocking pool, one piece at a time, so a
/// client that pauses holds no thread.
pub struct FileBody {
    file: Arc<File>,
    lane: Arc<Lane>,
    at: u64,
    left: u64,
    length: u64,
    reading: Option<Pin<Box<dyn Future<Output = io::Result<Bytes>>>>>,
    transfer: Option<Arc<Transfer>>,
}

/// A piece of an open file that is to be sent.
pub struct Piece {
    /// The file.
    pub opened: Opened,
    /// Where the piece begins.
    pub first: u64,
    /// Its bytes.
    pub length: u64,
    /// What is told what becomes of them.
    pub transfer: Option<Arc<Transfer>>,
}

impl FileBody {
    /// A piece as a body.
    pub fn new(piece: Piece) -> FileBody {
        let Piece { opened: Opened { file, lane, .. }, first, length, transfer } = piece;
        let file = Arc::new(file);
        FileBody { file, lane, at: first, left: length, length, reading: None, transfer }
    }
}

/// A file that was opened.
pub struct Opened {
    /// The file.
    pub file: File,
    /// What the system says of it.
    pub metadata: Metadata,
    /// The lane of its drive.
    pub lane: Arc<Lane>,
}

/// Opens a located file.
///
/// # Errors
/// Those of opening; `TimedOut` when its drive does not answer.
pub async fn open(lanes: &Lanes, located: Located) -> io::Result<Opened> {
    let lane = lanes.of(&located.beyond_links());
    let open = move || {
        let file = mostra_media::open::open(&located)?;
        let metadata = file.metadata()?;
        Ok((file, metadata))
    };
    let (file, metadata) = lane.run(open).await?;
    Ok(Opened { file, metadata, lane })
}

/// Reads a whole small file.
///
/// # Errors
/// Those of opening and reading, and for a file of more than `most` bytes.
pub async fn read_small(lanes: &Lanes, located: Located, most: u64) -> io::Result<Vec<u8>> {
    let lane = lanes.of(&located.beyond_links());
    let read = move || {
        let file = mostra_media::open::open(&located)?;
        let mut bytes = Vec::new();
        io::Read::read_to_end(&mut io::Read::take(file, most + 1), &mut bytes)?;
        if bytes.len() as u64 > most {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "too large"));
        }
        Ok(bytes)
    };
    lane.run(read).await
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

impl MessageBody for FileBody {
    type Error = io::Error;

    fn size(&self) -> BodySize {
        BodySize::Sized(self.length)
    }

    fn poll_next(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<io::Result<Bytes>>> {
        if self.left == 0 {
            return Poll::Ready(None);
        }
        let (at, length) = (self.at, self.left.min(CHUNK));
        let (file, lane) = (self.file.clone(), self.lane.clone());
        let reading = self.reading.get_or_insert_with(|| {
            Box::pin(async move { lane.run(move || read(&file, at, length as usize)).await })
        });
        let outcome = ready!(reading.as_mut().poll(context));
        self.reading = None;
        let bytes = outcome?;
        self.at += length;
        self.left -= length;
        if self.left == 0
            && let Some(transfer) = &self.transfer
        {
            transfer.hand_over();
        }
        Poll::Ready(Some(Ok(bytes)))
    }
}

impl Drop for FileBody {
    fn drop(&mut self) {
        if let Some(transfer) = &self.transfer {
            transfer.drop_rest();
        }
    }
}

/// What tells one state of a file from another: size, time and inode (HTTP-3).
pub fn validators(metadata: &Metadata) -> Validators {
    let nanos = metadata.mtime_nsec().max(0) as u64;
    let etag =
        format!("\"{:x}-{:x}-{:x}-{:x}\"", metadata.len(), metadata.mtime(), nanos, metadata.ino());
    Validators { etag, modified: Some(Duration::from_secs(metadata.mtime().max(0) as u64)) }
}
