//! JPEG: size and form from the frame header.

use std::io::{Read, Seek, SeekFrom};

use mostra_core::Kind;
use mostra_core::facts::Facts;
use mostra_core::format::Format;

use crate::part_reader::PartReader;
use crate::picture;
use mostra_core::left_out::Reason;

const BROKEN: Reason = Reason::damaged("no picture header");
const CUT_OFF: Reason = Reason::damaged("the file is incomplete (cut off)");

/// Facts of a JPEG file; its format tells baseline from the rest.
pub(crate) fn read(file: &mut PartReader, facts: Facts) -> Result<Facts, Reason> {
    let (format, resolution, exif) = frame(file)?;
    if !is_whole(file, facts.size) {
        return Err(CUT_OFF);
    }
    let facts = Facts { kind: Kind::Picture, format, resolution: Some(resolution), ..facts };
    Ok(match exif {
        Some(exif) => picture::with_exif(exif, facts),
        None => facts,
    })
}

/// What comes before Exif in its segment.
const EXIF: &[u8] = b"Exif\0\0";

/// Format, size, and what cameras wrote before it.
type Frame = (Format, (u32, u32), Option<Vec<u8>>);

fn frame(reader: &mut PartReader) -> Result<Frame, Reason> {
    let mut exif = None;
    let mut start = [0; 2];
    reader.read_exact(&mut start).map_err(|_| BROKEN)?;
    if start != [0xff, 0xd8] {
        return Err(BROKEN);
    }
    // A picture has a few dozen segments; a thousand is somebody's joke.
    for _ in 0..1000 {
        let (marker, length) = segment(reader)?;
        match marker {
            // SOF0 to SOF15, without DHT, JPG and DAC.
            0xc0..=0xcf if !matches!(marker, 0xc4 | 0xc8 | 0xcc) => {
                let mut frame = [0; 6];
                reader.read_exact(&mut frame).map_err(|_| BROKEN)?;
                let [depth, h1, h2, w1, w2, components] = frame;
                let (width, height) =
                    (u32::from_be_bytes([0, 0, w1, w2]), u32::from_be_bytes([0, 0, h1, h2]));
                if width == 0 || height == 0 {
                    return Err(BROKEN);
                }
                let baseline = marker == 0xc0 && depth == 8 && matches!(components, 1 | 3);
                let format = if baseline { Format::Jpeg } else { Format::JpegOther };
                return Ok((format, (width, height), exif));
            }
            // Start of scan or end of image before any frame header.
            0xda | 0xd9 => return Err(BROKEN),
            0xe1 if exif.is_none() => {
                let mut first = [0; EXIF.len()];
                let first = &mut first[..EXIF.len().min(length.into())];
                reader.read_exact(first).map_err(|_| BROKEN)?;
                let mut rest = vec![0; usize::from(length) - first.len()];
                reader.read_exact(&mut rest).map_err(|_| BROKEN)?;
                exif = (first == EXIF).then_some(rest);
            }
            _ => {
                reader.seek(SeekFrom::Current(i64::from(length))).map_err(|_| BROKEN)?;
            }
        }
    }
    Err(BROKEN)
}

/// Bytes before the end of a file in which the end of its picture is looked for first.
const TAIL: u64 = 4 << 10;
/// Bytes of picture data that are looked through for their end, where something else follows it.
const MOST: u64 = 64 << 20;

/// Whether the picture's data end in the file. `reader` stands in the frame header.
fn is_whole(reader: &mut PartReader, size: u64) -> bool {
    let Ok(begin) = reader.stream_position() else { return false };
    let from = begin.max(size.saturating_sub(TAIL));
    let mut tail = Vec::new();
    let read = reader.seek(SeekFrom::Start(from)).and_then(|_| reader.read_to_end(&mut tail));
    if read.is_err() {
        return false;
    }
    if tail.windows(2).any(|two| two == [0xff, 0xd9]) {
        return true;
    }
    // Cameras write films and previews behind the picture. Inside its data no other byte than zero
    // and the numbers of restarts follows FF.
    let mut data = reader.take(MOST);
    if data.get_mut().seek(SeekFrom::Start(begin)).is_err() {
        return false;
    }
    let (mut piece, mut last) = (vec![0; 64 << 10], 0);
    let mut looked = 0;
    loop {
        match data.read(&mut piece) {
            Ok(0) => return looked >= MOST,
            Ok(count) => {
                let found = piece[..count].windows(2).any(|two| two == [0xff, 0xd9]);
                if found || (last, piece[0]) == (0xff, 0xd9) {
                    return true;
                }
                last = piece[count - 1];
                looked += count as u64;
            }
            Err(_) => return false,
        }
    }
}

/// The next segment's marker and the length of its data.
fn segment(reader: &mut impl Read) -> Result<(u8, u16), Reason> {
    let mut byte = [0; 1];
    reader.read_exact(&mut byte).map_err(|_| BROKEN)?;
    if byte[0] != 0xff {
        return Err(BROKEN);
    }
    // Any number of fill bytes may stand before the marker.
    for _ in 0..64 {
        reader.read_exact(&mut byte).map_err(|_| BROKEN)?;
        if byte[0] != 0xff {
            let mut length = [0; 2];
            reader.read_exact(&mut length).map_err(|_| BROKEN)?;
            let length = u16::from_be_bytes(length).checked_sub(2).ok_or(BROKEN)?;
            return Ok((byte[0], length));
        }
    }
    Err(BROKEN)
}
