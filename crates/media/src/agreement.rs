//! What our own readers tell of films in old containers is what ffprobe tells.

#[path = "../tests/made/mod.rs"]
mod made;

use std::fs::File;
use std::path::Path;

use mostra_core::facts::Facts;
use mostra_core::format::{Format, FormatReader};

use crate::part_reader::PartReader;
use crate::{asf, avi, ffprobe, mpeg};

use made::make;

fn bare(path: &Path) -> Facts {
    let size = std::fs::metadata(path).unwrap().len();
    let mut file = PartReader::new(File::open(path).unwrap(), size);
    let extension = path.extension().unwrap().to_str().unwrap().to_owned();
    let format = Format::of_contents(file.head().unwrap(), &extension).unwrap();
    Facts::bare(format.kind(), format, size, 0)
}

fn ours(path: &Path) -> Option<Facts> {
    let facts = bare(path);
    let mut file = PartReader::new(File::open(path).unwrap(), facts.size);
    match facts.format.row().reader {
        FormatReader::Transport => mpeg::transport::read(&mut file, facts),
        FormatReader::Program => mpeg::program::read(&mut file, facts),
        FormatReader::Avi => avi::read(&mut file, facts),
        FormatReader::Asf => asf::read(&mut file, facts),
        other => panic!("{other:?} reads {path:?}"),
    }
}

/// Holds that both agree on codecs, size, duration, channels and rates.
fn agree(path: &Path, what: &str) {
    let theirs = ffprobe::read(&File::open(path).unwrap(), bare(path)).unwrap();
    let ours = ours(path).unwrap_or_else(|| panic!("{what}: not read; ffprobe: {theirs:?}"));
    assert_eq!(ours.kind, theirs.kind, "{what}");
    assert_eq!(ours.format, theirs.format, "{what}");
    assert_eq!(ours.resolution, theirs.resolution, "{what}");
    let name = |facts: &Facts| facts.video.as_ref().map(|video| video.name.clone());
    assert_eq!(name(&ours), name(&theirs), "{what}");
    let milli = |facts: &Facts| f64::from(facts.frame_rate_milli.unwrap_or(0));
    let rates = (milli(&ours), milli(&theirs));
    assert!((rates.0 - rates.1).abs() <= rates.1 * 0.01, "{what}: {rates:?}");
    let sound = |facts: &Facts| -> Vec<_> {
        let tracks = facts.tracks.iter();
        tracks.map(|t| (t.codec.clone(), t.sample_rate, t.channels)).collect()
    };
    assert_eq!(sound(&ours), sound(&theirs), "{what}");
    let ms = |facts: &Facts| facts.duration_ms.unwrap_or(0) as f64;
    let (mine, its) = (ms(&ours), ms(&theirs));
    assert!((mine - its).abs() <= its * 0.01, "{what}: {mine} ms, ffprobe {its} ms");
    if let (Some(mine), Some(its)) = (&ours.video, &theirs.video)
        && its.profile.is_some()
    {
        assert_eq!((mine.profile, mine.level), (its.profile, its.level), "{what}");
    }
}

#[test]
fn our_readers_and_ffprobe_agree() {
    let folder = tempfile::tempdir().unwrap();
    let pal = "-f lavfi -i testsrc=size=720x576:rate=25:duration=6";
    let ntsc = "-f lavfi -i testsrc=size=720x480:rate=30000/1001:duration=6";
    let wide = "-f lavfi -i testsrc=size=1280x720:rate=50:duration=5";
    let tone = "-f lavfi -i sine=frequency=440:sample_rate=48000:duration=6";
    let main = "-c:v libx264 -preset ultrafast -profile:v main -pix_fmt yuv420p";
    let high = "-c:v libx264 -preset medium -pix_fmt yuv420p";
    let surround = "-ac 6";
    let mut read = 0;
    for (name, arguments) in [
        ("a.ts", format!("{pal} {tone} {main} -c:a aac -ac 2")),
        ("b.ts", format!("{ntsc} {tone} {high} -c:a ac3 {surround}")),
        ("c.ts", format!("{wide} {tone} {high} -bf 3 -c:a mp2 -ac 2")),
        ("d.ts", format!("{pal} {tone} -c:v mpeg2video -c:a mp2 -ac 2")),
        ("e.ts", format!("{pal} {tone} -c:v mpeg2video -c:a eac3 {surround}")),
        ("f.ts", format!("{ntsc} {tone} -c:v mpeg1video -c:a mp2 -ac 1")),
        ("g.ts", format!("{pal} {tone} {main} -flags +ildct+ilme -c:a dca -strict -2 {surround}")),
        (
            "h.ts",
            format!(
                "{wide} {tone} -c:v libx265 -preset ultrafast -x265-params log-level=none -c:a aac -ac 2"
            ),
        ),
        ("i.ts", format!("{tone} -c:a mp2 -ac 2")),
        (
            "j.ts",
            format!(
                "{pal} {tone} {tone} -map 0 -map 1 -map 2 {main} -c:a ac3 -ac 2 -metadata:s:a:0 language=eng -metadata:s:a:1 language=fra"
            ),
        ),
        ("a.m2ts", format!("{wide} {tone} {high} -c:a ac3 -ac 2 -mpegts_m2ts_mode 1")),
        ("b.m2ts", format!("{pal} {tone} {main} -c:a pcm_bluray -ac 2 -mpegts_m2ts_mode 1")),
        ("a.mpg", format!("{pal} {tone} -c:v mpeg2video -c:a mp2 -ac 2 -f vob")),
        ("b.mpg", format!("{ntsc} {tone} -c:v mpeg2video -c:a ac3 {surround} -f vob")),
        ("c.mpg", format!("{pal} {tone} -c:v mpeg1video -c:a mp2 -ac 2 -f mpeg")),
        ("d.mpg", format!("{pal} {tone} -c:v mpeg2video -c:a pcm_dvd -ac 2 -f vob")),
        ("e.mpg", format!("{pal} {tone} -c:v mpeg2video -c:a dca -strict -2 -ac 2 -f vob")),
        ("a.avi", format!("{pal} {tone} -c:v mpeg4 -c:a libmp3lame -ac 2")),
        ("b.avi", format!("{ntsc} {tone} -c:v mpeg4 -vtag DX50 -c:a ac3 {surround}")),
        ("c.avi", format!("{pal} {tone} -c:v mjpeg -c:a pcm_s16le -ac 2")),
        ("d.avi", format!("{pal} {tone} {main} -c:a libmp3lame -ac 2")),
        ("e.avi", format!("{pal} {tone} -c:v msmpeg4v3 -c:a mp2 -ac 1 -metadata title=Fog")),
        ("f.avi", format!("{pal} -c:v mpeg4")),
        ("a.wmv", format!("{pal} {tone} -c:v wmv2 -c:a wmav2 -ac 2 -metadata title=Fog")),
        ("b.wmv", format!("{ntsc} {tone} -c:v wmv1 -c:a wmav1 -ac 2")),
        ("c.wmv", format!("{wide} {tone} -c:v msmpeg4v3 -c:a libmp3lame -ac 2")),
        ("a.wma", format!("{tone} -c:a wmav2 -ac 2 -metadata title=Fog -metadata artist=Ana")),
    ] {
        let Some(path) = make(folder.path(), name, &arguments) else { return };
        agree(&path, name);
        read += 1;
    }
    assert_eq!(read, 27);
}

#[test]
fn what_is_cut_off_anywhere_is_refused_or_read_and_never_worse() {
    let folder = tempfile::tempdir().unwrap();
    let picture = "-f lavfi -i testsrc=size=160x120:rate=25:duration=2 -c:v mpeg2video";
    let tone = "-f lavfi -i sine=duration=2 -c:a mp2";
    for name in ["a.ts", "a.m2ts", "a.mpg", "a.avi", "a.wmv"] {
        let more = match name {
            "a.wmv" => "-c:v wmv2 -c:a wmav2",
            "a.m2ts" => "-mpegts_m2ts_mode 1",
            "a.mpg" => "-f vob",
            _ => "",
        };
        let made = make(
            folder.path(),
            name,
            &format!(
                "{} {} {more}",
                picture.replace(" -c:v", &format!(" {} -c:v", tone.split(" -c").next().unwrap())),
                "-c:a mp2"
            ),
        );
        let Some(path) = made else { return };
        let whole = std::fs::read(&path).unwrap();
        for part in 1..60 {
            let length = whole.len() * part / 60;
            let mut bytes = whole[..length].to_vec();
            // And with a few bytes that were written over.
            for n in 0..part {
                let at = (n * 7919 + part * 104_729) % length;
                bytes[at] ^= 0xa5;
            }
            bytes[..12].copy_from_slice(&whole[..12]);
            std::fs::write(&path, &bytes).unwrap();
            let extension = path.extension().unwrap().to_str().unwrap();
            if Format::of_contents(&bytes[..bytes.len().min(1024)], extension).is_some() {
                let _ = ours(&path);
            }
        }
    }
}
