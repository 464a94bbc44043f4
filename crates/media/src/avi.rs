//! AVI: the headers of its streams, where the media data lie, and what is written about it. `None`
//! where something that plays is not known; ffprobe is asked then.

use std::io::{Read as _, Seek as _, SeekFrom};

use mostra_core::Kind;
use mostra_core::date::Date;
use mostra_core::facts::{Facts, VideoCodec};

use crate::mpeg::video;
use crate::part_reader::PartReader;
use crate::waveform::{bitmap, picture, sound, u32_at};

/// Bytes of headers that are read into memory.
const HEADERS: u64 = 4 << 20;
/// Parts of a file that are looked at.
const PARTS: usize = 1000;
/// Bytes of the first picture by which its codec's profile is told.
const FIRST_PICTURE: u64 = 64 << 10;

/// Reads an AVI file.
pub(crate) fn read(file: &mut PartReader, facts: Facts) -> Option<Facts> {
    let mut facts = Facts { kind: Kind::Music, ..facts };
    let (mut frames, mut streams): (Option<u32>, Option<AviHeaders>) = (None, None);
    let mut at = 12;
    for _ in 0..PARTS {
        let Some((name, length)) = head(file, at) else { break };
        let body = at + 8;
        let end = body.checked_add(length.into())?;
        let sort = if &name == b"LIST" { part(file, body, 4) } else { None };
        match sort.as_deref() {
            Some(b"hdrl") => {
                let data = part(file, body + 4, u64::from(length).checked_sub(4)?)?;
                streams = Some(AviHeaders::read(&data)?);
            }
            Some(b"movi") => {
                let begin = facts.media.map_or(body, |(begin, _)| begin);
                facts.media = Some((begin, end.min(facts.size))).filter(|(from, to)| from < to);
            }
            Some(b"INFO") => {
                let data = part(file, body + 4, u64::from(length).checked_sub(4)?)?;
                for (name, text) in chunks(&data) {
                    let text = String::from_utf8_lossy(text);
                    let text = text.trim_matches(['\0', ' ']);
                    match name {
                        b"INAM" if !text.is_empty() => facts.title = Some(text.to_owned()),
                        b"ICRD" => facts.date = Date::parse(text),
                        _ => {}
                    }
                }
            }
            _ if &name == b"RIFF" => {
                // The next gigabyte of a long film.
                at = body + 4;
                continue;
            }
            _ => {}
        }
        at = end + end % 2;
        if at >= facts.size {
            break;
        }
    }
    let streams = streams?;
    frames = frames.or(streams.frames);
    let mut longest = 0.0f64;
    for stream in streams.all {
        let seconds = f64::from(stream.length) * f64::from(stream.scale) / f64::from(stream.rate);
        match &stream.kind {
            b"vids" if facts.video.is_none() => {
                let (size, code) = bitmap(&stream.format)?;
                let name = picture(code).or_else(|| picture(&stream.handler))?;
                facts.kind = Kind::Video;
                facts.resolution = Some(size);
                facts.video = Some(VideoCodec { name: name.into(), profile: None, level: None });
                let milli = f64::from(stream.rate) * 1000.0 / f64::from(stream.scale);
                facts.frame_rate_milli =
                    (1000.0..1e6).contains(&milli).then_some(milli.round() as u32);
                // The length in the stream's header may count the first gigabyte alone.
                let all = frames.map_or(0.0, |frames| {
                    f64::from(frames) * f64::from(stream.scale) / f64::from(stream.rate)
                });
                longest = longest.max(seconds).max(all);
            }
            b"auds" if facts.tracks.len() < 16 => {
                facts.tracks.push(sound(&stream.format)?);
                longest = longest.max(seconds);
            }
            _ => {}
        }
    }
    let ms = (longest * 1000.0) as u64;
    if ms == 0 || ms > 1_000_000_000 || facts.media.is_none() {
        return None;
    }
    if facts.video.is_none() && facts.tracks.is_empty() {
        return None;
    }
    if matches!(facts.video.as_ref().map(|v| v.name.as_str()), Some("h264" | "mpeg2video")) {
        facts.video = Some(first_picture(file, &facts)?);
    }
    facts.duration_ms = Some(ms);
    facts.bit_rate =
        facts.size.saturating_mul(8000).checked_div(ms).and_then(|bits| u32::try_from(bits).ok());
    Some(facts)
}

/// What the first picture says of itself.
fn first_picture(file: &mut PartReader, facts: &Facts) -> Option<VideoCodec> {
    let (begin, end) = facts.media?;
    let data = part(file, begin, FIRST_PICTURE.min(end - begin))?;
    let read = match facts.video.as_ref()?.name.as_str() {
        "h264" => video::h264(&data),
        _ => video::mpeg2(&data),
    };
    read.map(|picture| picture.codec)
}

fn part(file: &mut PartReader, at: u64, length: u64) -> Option<Vec<u8>> {
    let mut data = vec![0; usize::try_from(length).ok().filter(|_| length <= HEADERS)?];
    file.seek(SeekFrom::Start(at)).ok()?;
    file.read_exact(&mut data).ok()?;
    Some(data)
}

fn head(file: &mut PartReader, at: u64) -> Option<([u8; 4], u32)> {
    let data = part(file, at, 8)?;
    Some((data[..4].try_into().ok()?, u32_at(&data, 4)?))
}

/// Chunks: name and data.
fn chunks(data: &[u8]) -> impl Iterator<Item = (&[u8], &[u8])> {
    let mut rest = data;
    std::iter::from_fn(move || {
        let (name, length) = (rest.get(..4)?, u32_at(rest, 4)? as usize);
        let body = rest.get(8..8usize.checked_add(length)?)?;
        rest = rest.get(8 + length + length % 2..).unwrap_or_default();
        Some((name, body))
    })
}

/// What the list of headers says.
struct AviHeaders {
    /// Pictures in the whole file, where it is in several parts.
    frames: Option<u32>,
    all: Vec<AviStream>,
}

struct AviStream {
    kind: [u8; 4],
    handler: [u8; 4],
    scale: u32,
    rate: u32,
    length: u32,
    format: Vec<u8>,
}

impl AviHeaders {
    fn read(data: &[u8]) -> Option<AviHeaders> {
        let mut streams = AviHeaders { frames: None, all: Vec::new() };
        for (name, body) in chunks(data) {
            match (name, body.get(..4)) {
                (b"LIST", Some(b"strl")) if streams.all.len() < 32 => {
                    streams.all.push(AviStream::read(&body[4..])?);
                }
                (b"LIST", Some(b"odml")) => {
                    let header = chunks(&body[4..]).find(|(name, _)| *name == b"dmlh");
                    streams.frames = header.and_then(|(_, header)| u32_at(header, 0));
                }
                _ => {}
            }
        }
        Some(streams)
    }
}

impl AviStream {
    fn read(data: &[u8]) -> Option<AviStream> {
        let header = chunks(data).find(|(name, _)| *name == b"strh")?.1;
        let format = chunks(data).find(|(name, _)| *name == b"strf")?.1;
        let (scale, rate) = (u32_at(header, 20)?, u32_at(header, 24)?);
        Some(AviStream {
            kind: header.get(..4)?.try_into().ok()?,
            handler: header.get(4..8)?.try_into().ok()?,
            scale: Some(scale).filter(|scale| *scale > 0)?,
            rate: Some(rate).filter(|rate| *rate > 0)?,
            length: u32_at(header, 32)?,
            format: format.to_vec(),
        })
    }
}
