//! Where the samples of wave and interchange files lie.

use std::io::{Read as _, Seek as _, SeekFrom};

use mostra_core::format::Format;

use crate::part_reader::PartReader;

/// Chunks looked at: more than any writer puts before the samples.
const CHUNKS: usize = 64;
/// The wave format of plain samples, and the one that names it further on.
const PLAIN: u16 = 1;
const EXTENSIBLE: u16 = 0xfffe;

/// The first byte of plain samples and the first behind them; `None` for other codings and for
/// files without.
pub(crate) fn span(file: &mut PartReader, format: Format, size: u64) -> Option<(u64, u64)> {
    let (from, length) = match format {
        Format::Wav => wave(file, size)?,
        Format::Aiff => interchange(file, size)?,
        _ => return None,
    };
    // Who writes while it records may say nothing true of the length.
    let to = from.checked_add(length)?.min(size);
    (from < to).then_some((from, to))
}

fn wave(file: &mut PartReader, size: u64) -> Option<(u64, u64)> {
    let mut plain = false;
    for chunk in chunks(file, size, u32::from_le_bytes) {
        let (name, at, length) = chunk;
        match &name {
            b"fmt " => {
                let head: [u8; 16] = read(file, at)?;
                let coding = u16::from_le_bytes([head[0], head[1]]);
                plain = match coding {
                    EXTENSIBLE if length >= 26 => u16::from_le_bytes(read(file, at + 24)?) == PLAIN,
                    _ => coding == PLAIN,
                };
            }
            b"data" => return plain.then_some((at, length)),
            _ => {}
        }
    }
    None
}

fn interchange(file: &mut PartReader, size: u64) -> Option<(u64, u64)> {
    // The later form may hold anything, also samples the other way round.
    if &read::<4>(file, 8)? != b"AIFF" {
        return None;
    }
    let (_, at, length) =
        chunks(file, size, u32::from_be_bytes).into_iter().find(|(name, ..)| name == b"SSND")?;
    let skipped = 8 + u64::from(u32::from_be_bytes(read(file, at)?));
    Some((at + skipped, length.checked_sub(skipped)?))
}

/// Name, place and length of the chunks up to the samples, the end, or what is no chunk.
fn chunks(
    file: &mut PartReader,
    size: u64,
    number: fn([u8; 4]) -> u32,
) -> Vec<([u8; 4], u64, u64)> {
    let (mut found, mut at) = (Vec::new(), 12);
    while found.len() < CHUNKS && at + 8 <= size {
        let Some(head) = read::<8>(file, at) else { break };
        let [a, b, c, d, length @ ..] = head;
        let length = u64::from(number(length));
        found.push(([a, b, c, d], at + 8, length));
        // Behind the samples nothing is looked for.
        if matches!(&[a, b, c, d], b"data" | b"SSND") {
            break;
        }
        // Each begins at an even place.
        at += 8 + length + length % 2;
    }
    found
}

fn read<const N: usize>(file: &mut PartReader, at: u64) -> Option<[u8; N]> {
    let mut bytes = [0; N];
    file.seek(SeekFrom::Start(at)).ok()?;
    file.read_exact(&mut bytes).ok()?;
    Some(bytes)
}
