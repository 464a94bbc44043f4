//! Judging media by decoding it, with Debian's ffmpeg.

use anyhow::Context as _;
use std::path::Path;

use tokio::process::Command;

/// What came out of the decoder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Verdict {
    /// Pictures decoded.
    pub pictures: usize,
    /// Pieces of sound decoded.
    pub sounds: usize,
}

/// Decodes `seconds` of a file from a place on; the file may have holes where nothing was
/// received, and decoding must not touch them.
///
/// # Errors
/// What the decoder complained about.
pub(crate) async fn decode(
    file: &Path,
    from_seconds: f64,
    seconds: f64,
) -> anyhow::Result<Verdict> {
    let run = Command::new("ffmpeg")
        .args([
            "-nostdin",
            "-hide_banner",
            "-loglevel",
            "error",
            "-ss",
            &format!("{from_seconds:.3}"),
        ])
        .arg("-i")
        .arg(file)
        .args([
            "-t",
            &format!("{seconds:.3}"),
            "-map",
            "0:v:0?",
            "-map",
            "0:a:0?",
            "-f",
            "framecrc",
            "-",
        ])
        .kill_on_drop(true)
        .output();
    let output = tokio::time::timeout(std::time::Duration::from_secs(60), run)
        .await
        .context("the decoder took too long")?
        .context("ffmpeg cannot be run; install Debian's package ffmpeg")?;
    let complaint = String::from_utf8_lossy(&output.stderr);
    if !output.status.success() || !complaint.trim().is_empty() {
        let line = complaint.lines().next().unwrap_or("the decoder failed");
        anyhow::bail!(line.chars().take(160).collect::<String>());
    }
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    // "#media_type 0: video" names the streams, then one line for each frame.
    let kind = |n: &str| {
        text.lines()
            .find_map(|l| l.strip_prefix(&format!("#media_type {n}: ")))
            .unwrap_or_default()
            .to_owned()
    };
    let kinds = [kind("0"), kind("1")];
    let count = |wanted: &str| {
        let frames = text.lines().filter(|l| !l.starts_with('#'));
        frames
            .filter(|l| {
                l.split(',')
                    .next()
                    .and_then(|n| n.trim().parse::<usize>().ok())
                    .is_some_and(|n| kinds.get(n).is_some_and(|k| k == wanted))
            })
            .count()
    };
    Ok(Verdict { pictures: count("video"), sounds: count("audio") })
}
