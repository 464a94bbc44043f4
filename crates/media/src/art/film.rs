//! A frame of a film, and still pictures that only outside programs read.

use std::fs::File;
use std::sync::OnceLock;
use std::time::Duration;

use mostra_core::format::Format;
use mostra_pixels::Pixels;

use super::pixels;
use crate::external_program::{self, ExternalProgram, GIVEN, GIVEN_FILE};

/// The longest that the film program may take for one picture.
const PATIENCE: Duration = Duration::from_secs(20);

/// The programs that read films, and stills that nothing else here reads.
const FILMS: &str = "ffmpeg";
const STILLS: &str = "heif-convert";
/// What making a picture may start.
pub(super) const PROGRAMS: [&str; 2] = [FILMS, STILLS];

/// Whether pictures can be taken from films.
pub fn films_pictured() -> bool {
    static THERE: OnceLock<bool> = OnceLock::new();
    *THERE.get_or_init(|| external_program::is_there(FILMS))
}

/// One picture of a film, a tenth into it, so that it is not the black before the beginning;
/// the first one where that cannot be found.
pub(super) fn frame(file: &File, duration_ms: Option<u64>, format: Format) -> Option<Pixels> {
    if !films_pictured() {
        return None;
    }
    let tenth = duration_ms.filter(|ms| *ms > 0).map(|ms| (ms as f64 / 10_000.0).min(300.0));
    tenth
        .and_then(|seconds| frame_at(file, Some(seconds), format))
        .or_else(|| frame_at(file, None, format))
        .or_else(|| if duration_ms.is_none() { still(file) } else { None })
}

/// A still picture that the film program does not know, by the one for HEIC where that is
/// installed. It writes only to a file that it is named.
fn still(file: &File) -> Option<Pixels> {
    let directory = tempfile::tempdir().ok()?;
    let made = directory.path().join("still.jpg");
    let program = ExternalProgram::new(STILLS)
        .args(["-q", "90", GIVEN])
        .args([&made])
        .reading(file)
        .ok()?
        .writing_in(directory.path());
    external_program::output(program, PATIENCE)?;
    pixels(&std::fs::read(made).ok()?, None)
}

fn frame_at(file: &File, seconds: Option<f64>, format: Format) -> Option<Pixels> {
    let mut program = ExternalProgram::new(FILMS).args(["-v", "error", "-nostdin"]);
    if let Some(seconds) = seconds {
        program = program.args(["-ss", &format!("{seconds:.3}")]);
    }
    let program = program
        .args(external_program::only(format)?)
        .args(["-i", GIVEN_FILE, "-frames:v", "1", "-vf", "scale='min(1024,iw)':-2"])
        .args(["-threads", "1", "-f", "image2pipe", "-c:v", "mjpeg", "-q:v", "3", "pipe:1"])
        .reading(file)
        .ok()?;
    pixels(&external_program::output(program, PATIENCE)?, None)
}
