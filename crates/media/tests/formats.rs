//! Files of every format, made by ffmpeg, and what is read from them.
// A test that cannot go on has failed: that is what unwrap says.
#![allow(clippy::unwrap_used)]

mod made;

use std::path::Path;
use std::process::Command;

use mostra_core::Kind;
use mostra_core::facts::Facts;
use mostra_core::format::Format;
use mostra_core::profile::Rendition;
use mostra_core::samples::Samples;
use mostra_media::{art, probe::probe};

use made::make;

fn facts(path: &Path) -> Facts {
    probe(path, std::fs::metadata(path).unwrap().len(), 7)
        .unwrap_or_else(|e| panic!("{path:?}: {e}"))
}

const TONE: &str = "-f lavfi -i sine=frequency=440:sample_rate=44100:duration=2 -ac 2";
const TAGS: &str = "-metadata title=Low_Water -metadata artist=Ana_Brisk -metadata album=Estuary -metadata album_artist=Volt_Nine -metadata genre=Folk -metadata date=2018 -metadata track=3/9 -metadata disc=1/2 -metadata composer=Mara_Quill";

#[test]
fn sound_of_every_format() {
    let folder = tempfile::tempdir().unwrap();
    for (name, codec, format, codec_name) in [
        ("a.mp3", "-c:a libmp3lame", Format::Mp3, "mp3"),
        ("a.m4a", "-c:a aac", Format::M4a, "aac-lc"),
        ("a.flac", "-c:a flac", Format::Flac, "flac"),
        ("a.ogg", "-c:a libvorbis", Format::Vorbis, "vorbis"),
        ("a.opus", "-c:a libopus", Format::Opus, "opus"),
        ("a.wav", "-c:a pcm_s16le", Format::Wav, "lpcm"),
        ("a.aiff", "-c:a pcm_s16be -write_id3v2 1", Format::Aiff, "lpcm"),
        ("a.wma", "-c:a wmav2", Format::Wma, "wmav2"),
    ] {
        let Some(path) = make(folder.path(), name, &format!("{TONE} {TAGS} {codec}")) else {
            return;
        };
        let facts = facts(&path);
        assert_eq!((facts.kind, facts.format), (Kind::Music, format), "{name}");
        let track = facts.audio().unwrap();
        assert_eq!((track.codec.as_str(), track.channels), (codec_name, Some(2)), "{name}");
        let rate = if format == Format::Opus { 48_000 } else { 44_100 };
        assert_eq!(track.sample_rate, Some(rate), "{name}");
        assert!((1_900..2_200).contains(&facts.duration_ms.unwrap()), "{name}: {facts:?}");
        assert!(facts.bit_rate.unwrap() > 2_000, "{name}");
        // A wave file has tags of its own, of which few are kept.
        if format == Format::Wav {
            assert_eq!(facts.title.as_deref(), Some("Low_Water"));
            continue;
        }
        assert_eq!(facts.title.as_deref(), Some("Low_Water"), "{name}");
        assert_eq!(facts.artists, ["Ana_Brisk"], "{name}");
        assert_eq!(facts.album.as_deref(), Some("Estuary"), "{name}");
        assert_eq!(facts.album_artist.as_deref(), Some("Volt_Nine"), "{name}");
        assert_eq!(facts.genres, ["Folk"], "{name}");
        assert_eq!(facts.composers, ["Mara_Quill"], "{name}");
        assert_eq!(facts.date.unwrap().year(), 2018, "{name}");
        assert_eq!(facts.track.0, Some(3), "{name}");
    }
    // Where plain samples lie, also for who writes the longer header; of others nobody says so.
    for (name, codec, samples) in [
        ("b.wav", "-c:a pcm_s16le", Some(0)),
        ("three.wav", "-c:a pcm_s24le", None),
        ("b.aiff", "-c:a pcm_s16be", Some(0)),
        ("turned.aiff", "-c:a pcm_s16le -f aiff", None),
        ("law.wav", "-c:a pcm_mulaw", None),
    ] {
        let path = make(folder.path(), name, &format!("{TONE} {TAGS} {codec}")).unwrap();
        let found = Samples::of(&facts(&path));
        assert_eq!(found.map(|_| 0), samples, "{name}");
        if let Some(found) = found {
            let bytes = std::fs::read(&path).unwrap();
            let (from, to) = (found.first as usize, (found.first + found.length) as usize);
            let ours: Vec<u8> = match found.swapped {
                false => bytes[from..to].to_vec(),
                true => bytes[from..to].chunks(2).flat_map(|pair| [pair[1], pair[0]]).collect(),
            };
            let told = Command::new("ffmpeg")
                .args(["-loglevel", "error", "-i", path.to_str().unwrap(), "-f", "s16be", "-"])
                .output()
                .unwrap();
            assert!(ours == told.stdout && ours.len() == 352_800, "{name}: {}", ours.len());
        }
    }
    // Raw frames have no tags.
    let path = make(folder.path(), "a.aac", &format!("{TONE} -c:a aac")).unwrap();
    assert_eq!(facts(&path).format, Format::Adts);
}

#[test]
fn films_of_every_format() {
    let folder = tempfile::tempdir().unwrap();
    let picture = "-f lavfi -i testsrc=size=320x240:rate=25:duration=2";
    let srt = folder.path().join("s.srt");
    std::fs::write(&srt, "1\n00:00:00,000 --> 00:00:01,000\nFog\n").unwrap();
    let main = "-c:v libx264 -profile:v main -level 3.0 -pix_fmt yuv420p";
    for (name, codec, format, video, audio) in [
        ("v.mp4", format!("{main} -c:a aac"), Format::Mp4, "h264", "aac-lc"),
        ("v.mov", format!("{main} -c:a aac"), Format::QuickTime, "h264", "aac-lc"),
        ("v.mkv", format!("{main} -c:a ac3"), Format::Matroska, "h264", "ac3"),
        ("v.webm", "-c:v libvpx -c:a libvorbis".into(), Format::WebM, "vp8", "vorbis"),
        ("v.ts", format!("{main} -c:a aac"), Format::MpegTs, "h264", "aac-lc"),
        ("v.m2ts", format!("{main} -c:a ac3"), Format::M2ts, "h264", "ac3"),
        ("v.mpg", "-c:v mpeg2video -c:a mp2 -f vob".into(), Format::MpegPs, "mpeg2video", "mp2"),
        ("v.avi", "-c:v mpeg4 -c:a libmp3lame".into(), Format::Avi, "mpeg4", "mp3"),
        ("v.wmv", "-c:v wmv2 -c:a wmav2".into(), Format::Wmv, "wmv2", "wmav2"),
    ] {
        let arguments =
            format!("{picture} {TONE} -metadata:s:a:0 language=eng -metadata title=Fog {codec}");
        let Some(path) = make(folder.path(), name, &arguments) else { return };
        let facts = facts(&path);
        assert_eq!((facts.kind, facts.format), (Kind::Video, format), "{name}");
        assert_eq!(facts.video.as_ref().unwrap().name, video, "{name}");
        assert_eq!(facts.resolution, Some((320, 240)), "{name}");
        assert_eq!(facts.frame_rate_milli, Some(25_000), "{name}");
        assert_eq!(facts.audio().unwrap().codec, audio, "{name}");
        assert!((1_800..2_400).contains(&facts.duration_ms.unwrap()), "{name}: {facts:?}");
        if video == "h264" {
            let video = facts.video.as_ref().unwrap();
            assert_eq!((video.profile, video.level), (Some(77), Some(30)), "{name}");
        }
        if matches!(format, Format::Mp4 | Format::Matroska | Format::WebM) {
            assert_eq!(facts.title.as_deref(), Some("Fog"), "{name}");
            assert_eq!(facts.audio().unwrap().language.as_deref(), Some("eng"), "{name}");
        }
        let source = art::PictureSource::of(&facts, std::fs::File::open(&path).unwrap(), None);
        let rendition = mostra_core::profile::Rendition::Thumbnail;
        let made = art::make(source, rendition);
        assert!(
            made.iter().any(|(one, jpeg)| *one == rendition && jpeg[..2] == [0xff, 0xd8]),
            "{name}"
        );
    }
    let two = format!(
        "{picture} {TONE} -i {} -map 0 -map 1 -map 1 -map 2 {main} -c:a aac -c:s srt \
         -metadata:s:a:1 language=fra -metadata:s:s:0 language=deu",
        srt.display()
    );
    let facts = facts(&make(folder.path(), "two.mkv", &two).unwrap());
    assert_eq!(facts.tracks.len(), 2);
    assert_eq!(facts.tracks[1].language.as_deref(), Some("fra"));
    assert_eq!(facts.subtitles[0].language.as_deref(), Some("deu"));
}

#[test]
fn pictures_of_every_format() {
    let folder = tempfile::tempdir().unwrap();
    let source = "-f lavfi -i testsrc=size=320x240:rate=1:duration=1 -frames:v 1";
    for (name, format) in [
        ("p.jpg", Format::Jpeg),
        ("p.png", Format::Png),
        ("p.gif", Format::Gif),
        ("p.webp", Format::WebP),
        ("p.avif", Format::Avif),
    ] {
        let Some(path) = make(folder.path(), name, source) else { return };
        let facts = facts(&path);
        assert_eq!((facts.kind, facts.format), (Kind::Picture, format), "{name}");
        assert_eq!(facts.resolution, Some((320, 240)), "{name}");
    }
}

/// What a telephone makes: HEIC with what it knows of the moment.
#[test]
fn heic_with_what_the_camera_wrote() {
    let folder = tempfile::tempdir().unwrap();
    let photo =
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/media/Pictures/Storm/Storm 1.jpg");
    let path = folder.path().join("p.heic");
    let made = Command::new("heif-enc").arg(&photo).arg("-o").arg(&path).output();
    let Ok(output) = made else {
        made::not_run("no heif-enc");
        return;
    };
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let (facts, original) = (facts(&path), facts(&photo));
    assert_eq!((facts.kind, facts.format), (Kind::Picture, Format::Heic));
    assert_eq!((facts.resolution, facts.date), (original.resolution, original.date));
    assert!(facts.date.is_some());
    let file = std::fs::File::open(&path).unwrap();
    let made = art::make(art::PictureSource::of(&facts, file, None), Rendition::Medium);
    assert_eq!(made.len(), 3);
    assert_eq!(made[0].1[..2], [0xff, 0xd8]);
}

#[test]
fn cut_files_harm_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let picture = "-f lavfi -i testsrc=size=64x48:rate=5:duration=1";
    for name in ["c.mp4", "c.mkv", "c.mp3", "c.flac", "c.jpg", "c.png", "c.avi", "c.m4a"] {
        let input = if ["c.mp3", "c.flac", "c.m4a"].contains(&name) { TONE } else { picture };
        let frames = if ["c.jpg", "c.png"].contains(&name) { "-frames:v 1" } else { "" };
        let Some(path) = make(folder.path(), name, &format!("{input} {frames}")) else { return };
        let whole = std::fs::read(&path).unwrap();
        for part in [1, 3, 17, 100, whole.len() / 3, whole.len() / 2, whole.len() - 1] {
            std::fs::write(&path, &whole[..part]).unwrap();
            // Facts or a reason; never a panic, never without end.
            let _ = probe(&path, part as u64, 0);
        }
    }
}
