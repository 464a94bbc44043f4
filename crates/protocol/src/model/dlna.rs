//! protocolInfo (requirements 10.1) and the DLNA header fields (9.3).

use std::borrow::Cow;
use std::fmt;

/// Primary flags of an audio or video file (PROF-8).
pub const FLAGS_FILE: u32 = 0x0170_0000;
/// Primary flags of a picture or text (PROF-9).
pub const FLAGS_PICTURE: u32 = 0x00d0_0000;
/// Primary flags of audio or video that is converted while it is sent (PROF-10).
pub const FLAGS_CONVERTED: u32 = 0x0130_0000;

/// Primary flags of a broadcast without a buffer (PROF-11).
pub const FLAGS_LIVE: u32 = 0x8d10_0000;

/// How a part of a resource can be asked for (PROF-4).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Seek {
    /// By TimeSeekRange.
    pub time: bool,
    /// By Range.
    pub bytes: bool,
}

impl Seek {
    /// Not at all.
    pub const NONE: Seek = Seek { time: false, bytes: false };
    /// By bytes, as of a file.
    pub const BYTES: Seek = Seek { time: false, bytes: true };
    /// By time, as of what is made while it is sent.
    pub const TIME: Seek = Seek { time: true, bytes: false };

    /// `DLNA.ORG_OP` with its two digits.
    fn operations(self) -> &'static str {
        match (self.time, self.bytes) {
            (false, false) => "DLNA.ORG_OP=00",
            (false, true) => "DLNA.ORG_OP=01",
            (true, false) => "DLNA.ORG_OP=10",
            (true, true) => "DLNA.ORG_OP=11",
        }
    }
}

/// What a resource is and how it may be fetched; written as `http-get:*:MIME:…`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProtocolInfo {
    /// The MIME type, the same as the answer's Content-Type (HTTP-2).
    pub mime: Cow<'static, str>,
    /// `DLNA.ORG_PN`, only if every limit of the profile was verified (PROF-3).
    pub profile: Option<&'static str>,
    /// How a part of it can be asked for.
    pub seek: Seek,
    /// Whether this is a converted form (PROF-5).
    pub converted: bool,
    /// The primary flags.
    pub flags: u32,
    /// Whether the fourth field is `*`, for those who pass over what they do not know (IOP-18).
    pub any: bool,
}

impl ProtocolInfo {
    /// Whether this is a broadcast, which goes on without those who receive it (PROF-11).
    pub fn live(&self) -> bool {
        self.flags == FLAGS_LIVE
    }

    /// The fourth field, also sent as `contentFeatures.dlna.org` (HTTP-17).
    pub fn features(&self) -> String {
        let mut features = String::with_capacity(96);
        self.feature_parts(|part| features.push_str(part));
        features
    }

    /// Tells what comes after the MIME type piece by piece; nothing in it needs escaping.
    pub(crate) fn feature_parts(&self, mut tell: impl FnMut(&str)) {
        if self.any {
            return tell("*");
        }
        if let Some(profile) = self.profile {
            tell("DLNA.ORG_PN=");
            tell(profile);
            tell(";");
        }
        tell(self.seek.operations());
        tell(if self.converted { ";DLNA.ORG_CI=1" } else { ";DLNA.ORG_CI=0" });
        let mut flags = *b";DLNA.ORG_FLAGS=00000000000000000000000000000000";
        for (digit, byte) in flags[16..24].iter_mut().enumerate() {
            *byte = b"0123456789ABCDEF"[(self.flags >> (28 - 4 * digit) & 15) as usize];
        }
        tell(std::str::from_utf8(&flags).unwrap_or_default());
    }
}

impl fmt::Display for ProtocolInfo {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut text = String::with_capacity(128);
        text.push_str("http-get:*:");
        text.push_str(&self.mime);
        text.push(':');
        self.feature_parts(|part| text.push_str(part));
        f.write_str(&text)
    }
}

/// How a transfer is meant to run (DLNA transfer modes).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TransferMode {
    /// As fast as it plays.
    Streaming,
    /// As fast as a person waits.
    Interactive,
    /// Whenever.
    Background,
}

impl TransferMode {
    /// The word in the header field.
    pub fn word(self) -> &'static str {
        match self {
            TransferMode::Streaming => "Streaming",
            TransferMode::Interactive => "Interactive",
            TransferMode::Background => "Background",
        }
    }

    /// Chooses the mode for a request (HTTP-18, HTTP-19).
    ///
    /// # Errors
    /// [`TransferModeError`] for an unknown word, and for a mode that this resource does not allow.
    pub fn choose(asked: Option<&str>, flags: u32) -> Result<TransferMode, TransferModeError> {
        let streams = flags & 0x0100_0000 != 0;
        let Some(word) = asked.map(str::trim).filter(|word| !word.is_empty()) else {
            return Ok(if streams { TransferMode::Streaming } else { TransferMode::Interactive });
        };
        let all = [TransferMode::Streaming, TransferMode::Interactive, TransferMode::Background];
        let mode = all.into_iter().find(|mode| word.eq_ignore_ascii_case(mode.word()));
        let mode = mode.ok_or(TransferModeError::Unknown)?;
        let allowed = match mode {
            TransferMode::Streaming => streams,
            TransferMode::Interactive => !streams,
            // Only what has an end can be taken at leisure.
            TransferMode::Background => flags & 0x0040_0000 != 0,
        };
        if allowed { Ok(mode) } else { Err(TransferModeError::NotAllowed) }
    }
}

/// Why a transfer mode is not used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum TransferModeError {
    /// It is no mode.
    #[error("no such transfer mode")]
    Unknown,
    /// The resource does not have it.
    #[error("the resource is not transferred in this mode")]
    NotAllowed,
}

impl TransferModeError {
    /// The HTTP status for it.
    pub fn status(self) -> u16 {
        match self {
            TransferModeError::Unknown => 400,
            TransferModeError::NotAllowed => 406,
        }
    }
}

/// Writes a duration as `H:MM:SS.mmm` (CDS-25). Input in milliseconds.
pub fn duration(ms: u64) -> String {
    let seconds = ms / 1000;
    format!("{}:{:02}:{:02}.{:03}", seconds / 3600, seconds / 60 % 60, seconds % 60, ms % 1000)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn forms() {
        let info = ProtocolInfo {
            mime: "video/mp4".into(),
            profile: Some("AVC_MP4_MP_SD_AAC_MULT5"),
            seek: Seek::BYTES,
            converted: false,
            flags: FLAGS_FILE,
            any: false,
        };
        assert_eq!(
            info.to_string(),
            "http-get:*:video/mp4:DLNA.ORG_PN=AVC_MP4_MP_SD_AAC_MULT5;DLNA.ORG_OP=01;DLNA.ORG_CI=0;\
             DLNA.ORG_FLAGS=01700000000000000000000000000000"
        );
        assert_eq!(info.to_string(), format!("http-get:*:video/mp4:{}", info.features()));
        let any = ProtocolInfo { any: true, ..info };
        assert_eq!(any.to_string(), "http-get:*:video/mp4:*");
        assert_eq!(duration(2_472_480), "0:41:12.480");
    }

    #[test]
    fn transfer_modes() {
        use TransferMode::*;
        for mode in [Streaming, Background] {
            assert_eq!(TransferMode::choose(Some(mode.word()), FLAGS_FILE), Ok(mode));
        }
        let interactive = Some(Interactive.word());
        assert_eq!(TransferMode::choose(interactive, FLAGS_PICTURE), Ok(Interactive));
        assert_eq!(TransferMode::choose(None, FLAGS_FILE), Ok(Streaming));
        assert_eq!(TransferMode::choose(Some("streaming"), FLAGS_CONVERTED), Ok(Streaming));
        assert_eq!(
            TransferMode::choose(Some("Background"), FLAGS_CONVERTED),
            Err(TransferModeError::NotAllowed)
        );
        assert_eq!(TransferMode::choose(None, FLAGS_PICTURE), Ok(Interactive));
        assert_eq!(
            TransferMode::choose(Some("Interactive"), FLAGS_FILE),
            Err(TransferModeError::NotAllowed)
        );
        assert_eq!(
            TransferMode::choose(Some("Streaming"), FLAGS_PICTURE),
            Err(TransferModeError::NotAllowed)
        );
        assert_eq!(
            TransferMode::choose(Some("Sideways"), FLAGS_FILE),
            Err(TransferModeError::Unknown)
        );
        assert_eq!(TransferMode::choose(Some("background"), FLAGS_PICTURE), Ok(Background));
        for mode in ["Background", "Interactive"] {
            assert_eq!(
                TransferMode::choose(Some(mode), FLAGS_LIVE),
                Err(TransferModeError::NotAllowed),
                "{mode} of a broadcast"
            );
        }
        assert_eq!(TransferMode::choose(Some("Streaming"), FLAGS_LIVE), Ok(Streaming));
    }
}
