//! Sound files: frames and tags, by the tag library.

use std::io::{Read, Seek, SeekFrom};

use lofty::config::{ParseOptions, ParsingMode};
use lofty::file::{AudioFile, FileType, TaggedFile, TaggedFileExt};
use lofty::mpeg::MpegFile;
use lofty::probe::Probe;
use lofty::properties::FileProperties;
use mostra_core::Kind;
use mostra_core::facts::{AudioTrack, Facts};
use mostra_core::format::Format;

use crate::part_reader::PartReader;
use crate::samples;
use crate::tags::Words;
use mostra_core::left_out::Reason;

const BROKEN: Reason = Reason::damaged("no sound in it that can be read");

/// Reads sound of a codec, and its tags.
pub(crate) fn read(file: &mut PartReader, facts: Facts, codec: &str) -> Result<Facts, Reason> {
    let kind = FileType::from_ext(facts.format.extension()).ok_or(BROKEN)?;
    if kind == FileType::Mpeg {
        let found = mpeg(file)?;
        let media = Some((id3_length(file, facts.size), facts.size));
        let facts = with_sound(Facts { media, ..facts }, &(*found.properties()).into(), codec)?;
        if let Some(tag) = found.id3v2() {
            return Ok(Words::of_id3(tag).added_to(facts));
        }
        return Ok(with_tag(facts, &found.into()));
    }
    let media = samples::span(file, facts.format, facts.size);
    let tagged = tagged(file, kind)?;
    let facts = with_sound(Facts { media, ..facts }, tagged.properties(), codec)?;
    Ok(with_tag(facts, &tagged))
}

fn with_tag(facts: Facts, tagged: &TaggedFile) -> Facts {
    match tagged.primary_tag().or(tagged.first_tag()) {
        Some(tag) => Words::of(tag).added_to(facts),
        None => facts,
    }
}

fn with_sound(facts: Facts, properties: &FileProperties, codec: &str) -> Result<Facts, Reason> {
    let track = AudioTrack {
        codec: codec.into(),
        sample_rate: properties.sample_rate().filter(|r| *r > 0),
        channels: properties.channels().map(u32::from).filter(|c| *c > 0),
        bits: properties.bit_depth(),
        language: None,
    };
    // That of the sound, without tags and pictures: limits of profiles are about it.
    let bits = properties.audio_bitrate().or(properties.overall_bitrate()).filter(|b| *b > 0);
    let facts = Facts {
        kind: Kind::Music,
        duration_ms: Some(properties.duration().as_millis() as u64).filter(|d| *d > 0),
        bit_rate: bits.map(|kilo| kilo.saturating_mul(1000)),
        tracks: vec![track],
        ..facts
    };
    if facts.duration_ms.is_none() && facts.format != Format::Opus && facts.format != Format::Vorbis
    {
        return Err(BROKEN);
    }
    Ok(facts)
}

/// Raw AAC frames. How long they last follows from the first ones, as all are much alike.
pub(crate) fn adts(file: &mut PartReader, facts: Facts) -> Result<Facts, Reason> {
    const RATES: [u32; 13] = [
        96_000, 88_200, 64_000, 48_000, 44_100, 32_000, 24_000, 22_050, 16_000, 12_000, 11_025,
        8_000, 7_350,
    ];
    let start = id3_length(file, facts.size);
    let mut head = Vec::new();
    file.seek(SeekFrom::Start(start)).map_err(|_| BROKEN)?;
    file.take(64 << 10).read_to_end(&mut head).map_err(|_| BROKEN)?;
    let (mut at, mut frames, mut track) = (0, 0u64, None);
    while let Some([0xff, b, c, d, e, f, ..]) = head.get(at..at + 7) {
        let length = usize::from(d & 3) << 11 | usize::from(*e) << 3 | usize::from(f >> 5);
        if b & 0xf6 != 0xf0 || length < 7 {
            break;
        }
        let rate = RATES.get(usize::from(c >> 2 & 15)).copied();
        let channels = u32::from((c & 1) << 2 | d >> 6);
        let codec = if c >> 6 == 1 { "aac-lc" } else { "aac" };
        track.get_or_insert(AudioTrack {
            codec: codec.into(),
            sample_rate: rate,
            channels: Some(channels).filter(|n| *n > 0),
            ..AudioTrack::default()
        });
        frames += 1;
        at += length;
    }
    let track = track.filter(|t| t.sample_rate.is_some()).ok_or(BROKEN)?;
    let rate = u64::from(track.sample_rate.unwrap_or(1));
    // 1024 samples in a frame.
    let bits = at as u64 * 8 * rate / (frames * 1024).max(1);
    let duration = ((facts.size - start) * 8000).checked_div(bits).filter(|d| *d > 0);
    Ok(Facts {
        kind: Kind::Music,
        duration_ms: duration,
        bit_rate: u32::try_from(bits).ok(),
        tracks: vec![track],
        media: Some((start, facts.size)),
        ..facts
    })
}

fn options() -> ParseOptions {
    ParseOptions::new().parsing_mode(ParsingMode::BestAttempt)
}

fn mpeg(file: &mut PartReader) -> Result<MpegFile, Reason> {
    file.rewind().map_err(|_| BROKEN)?;
    let file = MpegFile::read_from(file, options()).map_err(|_| BROKEN)?;
    let properties = file.properties();
    let sound = *properties.layer() == lofty::mpeg::Layer::Layer3 && properties.sample_rate() != 0;
    sound.then_some(file).ok_or(BROKEN)
}

fn tagged(file: &mut PartReader, kind: FileType) -> Result<TaggedFile, Reason> {
    if kind == FileType::Mpeg {
        return mpeg(file).map(TaggedFile::from);
    }
    file.rewind().map_err(|_| BROKEN)?;
    Probe::with_file_type(file, kind).options(options()).read().map_err(|_| BROKEN)
}

/// The picture embedded in a sound file: the front cover, else the first.
#[cfg(feature = "pictures")]
pub(crate) fn cover(file: &mut PartReader, format: Format) -> Option<Vec<u8>> {
    let tagged = tagged(file, FileType::from_ext(format.extension())?).ok()?;
    let pictures = || tagged.tags().iter().flat_map(lofty::tag::Tag::pictures);
    let front = pictures().find(|p| p.pic_type() == lofty::picture::PictureType::CoverFront);
    front.or_else(|| pictures().next()).map(|p| p.data().to_vec())
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
