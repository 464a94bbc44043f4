//! What a decoder gets over the wire is what is in the file.

use std::path::Path;
use std::process::Command;

use mostra_tests::raw::{ask, browse, media_path};
use mostra_tests::{SERVER, in_a_house, top, until};

/// Frames decoded from the middle on, as checksums.
fn frames(input: &str) -> String {
    let output = Command::new("ffmpeg")
        .args([
            "-nostdin",
            "-hide_banner",
            "-loglevel",
            "error",
            "-ss",
            "24",
            "-i",
            input,
            "-t",
            "2",
        ])
        .args(["-map", "0:v:0", "-map", "0:a:0", "-f", "framemd5", "-"])
        .output()
        .expect("ffmpeg runs");
    assert!(
        output.status.success() && output.stderr.is_empty(),
        "{}",
        String::from_utf8_lossy(&output.stderr)
    );
    String::from_utf8(output.stdout).unwrap()
}

#[test]
fn a_decoder_seeks_to_the_middle_and_sees_the_files_own_frames() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        // ffmpeg asks from 127.0.0.1, so that is the device to admit.
        ask("127.0.0.1", "GET", "/about/device.xml", "");
        ask("127.0.0.1", "GET", "/media/none", "");
        until(30, "the device", || house.device("127.0.0.1"));
        house.admit("127.0.0.1");
        let path = media_path(&browse("127.0.0.1", "video-all"), "Harbour at dawn");
        let file = top().join("demo/media/Films/Harbour at dawn.mp4");
        let (over_the_wire, on_disk) =
            (frames(&format!("http://{SERVER}{path}")), frames(file.to_str().unwrap()));
        assert!(
            on_disk.lines().filter(|l| !l.starts_with('#')).count() > 50,
            "something was decoded"
        );
        assert_eq!(over_the_wire, on_disk);
    });
}

#[test]
fn every_demo_file_is_true_to_its_format() {
    fn all(folder: &Path, found: &mut Vec<std::path::PathBuf>) {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            if entry.path().is_dir() { all(&entry.path(), found) } else { found.push(entry.path()) }
        }
    }
    let mut files = Vec::new();
    all(&top().join("demo/media"), &mut files);
    let bytes: u64 = files.iter().map(|f| f.metadata().unwrap().len()).sum();
    assert!(bytes < 12_000_000, "{bytes} bytes");
    for file in files.iter().filter(|f| f.extension().is_some_and(|e| e != "srt")) {
        let output = Command::new("ffmpeg")
            .args([
                "-nostdin",
                "-loglevel",
                "error",
                "-i",
                file.to_str().unwrap(),
                "-f",
                "null",
                "-",
            ])
            .output()
            .expect("ffmpeg runs");
        assert!(
            output.status.success() && output.stderr.is_empty(),
            "{}: {}",
            file.display(),
            String::from_utf8_lossy(&output.stderr)
        );
    }
}
