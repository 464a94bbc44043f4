//! What a file is: by its contents, and by its extension where contents are unclear (PROF-13).

use std::fs::File;
use std::io::{Read, Seek};
use std::path::Path;

use mostra_core::facts::Facts;

use crate::{Reason, jpeg, mp3, mp4, unreadable};

/// Reads a file's facts from its header and index.
///
/// # Errors
/// The [`Reason`] for which it is left out.
pub fn probe(path: &Path, size: u64, modified_ms: i64) -> Result<Facts, Reason> {
    if size == 0 {
        return Err(Reason::Empty);
    }
    let mut file = File::open(path).map_err(|e| unreadable(&e))?;
    let mut head = [0; 16];
    let mut filled = 0;
    while filled < head.len() {
        match file.read(&mut head[filled..]).map_err(|e| unreadable(&e))? {
            0 => break,
            n => filled += n,
        }
    }
    file.rewind().map_err(|e| unreadable(&e))?;
    let extension =
        path.extension().map(|e| e.to_string_lossy().to_lowercase()).unwrap_or_default();
    match sniff(&head[..filled], &extension)? {
        Type::Mp4 => mp4::read(&mut file, size, modified_ms),
        Type::Mp3 => mp3::read(&mut file, size, modified_ms),
        Type::Jpeg => jpeg::read(&mut file, size, modified_ms),
    }
}

#[derive(Debug, PartialEq, Eq)]
enum Type {
    Mp4,
    Mp3,
    Jpeg,
}

fn sniff(head: &[u8], extension: &str) -> Result<Type, Reason> {
    let at = |offset: usize, magic: &[u8]| head.get(offset..offset + magic.len()) == Some(magic);
    if at(4, b"ftyp") {
        return match head.get(8..12) {
            Some(b"M4A " | b"M4B ") => Err(Reason::NotYet("sound in MP4")),
            Some(b"heic" | b"heix" | b"mif1") => Err(Reason::NotYet("HEIC")),
            Some(b"avif") => Err(Reason::NotYet("AVIF")),
            _ => Ok(Type::Mp4),
        };
    }
    if at(0, &[0xff, 0xd8, 0xff]) {
        return Ok(Type::Jpeg);
    }
    let known: [(usize, &[u8], &str); 11] = [
        (0, b"\x89PNG", "PNG"),
        (0, b"GIF8", "GIF"),
        (8, b"WEBP", "WebP"),
        (0, b"fLaC", "FLAC"),
        (0, b"OggS", "Ogg"),
        (8, b"WAVE", "WAV"),
        (8, b"AVI ", "AVI"),
        (8, b"AIFF", "AIFF"),
        (0, b"\x1a\x45\xdf\xa3", "Matroska"),
        (0, b"\x30\x26\xb2\x75", "ASF"),
        (0, b"\x00\x00\x01\xba", "MPEG program stream"),
    ];
    if let Some((_, _, name)) = known.iter().find(|(offset, magic, _)| at(*offset, magic)) {
        return Err(Reason::NotYet(name));
    }
    // Layer 3 frame sync: 11 set bits, a version that exists, layer bits 01.
    let frame =
        matches!(head, [0xff, second, ..] if second & 0xe6 == 0xe2 && second & 0x18 != 0x08);
    if at(0, b"ID3") || frame {
        return Ok(Type::Mp3);
    }
    match extension {
        "mp4" | "m4v" | "mov" => Ok(Type::Mp4),
        "mp3" => Ok(Type::Mp3),
        "jpg" | "jpeg" => Ok(Type::Jpeg),
        "srt" | "vtt" => Err(Reason::NotYet("a subtitle file")),
        "m3u" | "m3u8" | "pls" | "xspf" => Err(Reason::NotYet("a playlist")),
        "ts" | "m2ts" => Err(Reason::NotYet("MPEG transport stream")),
        _ => Err(Reason::NotMedia),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn contents_win_over_the_extension() {
        assert_eq!(sniff(b"\xff\xd8\xff\xe0", "mp4"), Ok(Type::Jpeg));
        assert_eq!(sniff(b"\0\0\0\x20ftypisom", "txt"), Ok(Type::Mp4));
        assert_eq!(sniff(b"ID3\x04", ""), Ok(Type::Mp3));
        assert_eq!(sniff(b"\xff\xfb\x90\x00", "dat"), Ok(Type::Mp3));
        assert_eq!(sniff(b"\x89PNG\r\n", "jpg"), Err(Reason::NotYet("PNG")));
        assert_eq!(sniff(b"hello", "txt"), Err(Reason::NotMedia));
        assert_eq!(sniff(b"", "mp3"), Ok(Type::Mp3));
    }

    #[test]
    fn damaged_files_are_left_out_with_a_reason() {
        let folder = tempfile::tempdir().unwrap();
        for (name, bytes) in [
            ("a.mp4", &b"\0\0\0\x10ftypisom\0\0\0\0"[..]),
            ("b.mp3", &b"not sound at all, whatever the name says"[..]),
            ("c.jpg", &b"\xff\xd8\xff\xe0\xff\xff"[..]),
            ("d.mp4", &b"\0\0\0\x10ftypisom\0\0\0\0\xff\xff\xff\xffmoov"[..]),
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
