//! Files that tests have made.

use std::path::{Path, PathBuf};
use std::process::Command;

/// Runs ffmpeg; `None` where it is not installed, which fails under CI.
pub fn make(folder: &Path, name: &str, arguments: &str) -> Option<PathBuf> {
    let path = folder.join(name);
    let made = Command::new("ffmpeg")
        .args(["-v", "error", "-y", "-nostdin"])
        .args(arguments.split_whitespace())
        .arg(&path)
        .output();
    let Ok(output) = made else {
        assert!(std::env::var_os("CI").is_none(), "this test needs ffmpeg");
        eprintln!("NOT RUN: no ffmpeg");
        return None;
    };
    assert!(output.status.success(), "{name}: {}", String::from_utf8_lossy(&output.stderr));
    Some(path)
}
