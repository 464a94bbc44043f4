//! MP4 (ISO base media): tracks, codecs, duration and where the media data lies.

use std::io::{Read, Seek, SeekFrom};

use mostra_core::Kind;
use mostra_core::facts::{AudioTrack, Facts, SubtitleTrack, VideoCodec};
use mostra_core::format::Format;

use crate::audio;
use crate::part_reader::PartReader;
use mostra_core::left_out::Reason;

/// The largest index that is read into memory.
const INDEX: u64 = 64 << 20;

pub(crate) fn read(file: &mut PartReader, facts: Facts) -> Result<Facts, Reason> {
    let size = facts.size;
    let mut index = None;
    let mut media: Option<(u64, u64)> = None;
    let mut at = 0;
    // Top-level boxes; fragmented files may have thousands.
    for _ in 0..100_000 {
        if at + 8 > size {
            break;
        }
        let mut head = [0; 16];
        let cut = |_| Reason::damaged("the file is incomplete (cut off)");
        file.seek(SeekFrom::Start(at)).map_err(cut)?;
        file.read_exact(&mut head[..8]).map_err(cut)?;
        let (header, length) = match u32_at(&head, 0).unwrap_or(0) {
            0 => (8, size - at),
            1 => {
                file.read_exact(&mut head[8..]).map_err(cut)?;
                (16, u64::from_be_bytes(head[8..16].try_into().unwrap_or_default()))
            }
            n => (8, u64::from(n)),
        };
        let end = at.checked_add(length).filter(|end| length >= header && *end <= size);
        let end = end.ok_or(Reason::damaged("the file is incomplete (cut off)"))?;
        match &head[4..8] {
            b"moov" if length <= INDEX => {
                let mut data = vec![0; (length - header) as usize];
                file.read_exact(&mut data).map_err(cut)?;
                index = Some(data);
            }
            b"mdat" => {
                let (from, to) = media.unwrap_or((at + header, end));
                media = Some((from.min(at + header), to.max(end)));
            }
            _ => {}
        }
        at = end;
    }
    let index = index.ok_or(Reason::damaged("it has no index; it may be incomplete"))?;
    let movie = Movie::read(&index).ok_or(Reason::damaged("the index is damaged"))?;
    let bit_rate = movie.duration_ms.map(|ms| size.saturating_mul(8000) / ms);
    let facts = Facts {
        title: movie.title,
        duration_ms: movie.duration_ms,
        resolution: movie.resolution,
        frame_rate_milli: movie.frame_rate_milli,
        bit_rate: bit_rate.and_then(|b| u32::try_from(b).ok()),
        video: movie.video,
        tracks: movie.tracks,
        subtitles: movie.subtitles,
        media,
        kind: Kind::Video,
        ..facts
    };
    if facts.video.is_some() {
        return Ok(facts);
    }
    if facts.tracks.is_empty() {
        return Err(Reason::damaged("neither picture nor sound in it"));
    }
    // Sound alone: the tag library knows the rest; the codec is as read here.
    let format = Format::M4a;
    let found = audio::read(file, Facts { format, ..facts.clone() }, "aac-lc");
    let found = found.unwrap_or(Facts { kind: Kind::Music, format, ..facts.clone() });
    let tracks = match (facts.tracks.first(), found.tracks.first()) {
        (Some(own), Some(read)) => vec![AudioTrack { codec: own.codec.clone(), ..read.clone() }],
        _ => facts.tracks,
    };
    Ok(Facts { tracks, media, ..found })
}

#[derive(Default)]
struct Movie {
    duration_ms: Option<u64>,
    title: Option<String>,
    resolution: Option<(u32, u32)>,
    frame_rate_milli: Option<u32>,
    video: Option<VideoCodec>,
    tracks: Vec<AudioTrack>,
    subtitles: Vec<SubtitleTrack>,
}

impl Movie {
    fn read(index: &[u8]) -> Option<Movie> {
        let mut movie = Movie::default();
        let header = child(index, b"mvhd")?;
        let (scale, duration) = if header.first()? == &1 {
            (u32_at(header, 20)?, u64_at(header, 24)?)
        } else {
            (u32_at(header, 12)?, u64::from(u32_at(header, 16)?))
        };
        if scale > 0 && duration > 0 && duration < u64::from(u32::MAX) * 1000 {
            movie.duration_ms = Some(duration * 1000 / u64::from(scale)).filter(|ms| *ms > 0);
        }
        for track in boxes(index).filter(|(kind, _)| kind == b"trak").map(|(_, data)| data).take(64)
        {
            movie.read_track(track);
        }
        movie.title = title(index);
        Some(movie)
    }

    fn read_track(&mut self, track: &[u8]) -> Option<()> {
        let media = child(track, b"mdia")?;
        let handler = child(media, b"hdlr")?.get(8..12)?;
        let table = child(child(media, b"minf")?, b"stbl")?;
        // Version and flags, then the count of entries.
        let (code, entry) = boxes(child(table, b"stsd")?.get(8..)?).next()?;
        let header = child(media, b"mdhd")?;
        let long = header.first()? == &1;
        let scale = u32_at(header, if long { 20 } else { 12 })?;
        let language = language(u16_at(header, if long { 32 } else { 20 })?);
        match handler {
            b"vide" if self.video.is_none() => {
                let (width, height) = (u16_at(entry, 24)?, u16_at(entry, 26)?);
                self.resolution = Some((u32::from(width), u32::from(height)));
                self.frame_rate_milli = child(table, b"stts").and_then(|t| frame_rate(t, scale));
                let settings = entry.get(78..).and_then(|rest| child(rest, b"avcC"));
                let name = match &code {
                    b"avc1" | b"avc3" => "h264".into(),
                    b"hvc1" | b"hev1" => "hevc".into(),
                    other => printable(other),
                };
                self.video = Some(VideoCodec {
                    name,
                    profile: settings.and_then(|s| s.get(1).copied()),
                    level: settings.and_then(|s| s.get(3).copied()),
                });
            }
            b"soun" if self.tracks.len() < 16 => {
                let (channels, rate) = (u16_at(entry, 16)?, u32_at(entry, 24)? >> 16);
                // The older relation puts more numbers before its boxes, and those in a box.
                let more = match u16_at(entry, 8)? {
                    1 => 16,
                    2 => 36,
                    _ => 0,
                };
                let inner = entry.get(28 + more..).unwrap_or_default();
                let decoder =
                    child(inner, b"esds").or_else(|| child(child(inner, b"wave")?, b"esds"));
                let codec = match &code {
                    b"mp4a" => decoder.and_then(aac_name).unwrap_or_else(|| "mp4a".into()),
                    b"ac-3" => "ac3".into(),
                    b"ec-3" => "eac3".into(),
                    other => printable(other),
                };
                self.tracks.push(AudioTrack {
                    codec,
                    sample_rate: Some(rate).filter(|r| *r > 0),
                    channels: Some(u32::from(channels)).filter(|c| *c > 0),
                    bits: None,
                    language,
                });
            }
            b"sbtl" | b"subt" | b"text" if self.subtitles.len() < 32 => {
                self.subtitles.push(SubtitleTrack { codec: printable(&code), language });
            }
            _ => {}
        }
        Some(())
    }
}

/// Frames in 1000 seconds, from the time table: most frames last alike, so the whole does.
fn frame_rate(table: &[u8], scale: u32) -> Option<u32> {
    let entries = (u32_at(table, 4)? as usize).min(100_000);
    let (mut frames, mut ticks) = (0u64, 0u64);
    for at in (0..entries).map(|n| 8 + 8 * n) {
        let (count, delta) = (u64::from(u32_at(table, at)?), u64::from(u32_at(table, at + 4)?));
        frames = frames.checked_add(count)?;
        ticks = ticks.checked_add(count.checked_mul(delta)?)?;
    }
    let milli = frames.checked_mul(u64::from(scale))?.checked_mul(1000)?.checked_div(ticks)?;
    u32::try_from(milli).ok().filter(|m| *m > 0)
}

/// A packed language code: three letters of five bits.
fn language(packed: u16) -> Option<String> {
    let letters = [10, 5, 0].map(|shift| (packed >> shift & 0x1f) as u8 + 0x60);
    let text = String::from_utf8_lossy(&letters).into_owned();
    (letters.iter().all(u8::is_ascii_lowercase) && text != "und").then_some(text)
}

/// The codec inside an `mp4a` entry, from its elementary stream descriptor.
fn aac_name(esds: &[u8]) -> Option<String> {
    let mut rest = esds.get(4..)?;
    // ES descriptor (3) ▸ decoder configuration (4) ▸ decoder specific (5).
    let (tag, es) = descriptor(&mut rest)?;
    let mut inner = es.get(3..).filter(|_| tag == 3)?;
    let (tag, config) = descriptor(&mut inner)?;
    let object = *config.first().filter(|_| tag == 4)?;
    if object != 0x40 {
        return Some(if matches!(object, 0x69 | 0x6b) { "mp3" } else { "mp4a" }.into());
    }
    let mut inner = config.get(13..)?;
    let (_, specific) = descriptor(&mut inner)?;
    Some(match specific.first()? >> 3 {
        2 => "aac-lc".into(),
        5 | 29 => "he-aac".into(),
        other => format!("aac-{other}"),
    })
}

fn descriptor<'a>(data: &mut &'a [u8]) -> Option<(u8, &'a [u8])> {
    let tag = *data.first()?;
    let mut length = 0usize;
    let mut used = 1usize;
    for byte in data.get(1..5.min(data.len()))? {
        length = length << 7 | usize::from(byte & 0x7f);
        used += 1;
        if byte & 0x80 == 0 {
            break;
        }
    }
    let body = data.get(used..used.checked_add(length)?)?;
    *data = &data[used + length..];
    Some((tag, body))
}

/// Bytes of a title that are looked at.
const TITLE_BYTES: usize = 4096;

/// The title in the user data: `udta ▸ meta ▸ ilst ▸ ©nam ▸ data`.
fn title(index: &[u8]) -> Option<String> {
    let meta = child(child(index, b"udta")?, b"meta")?;
    let name = child(child(meta.get(4..)?, b"ilst")?, b"\xa9nam")?;
    let text = child(name, b"data")?.get(8..)?;
    let text = String::from_utf8_lossy(&text[..text.len().min(TITLE_BYTES)]).trim().to_owned();
    (!text.is_empty()).then_some(text)
}

/// The boxes in a piece of data, up to the first that does not fit.
fn boxes(data: &[u8]) -> impl Iterator<Item = ([u8; 4], &[u8])> {
    let mut rest = data;
    std::iter::from_fn(move || {
        let length = u32_at(rest, 0)? as usize;
        let length = if length == 0 { rest.len() } else { length };
        let kind: [u8; 4] = rest.get(4..8)?.try_into().ok()?;
        let body = rest.get(8..length)?;
        rest = &rest[length..];
        Some((kind, body))
    })
}

fn child<'a>(data: &'a [u8], kind: &[u8; 4]) -> Option<&'a [u8]> {
    boxes(data).find(|(k, _)| k == kind).map(|(_, body)| body)
}

fn printable(code: &[u8; 4]) -> String {
    code.iter().map(|b| if b.is_ascii_graphic() { *b as char } else { '?' }).collect()
}

fn u16_at(data: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_be_bytes(data.get(at..at + 2)?.try_into().ok()?))
}

fn u32_at(data: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_be_bytes(data.get(at..at + 4)?.try_into().ok()?))
}

fn u64_at(data: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_be_bytes(data.get(at..at + 8)?.try_into().ok()?))
}
