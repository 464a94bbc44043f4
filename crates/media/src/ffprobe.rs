//! Facts by Debian's ffprobe, for the containers that have no reader of our own. Where the
//! program is not installed or gives up, the file is published with what is known without it.

use std::fs::File;
use std::sync::OnceLock;
use std::time::Duration;

use mostra_core::Kind;
use mostra_core::date::Date;
use mostra_core::facts::{AudioTrack, Facts, SubtitleTrack, VideoCodec};
use mostra_core::format::Format;
use serde_json::Value;

use crate::external_program::{self, ExternalProgram, GIVEN_FILE};
use mostra_core::left_out::Reason;

/// The longest that one file may take.
const PATIENCE: Duration = Duration::from_secs(15);

/// Whether the program is there.
pub fn installed() -> bool {
    static THERE: OnceLock<bool> = OnceLock::new();
    *THERE.get_or_init(|| external_program::is_there("ffprobe"))
}

pub(crate) fn read(file: &File, facts: Facts) -> Result<Facts, Reason> {
    if !installed() {
        return Ok(facts);
    }
    let Some(found) = run(file, facts.format) else {
        return Err(Reason::damaged("nothing in it can be read"));
    };
    Ok(translate(&found, facts))
}

fn run(file: &File, format: Format) -> Option<Value> {
    let program = ExternalProgram::new("ffprobe")
        .args(["-v", "error", "-print_format", "json"])
        .args(external_program::only(format)?)
        .args(["-show_format", "-show_streams", "-i", GIVEN_FILE])
        .reading(file)
        .ok()?;
    serde_json::from_slice(&external_program::output(program, PATIENCE)?).ok()
}

fn translate(found: &Value, mut facts: Facts) -> Facts {
    let number = |value: &Value| value.as_str().and_then(|t| t.parse::<f64>().ok());
    let format = &found["format"];
    facts.duration_ms =
        number(&format["duration"]).map(|s| (s * 1000.0) as u64).filter(|ms| *ms > 0);
    facts.bit_rate = number(&format["bit_rate"]).map(|b| b as u32).filter(|b| *b > 0);
    let tag = |name: &str| {
        let tags = format["tags"].as_object()?;
        let (_, value) = tags.iter().find(|(key, _)| key.eq_ignore_ascii_case(name))?;
        value.as_str().map(str::trim).filter(|t| !t.is_empty()).map(str::to_owned)
    };
    facts.title = tag("title");
    facts.date = tag("date").or_else(|| tag("year")).and_then(|d| Date::parse(&d));
    for stream in found["streams"].as_array().into_iter().flatten() {
        let codec = stream["codec_name"].as_str().unwrap_or("unknown");
        let language =
            stream["tags"]["language"].as_str().filter(|l| *l != "und").map(str::to_owned);
        let attached = stream["disposition"]["attached_pic"].as_u64() == Some(1);
        match stream["codec_type"].as_str() {
            Some("video") if attached => facts.embedded_art = true,
            Some("video") if facts.video.is_none() => {
                let profile = match (codec, stream["profile"].as_str()) {
                    ("h264", Some("Constrained Baseline" | "Baseline")) => Some(66),
                    ("h264", Some("Main")) => Some(77),
                    ("h264", Some("High")) => Some(100),
                    // The numbers of ISO/IEC 13818-2, 8.1.
                    ("mpeg2video", Some("Simple")) => Some(5),
                    ("mpeg2video", Some("Main")) => Some(4),
                    _ => None,
                };
                let level = stream["level"].as_u64().and_then(|l| u8::try_from(l).ok());
                facts.video = Some(VideoCodec {
                    name: codec.to_owned(),
                    profile,
                    level: level.filter(|_| matches!(codec, "h264" | "mpeg2video")),
                });
                let side = |name: &str| stream[name].as_u64().and_then(|n| u32::try_from(n).ok());
                facts.resolution =
                    side("width").zip(side("height")).filter(|(w, h)| *w > 0 && *h > 0);
                facts.frame_rate_milli = stream["avg_frame_rate"].as_str().and_then(ratio);
            }
            Some("audio") if facts.tracks.len() < 16 => {
                let name = match (codec, stream["profile"].as_str()) {
                    ("aac", None | Some("LC")) => "aac-lc",
                    ("aac", Some(_)) => "he-aac",
                    (pcm, _) if pcm.starts_with("pcm_") => "lpcm",
                    (other, _) => other,
                };
                facts.tracks.push(AudioTrack {
                    codec: name.to_owned(),
                    sample_rate: number(&stream["sample_rate"]).map(|r| r as u32),
                    channels: stream["channels"].as_u64().map(|c| c as u32),
                    bits: stream["bits_per_sample"]
                        .as_u64()
                        .and_then(|b| u8::try_from(b).ok())
                        .filter(|b| *b > 0),
                    language,
                });
            }
            Some("subtitle") if facts.subtitles.len() < 64 => {
                facts.subtitles.push(SubtitleTrack { codec: codec.to_owned(), language });
            }
            _ => {}
        }
    }
    if facts.video.is_none() && !facts.tracks.is_empty() {
        facts.kind = Kind::Music;
        if facts.format == Format::Wmv {
            facts.format = Format::Wma;
        }
        facts.artists = tag("artist").into_iter().collect();
        facts.album = tag("album");
        facts.album_artist = tag("album_artist").or_else(|| tag("albumartist"));
        facts.genres = tag("genre").into_iter().collect();
        facts.composers = tag("composer").into_iter().collect();
        let track = tag("track").and_then(|t| t.split('/').next()?.trim().parse().ok());
        facts.track.0 = track;
    }
    facts
}

/// `30000/1001` as thousandths.
fn ratio(text: &str) -> Option<u32> {
    let (above, below) = text.split_once('/')?;
    let (above, below): (f64, f64) = (above.parse().ok()?, below.parse().ok()?);
    let milli = above / below * 1000.0;
    (milli.is_finite() && (1.0..1e6).contains(&milli)).then_some(milli.round() as u32)
}
