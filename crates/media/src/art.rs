//! Pictures of things: covers, thumbnails and smaller forms of pictures, as baseline JPEG.

use std::fs::File;
use std::io::{BufReader, Cursor, Seek, Write as _};
use std::os::fd::AsFd as _;
use std::path::Path;
use std::process::Command;
use std::sync::OnceLock;
use std::time::Duration;

use image::codecs::jpeg::JpegEncoder;
use image::{DynamicImage, ImageDecoder as _, ImageReader, Limits};
use mostra_core::Kind;
use mostra_core::facts::Facts;
use mostra_core::format::Format;
use mostra_core::profile::Rendition;
use nix::sys::resource::{Resource, getrlimit, setrlimit};

use crate::part_reader::PartReader;
use crate::{audio, external_program};

/// Bytes of a picture file that are read, and pixels that are unpacked: the largest cameras make
/// 150 million.
const BYTES: u64 = 256 << 20;
const PIXELS: u64 = 160_000_000;
/// Bytes of memory of the process that makes a picture, and seconds of a processor.
const MEMORY: u64 = 1 << 30;
const PROCESSOR: u64 = 60;

/// The longest that the film program may take for one picture.
const PATIENCE: Duration = Duration::from_secs(20);

/// Whether pictures can be taken from films.
pub fn films_pictured() -> bool {
    static THERE: OnceLock<bool> = OnceLock::new();
    *THERE.get_or_init(|| external_program::is_there("ffmpeg"))
}

/// Where a picture is made from.
pub enum PictureSource {
    /// A picture file, with its Exif orientation.
    Picture(File, Option<u8>),
    /// A sound file with a picture inside.
    Embedded(File, Format),
    /// A film with its length in milliseconds, or a picture in a format that only the film program
    /// reads.
    Film(File, Option<u64>, Format),
}

impl PictureSource {
    /// What shows an item: the file beside it, else what is in it.
    pub fn of(facts: &Facts, file: File, beside: Option<File>) -> PictureSource {
        match (beside, facts.kind, facts.format) {
            (Some(beside), ..) => PictureSource::Picture(beside, None),
            (None, Kind::Picture, format) if format.row().demuxer.is_some() => {
                PictureSource::Film(file, None, format)
            }
            (None, Kind::Picture, _) => PictureSource::Picture(file, facts.orientation),
            (None, Kind::Music, format) => PictureSource::Embedded(file, format),
            (None, Kind::Video, format) => {
                PictureSource::Film(file, Some(facts.duration_ms.unwrap_or(0)), format)
            }
        }
    }
}

/// Makes a JPEG within a rendition's bounds; `None` when the source has no picture that can be
/// read.
pub fn make(source: PictureSource, rendition: Rendition) -> Option<Vec<u8>> {
    let picture = match source {
        PictureSource::Picture(file, orientation) => {
            if file.metadata().ok()?.len() > BYTES {
                return None;
            }
            turn(decode(BufReader::new(file))?, orientation)
        }
        PictureSource::Embedded(file, format) => {
            let size = file.metadata().ok()?.len();
            let mut file = PartReader::new(file, size);
            decode(Cursor::new(audio::cover(&mut file, format)?))?
        }
        PictureSource::Film(file, duration, format) => frame(&file, duration, format)?,
    };
    let size = (picture.width(), picture.height());
    let (width, height) = rendition.fit(size);
    let small = if (width, height) == size { picture } else { shrink(&picture, width, height) };
    let mut jpeg = Vec::new();
    let encoder = JpegEncoder::new_with_quality(&mut jpeg, 82);
    small.to_rgb8().write_with_encoder(encoder).ok()?;
    Some(jpeg)
}

/// What came of making a picture in a process of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Made {
    /// The picture, as JPEG.
    Picture(Vec<u8>),
    /// There is none that can be read, or reading it failed for good.
    None,
    /// It took too long; another time may be better.
    Late,
}

/// The argument by which a program is told to [make a picture](make_for_parent).
pub const MAKE: &str = "make-picture";

/// Makes a picture in a process of its own, which runs this program with [`MAKE`] as its first
/// argument: whatever a damaged or hostile file does to its reader costs one picture. `held` is
/// dropped once that process has gone.
pub fn make_apart<T: Send + 'static>(
    source: PictureSource,
    rendition: Rendition,
    patience: Duration,
    held: T,
) -> Made {
    let mut command = Command::new("/proc/self/exe");
    command.args([MAKE, rendition.word()]);
    // The allocator would take the whole of its memory at once, and leave none for other programs.
    command.env("MIMALLOC_ARENA_RESERVE", "0");
    let file = match source {
        PictureSource::Picture(file, orientation) => {
            command.args(["picture", &orientation.unwrap_or(1).to_string(), ""]);
            file
        }
        PictureSource::Embedded(file, format) => {
            command.args(["embedded", "", format.extension()]);
            file
        }
        PictureSource::Film(file, duration, format) => {
            let length = duration.map_or("still".into(), |ms| ms.to_string());
            command.args(["film", &length, format.extension()]);
            file
        }
    };
    command.stdin(file);
    match external_program::run(command, patience, held) {
        external_program::Ended::Well(jpeg) if !jpeg.is_empty() => Made::Picture(jpeg),
        external_program::Ended::Well(_) | external_program::Ended::Badly => Made::None,
        external_program::Ended::Late => Made::Late,
    }
}

/// The other half: what [`make_apart`] runs, with the arguments after [`MAKE`]. The file comes as
/// standard input, the picture goes to standard output.
///
/// # Errors
/// For arguments that it does not know, and when the picture cannot be written.
pub fn make_for_parent(arguments: &[String]) -> std::io::Result<()> {
    let wrong = || std::io::Error::from(std::io::ErrorKind::InvalidInput);
    let [rendition, sort, number, format] = arguments else { return Err(wrong()) };
    // Only the soft limit, as the programs that this one may run have their own.
    let (_, hard) = getrlimit(Resource::RLIMIT_AS)?;
    setrlimit(Resource::RLIMIT_AS, MEMORY.min(hard), hard)?;
    let (_, hard) = getrlimit(Resource::RLIMIT_CPU)?;
    setrlimit(Resource::RLIMIT_CPU, PROCESSOR.min(hard), hard)?;
    let rendition = Rendition::from_word(rendition).ok_or_else(wrong)?;
    let file = File::from(std::io::stdin().as_fd().try_clone_to_owned()?);
    let format = Format::ALL.into_iter().find(|one| one.extension() == format).ok_or_else(wrong);
    let source = match sort.as_str() {
        "picture" => PictureSource::Picture(file, number.parse().ok()),
        "embedded" => PictureSource::Embedded(file, format?),
        "film" => PictureSource::Film(file, number.parse().ok(), format?),
        _ => return Err(wrong()),
    };
    let jpeg = make(source, rendition).unwrap_or_default();
    std::io::stdout().write_all(&jpeg)
}

/// First by whole pixels, which is quick, then well.
fn shrink(picture: &DynamicImage, width: u32, height: u32) -> DynamicImage {
    let rough = if picture.width() > width * 4 {
        picture.thumbnail_exact(width * 2, height * 2)
    } else {
        picture.clone()
    };
    rough.resize_exact(width, height, image::imageops::FilterType::Triangle)
}

fn decode(reader: impl std::io::BufRead + Seek) -> Option<DynamicImage> {
    let mut reader = ImageReader::new(reader).with_guessed_format().ok()?;
    let mut limits = Limits::default();
    limits.max_image_width = Some(32_000);
    limits.max_image_height = Some(32_000);
    limits.max_alloc = Some(MEMORY / 2);
    reader.limits(limits);
    let decoder = reader.into_decoder().ok()?;
    let (width, height) = decoder.dimensions();
    if u64::from(width) * u64::from(height) > PIXELS {
        return None;
    }
    DynamicImage::from_decoder(decoder).ok()
}

/// Turns a picture upright.
fn turn(picture: DynamicImage, orientation: Option<u8>) -> DynamicImage {
    match orientation {
        Some(2) => picture.fliph(),
        Some(3) => picture.rotate180(),
        Some(4) => picture.flipv(),
        Some(5) => picture.rotate90().fliph(),
        Some(6) => picture.rotate90(),
        Some(7) => picture.rotate270().fliph(),
        Some(8) => picture.rotate270(),
        _ => picture,
    }
}

/// One picture of a film, a tenth into it, so that it is not the black before the beginning;
/// the first one where that cannot be found.
fn frame(file: &File, duration_ms: Option<u64>, format: Format) -> Option<DynamicImage> {
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
fn still(path: &Path) -> Option<DynamicImage> {
    let folder = tempfile::tempdir().ok()?;
    let made = folder.path().join("still.jpg");
    let mut command = external_program::program("heif-convert");
    command.args(["-q", "90"]).args([path, made.as_path()]);
    external_program::output(command, PATIENCE)?;
    decode(BufReader::new(File::open(made).ok()?))
}

fn frame_at(path: &Path, seconds: Option<f64>, format: Format) -> Option<DynamicImage> {
    let mut command = external_program::program("ffmpeg");
    command.args(["-v", "error", "-nostdin"]);
    if let Some(seconds) = seconds {
        command.args(["-ss", &format!("{seconds:.3}")]);
    }
    command.args(external_program::only(format)?).arg("-i").arg(external_program::named(path)?);
    command.args(["-frames:v", "1", "-vf", "scale='min(1024,iw)':-2", "-threads", "1"]);
    command.args(["-f", "image2pipe", "-c:v", "mjpeg", "-q:v", "3", "pipe:1"]);
    decode(Cursor::new(external_program::output(command, PATIENCE)?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    fn file(bytes: &[u8]) -> File {
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(bytes).unwrap();
        file.rewind().unwrap();
        file
    }

    /// Left half red, right half blue, 400 by 200.
    fn picture() -> Vec<u8> {
        let pixels = image::RgbImage::from_fn(400, 200, |x, _| {
            image::Rgb(if x < 200 { [220, 20, 20] } else { [20, 20, 220] })
        });
        let mut png = Vec::new();
        let png_format = image::ImageFormat::Png;
        DynamicImage::from(pixels).write_to(&mut Cursor::new(&mut png), png_format).unwrap();
        png
    }

    #[test]
    fn thumbnails_are_upright_and_within_bounds() {
        for (orientation, size, top_left_red) in
            [(None, (160, 80), true), (Some(6), (80, 160), true), (Some(3), (160, 80), false)]
        {
            let source = PictureSource::Picture(file(&picture()), orientation);
            let jpeg = make(source, Rendition::Thumbnail).unwrap();
            assert_eq!(&jpeg[..2], [0xff, 0xd8]);
            // Baseline, not progressive.
            assert!(jpeg.windows(2).any(|w| w == [0xff, 0xc0]));
            let made = image::load_from_memory(&jpeg).unwrap().to_rgb8();
            assert_eq!(made.dimensions(), size);
            let corner = made.get_pixel(4, 4).0;
            assert_eq!(corner[0] > corner[2], top_left_red, "{orientation:?}");
        }
    }

    #[test]
    fn more_pixels_than_any_camera_has_are_not_unpacked() {
        let mut jpeg = Vec::new();
        let small = DynamicImage::from(image::RgbImage::new(16, 16));
        small.write_with_encoder(JpegEncoder::new_with_quality(&mut jpeg, 80)).unwrap();
        assert!(make(PictureSource::Picture(file(&jpeg), None), Rendition::Small).is_some());
        // Its header says 30000 by 30000.
        let frame = jpeg.windows(2).position(|w| w == [0xff, 0xc0]).unwrap();
        jpeg[frame + 5..frame + 9].copy_from_slice(&[0x75, 0x30, 0x75, 0x30]);
        let begin = std::time::Instant::now();
        assert_eq!(make(PictureSource::Picture(file(&jpeg), None), Rendition::Small), None);
        assert!(begin.elapsed() < Duration::from_millis(500));
        // Nor more bytes than any file of one has.
        let long = file(&picture());
        long.set_len(BYTES + 1).unwrap();
        assert_eq!(make(PictureSource::Picture(long, None), Rendition::Small), None);
    }

    #[test]
    fn damage_gives_no_picture() {
        let mut cut = picture();
        cut.truncate(40);
        assert_eq!(make(PictureSource::Picture(file(&cut), None), Rendition::Small), None);
        assert_eq!(
            make(PictureSource::Embedded(file(b"ID3"), Format::Mp3), Rendition::Small),
            None
        );
    }
}
