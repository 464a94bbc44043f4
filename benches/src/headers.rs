//! What films in old containers are, read by us and by ffprobe.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Instant;

use mostra_media::probe::probe;

/// Files of each sort that we read, and of these that ffprobe reads.
const FILES: usize = 1000;
const THEIRS: usize = 50;

pub(crate) fn measure(report: &mut String) {
    let folder = tempfile::tempdir().expect("a folder");
    let _ = writeln!(
        report,
        "## Headers of {FILES} films, in the page cache, one thread\n\n\
         | container | ms a file | ffprobe, ms a file ({THEIRS} of them) | ratio | aim |\n\
         | --- | --- | --- | --- | --- |"
    );
    for (name, arguments) in [
        ("ts", "-c:v libx264 -preset ultrafast -pix_fmt yuv420p -c:a aac -ac 2"),
        ("mpg", "-c:v mpeg2video -c:a mp2 -ac 2 -f vob"),
        ("avi", "-c:v mpeg4 -c:a libmp3lame -ac 2"),
        ("wmv", "-c:v wmv2 -c:a wmav2 -ac 2"),
    ] {
        let films = films(folder.path(), name, arguments);
        let begin = Instant::now();
        for film in &films {
            let size = std::fs::metadata(film).expect("its size").len();
            let facts = probe(film, size, 0).expect("facts");
            assert!(facts.duration_ms.is_some() && facts.video.is_some(), "{film:?}");
        }
        let ours = begin.elapsed().as_secs_f64() * 1000.0 / FILES as f64;
        let begin = Instant::now();
        for film in &films[..THEIRS] {
            let status = Command::new("ffprobe")
                .args(["-v", "error", "-print_format", "json", "-show_format", "-show_streams"])
                .arg(film)
                .stdout(Stdio::null())
                .status();
            assert!(status.expect("ffprobe runs").success());
        }
        let theirs = begin.elapsed().as_secs_f64() * 1000.0 / THEIRS as f64;
        let _ =
            writeln!(report, "| {name} | {ours:.3} | {theirs:.1} | {:.0} | 50 |", theirs / ours);
    }
    report.push('\n');
}

/// A film of three seconds, so many times.
fn films(folder: &Path, name: &str, arguments: &str) -> Vec<PathBuf> {
    let first = folder.join(format!("0.{name}"));
    let made = Command::new("ffmpeg")
        .args(["-v", "error", "-y", "-nostdin", "-f", "lavfi", "-i"])
        .args(["testsrc=size=720x576:rate=25:duration=3", "-f", "lavfi", "-i"])
        .arg("sine=frequency=440:sample_rate=48000:duration=3")
        .args(arguments.split_whitespace())
        .arg(&first)
        .status();
    assert!(made.expect("ffmpeg runs").success());
    let copies = (1..FILES).map(|n| {
        let copy = folder.join(format!("{n}.{name}"));
        std::fs::copy(&first, &copy).expect("a copy");
        copy
    });
    std::iter::once(first.clone()).chain(copies).collect()
}
