use super::*;

#[test]
fn contents_win_over_the_extension() {
    let told = |head: &[u8], extension| Format::of_contents(head, extension);
    for (head, extension, format) in [
        (&b"\xff\xd8\xff\xe0"[..], "mp4", Format::Jpeg),
        (b"\0\0\0\x20ftypisom", "txt", Format::Mp4),
        (b"\0\0\0\x20ftypM4A ", "mp4", Format::M4a),
        (b"\0\0\0\x20ftypavif", "jpg", Format::Avif),
        (b"ID3\x04", "", Format::Mp3),
        (b"ID3\x04", "aac", Format::Adts),
        (b"ID3\x04", "mp4", Format::Mp3),
        (b"\xff\xfb\x90\x00", "dat", Format::Mp3),
        (b"\xff\xf1\x50\x80", "dat", Format::Adts),
        (b"\x89PNG\r\n", "jpg", Format::Png),
        (b"RIFF\0\0\0\0WEBPVP8 ", "jpg", Format::WebP),
        (b"OggS\0\0\0\0OpusHead", "ogg", Format::Opus),
        (b"OggS\0\0\0\0\x01vorbis", "opus", Format::Vorbis),
        (b"", "mp3", Format::Mp3),
    ] {
        assert_eq!(told(head, extension), Some(format), "{head:?}");
    }
    for (head, extension) in [
        (&b"hello"[..], "txt"),
        (b"hello", "mkv"),
        (b"RIFF\0\0\0\0CDXA", "mp4"),
        (b"OggS\0\0\0\0Speex", "mp3"),
        (b"", ""),
    ] {
        assert_eq!(told(head, extension), None, "{head:?}");
    }
    let mut packets = vec![0; 600];
    for n in 0..3 {
        packets[n * 188] = 0x47;
    }
    assert_eq!(told(&packets, ""), Some(Format::MpegTs));
}

#[test]
fn every_row_is_whole_and_no_extension_stands_for_two() {
    let mut extensions = std::collections::BTreeMap::new();
    for format in Format::ALL {
        let row = format.row();
        assert!(row.mime.contains('/') && !row.extensions.is_empty(), "{format:?}");
        for extension in row.extensions {
            assert_eq!(extension.to_lowercase(), *extension);
            let other = extensions.insert(*extension, format);
            assert!(other.is_none() || format == Format::JpegOther, "{extension}");
            assert!(matches!(FileClass::of_extension(extension), FileClass::Media(_)));
        }
    }
    assert_eq!(FileClass::of_extension("vtt"), FileClass::Captions { webvtt: true });
    assert_eq!(FileClass::of_extension("iso"), FileClass::Unknown);
}
