//! Files that tests have made.

use std::path::{Path, PathBuf};
use std::process::Command;

/// Says that a test cannot run here. That fails it, unless `MOSTRA_TESTS_PARTIAL=1` is set: then it
/// is counted, and scripts/test says at its end how many there were.
pub(crate) fn not_run(why: &str) {
    let partial = std::env::var("MOSTRA_TESTS_PARTIAL").is_ok_and(|set| set == "1");
    assert!(partial, "NOT RUN: {why}. With MOSTRA_TESTS_PARTIAL=1 the others run all the same.");
    let thread = std::thread::current();
    let line = format!("{}: {why}\n", thread.name().unwrap_or("a test"));
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/tests-not-run");
    let file = std::fs::OpenOptions::new().create(true).append(true).open(path);
    file.and_then(|mut file| std::io::Write::write_all(&mut file, line.as_bytes())).unwrap();
}

/// Runs ffmpeg; `None` where it is not installed.
pub(crate) fn make(folder: &Path, name: &str, arguments: &str) -> Option<PathBuf> {
    let path = folder.join(name);
    let made = Command::new("ffmpeg")
        .args(["-v", "error", "-y", "-nostdin"])
        .args(arguments.split_whitespace())
        .arg(&path)
        .output();
    let Ok(output) = made else {
        not_run("no ffmpeg");
        return None;
    };
    assert!(output.status.success(), "{name}: {}", String::from_utf8_lossy(&output.stderr));
    Some(path)
}
