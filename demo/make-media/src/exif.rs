//! Writing the date taken into a JPEG.

/// Puts an Exif segment with DateTimeOriginal (`YYYY:MM:DD hh:mm:ss`) after the start of the
/// image. `None` if the bytes are no JPEG.
pub(crate) fn with_date(jpeg: &[u8], taken: &str) -> Option<Vec<u8>> {
    let rest = jpeg.strip_prefix(&[0xff, 0xd8])?;
    let mut tiff: Vec<u8> = b"MM\0\x2a\0\0\0\x08".to_vec();
    let entry = |tiff: &mut Vec<u8>, tag: u16, kind: u16, count: u32, value: u32| {
        tiff.extend(tag.to_be_bytes());
        tiff.extend(kind.to_be_bytes());
        tiff.extend(count.to_be_bytes());
        tiff.extend(value.to_be_bytes());
    };
    // The first directory points to the Exif directory behind it, that to the text behind it.
    tiff.extend(1u16.to_be_bytes());
    entry(&mut tiff, 0x8769, 4, 1, 26);
    tiff.extend(0u32.to_be_bytes());
    tiff.extend(1u16.to_be_bytes());
    entry(&mut tiff, 0x9003, 2, 20, 44);
    tiff.extend(0u32.to_be_bytes());
    tiff.extend(taken.as_bytes());
    tiff.push(0);
    let length = u16::try_from(2 + 6 + tiff.len()).ok()?;
    let mut out = vec![0xff, 0xd8, 0xff, 0xe1];
    out.extend(length.to_be_bytes());
    out.extend(b"Exif\0\0");
    out.extend(tiff);
    out.extend(rest);
    Some(out)
}
