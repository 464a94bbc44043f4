//! MPEG systems (ISO/IEC 13818-1): what the streams in a transport or program stream are, by their
//! own headers, and how long they play, by the first and last times in them.
//!
//! A reader gives `None` where it cannot tell all that matters; ffprobe is asked then.

mod bits;
pub(crate) mod program;
mod sound;
pub(crate) mod transport;
pub(crate) mod video;

use mostra_core::Kind;
use mostra_core::facts::{AudioTrack, Facts, SubtitleTrack};

use video::SequenceHeader;

/// How a stream is coded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Coding {
    Mpeg2Video,
    H264,
    Hevc,
    MpegAudio,
    Adts,
    Ac3,
    Dts,
    DiscLpcm,
    StreamLpcm,
    Subtitles(&'static str),
    /// Sound or pictures that are not read here.
    Unknown,
    /// Neither sound nor pictures.
    Data,
}

impl Coding {
    fn is_video(self) -> bool {
        matches!(self, Coding::Mpeg2Video | Coding::H264 | Coding::Hevc)
    }

    fn plays(self) -> bool {
        !matches!(self, Coding::Subtitles(_) | Coding::Data)
    }
}

/// What the headers of a stream say.
#[derive(Debug, Clone)]
enum StreamHeader {
    Picture(SequenceHeader),
    Sound(AudioTrack),
}

/// Bytes of one stream that are looked through for its headers.
const MOST: usize = 512 << 10;
/// After how many bytes it is looked first.
const FIRST_LOOK: usize = 256;
/// Times of pictures by which their rate is told.
const TIMES: usize = 64;
/// Ticks of a second.
const CLOCK: u64 = 90_000;

/// A stream that is read.
#[derive(Debug)]
struct ElementaryStream {
    coding: Coding,
    language: Option<String>,
    data: Vec<u8>,
    next_look: usize,
    found: Option<StreamHeader>,
    /// Presentation times as they came.
    times: Vec<u64>,
}

impl ElementaryStream {
    fn new(coding: Coding, language: Option<String>) -> ElementaryStream {
        let (data, times) = (Vec::new(), Vec::new());
        ElementaryStream { coding, language, data, next_look: FIRST_LOOK, found: None, times }
    }

    /// Takes a piece of what the stream holds.
    fn take(&mut self, data: &[u8]) {
        if self.found.is_some() || !self.coding.plays() || self.data.len() >= MOST {
            return;
        }
        self.data.extend_from_slice(data);
        if self.data.len() >= self.next_look {
            self.look();
            self.next_look = self.data.len() * 2;
        }
    }

    fn look(&mut self) {
        let data = &self.data;
        let picture = |picture: Option<SequenceHeader>| picture.map(StreamHeader::Picture);
        let sound = |track: Option<AudioTrack>| track.map(StreamHeader::Sound);
        let found = match self.coding {
            Coding::Mpeg2Video => picture(video::mpeg2(data)),
            Coding::H264 => picture(video::h264(data)),
            Coding::Hevc => picture(video::hevc(data)),
            Coding::MpegAudio => sound(sound::mpeg(data)),
            Coding::Adts => sound(sound::adts(data)),
            Coding::Ac3 => sound(sound::ac3(data)),
            Coding::Dts => sound(sound::dts(data)),
            Coding::DiscLpcm => sound(sound::disc_lpcm(data)),
            Coding::StreamLpcm => sound(sound::stream_lpcm(data)),
            Coding::Subtitles(_) | Coding::Unknown | Coding::Data => None,
        };
        if let Some(found) = found {
            self.found = Some(found);
            self.data = Vec::new();
        }
    }

    fn note_time(&mut self, time: u64) {
        if self.times.len() < TIMES {
            self.times.push(time);
        }
    }

    /// Whether all is known that its beginning tells.
    fn is_known(&self) -> bool {
        !self.coding.plays()
            || self.found.is_some() && (!self.coding.is_video() || self.times.len() >= TIMES / 2)
    }

    /// The time from one picture to the next, by the times of the first ones.
    fn step(&self) -> Option<u64> {
        let mut times = self.times.clone();
        times.sort_unstable();
        times.dedup();
        let mut steps: Vec<u64> = times.windows(2).map(|two| two[1] - two[0]).collect();
        steps.sort_unstable();
        steps.get(steps.len() / 2).copied().filter(|step| *step > 0)
    }
}

/// Times have 33 bits and go round.
const ROUND: u64 = 1 << 33;

/// How much later a time is than another that came before it.
fn later(first: u64, last: u64) -> u64 {
    last.wrapping_sub(first) & (ROUND - 1)
}

/// The presentation time in a PES header, and where its payload begins. `packet` begins at the start
/// code.
fn pes(packet: &[u8]) -> Option<(Option<u64>, &[u8])> {
    let [0, 0, 1, _, _, _, a, b, length, ..] = *packet else { return None };
    if a & 0xc0 != 0x80 {
        return None;
    }
    let payload = packet.get(9 + usize::from(length)..)?;
    let time = (b & 0x80 != 0).then(|| packet.get(9..14).and_then(time)).flatten();
    Some((time, payload))
}

fn time(five: &[u8]) -> Option<u64> {
    let [a, b, c, d, e] = *five else { return None };
    let marked = a & c & e & 1 == 1;
    let parts = u64::from(a >> 1 & 7) << 30
        | u64::from(b) << 22
        | u64::from(c >> 1) << 15
        | u64::from(d) << 7
        | u64::from(e >> 1);
    marked.then_some(parts)
}

/// A duration longer than this is a jump of the clock and not a film.
const LONGEST: u64 = 20 * 3600 * CLOCK;

/// The facts of a file with these streams, which ends at these times; `None` if something in it that
/// plays is not known.
fn facts(
    streams: &[&ElementaryStream],
    last: impl Fn(usize) -> Option<u64>,
    facts: Facts,
) -> Option<Facts> {
    let mut facts = Facts { kind: Kind::Music, ..facts };
    let first = streams.iter().filter(|s| s.coding.plays()).filter_map(|s| s.times.first());
    let origin = *first.min_by_key(|time| later(0, **time))?;
    let mut longest = 0;
    let pictured = streams.iter().any(|stream| stream.coding.is_video());
    for (number, stream) in streams.iter().enumerate() {
        match (&stream.found, stream.coding) {
            (Some(StreamHeader::Picture(picture)), _) if facts.video.is_none() => {
                let step = stream.step();
                facts.kind = Kind::Video;
                facts.video = Some(picture.codec.clone());
                facts.resolution = Some(picture.resolution);
                let by_time = || step.map(|step| ((CLOCK * 1000 + step / 2) / step) as u32);
                facts.frame_rate_milli = picture.frame_rate_milli.or_else(by_time);
            }
            (Some(StreamHeader::Sound(track)), _) if facts.tracks.len() < 16 => {
                let language = stream.language.clone();
                facts.tracks.push(AudioTrack { language, ..track.clone() });
            }
            (None, Coding::Subtitles(codec)) if facts.subtitles.len() < 64 => {
                let (codec, language) = (codec.to_owned(), stream.language.clone());
                facts.subtitles.push(SubtitleTrack { codec, language });
            }
            (None, coding) if coding.plays() => return None,
            _ => {}
        }
        if stream.coding.plays()
            && let Some(last) = last(number)
        {
            // The last packet of sound may hold less than others: a film ends with its pictures.
            let step = stream.step().filter(|_| stream.coding.is_video() || !pictured);
            longest = longest.max(later(origin, last) + step.unwrap_or(0));
        }
    }
    let (played, known) = (longest, facts.video.is_some() || !facts.tracks.is_empty());
    if played == 0 || played > LONGEST || !known {
        return None;
    }
    let ms = played * 1000 / CLOCK;
    facts.duration_ms = Some(ms).filter(|ms| *ms > 0);
    facts.bit_rate =
        facts.size.saturating_mul(8000).checked_div(ms).and_then(|bits| u32::try_from(bits).ok());
    Some(facts)
}
