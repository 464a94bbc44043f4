//! What is known of a file.

use serde::{Deserialize, Serialize};

use mostra_protocol::model::text::{TITLE, tamed};

use crate::Kind;
use crate::date::Date;
use crate::format::Format;

/// Artists, genres, composers or audio tracks of one file.
const LIST: usize = 16;
/// Characters of the name of a codec or language.
const WORD: usize = 40;

/// Goes up whenever the readers of [`Facts`] learn something new: files whose facts were read
/// by an earlier one are read again at the next scan.
pub const READER: u16 = 5;

/// What was read from a file. What is unknown is `None` or empty.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Facts {
    /// Its kind.
    pub kind: Kind,
    /// How its bytes are laid out.
    pub format: Format,
    /// Bytes.
    pub size: u64,
    /// Last modification, Unix time in milliseconds.
    pub modified_ms: i64,
    /// Which [`READER`] read it.
    #[serde(default)]
    pub reader: u16,
    /// When it counts as new, Unix time in milliseconds: its modification if it was there at
    /// its folder's first scan, else when it was found.
    #[serde(default)]
    pub added_ms: i64,
    /// The address of the broadcast, if it is no file but a station.
    #[serde(default, skip_serializing_if = "is_default")]
    pub station: Option<String>,
    /// The title inside the file.
    #[serde(default, skip_serializing_if = "is_default")]
    pub title: Option<String>,
    /// The artists inside the file.
    #[serde(default, skip_serializing_if = "is_default")]
    pub artists: Vec<String>,
    /// The artist of the whole album.
    #[serde(default, skip_serializing_if = "is_default")]
    pub album_artist: Option<String>,
    /// The album.
    #[serde(default, skip_serializing_if = "is_default")]
    pub album: Option<String>,
    /// Number on the disc, and how many there are.
    #[serde(default, skip_serializing_if = "is_default")]
    pub track: (Option<u16>, Option<u16>),
    /// Number of the disc, and how many there are.
    #[serde(default, skip_serializing_if = "is_default")]
    pub disc: (Option<u16>, Option<u16>),
    /// Genres.
    #[serde(default, skip_serializing_if = "is_default")]
    pub genres: Vec<String>,
    /// Composers.
    #[serde(default, skip_serializing_if = "is_default")]
    pub composers: Vec<String>,
    /// Date taken or released.
    #[serde(default, skip_serializing_if = "is_default")]
    pub date: Option<Date>,
    /// Milliseconds.
    #[serde(default, skip_serializing_if = "is_default")]
    pub duration_ms: Option<u64>,
    /// Width and height in pixels, as stored.
    #[serde(default, skip_serializing_if = "is_default")]
    pub resolution: Option<(u32, u32)>,
    /// Exif orientation, 1 to 8; 1 is upright.
    #[serde(default, skip_serializing_if = "is_default")]
    pub orientation: Option<u8>,
    /// The camera's maker and model.
    #[serde(default, skip_serializing_if = "is_default")]
    pub camera: Option<String>,
    /// Pictures in 1000 seconds.
    #[serde(default, skip_serializing_if = "is_default")]
    pub frame_rate_milli: Option<u32>,
    /// **Bits** a second, all streams.
    #[serde(default, skip_serializing_if = "is_default")]
    pub bit_rate: Option<u32>,
    /// The picture's codec.
    #[serde(default, skip_serializing_if = "is_default")]
    pub video: Option<VideoCodec>,
    /// The audio tracks, the first one first.
    #[serde(default, skip_serializing_if = "is_default")]
    pub tracks: Vec<AudioTrack>,
    /// Subtitle tracks inside the file.
    #[serde(default, skip_serializing_if = "is_default")]
    pub subtitles: Vec<SubtitleTrack>,
    /// Subtitle files beside it.
    #[serde(default, skip_serializing_if = "is_default")]
    pub captions: Vec<Caption>,
    /// Whether a picture is embedded.
    #[serde(default, skip_serializing_if = "is_default")]
    pub embedded_art: bool,
    /// The name of a picture file beside it that shows it.
    #[serde(default, skip_serializing_if = "is_default")]
    pub art: Option<String>,
    /// Which episode of which series.
    #[serde(default, skip_serializing_if = "is_default")]
    pub episode: Option<Episode>,
    /// First byte of media data and the first byte after it: what lies outside is header and
    /// index, which a device reads without playing.
    #[serde(default, skip_serializing_if = "is_default")]
    pub media: Option<(u64, u64)>,
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// A picture's codec.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct VideoCodec {
    /// `h264`, `hevc`, or the container's own name for it.
    pub name: String,
    /// The codec's own number for its profile (H.264: 66 baseline, 77 main, 100 high; MPEG-2: 4
    /// main).
    pub profile: Option<u8>,
    /// The codec's own number for its level (H.264: ten times the level, 3.1 is 31; MPEG-2: 8 main,
    /// 6 high 1440, 4 high).
    pub level: Option<u8>,
}

/// An audio track.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct AudioTrack {
    /// `aac-lc`, `mp3`, or the container's own name for it.
    pub codec: String,
    /// Hertz.
    pub sample_rate: Option<u32>,
    /// Channels.
    pub channels: Option<u32>,
    /// Bits a sample.
    pub bits: Option<u8>,
    /// Language, as the container names it.
    pub language: Option<String>,
}

/// A subtitle track inside a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SubtitleTrack {
    /// The container's name for its form.
    pub codec: String,
    /// Language, as the container names it.
    pub language: Option<String>,
}

/// A subtitle file beside a film (CDS-59, CDS-62).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Caption {
    /// Its name on disk.
    pub name: String,
    /// The part of the name before the extension that names a language.
    pub language: Option<String>,
    /// Whether it is WebVTT; else SubRip.
    pub webvtt: bool,
}

/// An episode of a series.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Episode {
    /// The series.
    pub series: String,
    /// The season.
    pub season: u16,
    /// The number in its season.
    pub number: u16,
}

impl Facts {
    /// Facts of a file of which only the bytes' layout is known.
    pub fn bare(kind: Kind, format: Format, size: u64, modified_ms: i64) -> Facts {
        Facts {
            kind,
            format,
            size,
            modified_ms,
            reader: READER,
            added_ms: modified_ms,
            station: None,
            title: None,
            artists: Vec::new(),
            album_artist: None,
            album: None,
            track: (None, None),
            disc: (None, None),
            genres: Vec::new(),
            composers: Vec::new(),
            date: None,
            duration_ms: None,
            resolution: None,
            orientation: None,
            camera: None,
            frame_rate_milli: None,
            bit_rate: None,
            video: None,
            tracks: Vec::new(),
            subtitles: Vec::new(),
            captions: Vec::new(),
            embedded_art: false,
            art: None,
            episode: None,
            media: None,
        }
    }

    /// The same with all its text as records, pages and XML can hold it, and bounded. Readers give
    /// what the file says; nothing of that goes on without this.
    pub fn tamed(mut self) -> Facts {
        let titles = [&mut self.title, &mut self.album_artist, &mut self.album, &mut self.camera];
        for text in titles {
            *text = text.take().map(|text| tamed(text, TITLE)).filter(|t| !t.trim().is_empty());
        }
        for list in [&mut self.artists, &mut self.genres, &mut self.composers] {
            list.truncate(LIST);
            list.iter_mut().for_each(|text| *text = tamed(std::mem::take(text), TITLE));
            list.retain(|text| !text.trim().is_empty());
        }
        self.tracks.truncate(LIST);
        self.subtitles.truncate(4 * LIST);
        let codecs = self.tracks.iter_mut().map(|track| (&mut track.codec, &mut track.language));
        let texts = self.subtitles.iter_mut().map(|track| (&mut track.codec, &mut track.language));
        for (codec, language) in codecs.chain(texts) {
            *codec = tamed(std::mem::take(codec), WORD);
            *language = language.take().map(|text| tamed(text, WORD));
        }
        if let Some(video) = &mut self.video {
            video.name = tamed(std::mem::take(&mut video.name), WORD);
        }
        self
    }

    /// The first audio track.
    pub fn audio(&self) -> Option<&AudioTrack> {
        self.tracks.first()
    }

    /// The first artist.
    pub fn artist(&self) -> Option<&str> {
        self.artists.first().map(String::as_str)
    }

    /// The part of the file that holds media data, as (first byte, first byte after).
    pub fn media_span(&self) -> (u64, u64) {
        match self.media {
            Some((from, to)) if from < to && to <= self.size => (from, to),
            _ => (0, self.size),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_text_of_a_file_is_kept_as_it_is() {
        let long = "x".repeat(5000);
        let facts = Facts {
            title: Some("A\0B".into()),
            artists: vec![long.clone(); 40],
            album: Some("\0".into()),
            genres: vec!["\u{1}".into()],
            camera: Some(long.clone()),
            video: Some(VideoCodec { name: long.clone(), profile: None, level: None }),
            tracks: vec![AudioTrack {
                codec: long.clone(),
                language: Some("e\0n".into()),
                ..AudioTrack::default()
            }],
            subtitles: vec![SubtitleTrack { codec: "a\nb".into(), language: Some(long) }; 100],
            ..Facts::bare(Kind::Music, Format::Mp3, 1, 1)
        };
        let tamed = facts.tamed();
        assert_eq!((tamed.title.as_deref(), tamed.album.as_deref()), (Some("A B"), None));
        assert_eq!(
            (tamed.artists.len(), tamed.artists[0].len(), tamed.genres.len()),
            (16, 1000, 0)
        );
        let written = serde_json::to_string(&tamed).unwrap();
        assert!(written.len() < 30_000 && !written.contains("\\u0000"), "{}", written.len());
    }
}
