//! ASF, the container of WMV and WMA: its header objects, and the times of its first packets.
//! `None` where something that plays is not known; ffprobe is asked then.

use std::io::{Read as _, Seek as _, SeekFrom};

use mostra_core::Kind;
use mostra_core::date::Date;
use mostra_core::facts::{Facts, VideoCodec};
use mostra_core::format::Format;

use crate::part_reader::PartReader;
use crate::waveform::{bitmap, picture, sound, u32_at};

type Guid = [u8; 16];

/// A name of an object as it lies in a file.
const fn guid(first: u32, second: u16, third: u16, rest: [u8; 8]) -> Guid {
    let (a, b, c, r) = (first.to_le_bytes(), second.to_le_bytes(), third.to_le_bytes(), rest);
    [a[0], a[1], a[2], a[3], b[0], b[1], c[0], c[1], r[0], r[1], r[2], r[3], r[4], r[5], r[6], r[7]]
}

const HEADER: Guid = guid(0x75b2_2630, 0x668e, 0x11cf, *b"\xa6\xd9\x00\xaa\x00\x62\xce\x6c");
const ABOUT: Guid = guid(0x75b2_2633, 0x668e, 0x11cf, *b"\xa6\xd9\x00\xaa\x00\x62\xce\x6c");
const DATA: Guid = guid(0x75b2_2636, 0x668e, 0x11cf, *b"\xa6\xd9\x00\xaa\x00\x62\xce\x6c");
const FILE: Guid = guid(0x8cab_dca1, 0xa947, 0x11cf, *b"\x8e\xe4\x00\xc0\x0c\x20\x53\x65");
const STREAM: Guid = guid(0xb7dc_0791, 0xa9b7, 0x11cf, *b"\x8e\xe6\x00\xc0\x0c\x20\x53\x65");
const EXTENSION: Guid = guid(0x5fbf_03b5, 0xa92e, 0x11cf, *b"\x8e\xe3\x00\xc0\x0c\x20\x53\x65");
const MORE_ABOUT: Guid = guid(0xd2d0_a440, 0xe307, 0x11d2, *b"\x97\xf0\x00\xa0\xc9\x5e\xa8\x50");
const MORE_OF_STREAM: Guid =
    guid(0x14e6_a5cb, 0xc672, 0x4332, *b"\x83\x99\xa9\x69\x52\x06\x5b\x5a");
const LIBRARY: Guid = guid(0x4423_1c94, 0x9498, 0x49d1, *b"\xa1\x41\x1d\x13\x4e\x45\x70\x54");
const SOUND: Guid = guid(0xf869_9e40, 0x5b4d, 0x11cf, *b"\xa8\xfd\x00\x80\x5f\x5c\x44\x2b");
const PICTURE: Guid = guid(0xbc19_efc0, 0x5b4d, 0x11cf, *b"\xa8\xfd\x00\x80\x5f\x5c\x44\x2b");

/// Bytes of the header that are read into memory: covers lie in it.
const HEADERS: u64 = 16 << 20;
/// Packets by whose times it is told how many pictures there are in a second, and how many times.
const PACKETS: u64 = 200;
const TIMES: usize = 64;
/// Largest packet.
const PACKET: u64 = 64 << 10;

/// Reads an ASF file.
pub(crate) fn read(file: &mut PartReader, facts: Facts) -> Option<Facts> {
    let (name, length) = head(file, 0)?;
    if name != HEADER || !(30..=HEADERS).contains(&length) {
        return None;
    }
    let header = part(file, 0, length)?;
    let mut reading = AsfHeader { facts, ..AsfHeader::default_of() };
    reading.objects(header.get(30..)?, 0)?;
    let AsfHeader { mut facts, duration_ms, packet, pictures, artist, album, .. } = reading;
    facts.duration_ms = Some(duration_ms.filter(|ms| (1..1_000_000_000).contains(ms))?);
    let data = length;
    if let Some((_, size)) = head(file, data).filter(|(name, _)| *name == DATA) {
        let begin = data + 50;
        // Of a broadcast that was written down it is not known.
        let end = if size < 50 { facts.size } else { data.saturating_add(size).min(facts.size) };
        facts.media = Some((begin, end)).filter(|(from, to)| from < to);
        if facts.video.is_some() && facts.frame_rate_milli.is_none() {
            let length = packet.filter(|length| (1..=PACKET).contains(length))?;
            facts.frame_rate_milli = rate(file, begin, end, length, pictures?);
        }
    }
    if facts.video.is_some() {
        facts.kind = Kind::Video;
        facts.album_artist = None;
        facts.genres = Vec::new();
        facts.composers = Vec::new();
        facts.track = (None, None);
    } else if facts.tracks.is_empty() {
        return None;
    } else {
        facts.kind = Kind::Music;
        facts.format = Format::Wma;
        facts.artists = artist.into_iter().collect();
        facts.album = album;
    }
    let ms = facts.duration_ms?;
    facts.bit_rate =
        facts.size.saturating_mul(8000).checked_div(ms).and_then(|bits| u32::try_from(bits).ok());
    Some(facts)
}

fn part(file: &mut PartReader, at: u64, length: u64) -> Option<Vec<u8>> {
    let mut data = vec![0; usize::try_from(length).ok()?];
    file.seek(SeekFrom::Start(at)).ok()?;
    file.read_exact(&mut data).ok()?;
    Some(data)
}

fn head(file: &mut PartReader, at: u64) -> Option<(Guid, u64)> {
    let data = part(file, at, 24)?;
    Some((data[..16].try_into().ok()?, u64_at(&data, 16)?))
}

fn u16_at(data: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(data.get(at..at + 2)?.try_into().ok()?))
}

fn u64_at(data: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_le_bytes(data.get(at..at + 8)?.try_into().ok()?))
}

fn text(data: &[u8]) -> Option<String> {
    let units: Vec<u16> =
        data.chunks_exact(2).map(|two| u16::from_le_bytes([two[0], two[1]])).collect();
    let text = String::from_utf16_lossy(&units);
    let text = text.trim_matches(['\0', ' ']);
    (!text.is_empty()).then(|| text.to_owned())
}

/// What the header tells.
struct AsfHeader {
    facts: Facts,
    duration_ms: Option<u64>,
    /// Bytes of a packet.
    packet: Option<u64>,
    /// The number of the stream of pictures.
    pictures: Option<u8>,
    artist: Option<String>,
    album: Option<String>,
}

impl AsfHeader {
    fn default_of() -> AsfHeader {
        AsfHeader {
            facts: Facts::bare(Kind::Music, Format::Wma, 0, 0),
            duration_ms: None,
            packet: None,
            pictures: None,
            artist: None,
            album: None,
        }
    }

    /// Reads objects that follow each other; `None` for a stream that plays and is not known.
    fn objects(&mut self, data: &[u8], depth: usize) -> Option<()> {
        let mut rest = data;
        while let (Some(name), Some(length)) = (rest.get(..16), u64_at(rest, 16)) {
            let Some(length) = usize::try_from(length).ok().filter(|length| *length >= 24) else {
                break;
            };
            let Some(body) = rest.get(24..length) else { break };
            let name: Guid = name.try_into().ok()?;
            match name {
                FILE => self.file(body)?,
                STREAM => self.stream(body)?,
                EXTENSION if depth == 0 => self.objects(body.get(22..)?, 1)?,
                ABOUT => drop(self.about(body)),
                MORE_ABOUT => drop(self.more_about(body)),
                LIBRARY => drop(self.library(body)),
                MORE_OF_STREAM => self.more_of_stream(body)?,
                _ => {}
            }
            rest = &rest[length..];
        }
        Some(())
    }

    fn file(&mut self, body: &[u8]) -> Option<()> {
        let (played, before) = (u64_at(body, 40)?, u64_at(body, 56)?);
        self.duration_ms = Some((played / 10_000).saturating_sub(before));
        self.packet = Some(u32_at(body, 68)?.into());
        Some(())
    }

    fn stream(&mut self, body: &[u8]) -> Option<()> {
        let kind: Guid = body.get(..16)?.try_into().ok()?;
        let number = (u16_at(body, 48)? & 0x7f) as u8;
        let format = body.get(54..)?;
        match kind {
            SOUND if self.facts.tracks.len() < 16 => self.facts.tracks.push(sound(format)?),
            PICTURE if self.facts.video.is_none() => {
                let (size, code) = bitmap(format.get(11..)?)?;
                let name = picture(code)?;
                self.facts.resolution = Some(size);
                self.facts.video =
                    Some(VideoCodec { name: name.into(), profile: None, level: None });
                self.pictures = Some(number);
            }
            _ => {}
        }
        Some(())
    }

    /// How long a picture stands; and a stream that is described here alone.
    fn more_of_stream(&mut self, body: &[u8]) -> Option<()> {
        let number = u16_at(body, 48)?;
        let each = u64_at(body, 52)?;
        let (names, payloads) = (u16_at(body, 60)?, u16_at(body, 62)?);
        let mut at = 64;
        for _ in 0..names {
            at += 4 + usize::from(u16_at(body, at + 2)?);
        }
        for _ in 0..payloads {
            at += 22 + u32_at(body, at + 18)? as usize;
        }
        if body.len() >= at + 24 {
            self.objects(&body[at..], 2)?;
        }
        if self.pictures.map(u16::from) == Some(number) && each > 0 {
            let milli = 10_000_000_000u64.div_ceil(each);
            self.facts.frame_rate_milli =
                u32::try_from(milli).ok().filter(|milli| (1000..1_000_000).contains(milli));
        }
        Some(())
    }

    fn about(&mut self, body: &[u8]) -> Option<()> {
        let (title, author) = (usize::from(u16_at(body, 0)?), usize::from(u16_at(body, 2)?));
        self.facts.title = body.get(10..10 + title).and_then(text);
        self.artist = body.get(10 + title..10 + title + author).and_then(text);
        Some(())
    }

    fn more_about(&mut self, body: &[u8]) -> Option<()> {
        let mut at = 2;
        for _ in 0..u16_at(body, 0)? {
            let length = usize::from(u16_at(body, at)?);
            let name = text(body.get(at + 2..at + 2 + length)?).unwrap_or_default();
            at += 2 + length;
            let (kind, length) = (u16_at(body, at)?, usize::from(u16_at(body, at + 2)?));
            let data = body.get(at + 4..at + 4 + length)?;
            at += 4 + length;
            let value = || match kind {
                0 => text(data),
                2 | 3 => u32_at(data, 0).map(|number| number.to_string()),
                _ => None,
            };
            let facts = &mut self.facts;
            match name.as_str() {
                "WM/AlbumTitle" => self.album = value(),
                "WM/AlbumArtist" => facts.album_artist = value(),
                "WM/Genre" => facts.genres.extend(value()),
                "WM/Composer" => facts.composers.extend(value()),
                "WM/Year" | "date" | "year" => {
                    facts.date = value().and_then(|text| Date::parse(&text))
                }
                "WM/TrackNumber" => {
                    let number = value()?;
                    facts.track.0 = number.split('/').next().and_then(|n| n.trim().parse().ok());
                }
                "WM/Picture" => facts.embedded_art = true,
                _ => {}
            }
        }
        Some(())
    }

    fn library(&mut self, body: &[u8]) -> Option<()> {
        let mut at = 2;
        for _ in 0..u16_at(body, 0)? {
            let (name, data) = (usize::from(u16_at(body, at + 4)?), u32_at(body, at + 8)? as usize);
            let name = body.get(at + 12..at + 12 + name)?;
            self.facts.embedded_art |= text(name).as_deref() == Some("WM/Picture");
            at = (at + 12 + name.len()).checked_add(data)?;
        }
        Some(())
    }
}

/// Pictures in 1000 seconds, by the times of the first ones.
fn rate(file: &mut PartReader, begin: u64, end: u64, length: u64, stream: u8) -> Option<u32> {
    let mut times: Vec<u32> = Vec::new();
    for number in 0..PACKETS {
        let at = begin + number * length;
        if at + length > end || times.len() >= TIMES {
            break;
        }
        let packet = part(file, at, length)?;
        let _ = packet_times(&packet, stream, &mut times);
    }
    times.sort_unstable();
    times.dedup();
    let (first, last) = (*times.first()?, *times.last()?);
    let steps = u64::try_from(times.len()).ok()?.checked_sub(1)?;
    let milli = (steps * 1_000_000).checked_div(u64::from(last - first))?;
    // Times are whole milliseconds.
    const USUAL: [u64; 9] =
        [12_000, 15_000, 23_976, 24_000, 25_000, 29_970, 30_000, 50_000, 60_000];
    let nearest = USUAL.into_iter().min_by_key(|usual| usual.abs_diff(milli))?;
    let milli = if nearest.abs_diff(milli) * 200 < milli { nearest } else { milli };
    u32::try_from(milli).ok().filter(|milli| (1000..1_000_000).contains(milli))
}

/// Adds the times of a stream's objects that begin in a packet.
fn packet_times(packet: &[u8], stream: u8, times: &mut Vec<u32>) -> Option<()> {
    let mut at = match packet.first()? {
        first if first & 0x80 != 0 => 1 + usize::from(first & 0x0f),
        _ => 0,
    };
    let (lengths, properties) = (*packet.get(at)?, *packet.get(at + 1)?);
    at += 2;
    // Numbers of 0, 1, 2 or 4 bytes, as two bits say.
    let number = |at: &mut usize, bits: u8| -> Option<usize> {
        let bytes = [0, 1, 2, 4][usize::from(bits & 3)];
        let data = packet.get(*at..*at + bytes)?;
        *at += bytes;
        Some(data.iter().rev().fold(0, |number, byte| number << 8 | usize::from(*byte)))
    };
    number(&mut at, lengths >> 5)?;
    number(&mut at, lengths >> 1)?;
    number(&mut at, lengths >> 3)?;
    at += 6;
    let several = lengths & 1 == 1;
    let (count, length) = match several {
        true => {
            let flags = *packet.get(at)?;
            at += 1;
            (flags & 0x3f, flags >> 6)
        }
        false => (1, 0),
    };
    for _ in 0..count {
        let its = packet.get(at)? & 0x7f;
        at += 1;
        number(&mut at, properties >> 4)?;
        let offset = number(&mut at, properties >> 2)?;
        let replicated = number(&mut at, properties)?;
        if its == stream && offset == 0 && replicated >= 8 {
            times.push(u32_at(packet, at + 4)?);
        }
        at += replicated;
        if !several {
            break;
        }
        let skipped = number(&mut at, length)?;
        at += skipped;
    }
    Some(())
}
