//! Pictures other than baseline JPEG, and what cameras write into all of them.

use std::io::{BufReader, Read, Seek, SeekFrom};

use exif::{Exif, In, Reader, Tag, Value};
use mostra_core::Kind;
use mostra_core::date::Date;
use mostra_core::facts::Facts;
use mostra_core::format::Format;

use crate::part_reader::PartReader;
use mostra_core::left_out::Reason;

/// Bytes in which a picture's size must be found.
const HEAD: u64 = 256 << 10;

pub(crate) fn read(file: &mut PartReader, facts: Facts) -> Result<Facts, Reason> {
    let mut head = Vec::new();
    file.by_ref().take(HEAD).read_to_end(&mut head).map_err(|e| crate::unreadable(&e))?;
    let size = imagesize::blob_size(&head).map_err(|_| Reason::damaged("no picture header"))?;
    let (Ok(width), Ok(height)) = (u32::try_from(size.width), u32::try_from(size.height)) else {
        return Err(Reason::damaged("no picture header"));
    };
    if width == 0 || height == 0 {
        return Err(Reason::damaged("no picture header"));
    }
    if facts.format == Format::Png && !is_whole_png(file, facts.size) {
        return Err(Reason::damaged("the file is incomplete (cut off)"));
    }
    let facts = Facts { kind: Kind::Picture, resolution: Some((width, height)), ..facts };
    Ok(if facts.format == Format::Gif {
        Facts { frame_rate_milli: animation(file), ..facts }
    } else {
        with_any_exif(file, facts)
    })
}

/// Whether the last chunk of a PNG is there; what some programs write behind it is small.
fn is_whole_png(file: &mut PartReader, size: u64) -> bool {
    let mut tail = Vec::new();
    let from = SeekFrom::Start(size.saturating_sub(64 << 10));
    file.seek(from).is_ok()
        && file.read_to_end(&mut tail).is_ok()
        && tail.windows(8).any(|chunk| chunk == b"IEND\xae\x42\x60\x82")
}

/// Bytes in which the second picture of a GIF must begin.
const FIRST_PICTURE: u64 = 32 << 20;

/// Pictures in 1000 seconds of a GIF that moves; `None` of one that has a single picture (GIF89a,
/// 18 to 26).
fn animation(file: &mut PartReader) -> Option<u32> {
    file.rewind().ok()?;
    let mut reader = BufReader::new(file.take(FIRST_PICTURE));
    let mut head = [0; 13];
    reader.read_exact(&mut head).ok()?;
    let table = |flags: u8| if flags & 0x80 != 0 { 3 << ((flags & 7) + 1) } else { 0_u64 };
    skip(&mut reader, table(head[10]))?;
    let (mut pictures, mut hundredths) = (0, 0);
    loop {
        match byte(&mut reader)? {
            0x21 => {
                if byte(&mut reader)? == 0xf9 {
                    // Length, flags, and how long the picture stands.
                    let mut control = [0; 4];
                    reader.read_exact(&mut control).ok()?;
                    hundredths = u16::from_le_bytes([control[2], control[3]]);
                    skip(&mut reader, u64::from(control[0]).checked_sub(3)?)?;
                }
                skip_blocks(&mut reader)?;
            }
            0x2c => {
                pictures += 1;
                if pictures == 2 {
                    // Players take a time of none for a tenth of a second.
                    let hundredths = if hundredths == 0 { 10 } else { u32::from(hundredths) };
                    return Some(100_000 / hundredths);
                }
                let mut descriptor = [0; 9];
                reader.read_exact(&mut descriptor).ok()?;
                skip(&mut reader, table(descriptor[8]) + 1)?;
                skip_blocks(&mut reader)?;
            }
            _ => return None,
        }
    }
}

fn byte(reader: &mut impl Read) -> Option<u8> {
    let mut byte = [0];
    reader.read_exact(&mut byte).ok()?;
    Some(byte[0])
}

fn skip(reader: &mut impl Read, count: u64) -> Option<()> {
    let skipped = std::io::copy(&mut reader.take(count), &mut std::io::sink()).ok()?;
    (skipped == count).then_some(())
}

fn skip_blocks(reader: &mut impl Read) -> Option<()> {
    loop {
        match byte(reader)? {
            0 => return Some(()),
            length => skip(reader, u64::from(length))?,
        }
    }
}

/// Adds what a camera wrote into a picture other than JPEG, which may keep it anywhere.
fn with_any_exif(file: &mut PartReader, facts: Facts) -> Facts {
    let mut bytes = Vec::new();
    if file.rewind().and_then(|()| file.take(4 << 20).read_to_end(&mut bytes)).is_err() {
        return facts;
    }
    told(reader().read_from_container(&mut std::io::Cursor::new(&bytes)), facts)
}

/// Adds what Exif tells. Broken Exif adds nothing and harms nothing.
pub(crate) fn with_exif(exif: Vec<u8>, facts: Facts) -> Facts {
    told(reader().read_raw(exif), facts)
}

fn reader() -> Reader {
    let mut reader = Reader::new();
    reader.continue_on_error(true);
    reader
}

fn told(read: Result<Exif, exif::Error>, mut facts: Facts) -> Facts {
    let Ok(exif) = read.or_else(|e| e.distill_partial_result(|_| {})) else { return facts };
    let text = |tag: Tag| {
        let field = exif.get_field(tag, In::PRIMARY)?;
        let Value::Ascii(lines) = &field.value else { return None };
        let text = String::from_utf8_lossy(lines.first()?).trim_matches(['\0', ' ']).to_owned();
        (!text.is_empty()).then_some(text)
    };
    let taken = text(Tag::DateTimeOriginal).or_else(|| text(Tag::DateTime));
    facts.date = taken.and_then(|t| Date::parse(&t)).map(|date| {
        let offset = text(Tag::OffsetTimeOriginal).or_else(|| text(Tag::OffsetTime));
        offset.map_or(date, |offset| date.with_offset(&offset))
    });
    let orientation = exif.get_field(Tag::Orientation, In::PRIMARY);
    facts.orientation = orientation
        .and_then(|f| f.value.get_uint(0))
        .and_then(|n| u8::try_from(n).ok())
        .filter(|n| (1..=8).contains(n));
    facts.camera = match (text(Tag::Make), text(Tag::Model)) {
        (Some(make), Some(model)) if !model.starts_with(&make) => Some(format!("{make} {model}")),
        (make, model) => model.or(make),
    };
    facts.camera = facts.camera.map(|c| c.chars().take(100).collect());
    facts
}
