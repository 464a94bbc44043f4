//! A file as the catalogue keeps it: a few numbers at fixed places, by which lists are sorted
//! and filtered, and the rest packed behind them. A million of these must fit into memory.

use serde::{Deserialize, Serialize};

use super::File;
use super::names::Names;
use crate::Kind;
use crate::date::Date;
use crate::facts::{AudioTrack, Caption, Episode, Facts, SubtitleTrack, VideoCodec};
use crate::format::Format;

/// Reads the fixed places of a record.
#[derive(Clone, Copy)]
pub(super) struct Record<'a>(pub &'a [u8]);

const HEAD: usize = 26;

impl<'a> Record<'a> {
    fn number<const N: usize>(self, at: usize) -> [u8; N] {
        self.0.get(at..at + N).and_then(|b| b.try_into().ok()).unwrap_or([0; N])
    }

    pub(super) fn directory(self) -> u32 {
        u32::from_le_bytes(self.number(0))
    }

    /// Which folder and kind it belongs to.
    pub(super) fn access_class(self) -> u32 {
        u32::from(u16::from_le_bytes(self.number(4)))
    }

    pub(super) fn kind(self) -> Kind {
        super::access_class::kind_of(self.access_class())
    }

    /// The date as a number, 0 when unknown.
    pub(super) fn date(self) -> u64 {
        u64::from_le_bytes(self.number(6))
    }

    pub(super) fn added(self) -> i64 {
        i64::from_le_bytes(self.number(14))
    }

    /// Disc and track, or season and episode; unknown ones come last.
    pub(super) fn place(self) -> (u16, u16) {
        (u16::from_le_bytes(self.number(22)), u16::from_le_bytes(self.number(24)))
    }

    /// Whether a picture of it can be shown: it is one, has one inside or beside it, or is a
    /// film, of which one can be taken.
    pub(super) fn is_pictured(self) -> bool {
        let art = |tail: Tail<'_>| tail.embedded_art || tail.art.is_some();
        self.kind() != Kind::Music || self.tail().is_some_and(art)
    }

    pub(super) fn tail(self) -> Option<Tail<'a>> {
        postcard::from_bytes(self.0.get(HEAD..)?).ok()
    }
}

/// What is not at fixed places. Numbers stand for [`Names`].
#[derive(Serialize, Deserialize)]
pub(super) struct Tail<'a> {
    pub name: &'a str,
    pub title: Option<&'a str>,
    pub format: Format,
    pub size: u64,
    pub modified_ms: i64,
    pub reader: u16,
    clock: Option<Option<i16>>,
    pub duration_ms: Option<u64>,
    bit_rate: Option<u32>,
    pub resolution: Option<(u32, u32)>,
    media: Option<(u64, u64)>,
    tracks: Vec<PackedTrack>,
    pub music: Option<Music>,
    video: Option<Video>,
    picture: Option<Picture>,
    pub episode: Option<(u32, u16, u16)>,
    captions: Vec<(&'a str, Option<u32>, bool)>,
    embedded_art: bool,
    pub art: Option<&'a str>,
    pub station: Option<&'a str>,
}

impl Tail<'_> {
    /// What [`pack`] packed; `record` is the one that this is the tail of.
    pub(super) fn facts(self, record: Record<'_>, names: &Names) -> Facts {
        facts(record, self, names)
    }

    pub(super) fn captions(&self, names: &Names) -> Vec<Caption> {
        let caption = |(name, language, webvtt): &(&str, Option<u32>, bool)| Caption {
            name: (*name).to_owned(),
            language: language.map(|l| names.text(l).to_owned()),
            webvtt: *webvtt,
        };
        self.captions.iter().map(caption).collect()
    }
}

#[derive(Serialize, Deserialize)]
struct PackedTrack(u32, Option<u32>, Option<u32>, Option<u8>, Option<u32>);

#[derive(Default, PartialEq, Serialize, Deserialize)]
pub(super) struct Music {
    pub artists: Vec<u32>,
    pub album_artist: Option<u32>,
    pub album: Option<u32>,
    track: (Option<u16>, Option<u16>),
    disc: (Option<u16>, Option<u16>),
    pub genres: Vec<u32>,
    pub composers: Vec<u32>,
}

#[derive(PartialEq, Serialize, Deserialize)]
struct Video {
    codec: Option<(u32, Option<u8>, Option<u8>)>,
    frame_rate_milli: Option<u32>,
    subtitles: Vec<(u32, Option<u32>)>,
}

#[derive(PartialEq, Serialize, Deserialize)]
struct Picture {
    orientation: Option<u8>,
    camera: Option<u32>,
}

/// Packs a file.
pub(super) fn pack(file: &File, access_class: u16, names: &mut Names) -> Vec<u8> {
    let facts = &*file.facts;
    let episode = facts.episode.as_ref();
    let or_last = |n: Option<u16>| n.unwrap_or(u16::MAX);
    let (first, second) = match episode {
        Some(episode) => (episode.season, episode.number),
        None => (facts.disc.0.unwrap_or(1), or_last(facts.track.0)),
    };
    let date = facts.date.map(Date::parts);
    let mut record = Vec::with_capacity(96);
    record.extend(file.directory.to_le_bytes());
    record.extend(access_class.to_le_bytes());
    record.extend(date.map_or(0, |(key, ..)| key).to_le_bytes());
    record.extend(facts.added_ms.to_le_bytes());
    record.extend(first.to_le_bytes());
    record.extend(second.to_le_bytes());
    let mut number = |text: &String| names.number(text);
    let music = Music {
        artists: facts.artists.iter().map(&mut number).collect(),
        album_artist: facts.album_artist.as_ref().map(&mut number),
        album: facts.album.as_ref().map(&mut number),
        track: facts.track,
        disc: facts.disc,
        genres: facts.genres.iter().map(&mut number).collect(),
        composers: facts.composers.iter().map(&mut number).collect(),
    };
    let video = Video {
        codec: facts.video.as_ref().map(|v| (number(&v.name), v.profile, v.level)),
        frame_rate_milli: facts.frame_rate_milli,
        subtitles: (facts.subtitles.iter())
            .map(|s| (number(&s.codec), s.language.as_ref().map(&mut number)))
            .collect(),
    };
    let picture =
        Picture { orientation: facts.orientation, camera: facts.camera.as_ref().map(&mut number) };
    let tail = Tail {
        name: &file.name,
        title: facts.title.as_deref(),
        format: facts.format,
        size: facts.size,
        modified_ms: facts.modified_ms,
        reader: facts.reader,
        clock: date.and_then(|(_, timed, offset)| timed.then_some(offset)),
        duration_ms: facts.duration_ms,
        bit_rate: facts.bit_rate,
        resolution: facts.resolution,
        media: facts.media,
        tracks: (facts.tracks.iter())
            .map(|t| {
                let language = t.language.as_ref().map(&mut number);
                PackedTrack(number(&t.codec), t.sample_rate, t.channels, t.bits, language)
            })
            .collect(),
        music: (music != Music::default()).then_some(music),
        video: (video != Video { codec: None, frame_rate_milli: None, subtitles: vec![] })
            .then_some(video),
        picture: (picture != Picture { orientation: None, camera: None }).then_some(picture),
        episode: episode.map(|e| (number(&e.series), e.season, e.number)),
        captions: (facts.captions.iter())
            .map(|c| (&*c.name, c.language.as_ref().map(&mut number), c.webvtt))
            .collect(),
        embedded_art: facts.embedded_art,
        art: facts.art.as_deref(),
        station: facts.station.as_deref(),
    };
    // Writing into a growing vector cannot fail.
    postcard::to_extend(&tail, record).unwrap_or_default()
}

/// What [`pack`] packed.
pub(super) fn unpack(record: Record<'_>, names: &Names) -> Option<Facts> {
    Some(record.tail()?.facts(record, names))
}

fn facts(record: Record<'_>, tail: Tail<'_>, names: &Names) -> Facts {
    let text = |number: u32| names.text(number).to_owned();
    let texts = |numbers: &[u32]| numbers.iter().map(|n| text(*n)).collect();
    let date = Some(record.date()).filter(|key| *key != 0);
    let mut facts = Facts {
        reader: tail.reader,
        added_ms: record.added(),
        title: tail.title.map(str::to_owned),
        date: date.map(|key| Date::from_parts(key, tail.clock.is_some(), tail.clock.flatten())),
        duration_ms: tail.duration_ms,
        bit_rate: tail.bit_rate,
        resolution: tail.resolution,
        media: tail.media,
        tracks: (tail.tracks.iter())
            .map(|PackedTrack(codec, sample_rate, channels, bits, language)| AudioTrack {
                codec: text(*codec),
                sample_rate: *sample_rate,
                channels: *channels,
                bits: *bits,
                language: language.map(text),
            })
            .collect(),
        episode: tail.episode.map(|(series, season, number)| Episode {
            series: text(series),
            season,
            number,
        }),
        captions: tail.captions(names),
        embedded_art: tail.embedded_art,
        art: tail.art.map(str::to_owned),
        station: tail.station.map(str::to_owned),
        ..Facts::bare(record.kind(), tail.format, tail.size, tail.modified_ms)
    };
    if let Some(music) = tail.music {
        facts.artists = texts(&music.artists);
        facts.album_artist = music.album_artist.map(text);
        facts.album = music.album.map(text);
        facts.track = music.track;
        facts.disc = music.disc;
        facts.genres = texts(&music.genres);
        facts.composers = texts(&music.composers);
    }
    if let Some(video) = tail.video {
        facts.video = video.codec.map(|(name, profile, level)| VideoCodec {
            name: text(name),
            profile,
            level,
        });
        facts.frame_rate_milli = video.frame_rate_milli;
        facts.subtitles = (video.subtitles.iter())
            .map(|(codec, language)| SubtitleTrack {
                codec: text(*codec),
                language: language.map(text),
            })
            .collect();
    }
    if let Some(picture) = tail.picture {
        facts.orientation = picture.orientation;
        facts.camera = picture.camera.map(text);
    }
    facts
}
