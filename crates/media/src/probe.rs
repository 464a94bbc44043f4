//! What a file is: by its contents, and by its extension where contents are unclear (PROF-13).

use std::fs::File;
use std::io::Seek as _;
use std::path::Path;

use mostra_core::facts::Facts;
use mostra_core::format::{FileClass, Format, FormatReader};

use crate::extension::Extension;
use crate::part_reader::PartReader;
use crate::walk::Stat;
use mostra_core::left_out::Reason;

use crate::{asf, audio, avi, ffprobe, jpeg, matroska, mp4, mpeg, picture, unreadable};

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
    probe_opened(file, extension, Stat { size, modified_ms })
}

/// The same of a file that is open already, with its extension.
///
/// # Errors
/// The [`Reason`] for which it is left out.
pub fn probe_opened(file: File, extension: Extension, stat: Stat) -> Result<Facts, Reason> {
    let Stat { size, modified_ms } = stat;
    if size == 0 {
        return Err(Reason::Empty);
    }
    let mut file = PartReader::new(file, size);
    let head = file.head().map_err(|e| unreadable(&e))?;
    let format = sniff(&head[..head.len().min(HEAD)], &extension)?;
    file.rewind().map_err(|e| unreadable(&e))?;
    let facts = Facts::bare(format.kind(), format, size, modified_ms);
    let read = match format.row().reader {
        FormatReader::Mp4 => mp4::read(&mut file, facts),
        FormatReader::Matroska => matroska::read(&mut file, facts),
        FormatReader::Jpeg => jpeg::read(&mut file, facts),
        FormatReader::Picture => picture::read(&mut file, facts),
        FormatReader::Tags(codec) => audio::read(&mut file, facts, codec),
        FormatReader::Adts => audio::adts(&mut file, facts),
        FormatReader::Transport => or_ffprobe(mpeg::transport::read, &mut file, facts),
        FormatReader::Program => or_ffprobe(mpeg::program::read, &mut file, facts),
        FormatReader::Avi => or_ffprobe(avi::read, &mut file, facts),
        FormatReader::Asf => or_ffprobe(asf::read, &mut file, facts),
        FormatReader::Probe => ffprobe::read(file.inner(), facts),
    };
    read.map(Facts::tamed)
}

/// By a reader of ours; where that cannot tell all, by ffprobe.
fn or_ffprobe(
    read: impl FnOnce(&mut PartReader, Facts) -> Option<Facts>,
    file: &mut PartReader,
    facts: Facts,
) -> Result<Facts, Reason> {
    match read(file, facts.clone()) {
        Some(read) => Ok(read),
        None => ffprobe::read(file.inner(), facts),
    }
}

fn sniff(head: &[u8], extension: &str) -> Result<Format, Reason> {
    Format::of_contents(head, extension).ok_or_else(|| match FileClass::of_extension(extension) {
        _ if head.starts_with(b"OggS") => Reason::OtherOgg,
        FileClass::Captions { .. } => Reason::Captions,
        FileClass::Playlist => Reason::Playlist,
        _ => Reason::NotMedia,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_media_has_its_reason() {
        assert_eq!(sniff(b"hello", "txt"), Err(Reason::NotMedia));
        assert_eq!(sniff(b"#EXTM3U", "m3u"), Err(Reason::Playlist));
        assert_eq!(sniff(b"1", "srt"), Err(Reason::Captions));
        assert_eq!(sniff(b"OggS\0\0\0\0Speex", "ogg"), Err(Reason::OtherOgg));
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
            assert!(matches!(reason, Reason::Damaged(_)), "{name}: {reason}");
        }
        assert_eq!(probe(Path::new("/nowhere"), 0, 0), Err(Reason::Empty));
        assert!(matches!(probe(Path::new("/nowhere"), 1, 0), Err(Reason::Unreadable(_))));
    }

    #[test]
    fn a_picture_that_is_cut_off_is_left_out_and_one_with_more_behind_it_is_not() {
        let folder = tempfile::tempdir().unwrap();
        let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/media/Pictures");
        let whole = std::fs::read(demo.join("Tides/Low water mark.jpg")).unwrap();
        let read = |name: &str, bytes: &[u8]| {
            let path = folder.path().join(name);
            std::fs::write(&path, bytes).unwrap();
            probe(&path, bytes.len() as u64, 0)
        };
        assert!(read("whole.jpg", &whole).is_ok());
        for part in [2, 3, 10] {
            let cut = read("cut.jpg", &whole[..whole.len() - whole.len() / part]);
            assert_eq!(cut, Err(Reason::damaged("the file is incomplete (cut off)")), "{part}");
        }
        let film = vec![0; 200 << 10];
        assert!(read("moving.jpg", &[&whole[..], &film].concat()).is_ok());
    }
}
