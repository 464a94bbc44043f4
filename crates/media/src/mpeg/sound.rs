//! Headers of coded sound: MPEG audio, AAC in ADTS, AC-3, E-AC-3, DTS, LPCM.

use mostra_core::facts::AudioTrack;

use super::bits::BitReader;

fn track(codec: &str, sample_rate: u32, channels: u32) -> AudioTrack {
    AudioTrack {
        codec: codec.into(),
        sample_rate: Some(sample_rate),
        channels: Some(channels),
        ..AudioTrack::default()
    }
}

/// The first that `read` makes of the data from one of its places on, and that is followed by
/// another frame of the same sort where the data go on so far.
fn first<T>(data: &[u8], read: impl Fn(&[u8]) -> Option<(T, usize)>) -> Option<T> {
    (0..data.len()).find_map(|at| {
        let (found, length) = read(&data[at..])?;
        let next = data.get(at + length..).filter(|rest| rest.len() >= 16);
        next.is_none_or(|rest| read(rest).is_some()).then_some(found)
    })
}

/// MPEG audio (ISO/IEC 11172-3, 2.4.1.3).
pub(super) fn mpeg(data: &[u8]) -> Option<AudioTrack> {
    first(data, |data| {
        let [a, b, c, d, ..] = *data else { return None };
        if a != 0xff || b & 0xe0 != 0xe0 {
            return None;
        }
        let (version, layer) = (b >> 3 & 3, 4 - (b >> 1 & 3));
        let (bits, rate) = (usize::from(c >> 4), usize::from(c >> 2 & 3));
        if version == 1 || layer == 4 || bits == 0 || bits == 15 || rate == 3 {
            return None;
        }
        let halved = match version {
            3 => 1,
            2 => 2,
            _ => 4,
        };
        let sample_rate = [44_100, 48_000, 32_000][rate] / halved;
        const BITS: [[u32; 15]; 5] = [
            [0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448],
            [0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384],
            [0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320],
            [0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256],
            [0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160],
        ];
        let table = match (version, layer) {
            (3, layer) => usize::from(layer) - 1,
            (_, 1) => 3,
            _ => 4,
        };
        let kbits = BITS[table][bits];
        let padding = u32::from(c >> 1 & 1);
        let length = match (layer, version) {
            (1, _) => (12_000 * kbits / sample_rate + padding) * 4,
            (3, 0 | 2) => 72_000 * kbits / sample_rate + padding,
            _ => 144_000 * kbits / sample_rate + padding,
        };
        let codec = ["mp1", "mp2", "mp3"][usize::from(layer) - 1];
        let channels = if d >> 6 == 3 { 1 } else { 2 };
        Some((track(codec, sample_rate, channels), length as usize))
    })
}

/// AAC with a header before each frame. Whether the upper half of the sound is coded apart (HE) is
/// not in the header: of low rates that is usual, and is left to another reader.
pub(super) fn adts(data: &[u8]) -> Option<AudioTrack> {
    const RATES: [u32; 7] = [96_000, 88_200, 64_000, 48_000, 44_100, 32_000, 24_000];
    first(data, |data| {
        let [0xff, b, c, d, e, f, ..] = *data else { return None };
        let length = usize::from(d & 3) << 11 | usize::from(e) << 3 | usize::from(f >> 5);
        if b & 0xf6 != 0xf0 || length < 7 || c >> 6 != 1 {
            return None;
        }
        let rate = *RATES.get(usize::from(c >> 2 & 15)).filter(|rate| **rate > 24_000)?;
        let channels = match u32::from((c & 1) << 2 | d >> 6) {
            0 => return None,
            7 => 8,
            channels => channels,
        };
        Some((track("aac-lc", rate, channels), length))
    })
}

/// Channels of an AC-3 audio coding mode.
const MODES: [u32; 8] = [2, 1, 2, 3, 3, 4, 4, 5];

/// AC-3 and E-AC-3 (ETSI TS 102 366).
pub(super) fn ac3(data: &[u8]) -> Option<AudioTrack> {
    first(data, |data| {
        let [0x0b, 0x77, rest @ ..] = data else { return None };
        let bsid = rest.get(3)? >> 3;
        let mut bits = BitReader::new(rest);
        if bsid > 10 {
            // A stream beside another has the channels that the other lacks.
            let kind = bits.number(2)?;
            bits.skip(3)?;
            let length = (bits.number(11)? as usize + 1) * 2;
            let rate = match (bits.number(2)?, bits.number(2)?) {
                (3, 3) => return None,
                (3, code) => [24_000, 22_050, 16_000][code as usize],
                (code, _) => [48_000, 44_100, 32_000][code as usize],
            };
            let (mode, low) = (bits.number(3)? as usize, bits.bit()?);
            return (bsid <= 16 && kind == 0)
                .then(|| (track("eac3", rate, MODES[mode] + u32::from(low)), length));
        }
        bits.skip(16)?;
        let (code, size) = (bits.number(2)?, bits.number(6)?);
        bits.skip(5 + 3)?;
        let mode = bits.number(3)?;
        if mode & 1 == 1 && mode != 1 {
            bits.skip(2)?;
        }
        if mode & 4 == 4 {
            bits.skip(2)?;
        }
        if mode == 2 {
            bits.skip(2)?;
        }
        let low = bits.bit()?;
        const KBITS: [u32; 19] = [
            32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 448, 512, 576, 640,
        ];
        let kbits = KBITS.get(size as usize / 2)?;
        let rate = *[48_000, 44_100, 32_000].get(code as usize)?;
        let words = match code {
            1 => kbits * 96_000 / 44_100 + size % 2,
            _ => kbits * 96_000 / rate,
        };
        // Low rates halve it, by the version.
        let rate = rate >> (u32::from(bsid.max(8)) - 8);
        Some((track("ac3", rate, MODES[mode as usize] + u32::from(low)), words as usize * 2))
    })
}

/// DTS, its core (ETSI TS 102 114).
pub(super) fn dts(data: &[u8]) -> Option<AudioTrack> {
    first(data, |data| {
        let [0x7f, 0xfe, 0x80, 0x01, rest @ ..] = data else { return None };
        let mut bits = BitReader::new(rest);
        bits.skip(1 + 5 + 1 + 7)?;
        let length = bits.number(14)? as usize + 1;
        let mode = bits.number(6)? as usize;
        const RATES: [u32; 16] = [
            0, 8000, 16_000, 32_000, 0, 0, 11_025, 22_050, 44_100, 0, 0, 12_000, 24_000, 48_000, 0,
            0,
        ];
        let rate = RATES[bits.number(4)? as usize];
        bits.skip(5 + 5 + 3 + 1 + 1)?;
        let low = bits.number(2)?;
        const CHANNELS: [u32; 10] = [1, 2, 2, 2, 2, 3, 3, 4, 4, 5];
        let channels = *CHANNELS.get(mode)?;
        let low = u32::from(matches!(low, 1 | 2));
        (rate > 0 && length >= 96).then(|| (track("dts", rate, channels + low), length))
    })
}

/// LPCM as in video discs: behind the number of the stream (sub-stream id).
pub(super) fn disc_lpcm(header: &[u8]) -> Option<AudioTrack> {
    let form = *header.get(5)?;
    let bits = *[16, 20, 24].get(usize::from(form >> 6))?;
    let rate = [48_000, 96_000, 44_100, 32_000][usize::from(form >> 4 & 3)];
    Some(AudioTrack { bits: Some(bits), ..track("lpcm", rate, u32::from(form & 7) + 1) })
}

/// LPCM as in transport streams of discs.
pub(super) fn stream_lpcm(header: &[u8]) -> Option<AudioTrack> {
    let [_, _, form, bits, ..] = *header else { return None };
    let channels = match form >> 4 {
        1 => 1,
        3 => 2,
        4 | 5 => 3,
        6 | 7 => 4,
        8 => 5,
        9 => 6,
        10 => 7,
        11 => 8,
        _ => return None,
    };
    let rate = match form & 15 {
        1 => 48_000,
        4 => 96_000,
        5 => 192_000,
        _ => return None,
    };
    let bits = *[0, 16, 20, 24].get(usize::from(bits >> 6)).filter(|bits| **bits > 0)?;
    Some(AudioTrack { bits: Some(bits), ..track("lpcm", rate, channels) })
}
