//! Sound as samples without a header (LPCM), which every device that plays music takes: out of
//! which files it can be had as it lies there (PROF-17).

use mostra_protocol::model::dlna::{FLAGS_CONVERTED, ProtocolInfo, Seek};

use crate::facts::Facts;
use crate::format::Format;

/// Its DLNA profile.
const PROFILE: &str = "LPCM";

/// MIME types of the profile: rate, channels, and what is written.
const MIMES: [(u32, u32, &str); 4] = [
    (44_100, 2, "audio/L16;rate=44100;channels=2"),
    (48_000, 2, "audio/L16;rate=48000;channels=2"),
    (44_100, 1, "audio/L16;rate=44100;channels=1"),
    (48_000, 1, "audio/L16;rate=48000;channels=1"),
];

/// Samples of 16 bits in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Samples {
    /// The MIME type, with rate and channels.
    pub mime: &'static str,
    /// The first byte in the file.
    pub first: u64,
    /// Bytes of whole frames.
    pub length: u64,
    /// Bytes for a second.
    pub bytes_per_second: u32,
    /// Whether the file has the lower byte of each sample first: sent is the higher.
    pub swapped: bool,
}

impl Samples {
    /// Those of a file, if it holds samples of the profile.
    pub fn of(facts: &Facts) -> Option<Samples> {
        let swapped = match facts.format {
            Format::Wav => true,
            Format::Aiff => false,
            _ => return None,
        };
        let track = facts.audio().filter(|track| track.bits == Some(16))?;
        let (rate, channels, mime) = MIMES.into_iter().find(|(rate, channels, _)| {
            (Some(*rate), Some(*channels)) == (track.sample_rate, track.channels)
        })?;
        // Only readers of plain samples say where they lie. Pairs of bytes are exchanged by their
        // place in the file, so they begin at an even one, as all writers have it.
        let (first, end) = facts.media.filter(|(from, to)| from < to && *to <= facts.size)?;
        let frame = u64::from(2 * channels);
        let length = (end - first) / frame * frame;
        let bytes_per_second = 2 * channels * rate;
        (length > 0 && first.is_multiple_of(2)).then_some(Samples {
            mime,
            first,
            length,
            bytes_per_second,
            swapped,
        })
    }

    /// Their protocolInfo.
    pub fn protocol_info(self) -> ProtocolInfo {
        info(self.mime)
    }
}

/// Every protocolInfo that samples can have.
pub fn infos() -> impl Iterator<Item = ProtocolInfo> {
    MIMES.into_iter().map(|(.., mime)| info(mime))
}

fn info(mime: &'static str) -> ProtocolInfo {
    ProtocolInfo {
        mime: mime.into(),
        profile: Some(PROFILE),
        seek: Seek::BYTES,
        converted: true,
        flags: FLAGS_CONVERTED,
        any: false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Kind;
    use crate::facts::AudioTrack;

    fn wave(rate: u32, channels: u32, bits: u8, media: Option<(u64, u64)>) -> Facts {
        let track = AudioTrack {
            codec: "lpcm".into(),
            sample_rate: Some(rate),
            channels: Some(channels),
            bits: Some(bits),
            language: None,
        };
        let bare = Facts::bare(Kind::Music, Format::Wav, 176_450, 0);
        Facts { tracks: vec![track], media, ..bare }
    }

    #[test]
    fn whole_frames_of_what_the_profile_has() {
        let found = Samples::of(&wave(44_100, 2, 16, Some((44, 176_447)))).unwrap();
        assert_eq!((found.first, found.length, found.swapped), (44, 176_400, true));
        assert_eq!(found.bytes_per_second, 176_400);
        assert_eq!(
            found.protocol_info().to_string(),
            "http-get:*:audio/L16;rate=44100;channels=2:DLNA.ORG_PN=LPCM;DLNA.ORG_OP=01;\
             DLNA.ORG_CI=1;DLNA.ORG_FLAGS=01300000000000000000000000000000"
        );
        let other = Facts { format: Format::Aiff, ..wave(48_000, 1, 16, Some((54, 176_450))) };
        let found = Samples::of(&other).unwrap();
        assert_eq!((found.length, found.swapped), (176_396, false));
    }

    #[test]
    fn nothing_else_has_them() {
        let span = Some((44, 176_444));
        for facts in [
            wave(96_000, 2, 16, span),
            wave(44_100, 6, 16, span),
            wave(44_100, 2, 24, span),
            wave(44_100, 2, 16, None),
            wave(44_100, 2, 16, Some((45, 176_444))),
            wave(44_100, 2, 16, Some((44, 176_451))),
            wave(44_100, 2, 16, Some((44, 46))),
            Facts { format: Format::Flac, ..wave(44_100, 2, 16, span) },
        ] {
            assert_eq!(Samples::of(&facts), None, "{facts:?}");
        }
    }
}
