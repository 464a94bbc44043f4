//! Which profile a real file is announced with: one file for each row of the table of formats
//! (PROF-3, PROF-18). A file that fits none is published all the same, without one.
// A test that cannot go on has failed: that is what unwrap says.
#![allow(clippy::unwrap_used)]

mod made;

use std::path::Path;

use mostra_core::profile::protocol_info;
use mostra_media::probe::probe;

use made::make;

/// Makes a file and gives the MIME type and the profile it is announced with; `None` where there
/// is no ffmpeg.
fn announced(folder: &Path, name: &str, arguments: &str) -> Option<(String, Option<&'static str>)> {
    let path = make(folder, name, arguments)?;
    let size = std::fs::metadata(&path).unwrap().len();
    let facts = probe(&path, size, 7).unwrap_or_else(|e| panic!("{name}: {e}"));
    let info = protocol_info(&facts);
    Some((info.mime.into_owned(), info.profile))
}

fn rows(rows: &[(&str, String, &str, Option<&str>)]) {
    let folder = tempfile::tempdir().unwrap();
    for (number, (name, arguments, mime, profile)) in rows.iter().enumerate() {
        let name = format!("{number}.{name}");
        let Some(found) = announced(folder.path(), &name, arguments) else { return };
        assert_eq!(found, ((*mime).to_owned(), *profile), "{name}: {arguments}");
    }
}

fn still(size: &str) -> String {
    format!("-f lavfi -i testsrc=size={size}:rate=1 -frames:v 1")
}

#[test]
fn pictures_by_their_size() {
    rows(&[
        ("jpg", still("160x160"), "image/jpeg", Some("JPEG_TN")),
        ("jpg", still("640x480"), "image/jpeg", Some("JPEG_SM")),
        ("jpg", still("480x640"), "image/jpeg", Some("JPEG_MED")),
        ("jpg", still("1024x768"), "image/jpeg", Some("JPEG_MED")),
        ("jpg", still("1026x768"), "image/jpeg", Some("JPEG_LRG")),
        ("jpg", still("4200x100"), "image/jpeg", None),
        ("png", still("160x120"), "image/png", Some("PNG_TN")),
        ("png", still("1000x800"), "image/png", Some("PNG_LRG")),
        ("gif", still("1600x1200"), "image/gif", Some("GIF_LRG")),
        ("gif", still("1602x1200"), "image/gif", None),
        // One that moves, however slowly.
        ("gif", still("320x240").replace("-frames:v 1", "-frames:v 2"), "image/gif", None),
        ("webp", still("100x100"), "image/webp", None),
    ]);
    // Progressive, four colours, 12 bits: the frame's own marker and numbers say so.
    let folder = tempfile::tempdir().unwrap();
    if announced(folder.path(), "a.jpg", &still("320x240")).is_none() {
        return;
    }
    let bytes = std::fs::read(folder.path().join("a.jpg")).unwrap();
    let frame = bytes.windows(2).position(|w| w == [0xff, 0xc0]).unwrap();
    for (place, value) in [(1, 0xc2), (4, 12), (9, 4)] {
        let mut other = bytes.clone();
        other[frame + place] = value;
        let path = folder.path().join("other.jpg");
        std::fs::write(&path, &other).unwrap();
        let info = protocol_info(&probe(&path, other.len() as u64, 7).unwrap());
        assert_eq!((&*info.mime, info.profile), ("image/jpeg", None), "{place}");
    }
}

fn tone(rate: u32, channels: u32, rest: &str) -> String {
    format!("-f lavfi -i sine=frequency=440:sample_rate={rate}:duration=1 -ac {channels} {rest}")
}

#[test]
fn sound_by_codec_rate_and_channels() {
    let mp3 = |bits: &str| format!("-c:a libmp3lame -b:a {bits}");
    rows(&[
        ("mp3", tone(44_100, 2, &mp3("128k")), "audio/mpeg", Some("MP3")),
        ("mp3", tone(48_000, 1, &mp3("320k")), "audio/mpeg", Some("MP3")),
        ("mp3", tone(22_050, 2, &mp3("64k")), "audio/mpeg", Some("MP3X")),
        ("mp3", tone(11_025, 1, &mp3("32k")), "audio/mpeg", None),
        ("m4a", tone(44_100, 2, "-c:a aac -b:a 128k"), "audio/mp4", Some("AAC_ISO_320")),
        ("m4a", tone(48_000, 6, "-c:a aac"), "audio/mp4", None),
        ("m4a", tone(44_100, 2, "-c:a alac"), "audio/mp4", None),
        ("aac", tone(44_100, 2, "-c:a aac"), "audio/vnd.dlna.adts", Some("AAC_ADTS_320")),
        ("wav", tone(44_100, 2, "-c:a pcm_s16le"), "audio/wav", None),
        ("aiff", tone(44_100, 2, "-c:a pcm_s16be"), "audio/aiff", None),
        ("flac", tone(44_100, 2, "-c:a flac"), "audio/flac", None),
        ("ogg", tone(44_100, 2, "-c:a libvorbis"), "audio/ogg", None),
        ("opus", tone(48_000, 2, "-c:a libopus"), "audio/ogg", None),
        ("wma", tone(44_100, 2, "-c:a wmav2"), "audio/x-ms-wma", None),
    ]);
}

/// A second of film: size, pictures a second, codec of the picture, codec of the sound.
fn film(size: &str, rate: &str, video: &str, audio: &str) -> String {
    format!(
        "-f lavfi -i testsrc=size={size}:rate={rate}:duration=1 \
         -f lavfi -i sine=frequency=440:sample_rate=48000:duration=1 -ac 2 \
         -pix_fmt yuv420p {video} {audio}"
    )
}

const NTSC: &str = "30000/1001";

fn main_avc(level: &str) -> String {
    format!("-c:v libx264 -preset veryfast -profile:v main -level {level}")
}

fn high_avc() -> String {
    "-c:v libx264 -preset veryfast -profile:v high -level 3.0".into()
}

#[test]
fn films_in_mp4_by_profile_level_and_sound() {
    let (sd, main) = ("320x240", main_avc("3.0"));
    let (aac, mp3, ac3) = ("-c:a aac", "-c:a libmp3lame", "-c:a ac3");
    rows(&[
        ("mp4", film(sd, "25", &main, aac), "video/mp4", Some("AVC_MP4_MP_SD_AAC_MULT5")),
        ("mp4", film(sd, "25", &main, mp3), "video/mp4", Some("AVC_MP4_MP_SD_MPEG1_L3")),
        ("mp4", film(sd, "25", &main, ac3), "video/mp4", Some("AVC_MP4_MP_SD_AC3")),
        ("mp4", film(sd, "25", &main_avc("3.1"), aac), "video/mp4", None),
        ("mp4", film("1280x720", "25", &main_avc("3.1"), aac), "video/mp4", None),
        ("mp4", film(sd, "25", &high_avc(), aac), "video/mp4", None),
        ("mp4", film(sd, "25", "-c:v mpeg4", aac), "video/mp4", None),
        ("mov", film(sd, "25", &main, aac), "video/quicktime", None),
        ("mkv", film(sd, "25", &main, aac), "video/x-matroska", None),
        ("webm", film(sd, "25", "-c:v libvpx", "-c:a libvorbis"), "video/webm", None),
        ("avi", film(sd, "25", "-c:v mpeg4", mp3), "video/x-msvideo", None),
        ("wmv", film(sd, "25", "-c:v wmv2", "-c:a wmav2"), "video/x-ms-wmv", None),
    ]);
}

#[test]
fn films_in_streams_by_rate_size_and_sound() {
    let (mp1, mp2) = ("-c:v mpeg1video -f vcd", "-c:v mpeg2video");
    let vob = "-c:v mpeg2video -f vob";
    let (l2, aac, mp3, ac3) = ("-c:a mp2", "-c:a aac", "-c:a libmp3lame", "-c:a ac3");
    let sd = main_avc("3.0");
    let hd = main_avc("4.0");
    let mpeg = "video/mpeg";
    rows(&[
        ("mpg", film("352x288", "25", mp1, "-ar 44100 -c:a mp2"), mpeg, Some("MPEG1")),
        ("mpg", film("720x576", "25", vob, ac3), mpeg, Some("MPEG_PS_PAL")),
        ("mpg", film("720x480", NTSC, vob, l2), mpeg, Some("MPEG_PS_NTSC")),
        ("mpg", film("720x480", "24", vob, l2), mpeg, None),
        // Twice the colour, or another level, than the profile has.
        ("mpg", film("720x576", "25", &format!("{vob} -pix_fmt yuv422p"), ac3), mpeg, None),
        ("ts", film("720x576", "25", &format!("{mp2} -pix_fmt yuv422p"), l2), mpeg, None),
        ("mpg", film("720x576", "25", &format!("{vob} -profile:v 4 -level:v 6"), ac3), mpeg, None),
        ("ts", film("720x576", "25", mp2, l2), mpeg, Some("MPEG_TS_SD_EU_ISO")),
        ("ts", film("720x480", NTSC, mp2, ac3), mpeg, Some("MPEG_TS_SD_NA_ISO")),
        ("ts", film("1280x720", NTSC, mp2, ac3), mpeg, Some("MPEG_TS_HD_NA_ISO")),
        ("ts", film("1280x720", NTSC, mp2, l2), mpeg, None),
        ("ts", film("720x576", "25", &sd, ac3), mpeg, Some("AVC_TS_MP_SD_AC3_ISO")),
        ("ts", film("720x576", "25", &sd, aac), mpeg, Some("AVC_TS_MP_SD_AAC_MULT5_ISO")),
        ("ts", film("720x576", "25", &sd, mp3), mpeg, Some("AVC_TS_MP_SD_MPEG1_L3_ISO")),
        ("ts", film("1280x720", "25", &hd, ac3), mpeg, Some("AVC_TS_MP_HD_AC3_ISO")),
        ("ts", film("1280x720", "25", &hd, aac), mpeg, Some("AVC_TS_MP_HD_AAC_MULT5_ISO")),
        ("ts", film("1280x720", "25", &hd, mp3), mpeg, Some("AVC_TS_MP_HD_MPEG1_L3_ISO")),
        ("ts", film("320x240", "25", &main_avc("5.0"), ac3), mpeg, None),
        ("m2ts", film("720x576", "25", &sd, ac3), "video/vnd.dlna.mpeg-tts", None),
    ]);
}
