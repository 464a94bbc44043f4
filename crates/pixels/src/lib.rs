//! A picture as pixels: read, made smaller, turned and written.
//!
//! Apart from all else, since the libraries' code for pixels is compiled here: it is optimised in
//! every profile, and compiled once.

use std::io::{BufRead, Cursor, Seek};

use fast_image_resize::images::{TypedImage, TypedImageRef};
use fast_image_resize::pixels::U8x3;
use fast_image_resize::{FilterType, ResizeAlg, ResizeOptions, Resizer};
use image::{DynamicImage, ImageDecoder as _, ImageReader, Limits, RgbImage, imageops};
use turbojpeg::{Colorspace, Compressor, Decompressor, PixelFormat, ScalingFactor, Subsamp};

/// Pixels that are unpacked at most: the largest cameras make 150 million.
pub const MAX_PIXELS: u64 = 160_000_000;
/// Bytes of memory that reading a picture takes at most.
pub const MAX_MEMORY: u64 = 512 << 20;
/// The quality of the JPEGs that are written.
const QUALITY: i32 = 82;
/// Progressive JPEGs have ten or so; thousands are made to keep a reader busy.
const SCANS: u32 = 500;

/// What a picture is read from: one type, since every decoder is compiled for each.
pub trait BufReadSeek: BufRead + Seek {}

impl<T: BufRead + Seek> BufReadSeek for T {}

/// The width and height that is needed of an upright picture of a width and height.
pub type Needed = fn((u32, u32)) -> (u32, u32);

/// A picture, perhaps unpacked smaller than it is.
#[derive(Debug)]
pub struct Pixels {
    pixels: RgbImage,
    /// Its size as it is stored.
    size: (u32, u32),
}

/// Whether width and height change places when a picture of this Exif orientation is turned upright.
pub fn swaps_sides(orientation: Option<u8>) -> bool {
    matches!(orientation, Some(5..=8))
}

impl Pixels {
    fn new(pixels: RgbImage) -> Pixels {
        let size = pixels.dimensions();
        Pixels { pixels, size }
    }

    /// Reads a picture. Of a JPEG that is to be turned by this orientation only as many pixels as
    /// are needed: `needed` gives the width and height that is wanted of an upright picture's.
    pub fn of(bytes: &[u8], orientation: Option<u8>, needed: Needed) -> Option<Pixels> {
        scaled_jpeg(bytes, orientation, needed).or_else(|| Pixels::read(&mut Cursor::new(bytes)))
    }

    /// Reads a picture of any format that is known, whole; none where it is damaged or larger than
    /// [`MAX_PIXELS`].
    pub fn read(reader: &mut dyn BufReadSeek) -> Option<Pixels> {
        let mut reader = ImageReader::new(reader).with_guessed_format().ok()?;
        let mut limits = Limits::default();
        limits.max_image_width = Some(32_000);
        limits.max_image_height = Some(32_000);
        limits.max_alloc = Some(MAX_MEMORY);
        reader.limits(limits);
        let decoder = reader.into_decoder().ok()?;
        let (width, height) = decoder.dimensions();
        if u64::from(width) * u64::from(height) > MAX_PIXELS {
            return None;
        }
        Some(Pixels::new(DynamicImage::from_decoder(decoder).ok()?.into_rgb8()))
    }

    /// Its full size when it is turned upright.
    pub fn original(&self, orientation: Option<u8>) -> (u32, u32) {
        let (width, height) = self.size;
        if swaps_sides(orientation) { (height, width) } else { (width, height) }
    }

    /// The same in another size, which is no larger.
    pub fn shrunk(self, width: u32, height: u32) -> Option<Pixels> {
        let (w, h) = self.pixels.dimensions();
        if (w, h) == (width, height) {
            return Some(self);
        }
        let mut pixels = RgbImage::new(width, height);
        // Typed: else this is compiled for every type of pixel there is, which takes minutes.
        let from = TypedImageRef::<U8x3>::from_buffer(w, h, self.pixels.as_raw()).ok()?;
        let mut to = TypedImage::<U8x3>::from_buffer(width, height, pixels.as_mut()).ok()?;
        let by = ResizeOptions::new().resize_alg(ResizeAlg::Convolution(FilterType::Hamming));
        Resizer::new().resize_typed(&from, &mut to, &by).ok()?;
        Some(Pixels { pixels, size: self.size })
    }

    /// Turned upright.
    pub fn turned(self, orientation: Option<u8>) -> Pixels {
        use imageops::{flip_horizontal, flip_vertical, rotate90, rotate180, rotate270};
        let it = &self.pixels;
        let pixels = match orientation {
            Some(2) => flip_horizontal(it),
            Some(3) => rotate180(it),
            Some(4) => flip_vertical(it),
            Some(5) => flip_horizontal(&rotate90(it)),
            Some(6) => rotate90(it),
            Some(7) => flip_horizontal(&rotate270(it)),
            Some(8) => rotate270(it),
            _ => return self,
        };
        Pixels { pixels, size: self.original(orientation) }
    }

    /// As baseline JPEG.
    pub fn jpeg(&self) -> Option<Vec<u8>> {
        let mut compressor = Compressor::new().ok()?;
        compressor.set_quality(QUALITY).ok()?;
        compressor.set_subsamp(Subsamp::Sub2x2).ok()?;
        let (width, height) = (self.pixels.width() as usize, self.pixels.height() as usize);
        let pixels = self.pixels.as_raw().as_slice();
        let image =
            turbojpeg::Image { pixels, width, pitch: width * 3, height, format: PixelFormat::RGB };
        compressor.compress_to_vec(image).ok()
    }
}

/// Reads a JPEG, made smaller while it is unpacked; `None` for what the quick library does not
/// take, such as one for printing or a damaged one.
fn scaled_jpeg(bytes: &[u8], orientation: Option<u8>, needed: Needed) -> Option<Pixels> {
    let mut reader = Decompressor::new().ok()?;
    reader.set_scan_limit(SCANS).ok()?;
    let header = reader.read_header(bytes).ok()?;
    let (width, height) = (u32::try_from(header.width).ok()?, u32::try_from(header.height).ok()?);
    let colours = matches!(header.colorspace, Colorspace::CMYK | Colorspace::YCCK);
    if colours || u64::from(width) * u64::from(height) > MAX_PIXELS {
        return None;
    }
    let upright = if swaps_sides(orientation) { (height, width) } else { (width, height) };
    let needed = needed(upright);
    let needed = if swaps_sides(orientation) { (needed.1, needed.0) } else { needed };
    // Those that the library does by the processor's vectors.
    let factors = [ScalingFactor::ONE_EIGHTH, ScalingFactor::ONE_QUARTER, ScalingFactor::ONE_HALF];
    let enough = |factor: &ScalingFactor| {
        let (w, h) = (factor.scale(header.width), factor.scale(header.height));
        w >= needed.0 as usize && h >= needed.1 as usize
    };
    let factor = factors.into_iter().find(enough).unwrap_or(ScalingFactor::ONE);
    reader.set_scaling_factor(factor).ok()?;
    let scaled = header.scaled(factor);
    let mut pixels = RgbImage::new(scaled.width as u32, scaled.height as u32);
    let image = turbojpeg::Image {
        pixels: pixels.as_mut(),
        width: scaled.width,
        pitch: scaled.width * 3,
        height: scaled.height,
        format: PixelFormat::RGB,
    };
    reader.decompress(bytes, image).ok()?;
    Some(Pixels { pixels, size: (width, height) })
}

/// The width and height that a JPEG's header says, as it is stored.
pub fn jpeg_size(begin: &[u8]) -> Option<(u32, u32)> {
    let header = turbojpeg::read_header(begin).ok()?;
    Some((u32::try_from(header.width).ok()?, u32::try_from(header.height).ok()?))
}
