//! What a file is: by its contents, and by its extension where contents are unclear (PROF-13).

use std::fs::File;
use std::io::Seek as _;
use std::path::{Path, PathBuf};

use mostra_core::Kind;
use mostra_core::facts::{Facts, Format};

use crate::extension::Extension;
use crate::part_reader::PartReader;
use crate::walk::Stat;
use crate::{Reason, audio, ffprobe, jpeg, matroska, mp4, picture, unreadable};

/// Bytes by which a file's format is told.
const HEAD: usize = 1024;

/// Reads a file's facts from its header and index.
///
/// # Errors
/// The [`Reason`] for which it is left out.
pub fn probe(path: &Path, size: u64, modified_ms: i64) -> Result<Facts, Reason> {
    if size == 0 {
        return Err(Reason::Empty);
    }
    let file = File::open(path).map_err(|e| unreadable(&e))?;
    let extension = Extension::of(path.to_str().unwrap_or_default());
    probe_opened(file, extension, || path.to_owned(), Stat { size, modified_ms })
}

/// The same of a file that is open already, with its extension; its path is needed only for what
/// ffprobe reads.
///
/// # Errors
/// The [`Reason`] for which it is left out.
pub fn probe_opened(
    file: File,
    extension: Extension,
    path: impl FnOnce() -> PathBuf,
    stat: Stat,
) -> Result<Facts, Reason> {
    let Stat { size, modified_ms } = stat;
    if size == 0 {
        return Err(Reason::Empty);
    }
    let mut file = PartReader::new(file, size);
    let head = file.head().map_err(|e| unreadable(&e))?;
    let format = sniff(&head[..head.len().min(HEAD)], &extension)?;
    file.rewind().map_err(|e| unreadable(&e))?;
    let kind = match format.mime().split('/').next() {
        Some("image") => Kind::Picture,
        Some("audio") => Kind::Music,
        _ => Kind::Video,
    };
    let facts = Facts::bare(kind, format, size, modified_ms);
    let read = match format {
        Format::Mp4 | Format::QuickTime | Format::M4a => mp4::read(&mut file, facts),
        Format::Matroska | Format::WebM => matroska::read(&mut file, facts),
        Format::Jpeg | Format::JpegOther => jpeg::read(&mut file, facts),
        Format::Png | Format::Gif | Format::WebP | Format::Heic | Format::Avif => {
            picture::read(&mut file, facts)
        }
        Format::MpegTs
        | Format::M2ts
        | Format::MpegPs
        | Format::Avi
        | Format::Wmv
        | Format::Wma => ffprobe::read(&path(), facts),
        Format::Mp3
        | Format::Adts
        | Format::Flac
        | Format::Vorbis
        | Format::Opus
        | Format::Wav
        | Format::Aiff => audio::read(&mut file, facts),
    };
    read.map(Facts::tamed)
}

fn sniff(head: &[u8], extension: &str) -> Result<Format, Reason> {
    let at = |offset: usize, magic: &[u8]| head.get(offset..offset + magic.len()) == Some(magic);
    if at(4, b"ftyp") {
        return Ok(match head.get(8..12) {
            Some(b"M4A " | b"M4B ") => Format::M4a,
            Some(b"heic" | b"heix" | b"mif1" | b"msf1" | b"hevc") => Format::Heic,
            Some(b"avif" | b"avis") => Format::Avif,
            Some(b"qt  ") => Format::QuickTime,
            _ => Format::Mp4,
        });
    }
    // The second packet of a stream names its codec; the first page holds it.
    let within = |magic: &[u8]| {
        head.get(..256.min(head.len())).is_some_and(|h| h.windows(magic.len()).any(|w| w == magic))
    };
    if at(0, b"OggS") {
        return match () {
            () if within(b"OpusHead") => Ok(Format::Opus),
            () if within(b"\x01vorbis") => Ok(Format::Vorbis),
            () => Err(Reason::Unknown("Ogg without Vorbis or Opus")),
        };
    }
    if at(0, b"RIFF") || at(0, b"FORM") {
        return match head.get(8..12) {
            Some(b"WAVE") => Ok(Format::Wav),
            Some(b"AVI ") => Ok(Format::Avi),
            Some(b"WEBP") => Ok(Format::WebP),
            Some(b"AIFF" | b"AIFC") => Ok(Format::Aiff),
            _ => Err(Reason::NotMedia),
        };
    }
    let known: [(&[u8], Format); 8] = [
        (&[0xff, 0xd8, 0xff], Format::Jpeg),
        (b"\x89PNG", Format::Png),
        (b"GIF8", Format::Gif),
        (b"fLaC", Format::Flac),
        (b"\x1a\x45\xdf\xa3", Format::Matroska),
        (b"\x30\x26\xb2\x75", Format::Wmv),
        (b"\x00\x00\x01\xba", Format::MpegPs),
        (b"\x00\x00\x01\xb3", Format::MpegPs),
    ];
    if let Some((_, format)) = known.iter().find(|(magic, _)| at(0, magic)) {
        return Ok(*format);
    }
    // Three packets of a transport stream in a row.
    let synced =
        |first: usize, step: usize| (0..3).all(|n| head.get(first + n * step) == Some(&0x47));
    if synced(0, 188) {
        return Ok(Format::MpegTs);
    }
    if synced(4, 192) {
        return Ok(Format::M2ts);
    }
    match head {
        // Frame sync of ADTS: twelve set bits and layer 0.
        [0xff, second, ..] if second & 0xf6 == 0xf0 => return Ok(Format::Adts),
        // Of layer 3: eleven set bits, a version that exists, layer bits 01.
        [0xff, second, ..] if second & 0xe6 == 0xe2 && second & 0x18 != 0x08 => {
            return Ok(Format::Mp3);
        }
        [b'I', b'D', b'3', ..] => {
            // A tag may stand before other frames than those of layer 3.
            return Ok(match extension {
                "aac" => Format::Adts,
                "flac" => Format::Flac,
                _ => Format::Mp3,
            });
        }
        _ => {}
    }
    match extension {
        "mp4" | "m4v" => Ok(Format::Mp4),
        "mov" => Ok(Format::QuickTime),
        "mp3" => Ok(Format::Mp3),
        "jpg" | "jpeg" => Ok(Format::Jpeg),
        "srt" | "vtt" => {
            Err(Reason::Beside("subtitles; they are offered with the film beside them"))
        }
        "m3u" | "m3u8" | "pls" | "xspf" => Err(Reason::Playlist),
        _ => Err(Reason::NotMedia),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn contents_win_over_the_extension() {
        assert_eq!(sniff(b"\xff\xd8\xff\xe0", "mp4"), Ok(Format::Jpeg));
        assert_eq!(sniff(b"\0\0\0\x20ftypisom", "txt"), Ok(Format::Mp4));
        assert_eq!(sniff(b"ID3\x04", ""), Ok(Format::Mp3));
        assert_eq!(sniff(b"\xff\xfb\x90\x00", "dat"), Ok(Format::Mp3));
        assert_eq!(sniff(b"\xff\xf1\x50\x80", "dat"), Ok(Format::Adts));
        assert_eq!(sniff(b"\x89PNG\r\n", "jpg"), Ok(Format::Png));
        assert_eq!(sniff(b"RIFF\0\0\0\0WEBPVP8 ", "jpg"), Ok(Format::WebP));
        assert_eq!(sniff(b"hello", "txt"), Err(Reason::NotMedia));
        assert_eq!(sniff(b"#EXTM3U", "m3u"), Err(Reason::Playlist));
        assert_eq!(sniff(b"", "mp3"), Ok(Format::Mp3));
    }

    #[test]
    fn damaged_files_are_left_out_with_a_reason() {
        let folder = tempfile::tempdir().unwrap();
        for (name, bytes) in [
            ("a.mp4", &b"\0\0\0\x10ftypisom\0\0\0\0"[..]),
            ("b.mp3", &b"not sound at all, whatever the name says"[..]),
            ("c.jpg", &b"\xff\xd8\xff\xe0\xff\xff"[..]),
            ("d.mp4", &b"\0\0\0\x10ftypisom\0\0\0\0\xff\xff\xff\xffmoov"[..]),
            ("e.png", &b"\x89PNG\r\n\x1a\n\0\0"[..]),
            ("f.mkv", &b"\x1a\x45\xdf\xa3\x84\0\0\0\0"[..]),
            ("g.flac", &b"fLaC\0\0"[..]),
            ("h.wav", &b"RIFF\0\0\0\0WAVEfmt "[..]),
        ] {
            let path = folder.path().join(name);
            std::fs::write(&path, bytes).unwrap();
            let reason = probe(&path, bytes.len() as u64, 0).unwrap_err();
            assert!(matches!(reason, Reason::Broken(_)), "{name}: {reason}");
        }
        assert_eq!(probe(Path::new("/nowhere"), 0, 0), Err(Reason::Empty));
        assert!(matches!(probe(Path::new("/nowhere"), 1, 0), Err(Reason::Unreadable(_))));
    }
}
