//! Which DLNA profile a file fits (requirements 10.2). A profile is named only when every
//! limit of it was verified; a false one is worse than none (PROF-3).

use mostra_protocol::model::dlna::{FLAGS_FILE, FLAGS_LIVE, FLAGS_PICTURE, ProtocolInfo, Seek};
use serde::{Deserialize, Serialize};

use crate::Kind;
use crate::facts::Facts;
use crate::format::Format;
use crate::samples;

/// The protocolInfo of a file as it is.
pub fn protocol_info(facts: &Facts) -> ProtocolInfo {
    if facts.station.is_some() {
        return live_info(facts.format);
    }
    ProtocolInfo {
        mime: facts.format.mime().into(),
        profile: profile(facts),
        seek: Seek::BYTES,
        converted: false,
        flags: if facts.kind == Kind::Picture { FLAGS_PICTURE } else { FLAGS_FILE },
        any: false,
    }
}

/// The protocolInfo of a broadcast (PROF-11, HTTP-41).
fn live_info(format: Format) -> ProtocolInfo {
    ProtocolInfo {
        mime: format.mime().into(),
        profile: None,
        seek: Seek::NONE,
        converted: false,
        flags: FLAGS_LIVE,
        any: false,
    }
}

/// A size in which pictures are offered beside the original (CDS-55, CDS-56).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Rendition {
    /// 160 × 160 at most.
    Thumbnail,
    /// 640 × 480 at most.
    Small,
    /// 1024 × 768 at most.
    Medium,
}

impl Rendition {
    /// Smallest first.
    pub const ALL: [Rendition; 3] = [Rendition::Thumbnail, Rendition::Small, Rendition::Medium];

    /// Its DLNA profile.
    pub fn profile(self) -> &'static str {
        match self {
            Rendition::Thumbnail => "JPEG_TN",
            Rendition::Small => "JPEG_SM",
            Rendition::Medium => "JPEG_MED",
        }
    }

    /// The word for it in URLs.
    pub fn word(self) -> &'static str {
        match self {
            Rendition::Thumbnail => "tn",
            Rendition::Small => "sm",
            Rendition::Medium => "med",
        }
    }

    /// Reads [`word`](Self::word).
    pub fn from_word(word: &str) -> Option<Rendition> {
        Rendition::ALL.into_iter().find(|r| r.word() == word)
    }

    /// The most pixels across and down.
    pub fn bounds(self) -> (u32, u32) {
        match self {
            Rendition::Thumbnail => (160, 160),
            Rendition::Small => (640, 480),
            Rendition::Medium => (1024, 768),
        }
    }

    /// The size to which a picture of this size is brought: within bounds, its shape kept,
    /// never made larger.
    pub fn fit(self, (width, height): (u32, u32)) -> (u32, u32) {
        let (w, h) = self.bounds();
        if width <= w && height <= h {
            return (width, height);
        }
        let (width, height) = (u64::from(width.max(1)), u64::from(height.max(1)));
        let (w, h) = (u64::from(w), u64::from(h));
        let (x, y) = match width * h > height * w {
            true => (w, (height * w / width).max(1)),
            false => ((width * h / height).max(1), h),
        };
        (x as u32, y as u32)
    }

    /// Its protocolInfo: always JPEG, and converted.
    pub fn protocol_info(self) -> ProtocolInfo {
        ProtocolInfo {
            mime: Format::Jpeg.mime().into(),
            profile: Some(self.profile()),
            seek: Seek::BYTES,
            converted: true,
            flags: FLAGS_PICTURE,
            any: false,
        }
    }
}

/// The protocolInfo of a subtitle file.
pub fn caption_info(webvtt: bool) -> ProtocolInfo {
    ProtocolInfo {
        mime: if webvtt { "text/vtt" } else { "text/srt" }.into(),
        profile: None,
        seek: Seek::BYTES,
        converted: false,
        flags: FLAGS_PICTURE,
        any: false,
    }
}

/// Every protocolInfo that can stand in a `res`: what GetProtocolInfo lists (CM-3).
pub fn all() -> Vec<ProtocolInfo> {
    let mut list: Vec<ProtocolInfo> = Vec::new();
    for format in Format::ALL {
        let picture = format.kind() == Kind::Picture;
        let named = format.row().profiles.iter().map(|p| Some(*p)).chain([None]);
        list.extend(named.map(|profile| ProtocolInfo {
            mime: format.mime().into(),
            profile,
            seek: Seek::BYTES,
            converted: false,
            flags: if picture { FLAGS_PICTURE } else { FLAGS_FILE },
            any: false,
        }));
    }
    list.extend(Rendition::ALL.map(Rendition::protocol_info));
    list.extend(samples::infos());
    list.extend([false, true].map(caption_info));
    list.extend(Format::ALL.into_iter().filter(|format| format.row().live).map(live_info));
    let mut once: Vec<ProtocolInfo> = Vec::new();
    for info in list {
        if !once.contains(&info) {
            once.push(info);
        }
    }
    once
}

/// What a file can be announced as whose MIME type a person set (CM-4).
pub fn replaced(mime: &str) -> [ProtocolInfo; 2] {
    [FLAGS_FILE, FLAGS_PICTURE].map(|flags| ProtocolInfo {
        mime: mime.to_owned().into(),
        profile: None,
        seek: Seek::BYTES,
        converted: false,
        flags,
        any: false,
    })
}

/// The profile of a format that comes nearest to a file that fits none (IOP-17).
pub fn nearest(format: Format) -> Option<&'static str> {
    let named = format.row().profiles;
    if format.kind() == Kind::Picture { named.last() } else { named.first() }.copied()
}

fn profile(facts: &Facts) -> Option<&'static str> {
    let within = |w: u32, h: u32| facts.resolution.is_some_and(|(x, y)| x <= w && y <= h);
    match facts.format {
        Format::Jpeg => match () {
            () if within(160, 160) => Some("JPEG_TN"),
            () if within(640, 480) => Some("JPEG_SM"),
            () if within(1024, 768) => Some("JPEG_MED"),
            () if within(4096, 4096) => Some("JPEG_LRG"),
            () => None,
        },
        Format::Png if within(160, 160) => Some("PNG_TN"),
        Format::Png if within(4096, 4096) => Some("PNG_LRG"),
        // One that moves is none of the profile.
        Format::Gif if within(1600, 1200) && facts.frame_rate_milli.is_none() => Some("GIF_LRG"),
        Format::Mp3 => {
            let audio = facts.audio()?;
            let two = matches!(audio.channels, Some(1 | 2));
            match audio.sample_rate? {
                // Frames of layer 3 have 320 kbit/s at most; what a short file or one with a
                // large picture comes to on average says nothing of them.
                32_000 | 44_100 | 48_000 if two => Some("MP3"),
                16_000 | 22_050 | 24_000 if two => Some("MP3X"),
                _ => None,
            }
        }
        Format::M4a | Format::Adts => {
            let audio = facts.audio().filter(|a| a.codec == "aac-lc")?;
            if audio.sample_rate? > 48_000 || audio.channels? > 2 {
                return None;
            }
            Some(match (facts.format, facts.bit_rate? <= 320_000) {
                (Format::M4a, true) => "AAC_ISO_320",
                (Format::M4a, false) => "AAC_ISO",
                (_, true) => "AAC_ADTS_320",
                (_, false) => "AAC_ADTS",
            })
        }
        Format::Mp4 => {
            let (video, audio) = (facts.video.as_ref()?, facts.audio()?);
            let main = video.name == "h264" && video.profile? == 77 && video.level? <= 30;
            if !main || !within(720, 576) || audio.sample_rate? > 48_000 {
                return None;
            }
            match audio.codec.as_str() {
                "aac-lc" if audio.channels? <= 6 => Some("AVC_MP4_MP_SD_AAC_MULT5"),
                "mp3" if audio.channels? <= 2 => Some("AVC_MP4_MP_SD_MPEG1_L3"),
                "ac3" => Some("AVC_MP4_MP_SD_AC3"),
                _ => None,
            }
        }
        Format::MpegPs => {
            let (video, audio) = (facts.video.as_ref()?, facts.audio()?);
            let sound = matches!(audio.codec.as_str(), "mp2" | "ac3" | "lpcm");
            match (video.name.as_str(), facts.frame_rate_milli?) {
                ("mpeg1video", _) if within(352, 288) && audio.codec == "mp2" => Some("MPEG1"),
                ("mpeg2video", _) if !is_main(video, &[8]) => None,
                ("mpeg2video", 25_000) if within(720, 576) && sound => Some("MPEG_PS_PAL"),
                ("mpeg2video", 29_970) if within(720, 480) && sound => Some("MPEG_PS_NTSC"),
                _ => None,
            }
        }
        Format::MpegTs => {
            let (video, audio) = (facts.video.as_ref()?, facts.audio()?);
            let rate = facts.frame_rate_milli.unwrap_or(0);
            match (video.name.as_str(), audio.codec.as_str()) {
                ("mpeg2video", _) if !is_main(video, &[4, 6, 8]) || audio.channels? > 6 => None,
                ("mpeg2video", "mp2" | "ac3")
                    if rate == 25_000 && within(720, 576) && is_main(video, &[8]) =>
                {
                    Some("MPEG_TS_SD_EU_ISO")
                }
                ("mpeg2video", "ac3")
                    if rate == 29_970 && within(720, 480) && is_main(video, &[8]) =>
                {
                    Some("MPEG_TS_SD_NA_ISO")
                }
                ("mpeg2video", "ac3") if matches!(rate, 29_970 | 59_940) && within(1920, 1080) => {
                    Some("MPEG_TS_HD_NA_ISO")
                }
                ("h264", sound) if video.profile? == 77 => {
                    let small = video.level? <= 30 && within(720, 576);
                    let large = video.level? <= 40 && within(1920, 1080);
                    match sound {
                        "ac3" if small => Some("AVC_TS_MP_SD_AC3_ISO"),
                        "aac-lc" if small => Some("AVC_TS_MP_SD_AAC_MULT5_ISO"),
                        "mp3" if small => Some("AVC_TS_MP_SD_MPEG1_L3_ISO"),
                        "ac3" if large => Some("AVC_TS_MP_HD_AC3_ISO"),
                        "aac-lc" if large => Some("AVC_TS_MP_HD_AAC_MULT5_ISO"),
                        "mp3" if large => Some("AVC_TS_MP_HD_MPEG1_L3_ISO"),
                        _ => None,
                    }
                }
                _ => None,
            }
        }
        _ => None,
    }
}

/// Whether a picture is of MPEG-2's main profile, and of one of these levels: others have twice the
/// colour or more, which players of these profiles do not read.
fn is_main(video: &crate::facts::VideoCodec, levels: &[u8]) -> bool {
    video.profile == Some(4) && video.level.is_some_and(|level| levels.contains(&level))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::{AudioTrack, VideoCodec};

    fn picture(format: Format, w: u32, h: u32) -> Option<&'static str> {
        profile(&Facts { resolution: Some((w, h)), ..Facts::bare(Kind::Picture, format, 1, 0) })
    }

    #[test]
    fn pictures_are_checked_on_both_sides() {
        assert_eq!(picture(Format::Jpeg, 160, 160), Some("JPEG_TN"));
        assert_eq!(picture(Format::Jpeg, 640, 480), Some("JPEG_SM"));
        assert_eq!(picture(Format::Jpeg, 480, 640), Some("JPEG_MED"));
        assert_eq!(picture(Format::Jpeg, 5000, 10), None);
        assert_eq!(picture(Format::JpegOther, 100, 100), None);
    }

    #[test]
    fn pn_only_when_limits_hold() {
        let film = |profile, level, size| {
            self::profile(&Facts {
                resolution: Some(size),
                video: Some(VideoCodec {
                    name: "h264".into(),
                    profile: Some(profile),
                    level: Some(level),
                }),
                tracks: vec![AudioTrack {
                    codec: "aac-lc".into(),
                    sample_rate: Some(48_000),
                    channels: Some(2),
                    ..AudioTrack::default()
                }],
                ..Facts::bare(Kind::Video, Format::Mp4, 1, 0)
            })
        };
        assert_eq!(film(77, 30, (720, 576)), Some("AVC_MP4_MP_SD_AAC_MULT5"));
        assert_eq!(film(100, 30, (720, 576)), None);
        assert_eq!(film(77, 31, (720, 576)), None);
        assert_eq!(film(77, 30, (1280, 720)), None);
    }

    #[test]
    fn renditions_keep_the_shape_and_stay_within_bounds() {
        assert_eq!(Rendition::Thumbnail.fit((4000, 3000)), (160, 120));
        assert_eq!(Rendition::Small.fit((3000, 4000)), (360, 480));
        assert_eq!(Rendition::Medium.fit((100, 50)), (100, 50));
        assert_eq!(Rendition::Thumbnail.fit((100_000, 1)), (160, 1));
    }

    #[test]
    fn every_kind_of_resource_says_how_it_may_be_fetched() {
        // (what, OP, CI, primary flags)
        let picture = Facts::bare(Kind::Picture, Format::Jpeg, 1, 0);
        let film = Facts::bare(Kind::Video, Format::Mp4, 1, 0);
        let sound = Facts::bare(Kind::Music, Format::Mp3, 1, 0);
        let samples = samples::infos().next().unwrap();
        let station = Facts { station: Some("http://radio.example/".into()), ..sound.clone() };
        for (info, expected) in [
            (protocol_info(&film), "OP=01;DLNA.ORG_CI=0;DLNA.ORG_FLAGS=01700000"),
            (protocol_info(&sound), "OP=01;DLNA.ORG_CI=0;DLNA.ORG_FLAGS=01700000"),
            (protocol_info(&picture), "OP=01;DLNA.ORG_CI=0;DLNA.ORG_FLAGS=00D00000"),
            (Rendition::Small.protocol_info(), "OP=01;DLNA.ORG_CI=1;DLNA.ORG_FLAGS=00D00000"),
            (caption_info(false), "OP=01;DLNA.ORG_CI=0;DLNA.ORG_FLAGS=00D00000"),
            (samples, "OP=01;DLNA.ORG_CI=1;DLNA.ORG_FLAGS=01300000"),
            (protocol_info(&station), "OP=00;DLNA.ORG_CI=0;DLNA.ORG_FLAGS=8D100000"),
        ] {
            let features = info.features();
            assert!(features.contains(&format!("{expected}{}", "0".repeat(24))), "{features}");
        }
    }

    #[test]
    fn every_profile_is_in_the_list() {
        let list = all();
        let small =
            Facts { resolution: Some((10, 10)), ..Facts::bare(Kind::Picture, Format::Jpeg, 1, 0) };
        assert!(list.contains(&protocol_info(&small)));
        assert!(list.contains(&protocol_info(&Facts::bare(Kind::Video, Format::Mp4, 1, 0))));
    }
}
