//! JPEG: size and form from the frame header, the date from Exif.

use std::fs::File;
use std::io::{BufReader, Read, Seek, SeekFrom};

use mostra_core::Kind;
use mostra_core::facts::{Facts, Format};

use crate::Reason;

const BROKEN: Reason = Reason::Broken("no picture header");

pub(crate) fn read(file: &mut File, size: u64, modified_ms: i64) -> Result<Facts, Reason> {
    let mut reader = BufReader::new(file);
    let mut start = [0; 2];
    reader.read_exact(&mut start).map_err(|_| BROKEN)?;
    if start != [0xff, 0xd8] {
        return Err(BROKEN);
    }
    let mut date = None;
    // A picture has a few dozen segments; a thousand is somebody's joke.
    for _ in 0..1000 {
        let (marker, length) = segment(&mut reader)?;
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
                return Ok(Facts {
                    resolution: Some((width, height)),
                    date,
                    ..Facts::bare(Kind::Picture, format, size, modified_ms)
                });
            }
            0xe1 => {
                let mut data = vec![0; length as usize];
                reader.read_exact(&mut data).map_err(|_| BROKEN)?;
                date = date.or_else(|| exif_date(&data));
            }
            // Start of scan or end of image before any frame header.
            0xda | 0xd9 => return Err(BROKEN),
            _ => {
                reader.seek(SeekFrom::Current(i64::from(length))).map_err(|_| BROKEN)?;
            }
        }
    }
    Err(BROKEN)
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

/// DateTimeOriginal of an Exif segment as ISO 8601. Broken Exif gives no date and no error.
fn exif_date(data: &[u8]) -> Option<String> {
    let tiff = data.strip_prefix(b"Exif\0\0")?;
    let little = match tiff.get(..2)? {
        b"II" => true,
        b"MM" => false,
        _ => return None,
    };
    let u16_at = |at: usize| {
        let bytes: [u8; 2] = tiff.get(at..at.checked_add(2)?)?.try_into().ok()?;
        Some(if little { u16::from_le_bytes(bytes) } else { u16::from_be_bytes(bytes) })
    };
    let u32_at = |at: usize| {
        let bytes: [u8; 4] = tiff.get(at..at.checked_add(4)?)?.try_into().ok()?;
        Some(if little { u32::from_le_bytes(bytes) } else { u32::from_be_bytes(bytes) })
    };
    let find = |directory: usize, tag: u16| {
        let count = usize::from(u16_at(directory)?).min(200);
        let entry =
            (0..count).map(|n| directory + 2 + 12 * n).find(|at| u16_at(*at) == Some(tag))?;
        u32_at(entry + 8)
    };
    let exif = find(u32_at(4)? as usize, 0x8769)? as usize;
    let text = tiff.get(find(exif, 0x9003)? as usize..)?.get(..19)?;
    let text = std::str::from_utf8(text).ok()?;
    // "2024:06:01 05:12:30"
    let digits = text.bytes().enumerate().all(|(n, b)| match n {
        4 | 7 | 13 | 16 => b == b':',
        10 => b == b' ',
        _ => b.is_ascii_digit(),
    });
    (digits && !text.starts_with("0000"))
        .then(|| format!("{}-{}-{}T{}", &text[..4], &text[5..7], &text[8..10], &text[11..]))
}
