//! Sequence headers of coded pictures: MPEG-1 and 2 (ISO/IEC 13818-2), H.264 and H.265 (ITU-T).

use mostra_core::facts::VideoCodec;

use super::bits::{BitReader, unescaped};

/// What a sequence header says.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct SequenceHeader {
    pub codec: VideoCodec,
    pub resolution: (u32, u32),
    /// Pictures in 1000 seconds, where the header says.
    pub frame_rate_milli: Option<u32>,
}

/// The units between start codes: what stands behind each `00 00 01`.
fn units(data: &[u8]) -> impl Iterator<Item = &[u8]> {
    let next = |from: usize| {
        let found = data.get(from..)?.windows(3).position(|three| three == [0, 0, 1]);
        found.map(|at| from + at)
    };
    let mut begin = next(0);
    std::iter::from_fn(move || {
        let from = begin? + 3;
        begin = next(from);
        data.get(from..begin.unwrap_or(data.len()))
    })
}

/// As [`units`], but only those that are known to be whole: another follows.
fn whole_units(data: &[u8]) -> impl Iterator<Item = &[u8]> {
    let mut all = units(data).peekable();
    std::iter::from_fn(move || {
        let unit = all.next()?;
        all.peek().is_some().then_some(unit)
    })
}

fn milli(above: u64, below: u64) -> Option<u32> {
    let milli = (above * 2000).checked_div(below)?.div_ceil(2);
    u32::try_from(milli).ok().filter(|milli| (1000..1_000_000).contains(milli))
}

/// MPEG-1 or 2.
pub(crate) fn mpeg2(data: &[u8]) -> Option<SequenceHeader> {
    let mut rest = whole_units(data).skip_while(|unit| unit.first() != Some(&0xb3));
    let mut bits = BitReader::new(rest.next()?.get(1..)?);
    let (width, height) = (bits.number(12)?, bits.number(12)?);
    bits.skip(4)?;
    let rate = bits.number(4)?;
    let (above, below) = match rate {
        1 => (24_000, 1001),
        2 => (24, 1),
        3 => (25, 1),
        4 => (30_000, 1001),
        5 => (30, 1),
        6 => (50, 1),
        7 => (60_000, 1001),
        8 => (60, 1),
        _ => return None,
    };
    // MPEG-2 has the sequence extension right behind it.
    let extension = rest.next().filter(|unit| unit.first() == Some(&0xb5) && unit.len() >= 7);
    let Some(extension) = extension.filter(|unit| unit[1] >> 4 == 1) else {
        let codec = VideoCodec { name: "mpeg1video".into(), profile: None, level: None };
        return Some(SequenceHeader {
            codec,
            resolution: (width, height),
            frame_rate_milli: milli(above, below),
        });
    };
    let mut bits = BitReader::new(&extension[1..]);
    bits.skip(5)?;
    let (profile, level) = (bits.number(3)?, bits.number(4)?);
    bits.skip(3)?;
    let (wide, high) = (bits.number(2)?, bits.number(2)?);
    bits.skip(12 + 1 + 8 + 1)?;
    let (more, parts) = (bits.number(2)?, bits.number(5)?);
    Some(SequenceHeader {
        codec: VideoCodec {
            name: "mpeg2video".into(),
            profile: Some(profile as u8),
            level: Some(level as u8),
        },
        resolution: (wide << 12 | width, high << 12 | height),
        frame_rate_milli: milli(above * u64::from(more + 1), below * u64::from(parts + 1)),
    })
}

/// H.264, from units behind start codes.
pub(crate) fn h264(data: &[u8]) -> Option<SequenceHeader> {
    let unit = whole_units(data).find(|unit| unit.first().is_some_and(|byte| byte & 31 == 7))?;
    h264_parameters(&unescaped(unit.get(1..)?))
}

fn h264_parameters(set: &[u8]) -> Option<SequenceHeader> {
    let mut bits = BitReader::new(set);
    let profile = bits.number(8)? as u8;
    bits.skip(8)?;
    let level = bits.number(8)? as u8;
    bits.golomb()?;
    let mut chroma = 1;
    if matches!(profile, 100 | 110 | 122 | 244 | 44 | 83 | 86 | 118 | 128 | 138 | 139 | 134) {
        chroma = bits.golomb()?;
        if chroma == 3 {
            bits.skip(1)?;
        }
        bits.golomb()?;
        bits.golomb()?;
        bits.skip(1)?;
        if bits.bit()? {
            for list in 0..if chroma == 3 { 12 } else { 8 } {
                if bits.bit()? {
                    scaling_list(&mut bits, if list < 6 { 16 } else { 64 })?;
                }
            }
        }
    }
    bits.golomb()?;
    match bits.golomb()? {
        0 => {
            bits.golomb()?;
        }
        1 => {
            bits.skip(1)?;
            bits.signed()?;
            bits.signed()?;
            for _ in 0..bits.golomb()?.min(255) {
                bits.signed()?;
            }
        }
        _ => {}
    }
    bits.golomb()?;
    bits.skip(1)?;
    let across = bits.golomb()?.checked_add(1)?.checked_mul(16)?;
    let units = bits.golomb()?.checked_add(1)?;
    let frames = bits.bit()?;
    if !frames {
        bits.skip(1)?;
    }
    let down = units.checked_mul(if frames { 16 } else { 32 })?;
    bits.skip(1)?;
    let (mut wide, mut high) = (0, 0);
    if bits.bit()? {
        let (left, right) = (bits.golomb()?, bits.golomb()?);
        let (top, bottom) = (bits.golomb()?, bits.golomb()?);
        let across = if chroma == 1 || chroma == 2 { 2 } else { 1 };
        let down = if chroma == 1 { 2 } else { 1 } * if frames { 1 } else { 2 };
        wide = left.checked_add(right)?.checked_mul(across)?;
        high = top.checked_add(bottom)?.checked_mul(down)?;
    }
    Some(SequenceHeader {
        codec: VideoCodec { name: "h264".into(), profile: Some(profile), level: Some(level) },
        resolution: (across.checked_sub(wide)?, down.checked_sub(high)?),
        frame_rate_milli: h264_rate(&mut bits),
    })
}

fn scaling_list(bits: &mut BitReader<'_>, length: usize) -> Option<()> {
    let (mut last, mut next) = (8, 8);
    for _ in 0..length {
        if next != 0 {
            next = (last + bits.signed()?).rem_euclid(256);
        }
        last = if next == 0 { last } else { next };
    }
    Some(())
}

/// What the usability information says of time (ITU-T H.264, E.1.1).
fn h264_rate(bits: &mut BitReader<'_>) -> Option<u32> {
    if !bits.bit()? {
        return None;
    }
    if bits.bit()? && bits.number(8)? == 255 {
        bits.skip(32)?;
    }
    if bits.bit()? {
        bits.skip(1)?;
    }
    if bits.bit()? {
        bits.skip(4)?;
        if bits.bit()? {
            bits.skip(24)?;
        }
    }
    if bits.bit()? {
        bits.golomb()?;
        bits.golomb()?;
    }
    if !bits.bit()? {
        return None;
    }
    let (ticks, scale) = (bits.number(32)?, bits.number(32)?);
    milli(scale.into(), u64::from(ticks) * 2)
}

/// H.265, from units behind start codes. How many pictures there are in a second stands where
/// it takes more than this to read; it is told by their times.
pub(crate) fn hevc(data: &[u8]) -> Option<SequenceHeader> {
    let sets =
        whole_units(data).find(|unit| unit.first().is_some_and(|byte| byte >> 1 & 63 == 33))?;
    let set = unescaped(sets.get(2..)?);
    let mut bits = BitReader::new(&set);
    bits.skip(4)?;
    let layers = bits.number(3)?;
    bits.skip(1 + 2 + 1)?;
    let profile = bits.number(5)? as u8;
    bits.skip(32 + 48)?;
    let level = bits.number(8)? as u8;
    let more: Option<Vec<(bool, bool)>> =
        (0..layers).map(|_| Some((bits.bit()?, bits.bit()?))).collect();
    if layers > 0 {
        bits.skip(2 * (8 - layers as usize))?;
    }
    for (profile, level) in more? {
        bits.skip(if profile { 88 } else { 0 } + if level { 8 } else { 0 })?;
    }
    bits.golomb()?;
    let chroma = bits.golomb()?;
    if chroma == 3 {
        bits.skip(1)?;
    }
    let (width, height) = (bits.golomb()?, bits.golomb()?);
    let (mut wide, mut high) = (0, 0);
    if bits.bit()? {
        let (left, right) = (bits.golomb()?, bits.golomb()?);
        let (top, bottom) = (bits.golomb()?, bits.golomb()?);
        let across = if chroma == 1 || chroma == 2 { 2 } else { 1 };
        wide = left.checked_add(right)?.checked_mul(across)?;
        high = top.checked_add(bottom)?.checked_mul(if chroma == 1 { 2 } else { 1 })?;
    }
    Some(SequenceHeader {
        codec: VideoCodec { name: "hevc".into(), profile: Some(profile), level: Some(level) },
        resolution: (width.checked_sub(wide)?, height.checked_sub(high)?),
        frame_rate_milli: None,
    })
}
