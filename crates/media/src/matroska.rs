//! Matroska and WebM: tracks, codecs, duration and title from the segment's head.

use std::io::{Read, Seek, SeekFrom};

use mostra_core::Kind;
use mostra_core::facts::{AudioTrack, Facts, SubtitleTrack, VideoCodec};
use mostra_core::format::Format;

use crate::part_reader::PartReader;
use mostra_core::left_out::Reason;

const BROKEN: Reason = Reason::damaged("the file is incomplete (cut off)");

/// Largest head element read into memory.
const LIMIT: u64 = 8 << 20;

const SEGMENT: u32 = 0x1853_8067;
const INFO: u32 = 0x1549_a966;
const TRACKS: u32 = 0x1654_ae6b;
const CLUSTER: u32 = 0x1f43_b675;

pub(crate) fn read(reader: &mut PartReader, facts: Facts) -> Result<Facts, Reason> {
    let (_, length) = element(reader)?;
    let mut head = vec![0; length.filter(|l| *l < 4096).ok_or(BROKEN)? as usize];
    reader.read_exact(&mut head).map_err(|_| BROKEN)?;
    let webm = find(&head, 0x4282).is_some_and(|kind| kind.starts_with(b"webm"));
    let (id, _) = element(reader)?;
    if id != SEGMENT {
        return Err(Reason::damaged("no segment in it"));
    }
    let mut facts = Facts {
        kind: Kind::Video,
        format: if webm { Format::WebM } else { Format::Matroska },
        ..facts
    };
    let mut tracks = false;
    // Up to the first cluster; what stands behind it is not looked for.
    for _ in 0..200 {
        let Ok((id, length)) = element(reader) else { break };
        let at = reader.stream_position().map_err(|_| BROKEN)?;
        match (id, length) {
            (CLUSTER, _) => {
                facts.media = Some((at, facts.size)).filter(|(from, to)| from < to);
                break;
            }
            (INFO | TRACKS, Some(length)) if length <= LIMIT => {
                let mut data = vec![0; length as usize];
                reader.read_exact(&mut data).map_err(|_| BROKEN)?;
                if id == INFO {
                    read_info(&data, &mut facts);
                } else {
                    tracks = true;
                    elements(&data).filter(|(id, _)| *id == 0xae).for_each(|(_, track)| {
                        read_track(track, &mut facts);
                    });
                }
            }
            (_, Some(length)) => {
                let step = i64::try_from(length).map_err(|_| BROKEN)?;
                reader.seek(SeekFrom::Current(step)).map_err(|_| BROKEN)?;
            }
            (_, None) => break,
        }
    }
    if !tracks {
        return Err(BROKEN);
    }
    if facts.video.is_none() {
        if facts.tracks.is_empty() {
            return Err(Reason::damaged("neither picture nor sound in it"));
        }
        facts.kind = Kind::Music;
    }
    let bits = facts.duration_ms.map(|ms| facts.size.saturating_mul(8000) / ms);
    facts.bit_rate = bits.and_then(|b| u32::try_from(b).ok());
    Ok(facts)
}

fn read_info(data: &[u8], facts: &mut Facts) {
    let scale = find(data, 0x2a_d7b1).and_then(unsigned).unwrap_or(1_000_000);
    let duration = find(data, 0x4489).and_then(float).map(|d| d * scale as f64 / 1e6);
    facts.duration_ms = duration.filter(|d| *d >= 1.0 && *d < 1e12).map(|d| d as u64);
    facts.title = find(data, 0x7ba9).and_then(text);
}

fn read_track(track: &[u8], facts: &mut Facts) -> Option<()> {
    let codec = find(track, 0x86).and_then(text)?;
    let language = find(track, 0x22_b59c).and_then(text).filter(|l| l != "und");
    match find(track, 0x83).and_then(unsigned)? {
        1 if facts.video.is_none() => {
            let settings = find(track, 0x63a2).unwrap_or_default();
            let name = match codec.as_str() {
                "V_MPEG4/ISO/AVC" => "h264",
                "V_MPEGH/ISO/HEVC" => "hevc",
                "V_MPEG2" => "mpeg2video",
                "V_MPEG1" => "mpeg1video",
                "V_VP8" => "vp8",
                "V_VP9" => "vp9",
                "V_AV1" => "av1",
                "V_MPEG4/ISO/ASP" | "V_MPEG4/ISO/SP" => "mpeg4",
                other => other,
            };
            let avc = name == "h264";
            facts.video = Some(VideoCodec {
                name: name.to_owned(),
                profile: settings.get(1).copied().filter(|_| avc),
                level: settings.get(3).copied().filter(|_| avc),
            });
            let frame = find(track, 0x23_e383).and_then(unsigned).filter(|ns| *ns > 0);
            facts.frame_rate_milli =
                frame.and_then(|ns| u32::try_from(1_000_000_000_000 / ns).ok());
            let picture = find(track, 0xe0)?;
            let side = |id| u32::try_from(find(picture, id).and_then(unsigned)?).ok();
            facts.resolution = Some((side(0xb0)?, side(0xba)?));
        }
        2 if facts.tracks.len() < 16 => {
            let sound = find(track, 0xe1).unwrap_or_default();
            let name = match codec.as_str() {
                "A_AAC" | "A_AAC/MPEG4/LC" | "A_AAC/MPEG2/LC" => "aac-lc",
                "A_AC3" => "ac3",
                "A_EAC3" => "eac3",
                "A_DTS" => "dts",
                "A_TRUEHD" => "truehd",
                "A_MPEG/L3" => "mp3",
                "A_MPEG/L2" => "mp2",
                "A_FLAC" => "flac",
                "A_VORBIS" => "vorbis",
                "A_OPUS" => "opus",
                "A_PCM/INT/LIT" | "A_PCM/INT/BIG" => "lpcm",
                other => other,
            };
            facts.tracks.push(AudioTrack {
                codec: name.to_owned(),
                sample_rate: find(sound, 0xb5).and_then(float).map(|r| r as u32),
                channels: find(sound, 0x9f).and_then(unsigned).map(|c| c as u32).or(Some(1)),
                bits: find(sound, 0x6264).and_then(unsigned).and_then(|b| u8::try_from(b).ok()),
                language,
            });
        }
        17 if facts.subtitles.len() < 64 => {
            let codec = codec.strip_prefix("S_TEXT/").unwrap_or(&codec).to_lowercase();
            facts.subtitles.push(SubtitleTrack { codec, language });
        }
        _ => {}
    }
    Some(())
}

/// The id and length of the next element; `None` for an unknown length.
fn element(reader: &mut impl Read) -> Result<(u32, Option<u64>), Reason> {
    let mut byte = [0; 1];
    let mut next = || reader.read_exact(&mut byte).map(|()| byte[0]).map_err(|_| BROKEN);
    let first = next()?;
    let more = first.leading_zeros().min(4);
    if more > 3 {
        return Err(BROKEN);
    }
    let mut id = u32::from(first);
    for _ in 0..more {
        id = id << 8 | u32::from(next()?);
    }
    let first = next()?;
    let more = first.leading_zeros();
    if more > 7 {
        return Err(BROKEN);
    }
    let mut length = u64::from(first) & ((1 << (7 - more)) - 1);
    for _ in 0..more {
        length = length << 8 | u64::from(next()?);
    }
    let unknown = length == (1 << (7 * (more + 1))) - 1;
    Ok((id, (!unknown).then_some(length)))
}

/// The elements in a piece of data, up to the first that does not fit.
fn elements(data: &[u8]) -> impl Iterator<Item = (u32, &[u8])> {
    let mut rest = data;
    std::iter::from_fn(move || {
        let (id, length) = element(&mut rest).ok()?;
        let length = usize::try_from(length?).ok()?;
        let body = rest.get(..length)?;
        rest = &rest[length..];
        Some((id, body))
    })
}

fn find(data: &[u8], wanted: u32) -> Option<&[u8]> {
    elements(data).find(|(id, _)| *id == wanted).map(|(_, body)| body)
}

fn unsigned(data: &[u8]) -> Option<u64> {
    (data.len() <= 8).then(|| data.iter().fold(0, |n, byte| n << 8 | u64::from(*byte)))
}

fn float(data: &[u8]) -> Option<f64> {
    match data.len() {
        4 => Some(f64::from(f32::from_be_bytes(data.try_into().ok()?))),
        8 => Some(f64::from_be_bytes(data.try_into().ok()?)),
        _ => None,
    }
}

/// Bytes of a text that are looked at.
const TEXT: usize = 4096;

fn text(data: &[u8]) -> Option<String> {
    let text =
        String::from_utf8_lossy(&data[..data.len().min(TEXT)]).trim_matches(['\0', ' ']).to_owned();
    (!text.is_empty()).then_some(text)
}
