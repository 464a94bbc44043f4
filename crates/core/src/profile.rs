//! Which DLNA profile a file fits (requirements 10.2). A profile is named only when every
//! limit of it was verified; a false one is worse than none (PROF-3).

use mostra_protocol::dlna::{FLAGS_FILE, FLAGS_PICTURE, ProtocolInfo};

use crate::Kind;
use crate::facts::{Facts, Format};

/// The protocolInfo of a file as it is.
pub fn protocol_info(facts: &Facts) -> ProtocolInfo {
    ProtocolInfo {
        mime: facts.format.mime().to_owned(),
        profile: profile(facts),
        byte_seek: true,
        converted: false,
        flags: if facts.kind == Kind::Picture { FLAGS_PICTURE } else { FLAGS_FILE },
    }
}

/// Every protocolInfo that [`protocol_info`] can give: what GetProtocolInfo lists (CM-3).
pub fn all() -> Vec<ProtocolInfo> {
    let one = |format: Format, profile, flags| ProtocolInfo {
        mime: format.mime().to_owned(),
        profile,
        byte_seek: true,
        converted: false,
        flags,
    };
    let pictures = [Some("JPEG_TN"), Some("JPEG_SM"), Some("JPEG_MED"), Some("JPEG_LRG"), None];
    let mut list: Vec<_> = pictures.map(|p| one(Format::Jpeg, p, FLAGS_PICTURE)).into();
    list.extend([Some("MP3"), Some("MP3X"), None].map(|p| one(Format::Mp3, p, FLAGS_FILE)));
    list.extend([Some("AVC_MP4_MP_SD_AAC_MULT5"), None].map(|p| one(Format::Mp4, p, FLAGS_FILE)));
    list
}

fn profile(facts: &Facts) -> Option<&'static str> {
    match facts.format {
        Format::Jpeg => {
            let (w, h) = facts.resolution?;
            match () {
                () if w <= 160 && h <= 160 => Some("JPEG_TN"),
                () if w <= 640 && h <= 480 => Some("JPEG_SM"),
                () if w <= 1024 && h <= 768 => Some("JPEG_MED"),
                () if w <= 4096 && h <= 4096 => Some("JPEG_LRG"),
                () => None,
            }
        }
        Format::JpegOther => None,
        Format::Mp3 => {
            let audio = facts.audio.as_ref()?;
            let two = matches!(audio.channels, Some(1 | 2));
            match audio.sample_rate? {
                32_000 | 44_100 | 48_000 if two && facts.bit_rate? <= 320_000 => Some("MP3"),
                16_000 | 22_050 | 24_000 if two => Some("MP3X"),
                _ => None,
            }
        }
        Format::Mp4 => {
            let (video, audio) = (facts.video.as_ref()?, facts.audio.as_ref()?);
            let (w, h) = facts.resolution?;
            let main = video.name == "h264" && video.profile? == 77 && video.level? <= 30;
            let aac =
                audio.name == "aac-lc" && audio.channels? <= 6 && audio.sample_rate? <= 48_000;
            (main && aac && w <= 720 && h <= 576).then_some("AVC_MP4_MP_SD_AAC_MULT5")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::{AudioCodec, VideoCodec};

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
                audio: Some(AudioCodec {
                    name: "aac-lc".into(),
                    sample_rate: Some(48_000),
                    channels: Some(2),
                }),
                ..Facts::bare(Kind::Video, Format::Mp4, 1, 0)
            })
        };
        assert_eq!(film(77, 30, (720, 576)), Some("AVC_MP4_MP_SD_AAC_MULT5"));
        assert_eq!(film(100, 30, (720, 576)), None);
        assert_eq!(film(77, 31, (720, 576)), None);
        assert_eq!(film(77, 30, (1280, 720)), None);
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
