//! MPEG audio layer 3: frames and tags, by the tag library.

use std::fs::File;
use std::io::{BufReader, Seek, SeekFrom};

use lofty::config::{ParseOptions, ParsingMode};
use lofty::file::{AudioFile, TaggedFileExt};
use lofty::mpeg::MpegFile;
use lofty::prelude::ItemKey;
use lofty::probe::Probe;
use mostra_core::Kind;
use mostra_core::facts::{AudioCodec, Facts, Format};

use crate::Reason;

pub(crate) fn read(file: &mut File, size: u64, modified_ms: i64) -> Result<Facts, Reason> {
    const BROKEN: Reason = Reason::Broken("no sound frames");
    let options = ParseOptions::new().parsing_mode(ParsingMode::BestAttempt).read_cover_art(false);
    let mut reader = BufReader::new(file);
    let properties = *MpegFile::read_from(&mut reader, options).map_err(|_| BROKEN)?.properties();
    if *properties.layer() != lofty::mpeg::Layer::Layer3 || properties.sample_rate() == 0 {
        return Err(BROKEN);
    }
    reader.seek(SeekFrom::Start(0)).map_err(|_| BROKEN)?;
    let tagged =
        Probe::with_file_type(&mut reader, lofty::file::FileType::Mpeg).options(options).read();
    let tag = tagged.ok().and_then(|t| t.primary_tag().or(t.first_tag()).cloned());
    let text = |key: &ItemKey| {
        let text = tag.as_ref().and_then(|t| t.get_string(key))?.trim().to_owned();
        (!text.is_empty()).then_some(text)
    };
    let year = text(&ItemKey::RecordingDate).or_else(|| text(&ItemKey::Year));
    Ok(Facts {
        title: text(&ItemKey::TrackTitle),
        artist: text(&ItemKey::TrackArtist),
        album: text(&ItemKey::AlbumTitle),
        date: year.and_then(|y| iso_date(&y)),
        duration_ms: Some(properties.duration().as_millis() as u64).filter(|d| *d > 0),
        bit_rate: Some(properties.audio_bitrate() * 1000).filter(|b| *b > 0),
        audio: Some(AudioCodec {
            name: "mp3".into(),
            sample_rate: Some(properties.sample_rate()),
            channels: Some(u32::from(properties.channels())).filter(|c| *c > 0),
        }),
        media: Some((id3_length(&mut reader, size), size)),
        ..Facts::bare(Kind::Music, Format::Mp3, size, modified_ms)
    })
}

/// A year or a date as ISO 8601; a year alone becomes its first day (CDS-15).
fn iso_date(text: &str) -> Option<String> {
    let bytes = text.as_bytes();
    let year = bytes.get(..4)?.iter().all(u8::is_ascii_digit);
    if !year {
        return None;
    }
    let full = bytes.len() >= 10
        && bytes[4] == b'-'
        && bytes[7] == b'-'
        && [5, 6, 8, 9].iter().all(|n| bytes[*n].is_ascii_digit());
    Some(if full { text[..10].to_owned() } else { format!("{}-01-01", &text[..4]) })
}

/// Bytes of the ID3v2 tag at the start, where there is one.
fn id3_length(reader: &mut (impl std::io::Read + Seek), size: u64) -> u64 {
    let mut head = [0; 10];
    let read = reader.seek(SeekFrom::Start(0)).and_then(|_| reader.read_exact(&mut head));
    if read.is_err() || &head[..3] != b"ID3" {
        return 0;
    }
    let length = head[6..].iter().fold(0u64, |sum, byte| sum << 7 | u64::from(byte & 0x7f));
    (length + 10).min(size)
}
