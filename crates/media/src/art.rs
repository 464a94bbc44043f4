//! Pictures of things: covers, thumbnails and smaller forms of pictures, as baseline JPEG.

use std::fs::File;
use std::io::{BufReader, Cursor, Seek};
use std::path::Path;
use std::sync::OnceLock;
use std::time::Duration;

use image::codecs::jpeg::JpegEncoder;
use image::{DynamicImage, ImageReader, Limits};
use mostra_core::Kind;
use mostra_core::facts::{Facts, Format};
use mostra_core::profile::Rendition;

use crate::part_reader::PartReader;
use crate::{audio, outside};

/// The longest that the film program may take for one picture.
const PATIENCE: Duration = Duration::from_secs(20);

/// Whether pictures can be taken from films.
pub fn films_pictured() -> bool {
    static THERE: OnceLock<bool> = OnceLock::new();
    *THERE.get_or_init(|| outside::is_there("ffmpeg"))
}

/// Where a picture is made from.
pub enum Source {
    /// A picture file, with its Exif orientation.
    Picture(File, Option<u8>),
    /// A sound file with a picture inside.
    Embedded(File, Format),
    /// A film, or a picture in a format that only the film program reads; by its open file.
    Film(File, Option<u64>),
}

impl Source {
    /// What shows an item: the file beside it, else what is in it.
    pub fn of(facts: &Facts, file: File, beside: Option<File>) -> Source {
        match (beside, facts.kind, facts.format) {
            (Some(beside), ..) => Source::Picture(beside, None),
            (None, Kind::Picture, Format::Heic | Format::Avif) => Source::Film(file, None),
            (None, Kind::Picture, _) => Source::Picture(file, facts.orientation),
            (None, Kind::Music, format) => Source::Embedded(file, format),
            (None, Kind::Video, _) => Source::Film(file, Some(facts.duration_ms.unwrap_or(0))),
        }
    }
}

/// Makes a JPEG within a rendition's bounds; `None` when the source has no picture that can be
/// read.
pub fn make(source: Source, rendition: Rendition) -> Option<Vec<u8>> {
    let picture = match source {
        Source::Picture(file, orientation) => turn(decode(BufReader::new(file))?, orientation),
        Source::Embedded(file, format) => {
            let size = file.metadata().ok()?.len();
            let mut file = PartReader::new(file, size);
            decode(Cursor::new(audio::cover(&mut file, format)?))?
        }
        Source::Film(file, duration) => frame(&file, duration)?,
    };
    let size = (picture.width(), picture.height());
    let (width, height) = rendition.fit(size);
    let small = if (width, height) == size { picture } else { shrink(&picture, width, height) };
    let mut jpeg = Vec::new();
    let encoder = JpegEncoder::new_with_quality(&mut jpeg, 82);
    small.to_rgb8().write_with_encoder(encoder).ok()?;
    Some(jpeg)
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
    // The largest cameras make 150 million pixels; more is somebody's joke.
    limits.max_image_width = Some(20_000);
    limits.max_image_height = Some(20_000);
    limits.max_alloc = Some(768 << 20);
    reader.limits(limits);
    reader.decode().ok()
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
fn frame(file: &File, duration_ms: Option<u64>) -> Option<DynamicImage> {
    if !films_pictured() {
        return None;
    }
    // The path of the file that was opened and checked, not what its name says a moment later.
    let fd = std::os::fd::AsRawFd::as_raw_fd(file);
    let path = std::fs::read_link(format!("/proc/self/fd/{fd}")).ok()?;
    let tenth = duration_ms.filter(|ms| *ms > 0).map(|ms| (ms as f64 / 10_000.0).min(300.0));
    tenth
        .and_then(|seconds| frame_at(&path, Some(seconds)))
        .or_else(|| frame_at(&path, None))
        .or_else(|| if duration_ms.is_none() { still(&path) } else { None })
}

/// A still picture that the film program does not know, by the one for HEIC where that is
/// installed.
fn still(path: &Path) -> Option<DynamicImage> {
    let folder = tempfile::tempdir().ok()?;
    let made = folder.path().join("still.jpg");
    let mut command = outside::program("heif-convert");
    command.args(["-q", "90"]).args([path, made.as_path()]);
    outside::output(command, PATIENCE)?;
    decode(BufReader::new(File::open(made).ok()?))
}

fn frame_at(path: &Path, seconds: Option<f64>) -> Option<DynamicImage> {
    let mut command = outside::program("ffmpeg");
    command.args(["-v", "error", "-nostdin", "-protocol_whitelist", "file,pipe"]);
    if let Some(seconds) = seconds {
        command.args(["-ss", &format!("{seconds:.3}")]);
    }
    command.arg("-i").arg(outside::named(path)?);
    command.args(["-frames:v", "1", "-vf", "scale='min(1024,iw)':-2", "-threads", "1"]);
    command.args(["-f", "image2pipe", "-c:v", "mjpeg", "-q:v", "3", "pipe:1"]);
    decode(Cursor::new(outside::output(command, PATIENCE)?))
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
            let source = Source::Picture(file(&picture()), orientation);
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
    fn damage_gives_no_picture() {
        let mut cut = picture();
        cut.truncate(40);
        assert_eq!(make(Source::Picture(file(&cut), None), Rendition::Small), None);
        assert_eq!(make(Source::Embedded(file(b"ID3"), Format::Mp3), Rendition::Small), None);
    }
}
