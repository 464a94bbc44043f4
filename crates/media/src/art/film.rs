//! A frame of a film, and still pictures that only outside programs read.

use std::fs::File;
use std::path::Path;
use std::sync::OnceLock;
use std::time::Duration;

use mostra_core::format::Format;
use mostra_pixels::Pixels;

use super::pixels;
use crate::external_program;

/// The longest that the film program may take for one picture.
const PATIENCE: Duration = Duration::from_secs(20);

/// Whether pictures can be taken from films.
pub fn films_pictured() -> bool {
    static THERE: OnceLock<bool> = OnceLock::new();
    *THERE.get_or_init(|| external_program::is_there("ffmpeg"))
}

/// One picture of a film, a tenth into it, so that it is not the black before the beginning;
/// the first one where that cannot be found.
pub(super) fn frame(file: &File, duration_ms: Option<u64>, format: Format) -> Option<Pixels> {
    if !films_pictured() {
        return None;
    }
    // The path of the file that was opened and checked, not what its name says a moment later.
    let fd = std::os::fd::AsRawFd::as_raw_fd(file);
    let path = std::fs::read_link(format!("/proc/self/fd/{fd}")).ok()?;
    let tenth = duration_ms.filter(|ms| *ms > 0).map(|ms| (ms as f64 / 10_000.0).min(300.0));
    tenth
        .and_then(|seconds| frame_at(&path, Some(seconds), format))
        .or_else(|| frame_at(&path, None, format))
        .or_else(|| if duration_ms.is_none() { still(&path) } else { None })
}

/// A still picture that the film program does not know, by the one for HEIC where that is
/// installed.
fn still(path: &Path) -> Option<Pixels> {
    let folder = tempfile::tempdir().ok()?;
    let made = folder.path().join("still.jpg");
    let mut command = external_program::program("heif-convert");
    command.args(["-q", "90"]).args([path, made.as_path()]);
    external_program::output(command, PATIENCE)?;
    pixels(&std::fs::read(made).ok()?, None)
}

fn frame_at(path: &Path, seconds: Option<f64>, format: Format) -> Option<Pixels> {
    let mut command = external_program::program("ffmpeg");
    command.args(["-v", "error", "-nostdin"]);
    if let Some(seconds) = seconds {
        command.args(["-ss", &format!("{seconds:.3}")]);
    }
    command.args(external_program::only(format)?).arg("-i").arg(external_program::named(path)?);
    command.args(["-frames:v", "1", "-vf", "scale='min(1024,iw)':-2", "-threads", "1"]);
    command.args(["-f", "image2pipe", "-c:v", "mjpeg", "-q:v", "3", "pipe:1"]);
    pixels(&external_program::output(command, PATIENCE)?, None)
}
