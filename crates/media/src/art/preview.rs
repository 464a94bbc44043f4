//! The small picture that cameras put into theirs, which shows the picture without unpacking it.

use std::fs::File;
use std::io::{Cursor, Read as _, Seek as _};

use exif::{In, Tag};
use mostra_core::profile::Rendition;

use super::{is_jpeg, pixels};

/// Bytes at the beginning of a file in which it is, with the size of the picture.
const BEGIN: u64 = 256 << 10;

/// The thumbnail of a JPEG made from the one inside it; `None` where that is too small, or is of
/// another shape, as it is when a program changed the picture and left it as it was.
pub(super) fn of(file: &mut File, orientation: Option<u8>) -> Option<Vec<u8>> {
    file.rewind().ok()?;
    if !is_jpeg(file) {
        return None;
    }
    let mut begin = Vec::new();
    file.by_ref().take(BEGIN).read_to_end(&mut begin).ok()?;
    let size = mostra_pixels::jpeg_size(&begin)?;
    let exif = exif::Reader::new().read_from_container(&mut Cursor::new(&begin)).ok()?;
    let number = |tag, of| exif.get_field(tag, of)?.value.get_uint(0);
    // A program that changed the size without the rest says so here.
    let said = number(Tag::PixelXDimension, In::PRIMARY);
    if said.is_some_and(|width| width != size.0 && width != size.1) {
        return None;
    }
    let from = number(Tag::JPEGInterchangeFormat, In::THUMBNAIL)? as usize;
    let length = number(Tag::JPEGInterchangeFormatLength, In::THUMBNAIL)? as usize;
    let inside = exif.buf().get(from..from.checked_add(length)?)?;
    let wanted = Rendition::Thumbnail.fit(size);
    let small = pixels(inside, None)?;
    if !shows(small.original(None), size, wanted) {
        return None;
    }
    small.shrunk(wanted.0, wanted.1)?.turned(orientation).jpeg()
}

/// Whether a picture is large enough for the wanted size, and has the shape of the original within
/// a pixel or two.
fn shows(inside: (u32, u32), original: (u32, u32), wanted: (u32, u32)) -> bool {
    let [w, h, x, y] = [inside.0, inside.1, original.0, original.1].map(u64::from);
    inside.0 >= wanted.0 && inside.1 >= wanted.1 && (w * y).abs_diff(h * x) <= 2 * x.max(y)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_shows_the_picture_is_large_enough_and_of_its_shape() {
        let shows = |inside, original| shows(inside, original, Rendition::Thumbnail.fit(original));
        assert!(shows((160, 120), (4000, 3000)));
        assert!(shows((160, 107), (6000, 4000)), "rounded");
        assert!(!shows((160, 120), (6000, 4000)), "with black bars");
        assert!(!shows((160, 120), (3000, 4000)), "turned since");
        assert!(!shows((80, 60), (4000, 3000)), "too small");
    }
}
