//! The file formats that are published, one row for each, and what other files beside them are.
//!
//! To add a format, add a row here; `docs/how-to/add-a-format.md` says what else it takes.

use serde::{Deserialize, Serialize};

use crate::Kind;

/// What reads a format's headers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FormatReader {
    /// Boxes of MP4.
    Mp4,
    /// Elements of Matroska.
    Matroska,
    /// Segments of JPEG.
    Jpeg,
    /// The picture library.
    Picture,
    /// The tag library; the codec of the sound.
    Tags(&'static str),
    /// Frames of ADTS.
    Adts,
    /// That of MPEG transport streams; ffprobe for what it cannot tell.
    Transport,
    /// That of MPEG program streams; ffprobe for what it cannot tell.
    Program,
    /// That of AVI; ffprobe for what it cannot tell.
    Avi,
    /// That of ASF; ffprobe for what it cannot tell.
    Asf,
    /// ffprobe.
    Probe,
}

/// By what a format is told from the beginning of a file.
#[derive(Debug, Clone, Copy)]
pub enum Signature {
    /// These bytes at these offsets.
    Bytes(&'static [(usize, &'static [u8])]),
    /// A test, which weighs as much as so many bytes.
    Test(fn(&[u8]) -> bool, usize),
}

impl Signature {
    /// How many bytes speak for it; `None` where one speaks against it.
    fn weight(self, head: &[u8]) -> Option<usize> {
        let at = |(offset, bytes): &(usize, &[u8])| {
            head.get(*offset..offset + bytes.len()) == Some(*bytes)
        };
        match self {
            Signature::Bytes(all) if all.iter().all(at) => {
                Some(all.iter().map(|(_, bytes)| bytes.len()).sum())
            }
            Signature::Test(test, weight) if test(head) => Some(weight),
            _ => None,
        }
    }
}

/// All that is known of a format.
#[derive(Debug, Clone, Copy)]
pub struct FormatRow {
    /// The MIME type in `res` and Content-Type (table 10.3).
    pub mime: &'static str,
    /// Extensions of file names; URLs end with the first (CDS-23).
    pub extensions: &'static [&'static str],
    /// What reads its headers.
    pub reader: FormatReader,
    /// By what it is told; of several formats the one with the heaviest signature.
    pub signatures: &'static [Signature],
    /// The DLNA profiles that files of it can have, beside none: of pictures from small to large,
    /// of others the most usual first.
    pub profiles: &'static [&'static str],
    /// Whether the extension is enough where the contents say nothing.
    pub by_extension: bool,
    /// Whether its frames may follow an ID3 tag.
    pub after_id3: bool,
    /// Whether stations send it.
    pub live: bool,
    /// Whether a picture of it can show what lies beside it.
    pub cover: bool,
    /// What ffmpeg calls its demuxer, where ffmpeg is asked to read it.
    pub demuxer: Option<&'static str>,
}

impl FormatRow {
    const DEFAULT: FormatRow = FormatRow {
        mime: "",
        extensions: &[],
        reader: FormatReader::Probe,
        signatures: &[],
        profiles: &[],
        by_extension: false,
        after_id3: false,
        live: false,
        cover: false,
        demuxer: None,
    };
}

macro_rules! formats {
    ($($(#[doc = $doc:literal])+ $name:ident { $($field:ident: $value:expr),* $(,)? })+) => {
        /// A file format that is published.
        #[derive(
            Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize,
        )]
        #[serde(rename_all = "lowercase")]
        pub enum Format {
            $($(#[doc = $doc])+ $name,)+
        }

        impl Format {
            /// Every format.
            pub const ALL: [Format; [$(Format::$name),+].len()] = [$(Format::$name),+];

            /// All that is known of it.
            pub fn row(self) -> &'static FormatRow {
                match self {
                    $(Format::$name => const { &FormatRow { $($field: $value,)* ..FormatRow::DEFAULT } },)+
                }
            }
        }
    };
}

use Signature::{Bytes, Test};

const FTYP: (usize, &[u8]) = (4, b"ftyp");

formats! {
    /// MP4 with a picture.
    Mp4 {
        mime: "video/mp4",
        extensions: &["mp4", "m4v", "3gp"],
        reader: FormatReader::Mp4,
        signatures: &[Bytes(&[FTYP])],
        profiles: &["AVC_MP4_MP_SD_AAC_MULT5", "AVC_MP4_MP_SD_MPEG1_L3", "AVC_MP4_MP_SD_AC3"],
        by_extension: true,
        demuxer: Some("mov"),
    }
    /// MPEG audio layer 3.
    Mp3 {
        mime: "audio/mpeg",
        extensions: &["mp3"],
        reader: FormatReader::Tags("mp3"),
        signatures: &[Test(is_layer_3, 2)],
        profiles: &["MP3", "MP3X"],
        by_extension: true,
        after_id3: true,
        live: true,
    }
    /// JPEG, baseline.
    Jpeg {
        mime: "image/jpeg",
        extensions: &["jpg", "jpeg", "jpe"],
        reader: FormatReader::Jpeg,
        signatures: &[Bytes(&[(0, &[0xff, 0xd8, 0xff])])],
        profiles: &["JPEG_TN", "JPEG_SM", "JPEG_MED", "JPEG_LRG"],
        by_extension: true,
        cover: true,
    }
    /// JPEG in a form that old devices do not read: progressive, four colours, 12 bits. The reader
    /// tells it from the baseline form.
    JpegOther {
        mime: "image/jpeg",
        extensions: &["jpg"],
        reader: FormatReader::Jpeg,
        cover: true,
    }
    /// The older relation of MP4.
    QuickTime {
        mime: "video/quicktime",
        extensions: &["mov"],
        reader: FormatReader::Mp4,
        signatures: &[Bytes(&[FTYP, (8, b"qt  ")])],
        by_extension: true,
        demuxer: Some("mov"),
    }
    /// Sound in MP4.
    M4a {
        mime: "audio/mp4",
        extensions: &["m4a", "m4b"],
        reader: FormatReader::Mp4,
        signatures: &[Bytes(&[FTYP, (8, b"M4A ")]), Bytes(&[FTYP, (8, b"M4B ")])],
        profiles: &["AAC_ISO_320", "AAC_ISO"],
        demuxer: Some("mov"),
    }
    /// AAC in ADTS frames.
    Adts {
        mime: "audio/vnd.dlna.adts",
        extensions: &["aac", "aacp"],
        reader: FormatReader::Adts,
        signatures: &[Test(is_adts, 2)],
        profiles: &["AAC_ADTS_320", "AAC_ADTS"],
        after_id3: true,
        live: true,
    }
    /// Matroska.
    Matroska {
        mime: "video/x-matroska",
        extensions: &["mkv"],
        reader: FormatReader::Matroska,
        signatures: &[Bytes(&[(0, b"\x1a\x45\xdf\xa3")])],
        demuxer: Some("matroska"),
    }
    /// The web's subset of Matroska. The reader tells it by its document type.
    WebM {
        mime: "video/webm",
        extensions: &["webm"],
        reader: FormatReader::Matroska,
        demuxer: Some("matroska"),
    }
    /// MPEG transport stream.
    MpegTs {
        mime: "video/mpeg",
        extensions: &["ts", "m2t", "tsv"],
        reader: FormatReader::Transport,
        signatures: &[Test(|head| is_synchronous(head, 0, 188), 3)],
        profiles: &[
            "MPEG_TS_SD_EU_ISO",
            "MPEG_TS_SD_NA_ISO",
            "MPEG_TS_HD_NA_ISO",
            "AVC_TS_MP_SD_AC3_ISO",
            "AVC_TS_MP_SD_AAC_MULT5_ISO",
            "AVC_TS_MP_SD_MPEG1_L3_ISO",
            "AVC_TS_MP_HD_AC3_ISO",
            "AVC_TS_MP_HD_AAC_MULT5_ISO",
            "AVC_TS_MP_HD_MPEG1_L3_ISO",
        ],
        demuxer: Some("mpegts"),
    }
    /// MPEG transport stream with time stamps, 192 bytes a packet.
    M2ts {
        mime: "video/vnd.dlna.mpeg-tts",
        extensions: &["m2ts", "mts"],
        reader: FormatReader::Transport,
        signatures: &[Test(|head| is_synchronous(head, 4, 192), 3)],
        demuxer: Some("mpegts"),
    }
    /// MPEG program stream.
    MpegPs {
        mime: "video/mpeg",
        extensions: &["mpg", "mpeg", "vob", "m2p"],
        reader: FormatReader::Program,
        signatures: &[Bytes(&[(0, b"\x00\x00\x01\xba")]), Bytes(&[(0, b"\x00\x00\x01\xb3")])],
        profiles: &["MPEG1", "MPEG_PS_PAL", "MPEG_PS_NTSC"],
        demuxer: Some("mpeg"),
    }
    /// Audio video interleave.
    Avi {
        mime: "video/x-msvideo",
        extensions: &["avi"],
        reader: FormatReader::Avi,
        signatures: &[Bytes(&[(0, b"RIFF"), (8, b"AVI ")]), Bytes(&[(0, b"FORM"), (8, b"AVI ")])],
        demuxer: Some("avi"),
    }
    /// Advanced systems format with a picture.
    Wmv {
        mime: "video/x-ms-wmv",
        extensions: &["wmv"],
        reader: FormatReader::Asf,
        signatures: &[Bytes(&[(0, b"\x30\x26\xb2\x75")])],
        demuxer: Some("asf"),
    }
    /// Advanced systems format, sound only. The reader tells it by its streams.
    Wma {
        mime: "audio/x-ms-wma",
        extensions: &["wma"],
        reader: FormatReader::Asf,
        demuxer: Some("asf"),
    }
    /// Free lossless audio.
    Flac {
        mime: "audio/flac",
        extensions: &["flac"],
        reader: FormatReader::Tags("flac"),
        signatures: &[Bytes(&[(0, b"fLaC")])],
        after_id3: true,
        live: true,
    }
    /// Ogg with Vorbis.
    Vorbis {
        mime: "audio/ogg",
        extensions: &["ogg", "oga"],
        reader: FormatReader::Tags("vorbis"),
        signatures: &[Test(|head| is_ogg_of(head, b"\x01vorbis"), 11)],
        live: true,
    }
    /// Ogg with Opus.
    Opus {
        mime: "audio/ogg",
        extensions: &["opus"],
        reader: FormatReader::Tags("opus"),
        signatures: &[Test(|head| is_ogg_of(head, b"OpusHead"), 12)],
        live: true,
    }
    /// RIFF wave.
    Wav {
        mime: "audio/wav",
        extensions: &["wav"],
        reader: FormatReader::Tags("lpcm"),
        signatures: &[Bytes(&[(0, b"RIFF"), (8, b"WAVE")])],
    }
    /// Audio interchange.
    Aiff {
        mime: "audio/aiff",
        extensions: &["aiff", "aif", "aifc"],
        reader: FormatReader::Tags("lpcm"),
        signatures: &[Bytes(&[(0, b"FORM"), (8, b"AIFF")]), Bytes(&[(0, b"FORM"), (8, b"AIFC")])],
    }
    /// PNG.
    Png {
        mime: "image/png",
        extensions: &["png"],
        reader: FormatReader::Picture,
        signatures: &[Bytes(&[(0, b"\x89PNG")])],
        profiles: &["PNG_TN", "PNG_LRG"],
        cover: true,
    }
    /// GIF.
    Gif {
        mime: "image/gif",
        extensions: &["gif"],
        reader: FormatReader::Picture,
        signatures: &[Bytes(&[(0, b"GIF8")])],
        profiles: &["GIF_LRG"],
    }
    /// WebP.
    WebP {
        mime: "image/webp",
        extensions: &["webp"],
        reader: FormatReader::Picture,
        signatures: &[Bytes(&[(0, b"RIFF"), (8, b"WEBP")])],
        cover: true,
    }
    /// HEIF with HEVC.
    Heic {
        mime: "image/heic",
        extensions: &["heic", "heif"],
        reader: FormatReader::Picture,
        signatures: &[
            Bytes(&[FTYP, (8, b"heic")]),
            Bytes(&[FTYP, (8, b"heix")]),
            Bytes(&[FTYP, (8, b"mif1")]),
            Bytes(&[FTYP, (8, b"msf1")]),
            Bytes(&[FTYP, (8, b"hevc")]),
        ],
        demuxer: Some("mov"),
    }
    /// HEIF with AV1.
    Avif {
        mime: "image/avif",
        extensions: &["avif"],
        reader: FormatReader::Picture,
        signatures: &[Bytes(&[FTYP, (8, b"avif")]), Bytes(&[FTYP, (8, b"avis")])],
        demuxer: Some("mov"),
    }
}

/// Wrappers whose extension says nothing: what is in one of them is told by its contents or not at
/// all.
const WRAPPERS: [&[u8]; 3] = [b"OggS", b"RIFF", b"FORM"];

impl Format {
    /// The MIME type in `res` and Content-Type (table 10.3).
    pub fn mime(self) -> &'static str {
        self.row().mime
    }

    /// The usual extension, with which URLs end (CDS-23).
    pub fn extension(self) -> &'static str {
        self.row().extensions.first().copied().unwrap_or_default()
    }

    /// The kind of what has this format.
    pub fn kind(self) -> Kind {
        match self.mime().split('/').next() {
            Some("image") => Kind::Picture,
            Some("audio") => Kind::Music,
            _ => Kind::Video,
        }
    }

    /// The format that an extension, in lower case, stands for.
    pub fn of_extension(extension: &str) -> Option<Format> {
        Format::ALL.into_iter().find(|format| format.row().extensions.contains(&extension))
    }

    /// Tells the format from the beginning of a file, and from its extension, in lower case, where
    /// that leaves it open. Some formats only their reader tells apart.
    pub fn of_contents(head: &[u8], extension: &str) -> Option<Format> {
        let weight = |format: &Format| {
            format.row().signatures.iter().filter_map(|s| s.weight(head)).max().unwrap_or(0)
        };
        let heaviest = Format::ALL.into_iter().rev().max_by_key(weight);
        if let Some(format) = heaviest.filter(|format| weight(format) > 0) {
            return Some(format);
        }
        if WRAPPERS.iter().any(|wrapper| head.starts_with(wrapper)) {
            return None;
        }
        let named = Format::of_extension(extension);
        if head.starts_with(b"ID3") {
            return Some(named.filter(|format| format.row().after_id3).unwrap_or(Format::Mp3));
        }
        named.filter(|format| format.row().by_extension)
    }
}

/// Three packets of a transport stream in a row.
fn is_synchronous(head: &[u8], first: usize, step: usize) -> bool {
    (0..3).all(|n| head.get(first + n * step) == Some(&0x47))
}

/// Frame sync of ADTS: twelve set bits and layer 0.
fn is_adts(head: &[u8]) -> bool {
    matches!(head, [0xff, second, ..] if second & 0xf6 == 0xf0)
}

/// Frame sync of layer 3: eleven set bits, a version that exists, layer bits 01.
fn is_layer_3(head: &[u8]) -> bool {
    matches!(head, [0xff, second, ..] if second & 0xe6 == 0xe2 && second & 0x18 != 0x08)
}

/// The second packet of a stream names its codec; the first page holds it.
fn is_ogg_of(head: &[u8], magic: &[u8]) -> bool {
    let page = head.get(..256.min(head.len())).unwrap_or_default();
    page.starts_with(b"OggS") && page.windows(magic.len()).any(|window| window == magic)
}

/// What a file is by its extension, before anybody looks into it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileClass {
    /// Media of a format.
    Media(Format),
    /// Subtitles of the film beside them.
    Captions {
        /// Whether they are WebVTT; else SubRip.
        webvtt: bool,
    },
    /// A playlist.
    Playlist,
    /// Text about what lies beside it.
    Notes,
    /// Nothing that we know; it may be media all the same.
    Unknown,
}

impl FileClass {
    /// That of an extension, in lower case.
    pub fn of_extension(extension: &str) -> FileClass {
        match extension {
            "srt" => FileClass::Captions { webvtt: false },
            "vtt" => FileClass::Captions { webvtt: true },
            "m3u" | "m3u8" | "pls" | "xspf" => FileClass::Playlist,
            "txt" | "nfo" => FileClass::Notes,
            _ => Format::of_extension(extension).map_or(FileClass::Unknown, FileClass::Media),
        }
    }
}

#[cfg(test)]
mod tests;
