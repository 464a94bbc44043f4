//! How Windows' containers (AVI, ASF, WAV) name sound and pictures.

use mostra_core::facts::AudioTrack;

fn u16_at(data: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(data.get(at..at + 2)?.try_into().ok()?))
}

pub(crate) fn u32_at(data: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(data.get(at..at + 4)?.try_into().ok()?))
}

/// Sound by a WAVEFORMATEX; `None` for what is not known by it alone.
pub(crate) fn sound(format: &[u8]) -> Option<AudioTrack> {
    let tag = match u16_at(format, 0)? {
        // The tag stands at the beginning of the sub-format.
        0xfffe => u16_at(format, 24)?,
        tag => tag,
    };
    let bits = u16_at(format, 14).and_then(|bits| u8::try_from(bits).ok()).filter(|bits| *bits > 0);
    let (codec, bits) = match tag {
        0x0001 | 0x0003 => ("lpcm", bits),
        0x0002 => ("adpcm_ms", Some(4)),
        0x0006 => ("pcm_alaw", Some(8)),
        0x0007 => ("pcm_mulaw", Some(8)),
        0x0011 => ("adpcm_ima_wav", Some(4)),
        0x0050 => ("mp2", None),
        0x0055 => ("mp3", None),
        0x000a => ("wmavoice", None),
        0x0160 => ("wmav1", None),
        0x0161 => ("wmav2", None),
        0x0162 => ("wmapro", None),
        0x0163 => ("wmalossless", bits),
        0x2000 => ("ac3", None),
        0x2001 => ("dts", None),
        _ => return None,
    };
    let codec = if codec.starts_with("pcm_") { "lpcm" } else { codec };
    let channels = u16_at(format, 2).filter(|channels| (1..=64).contains(channels))?;
    let rate = u32_at(format, 4).filter(|rate| (1000..=768_000).contains(rate))?;
    Some(AudioTrack {
        codec: codec.into(),
        sample_rate: Some(rate),
        channels: Some(channels.into()),
        bits,
        language: None,
    })
}

/// The name of a picture's codec by its four characters.
pub(crate) fn picture(code: &[u8]) -> Option<&'static str> {
    Some(match &code.to_ascii_uppercase()[..] {
        b"XVID" | b"DIVX" | b"DX50" | b"FMP4" | b"MP4V" | b"RMP4" | b"3IV2" | b"M4S2" | b"MP4S" => {
            "mpeg4"
        }
        b"H264" | b"X264" | b"AVC1" => "h264",
        b"HEVC" | b"H265" | b"HVC1" => "hevc",
        b"MJPG" => "mjpeg",
        b"DIV3" | b"DIV4" | b"MP43" | b"MPG3" => "msmpeg4v3",
        b"DIV2" | b"MP42" => "msmpeg4v2",
        b"MPG2" | b"MPEG" | b"\x02\0\0\x10" => "mpeg2video",
        b"MPG1" | b"\x01\0\0\x10" => "mpeg1video",
        b"WMV1" => "wmv1",
        b"WMV2" => "wmv2",
        b"WMV3" => "wmv3",
        b"WVC1" | b"WMVA" => "vc1",
        b"DVSD" => "dvvideo",
        _ => return None,
    })
}

/// The size in a BITMAPINFOHEADER, and its four characters. Pictures upside down have a negative
/// height.
pub(crate) fn bitmap(header: &[u8]) -> Option<((u32, u32), &[u8])> {
    let (wide, high) = (u32_at(header, 4)?, u32_at(header, 8)?.cast_signed().unsigned_abs());
    let sane = |side: u32| (1..=65_535).contains(&side);
    (sane(wide) && sane(high)).then_some(((wide, high), header.get(16..20)?))
}
