//! The file of rows: compressed, and in it pieces, each a letter, its length in four bytes, and its
//! bytes. `T` is a table with its columns as JSON, `R` some of its rows in PostgreSQL's text form for
//! COPY, `E` the end.

use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Write};
use std::path::Path;

use flate2::Compression;
use flate2::read::GzDecoder;
use flate2::write::GzEncoder;
use serde::{Deserialize, Serialize};
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

/// Bytes of rows that are gathered into one piece.
pub(super) const GATHERED: usize = 256 << 10;
/// Bytes of one piece at most: a row is never split, and one has at most a few megabytes.
const PIECE: usize = 64 << 20;
/// Bytes of a table's name and columns at most.
const HEAD: usize = 64 << 10;
/// How many times its own length a file may unpack to, beyond what any file may.
const UNPACKED: u64 = 64;
const UNPACKED_ALWAYS: u64 = 64 << 20;

/// A part of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Piece {
    /// A table, of which rows follow.
    Table { table: String, columns: Vec<String> },
    /// Whole rows.
    Rows(Vec<u8>),
    /// There is no more.
    End,
}

/// Why a file was not written or read.
#[derive(Debug)]
pub(super) enum RowFileError {
    Io(io::Error),
    Unfit(&'static str),
}

impl From<io::Error> for RowFileError {
    fn from(error: io::Error) -> RowFileError {
        RowFileError::Io(error)
    }
}

#[derive(Serialize, Deserialize)]
struct Head {
    table: String,
    columns: Vec<String>,
}

/// Writes the pieces that are sent, on a thread of its own.
pub(super) fn write(to: &Path) -> (mpsc::Sender<Piece>, JoinHandle<Result<(), RowFileError>>) {
    let (sender, mut pieces) = mpsc::channel(4);
    let to = to.to_owned();
    let writing = tokio::task::spawn_blocking(move || {
        let file = BufWriter::new(new_file(&to)?);
        // Little is gained by trying harder, and a million items should not take minutes.
        let mut packed = GzEncoder::new(file, Compression::fast());
        while let Some(piece) = pieces.blocking_recv() {
            write_piece(&mut packed, &piece)?;
        }
        packed.finish()?.into_inner().map_err(io::IntoInnerError::into_error)?.sync_all()?;
        Ok(())
    });
    (sender, writing)
}

/// A file for its owner only.
fn new_file(path: &Path) -> io::Result<File> {
    use std::os::unix::fs::OpenOptionsExt as _;
    let _ = std::fs::remove_file(path);
    File::options().write(true).create_new(true).mode(0o600).open(path)
}

fn write_piece(to: &mut impl Write, piece: &Piece) -> io::Result<()> {
    let head;
    let (letter, bytes): (u8, &[u8]) = match piece {
        Piece::Table { table, columns } => {
            let named = Head { table: table.clone(), columns: columns.clone() };
            head = serde_json::to_vec(&named)?;
            (b'T', &head)
        }
        Piece::Rows(rows) => (b'R', rows),
        Piece::End => (b'E', &[]),
    };
    let length = u32::try_from(bytes.len()).map_err(io::Error::other)?;
    to.write_all(&[letter])?;
    to.write_all(&length.to_be_bytes())?;
    to.write_all(bytes)
}

/// Reads a file on a thread of its own. What comes is in order; an error is the last.
pub(super) fn read(from: &Path) -> mpsc::Receiver<Result<Piece, RowFileError>> {
    let (sender, pieces) = mpsc::channel(4);
    let from = from.to_owned();
    tokio::task::spawn_blocking(move || {
        let opened = File::open(from).and_then(|file| {
            let most = file.metadata()?.len().saturating_mul(UNPACKED) + UNPACKED_ALWAYS;
            Ok(GzDecoder::new(BufReader::new(file)).take(most))
        });
        let mut unpacked = match opened {
            Ok(unpacked) => unpacked,
            Err(error) => {
                let _ = sender.blocking_send(Err(error.into()));
                return;
            }
        };
        loop {
            let piece = read_piece(&mut unpacked);
            let last = !matches!(piece, Ok(Piece::Table { .. } | Piece::Rows(_)));
            if sender.blocking_send(piece).is_err() || last {
                return;
            }
        }
    });
    pieces
}

fn read_piece(from: &mut impl Read) -> Result<Piece, RowFileError> {
    let cut = |error: io::Error| match error.kind() {
        io::ErrorKind::UnexpectedEof | io::ErrorKind::InvalidInput | io::ErrorKind::InvalidData => {
            RowFileError::Unfit("it is cut off or damaged")
        }
        _ => RowFileError::Io(error),
    };
    let mut head = [0; 5];
    from.read_exact(&mut head).map_err(cut)?;
    let length = u32::from_be_bytes([head[1], head[2], head[3], head[4]]) as usize;
    let most = match head[0] {
        b'T' => HEAD,
        b'R' => PIECE,
        b'E' => 0,
        _ => return Err(RowFileError::Unfit("it is none of rows")),
    };
    if length > most {
        return Err(RowFileError::Unfit("a part of it is too long"));
    }
    let mut bytes = Vec::new();
    from.take(length as u64).read_to_end(&mut bytes).map_err(cut)?;
    if bytes.len() < length {
        return Err(RowFileError::Unfit("it is cut off or damaged"));
    }
    match head[0] {
        b'T' => {
            let Head { table, columns } = serde_json::from_slice(&bytes)
                .map_err(|_| RowFileError::Unfit("a table's name does not read"))?;
            Ok(Piece::Table { table, columns })
        }
        b'R' => Ok(Piece::Rows(bytes)),
        _ => Ok(Piece::End),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn some() -> Vec<Piece> {
        let table =
            Piece::Table { table: "file".into(), columns: vec!["id".into(), "name".into()] };
        vec![
            table,
            Piece::Rows(b"1\ta\n".repeat(1000)),
            Piece::Rows(b"2\tb\n".to_vec()),
            Piece::End,
        ]
    }

    async fn written(path: &Path, all: Vec<Piece>) {
        let (sender, writing) = write(path);
        for piece in all {
            sender.send(piece).await.unwrap();
        }
        drop(sender);
        writing.await.unwrap().unwrap();
    }

    async fn all_of(path: &Path) -> Result<Vec<Piece>, String> {
        let mut pieces = read(path);
        let mut all = Vec::new();
        while let Some(piece) = pieces.recv().await {
            all.push(piece.map_err(|error| format!("{error:?}"))?);
        }
        Ok(all)
    }

    #[tokio::test]
    async fn what_is_written_reads_back_and_what_is_cut_off_does_not() {
        let place = tempfile::tempdir().unwrap();
        let path = place.path().join("rows");
        written(&path, some()).await;
        assert_eq!(all_of(&path).await.unwrap(), some());
        let whole = std::fs::read(&path).unwrap();
        for cut in [0, 1, 10, whole.len() / 2] {
            std::fs::write(&path, &whole[..cut]).unwrap();
            assert!(all_of(&path).await.is_err(), "{cut} bytes");
        }
        std::fs::write(&path, b"no rows at all, and not even packed").unwrap();
        assert!(all_of(&path).await.is_err());
    }

    #[tokio::test]
    async fn a_small_file_does_not_unpack_to_a_large_one() {
        let place = tempfile::tempdir().unwrap();
        let path = place.path().join("rows");
        let much = std::iter::repeat_n(Piece::Rows(vec![b'a'; 1 << 20]), 200);
        written(&path, much.chain([Piece::End]).collect()).await;
        let mut pieces = read(&path);
        let mut unpacked = 0;
        while let Some(Ok(Piece::Rows(rows))) = pieces.recv().await {
            unpacked += rows.len() as u64;
        }
        let length = std::fs::metadata(&path).unwrap().len();
        assert!(unpacked <= length * UNPACKED + UNPACKED_ALWAYS, "{length} became {unpacked}");
        assert!(unpacked < 150 << 20);
    }

    #[test]
    fn a_length_is_believed_only_as_far_as_there_are_bytes() {
        let mut long: &[u8] = b"R\x03\xff\xff\xffonly this";
        assert!(matches!(read_piece(&mut long), Err(RowFileError::Unfit(_))));
        let mut longer: &[u8] = b"R\xff\xff\xff\xff";
        assert!(matches!(read_piece(&mut longer), Err(RowFileError::Unfit(_))));
        let mut other: &[u8] = b"SELECT 1;";
        assert!(matches!(read_piece(&mut other), Err(RowFileError::Unfit(_))));
    }
}
