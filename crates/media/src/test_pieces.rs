//! Test pieces: films, music and pictures by which it is told whether a device plays, made by ffmpeg.
//!
//! A video has a moving picture, and a flash with a beep each second: whoever looks at it hears and
//! sees at once whether either is missing or late. Its bit rate is kept up by filling, so that it
//! says what the network carries. Files are named as they are to be shown.

use std::collections::BTreeSet;
use std::io;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use mostra_core::Kind;

use crate::external_program::ExternalProgram;

/// A test piece.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TestPiece {
    /// The name of its file, which without the extension is its title.
    pub file: &'static str,
    /// Its kind.
    pub kind: Kind,
    making: Making,
}

/// How one is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Making {
    /// Flash and beep.
    Video {
        /// Width and height.
        size: (u32, u32),
        /// Pictures a second.
        frames: &'static str,
        /// Seconds.
        seconds: u32,
        /// The bit rate, in kbit/s, where it is kept.
        kbits: Option<u32>,
        /// How picture and sound are written.
        codecs: &'static [&'static str],
    },
    /// Rising notes.
    Music { seconds: u32, codecs: &'static [&'static str] },
    /// An arrow that points up, with fine lines at its sides.
    Picture { size: (u32, u32), codecs: &'static [&'static str] },
}

const H264: [&str; 10] = [
    "-c:v",
    "libx264",
    "-preset",
    "ultrafast",
    "-profile:v",
    "high",
    "-pix_fmt",
    "yuv420p",
    "-g",
    "50",
];
const HD: (u32, u32) = (1280, 720);
const FULL_HD: (u32, u32) = (1920, 1080);

const fn video(file: &'static str, size: (u32, u32), codecs: &'static [&'static str]) -> TestPiece {
    let making = Making::Video { size, frames: "25", seconds: 30, kbits: None, codecs };
    TestPiece { file, kind: Kind::Video, making }
}

const fn rated(file: &'static str, kbits: u32) -> TestPiece {
    let kbits = Some(kbits);
    let codecs = &["-c:a", "aac", "-b:a", "160k", "-movflags", "+faststart"];
    let making = Making::Video { size: FULL_HD, frames: "25", seconds: 60, kbits, codecs };
    TestPiece { file, kind: Kind::Video, making }
}

const fn music(file: &'static str, seconds: u32, codecs: &'static [&'static str]) -> TestPiece {
    TestPiece { file, kind: Kind::Music, making: Making::Music { seconds, codecs } }
}

const fn picture(
    file: &'static str,
    size: (u32, u32),
    codecs: &'static [&'static str],
) -> TestPiece {
    TestPiece { file, kind: Kind::Picture, making: Making::Picture { size, codecs } }
}

/// Those of video discs.
const fn disc_codecs(sound: &'static str) -> [&'static str; 12] {
    let video = ["-c:v", "mpeg2video", "-b:v", "4M", "-g", "12"];
    let [a, b, c, d, e, f] = video;
    [a, b, c, d, e, f, "-c:a", sound, "-b:a", "192k", "-f", "dvd"]
}

/// The pieces to play in a walkthrough, one of each kind in the order of [`Kind::ALL`].
pub const MAIN: [&str; 3] = ["Flash and beep.mp4", "Rising notes.mp3", "Upright arrow.jpg"];

/// All pieces, in the order in which they are made: first those that a walkthrough asks for.
pub const PIECES: [TestPiece; 21] = [
    rated("Flash and beep.mp4", 12_000),
    // Five minutes: of one minute most players hold all.
    music("Rising notes.mp3", 300, &["-c:a", "libmp3lame", "-b:a", "320k"]),
    picture("Upright arrow.jpg", (4000, 3000), &["-q:v", "3"]),
    rated("Flash and beep, large.mp4", 40_000),
    // The profiles that every device must take: MPEG-2 in a program stream, as its part of the world
    // has it; samples; a small JPEG.
    video("Video MPEG-2 and MP2, 25 frames.mpg", (720, 576), &disc_codecs("mp2")),
    TestPiece {
        file: "Video MPEG-2 and AC-3, 30 frames.mpg",
        kind: Kind::Video,
        making: Making::Video {
            size: (720, 480),
            frames: "30000/1001",
            seconds: 30,
            kbits: None,
            codecs: &disc_codecs("ac3"),
        },
    },
    music("Music samples.wav", 60, &["-c:a", "pcm_s16le"]),
    picture("Arrow, small.jpg", (640, 480), &["-q:v", "3"]),
    // What else is common.
    video(
        "Video H.264 and AAC.mp4",
        HD,
        &[
            "-c:v",
            "libx264",
            "-preset",
            "ultrafast",
            "-pix_fmt",
            "yuv420p",
            "-c:a",
            "aac",
            "-movflags",
            "+faststart",
        ],
    ),
    video(
        "Video H.264 and AC-3.ts",
        HD,
        &[
            "-c:v",
            "libx264",
            "-preset",
            "ultrafast",
            "-pix_fmt",
            "yuv420p",
            "-c:a",
            "ac3",
            "-f",
            "mpegts",
        ],
    ),
    video(
        "Video H.264 and MP3.mkv",
        HD,
        &["-c:v", "libx264", "-preset", "ultrafast", "-pix_fmt", "yuv420p", "-c:a", "libmp3lame"],
    ),
    video(
        "Video H.265 and AAC.mp4",
        HD,
        &[
            "-c:v",
            "libx265",
            "-preset",
            "ultrafast",
            "-x265-params",
            "log-level=none",
            "-tag:v",
            "hvc1",
            "-pix_fmt",
            "yuv420p",
            "-c:a",
            "aac",
            "-movflags",
            "+faststart",
        ],
    ),
    video(
        "Video H.265 and AC-3.mkv",
        HD,
        &[
            "-c:v",
            "libx265",
            "-preset",
            "ultrafast",
            "-x265-params",
            "log-level=none",
            "-pix_fmt",
            "yuv420p",
            "-c:a",
            "ac3",
        ],
    ),
    video(
        "Video MPEG-2 and AC-3.ts",
        HD,
        &["-c:v", "mpeg2video", "-b:v", "8M", "-g", "12", "-c:a", "ac3", "-f", "mpegts"],
    ),
    video(
        "Video MPEG-4 and MP3.avi",
        (720, 576),
        &["-c:v", "mpeg4", "-b:v", "2M", "-c:a", "libmp3lame"],
    ),
    video(
        "Video VP9 and Opus.webm",
        HD,
        &[
            "-c:v",
            "libvpx-vp9",
            "-deadline",
            "realtime",
            "-cpu-used",
            "8",
            "-b:v",
            "2M",
            "-c:a",
            "libopus",
        ],
    ),
    music("Music AAC.m4a", 60, &["-c:a", "aac", "-b:a", "192k", "-movflags", "+faststart"]),
    music("Music FLAC.flac", 60, &["-c:a", "flac"]),
    music("Music Vorbis.ogg", 60, &["-c:a", "libvorbis", "-q:a", "5"]),
    music("Music Opus.opus", 60, &["-c:a", "libopus", "-ar", "48000"]),
    picture("Arrow.png", (1920, 1080), &[]),
];

/// The encoders of ffmpeg by which all pieces are made, in order.
pub fn encoders() -> BTreeSet<&'static str> {
    let of = |piece: &TestPiece| match piece.making {
        Making::Video { kbits, codecs, .. } => {
            let rated = kbits.map_or(&[][..], |_| &H264);
            [named(rated), named(codecs)].concat()
        }
        Making::Music { codecs, .. } => named(codecs),
        // Written as the name of its file says.
        Making::Picture { .. } if piece.file.ends_with(".png") => vec!["png"],
        Making::Picture { .. } => vec!["mjpeg"],
    };
    PIECES.iter().flat_map(of).collect()
}

/// The encoders that ffmpeg's arguments name.
fn named(codecs: &[&'static str]) -> Vec<&'static str> {
    let pairs = codecs.windows(2).filter(|pair| matches!(pair[0], "-c:v" | "-c:a"));
    pairs.map(|pair| pair[1]).collect()
}

/// Bytes of memory, and seconds of a processor, for one piece.
const BOUNDS: (u64, u64) = (4 << 30, 1200);
/// How long one may take to be made.
const PATIENCE: Duration = Duration::from_secs(1800);

impl TestPiece {
    /// What it is called.
    pub fn title(&self) -> &'static str {
        self.file.rsplit_once('.').map_or(self.file, |(title, _)| title)
    }

    /// What ffmpeg is told, but for the file to write.
    fn arguments(&self) -> Vec<String> {
        let words =
            |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>();
        let mut told = Vec::new();
        match self.making {
            Making::Video { size: (width, height), frames, seconds, kbits, codecs } => {
                let side = height / 2;
                let picture = format!(
                    "testsrc2=s={width}x{height}:r={frames}:d={seconds}[base];\
                     color=c=white:s={side}x{side}:r={frames}:d={seconds}[white];\
                     [base][white]overlay=x=(W-w)/2:y=(H-h)/2:enable='lt(mod(t,1),0.12)'"
                );
                let sound = format!(
                    "aevalsrc='0.4*sin(2*PI*1000*t)*lt(mod(t,1),0.12)':s=48000:d={seconds}"
                );
                // Two inputs: out of one graph, sound comes in pieces that some encoders refuse.
                for input in [picture, sound] {
                    told.extend(["-f".into(), "lavfi".into(), "-i".into(), input]);
                }
                told.extend(words(&["-ac", "2"]));
                if let Some(kbits) = kbits {
                    told.extend(words(&H264));
                    // The sound has its part of it.
                    let rate = format!("{}k", kbits - 200);
                    for option in ["-b:v", "-minrate", "-maxrate", "-bufsize"] {
                        told.extend([option.to_owned(), rate.clone()]);
                    }
                    told.extend(words(&["-x264-params", "nal-hrd=cbr"]));
                }
                told.extend(words(codecs));
            }
            Making::Music { seconds, codecs } => {
                let notes = format!(
                    "aevalsrc='0.3*sin(2*PI*(262+33*floor(mod(2*t,8)))*t)':s=44100:d={seconds}"
                );
                told.extend(["-f".into(), "lavfi".into(), "-i".into(), notes]);
                told.extend(words(&["-ac", "2"]));
                told.extend(words(codecs));
            }
            Making::Picture { size: (width, height), codecs } => {
                let arrow = "between(Y,H*0.15,H*0.45)*lt(abs(X-W/2),(Y-H*0.15)*0.9)\
                             +between(Y,H*0.45,H*0.85)*lt(abs(X-W/2),W*0.08)";
                let lines = "lt(X,W*0.15)*lt(mod(X,4),2)+gt(X,W*0.85)*lt(mod(Y,4),2)";
                let filter = format!(
                    "color=c=black:s={width}x{height}:d=1,format=yuv444p,\
                     geq=lum='40+195*clip({arrow}+{lines},0,1)':cb=128:cr=128,format=yuvj420p"
                );
                told.extend(["-f".into(), "lavfi".into(), "-i".into(), filter]);
                told.extend(words(&["-frames:v", "1", "-update", "1"]));
                told.extend(words(codecs));
            }
        }
        told
    }

    /// Makes it in a directory, with the lowest priority, until `stop` is set. Until it is whole it
    /// lies in another directory, on the same drive.
    ///
    /// # Errors
    /// When ffmpeg is missing, fails, is stopped, or the file cannot be written.
    pub fn make(&self, directory: &Path, unfinished: &Path, stop: &AtomicBool) -> io::Result<()> {
        std::fs::create_dir_all(unfinished)?;
        let part = unfinished.join(self.file);
        let mut program = ExternalProgram::new("ffmpeg")
            .args(["-hide_banner", "-loglevel", "error", "-nostdin", "-y"])
            .args(self.arguments())
            .args([Path::new("file:").join(&part)])
            .writing_in(unfinished)
            .within(Some(BOUNDS))
            .low(true)
            .start()?;
        let end = std::time::Instant::now() + PATIENCE;
        let status = loop {
            if let Some(status) = program.ended()? {
                break status;
            }
            if stop.load(Ordering::Relaxed) || std::time::Instant::now() > end {
                program.end();
                break program.wait()?;
            }
            std::thread::sleep(Duration::from_millis(50));
        };
        if !status.success() {
            let _ = std::fs::remove_file(&part);
            return Err(io::Error::other("ffmpeg did not make it"));
        }
        std::fs::rename(&part, directory.join(self.file))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::probe::probe;
    use mostra_core::format::FileClass;
    use mostra_core::profile::protocol_info;
    use mostra_core::samples::Samples;

    #[test]
    fn pieces_are_named_as_formats_of_their_kind_and_the_main_ones_come_first() {
        for piece in PIECES {
            let (_, extension) = piece.file.rsplit_once('.').unwrap();
            assert!(
                matches!(FileClass::of_extension(extension), FileClass::Media(format) if format.kind() == piece.kind),
                "{}",
                piece.file
            );
        }
        for (kind, file) in Kind::ALL.into_iter().zip(MAIN) {
            let at = PIECES.iter().position(|piece| piece.file == file).unwrap();
            assert!(at < 3 && PIECES[at].kind == kind);
        }
    }

    #[test]
    fn every_piece_names_what_it_is_written_by() {
        let all = encoders();
        for name in ["libx264", "libx265", "libvpx-vp9", "aac", "ac3", "pcm_s16le", "mjpeg", "png"]
        {
            assert!(all.contains(name), "{name} in {all:?}");
        }
        for piece in PIECES {
            let encoders = match piece.making {
                Making::Video { kbits, codecs, .. } => {
                    named(codecs).len() + usize::from(kbits.is_some())
                }
                Making::Music { codecs, .. } => named(codecs).len() + 1,
                Making::Picture { .. } => 2,
            };
            assert_eq!(encoders, 2, "{}: one for each of picture and sound", piece.file);
        }
    }

    #[test]
    fn those_that_every_device_must_take_are_of_its_profiles() {
        let place = tempfile::tempdir().unwrap();
        let unfinished = tempfile::tempdir().unwrap();
        let is_of = |file: &str, profile: &str| {
            let piece = PIECES.iter().find(|piece| piece.file == file).unwrap();
            piece.make(place.path(), unfinished.path(), &AtomicBool::new(false)).unwrap();
            let path = place.path().join(file);
            let size = std::fs::metadata(&path).unwrap().len();
            let facts = probe(&path, size, 0).unwrap();
            let samples = Samples::of(&facts).map(Samples::protocol_info);
            let info = samples.unwrap_or_else(|| protocol_info(&facts));
            assert_eq!(info.profile, Some(profile), "{file}: {facts:?}");
        };
        let is_of = &is_of;
        // At one time: ffmpeg takes its time for a film.
        std::thread::scope(|scope| {
            for (file, profile) in [
                ("Video MPEG-2 and MP2, 25 frames.mpg", "MPEG_PS_PAL"),
                ("Video MPEG-2 and AC-3, 30 frames.mpg", "MPEG_PS_NTSC"),
                ("Music samples.wav", "LPCM"),
                ("Arrow, small.jpg", "JPEG_SM"),
            ] {
                scope.spawn(move || is_of(file, profile));
            }
        });
    }

    #[test]
    fn a_piece_is_made_whole_or_not_at_all() {
        let place = tempfile::tempdir().unwrap();
        let unfinished = tempfile::tempdir().unwrap();
        let piece = PIECES.iter().find(|piece| piece.file == "Arrow, small.jpg").unwrap();
        let path = place.path().join(piece.file);
        piece.make(place.path(), unfinished.path(), &AtomicBool::new(false)).unwrap();
        let size = std::fs::metadata(&path).unwrap().len();
        let facts = probe(&path, size, 0).unwrap();
        assert_eq!((facts.kind, facts.resolution), (Kind::Picture, Some((640, 480))));
        // One that is stopped leaves nothing.
        let long = PIECES[0];
        assert!(long.make(place.path(), unfinished.path(), &AtomicBool::new(true)).is_err());
        assert_eq!(std::fs::read_dir(place.path()).unwrap().count(), 1);
        assert_eq!(std::fs::read_dir(unfinished.path()).unwrap().count(), 0);
    }
}
