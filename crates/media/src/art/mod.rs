//! Pictures of things: covers, thumbnails and smaller forms of pictures, as baseline JPEG.
//!
//! One reading of a picture makes all its [renditions](Rendition), as whoever looks at one of them
//! soon looks at the others.

mod apart;
mod film;
mod preview;

use std::fs::File;
use std::io::{BufReader, Read as _, Seek as _};

use mostra_core::Kind;
use mostra_core::facts::Facts;
use mostra_core::format::Format;
use mostra_core::profile::Rendition;
use mostra_pixels::Pixels;

pub use apart::{MAKE, Made, Priority, make_apart, make_for_parent};
pub use film::films_pictured;

use crate::audio;
use crate::part_reader::PartReader;

/// Bytes of a picture file that are read.
const BYTES: u64 = 256 << 20;
/// Bytes of memory of the process that makes a picture.
const MEMORY: u64 = 2 * mostra_pixels::MAX_MEMORY;

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

/// Renditions of one picture, each with its JPEG.
pub type Renditions = Vec<(Rendition, Vec<u8>)>;

/// Makes JPEGs within the bounds of the renditions; none when the source has no picture that can
/// be read. `wanted` is among them; the others are where making them costs little more.
pub fn make(source: PictureSource, wanted: Rendition) -> Renditions {
    made(source, wanted).unwrap_or_default()
}

fn made(source: PictureSource, wanted: Rendition) -> Option<Renditions> {
    match source {
        PictureSource::Picture(mut file, orientation) => {
            if file.metadata().ok()?.len() > BYTES {
                return None;
            }
            if wanted == Rendition::Thumbnail
                && let Some(preview) = preview::of(&mut file, orientation)
            {
                return Some(vec![(wanted, preview)]);
            }
            file.rewind().ok()?;
            if !is_jpeg(&mut file) {
                return all_of(Pixels::read(&mut BufReader::new(file))?, orientation);
            }
            let mut bytes = Vec::new();
            file.take(BYTES).read_to_end(&mut bytes).ok()?;
            all_of(pixels(&bytes, orientation)?, orientation)
        }
        PictureSource::Embedded(file, format) => {
            let size = file.metadata().ok()?.len();
            let mut file = PartReader::new(file, size);
            all_of(pixels(&audio::cover(&mut file, format)?, None)?, None)
        }
        PictureSource::Film(file, duration, format) => {
            all_of(film::frame(&file, duration, format)?, None)
        }
    }
}

/// Whether a file begins as a JPEG does.
fn is_jpeg(file: &mut File) -> bool {
    let mut begin = [0; 3];
    let read = file.read_exact(&mut begin).is_ok();
    file.rewind().is_ok() && read && begin == [0xff, 0xd8, 0xff]
}

/// As many pixels of a picture as its renditions need.
fn pixels(bytes: &[u8], orientation: Option<u8>) -> Option<Pixels> {
    Pixels::of(bytes, orientation, |size| Rendition::Medium.fit(size))
}

/// All renditions of a picture, which is turned upright: each from the next larger one, as that is
/// quicker.
fn all_of(picture: Pixels, orientation: Option<u8>) -> Option<Renditions> {
    let size = picture.original(orientation);
    let (width, height) = Rendition::Medium.fit(size);
    let swaps = mostra_pixels::swaps_sides(orientation);
    let (across, down) = if swaps { (height, width) } else { (width, height) };
    let mut last = picture.shrunk(across, down)?.turned(orientation);
    let mut all = Vec::new();
    for rendition in Rendition::ALL.into_iter().rev() {
        let (width, height) = rendition.fit(size);
        last = last.shrunk(width, height)?;
        all.push((rendition, last.jpeg()?));
    }
    Some(all)
}

#[cfg(test)]
mod tests {
    use super::*;
    use image::{DynamicImage, ImageFormat, Rgb, RgbImage};
    use std::io::{Cursor, Write as _};
    use std::time::{Duration, Instant};

    fn file(bytes: &[u8]) -> File {
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(bytes).unwrap();
        file.rewind().unwrap();
        file
    }

    /// Left half red, right half blue, 400 by 200 times `scale`.
    fn picture(scale: u32, format: ImageFormat) -> Vec<u8> {
        let pixels = RgbImage::from_fn(400 * scale, 200 * scale, |x, _| {
            Rgb(if x < 200 * scale { [220, 20, 20] } else { [20, 20, 220] })
        });
        encoded(pixels, format)
    }

    fn encoded(pixels: RgbImage, format: ImageFormat) -> Vec<u8> {
        let mut bytes = Cursor::new(Vec::new());
        DynamicImage::from(pixels).write_to(&mut bytes, format).unwrap();
        bytes.into_inner()
    }

    fn made_of(bytes: &[u8], orientation: Option<u8>, wanted: Rendition) -> Renditions {
        make(PictureSource::Picture(file(bytes), orientation), wanted)
    }

    #[test]
    fn all_sizes_are_upright_within_bounds_and_of_one_reading() {
        for (bytes, orientation, sizes, top_left_red) in [
            (picture(1, ImageFormat::Png), None, [(400, 200), (400, 200), (160, 80)], true),
            (picture(1, ImageFormat::Jpeg), Some(6), [(200, 400), (200, 400), (80, 160)], true),
            (picture(1, ImageFormat::Jpeg), Some(3), [(400, 200), (400, 200), (160, 80)], false),
            (picture(9, ImageFormat::Jpeg), None, [(1024, 512), (640, 320), (160, 80)], true),
            (picture(9, ImageFormat::Jpeg), Some(8), [(384, 768), (240, 480), (80, 160)], false),
            (picture(9, ImageFormat::Png), Some(5), [(384, 768), (240, 480), (80, 160)], true),
        ] {
            let all = made_of(&bytes, orientation, Rendition::Small);
            assert_eq!(
                all.iter().map(|(r, _)| *r).collect::<Vec<_>>(),
                [Rendition::Medium, Rendition::Small, Rendition::Thumbnail]
            );
            for ((rendition, jpeg), size) in all.iter().zip(sizes) {
                assert_eq!(&jpeg[..2], [0xff, 0xd8]);
                // Baseline, not progressive.
                assert!(jpeg.windows(2).any(|w| w == [0xff, 0xc0]));
                let made = image::load_from_memory(jpeg).unwrap().to_rgb8();
                assert_eq!(made.dimensions(), size, "{rendition:?} {orientation:?}");
                let corner = made.get_pixel(4, 4).0;
                assert_eq!(corner[0] > corner[2], top_left_red, "{rendition:?} {orientation:?}");
            }
        }
    }

    /// A JPEG with another one inside its Exif data.
    fn with_preview(jpeg: &[u8], inside: &[u8]) -> Vec<u8> {
        let mut tiff = b"MM\0\x2a\0\0\0\x08".to_vec();
        // No fields of the picture itself, then two of the one inside.
        tiff.extend(b"\0\0\0\0\0\x0e\0\x02");
        tiff.extend(b"\x02\x01\0\x04\0\0\0\x01\0\0\0\x2c");
        tiff.extend(b"\x02\x02\0\x04\0\0\0\x01");
        tiff.extend((inside.len() as u32).to_be_bytes());
        tiff.extend([0; 4]);
        assert_eq!(tiff.len(), 0x2c);
        tiff.extend(inside);
        let mut whole = b"\xff\xd8\xff\xe1".to_vec();
        whole.extend((tiff.len() as u16 + 8).to_be_bytes());
        whole.extend(b"Exif\0\0");
        whole.extend(tiff);
        whole.extend(&jpeg[2..]);
        whole
    }

    #[test]
    fn the_camera_s_own_small_picture_is_the_thumbnail_where_it_shows_the_same() {
        let green =
            |w, h| encoded(RgbImage::from_pixel(w, h, Rgb([20, 220, 20])), ImageFormat::Jpeg);
        let is_green = |jpeg: &[u8]| {
            let pixel = image::load_from_memory(jpeg).unwrap().to_rgb8().get_pixel(9, 9).0;
            pixel[1] > 150
        };
        let large = picture(4, ImageFormat::Jpeg);
        let good = with_preview(&large, &green(160, 80));
        let made = made_of(&good, None, Rendition::Thumbnail);
        assert!(made.len() == 1 && is_green(&made[0].1), "quickly, and nothing else");
        let made = made_of(&good, Some(6), Rendition::Thumbnail);
        assert_eq!(image::load_from_memory(&made[0].1).unwrap().width(), 80, "turned as well");
        assert_eq!(made_of(&good, None, Rendition::Small).len(), 3);
        // Too small, of another shape, or no picture.
        for inside in [green(100, 50), green(160, 120), b"nothing".to_vec()] {
            let made = made_of(&with_preview(&large, &inside), None, Rendition::Thumbnail);
            assert_eq!(made.len(), 3);
            assert!(!is_green(&made[2].1));
        }
    }

    #[test]
    fn more_pixels_than_any_camera_has_are_not_unpacked() {
        let mut jpeg = encoded(RgbImage::new(16, 16), ImageFormat::Jpeg);
        assert!(!made_of(&jpeg, None, Rendition::Small).is_empty());
        // Its header says 30000 by 30000.
        let frame = jpeg.windows(2).position(|w| w == [0xff, 0xc0]).unwrap();
        jpeg[frame + 5..frame + 9].copy_from_slice(&[0x75, 0x30, 0x75, 0x30]);
        let begin = Instant::now();
        assert_eq!(made_of(&jpeg, None, Rendition::Small), []);
        assert!(begin.elapsed() < Duration::from_millis(500));
        // Nor more bytes than any file of one has.
        let long = file(&picture(1, ImageFormat::Png));
        long.set_len(BYTES + 1).unwrap();
        assert_eq!(make(PictureSource::Picture(long, None), Rendition::Small), []);
    }

    #[test]
    fn damage_gives_no_picture() {
        let mut cut = picture(1, ImageFormat::Png);
        cut.truncate(40);
        assert_eq!(made_of(&cut, None, Rendition::Small), []);
        assert_eq!(make(PictureSource::Embedded(file(b"ID3"), Format::Mp3), Rendition::Small), []);
    }
}
