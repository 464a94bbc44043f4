//! Program streams: packs of packets, as on discs.

use std::collections::HashMap;
use std::io::{Read as _, Seek as _, SeekFrom};

use mostra_core::facts::Facts;

use super::{Coding, ElementaryStream, facts, pes, time};
use crate::part_reader::PartReader;

/// Bytes read from the beginning at most, and from the end.
const HEAD: u64 = 4 << 20;
const TAIL: u64 = 4 << 20;
/// Bytes read at first; four times as many each time that this was not enough.
const FIRST: u64 = 256 << 10;

const STREAMS: usize = 64;

/// Reads a program stream.
pub(crate) fn read(file: &mut PartReader, known: Facts) -> Option<Facts> {
    let mut length = FIRST;
    let reading = loop {
        let mut reading = PacketWalk::default();
        reading.walk(&piece(file, 0, length.min(known.size))?);
        if reading.is_done() || length >= HEAD || length >= known.size {
            break reading;
        }
        length *= 4;
    };
    let mut back = FIRST;
    let ended = loop {
        let begin = known.size.saturating_sub(back);
        let piece = piece(file, begin, known.size - begin)?;
        // In the middle of a packet nothing can be told from its start codes.
        let pack = piece.windows(4).position(|four| four == [0, 0, 1, 0xba]);
        let mut ended = PacketWalk::default();
        ended.walk(&piece[pack.unwrap_or(piece.len())..]);
        if !ended.last.is_empty() || begin == 0 || back >= TAIL {
            break ended;
        }
        back *= 4;
    };
    let mut reading = reading;
    reading.streams.values_mut().filter(|s| s.found.is_none()).for_each(ElementaryStream::look);
    let streams: Vec<&ElementaryStream> =
        reading.order.iter().filter_map(|id| reading.streams.get(id)).collect();
    facts(&streams, |number| ended.last.get(reading.order.get(number)?).copied(), known)
}

fn piece(file: &mut PartReader, at: u64, length: u64) -> Option<Vec<u8>> {
    let mut piece = vec![0; length as usize];
    file.seek(SeekFrom::Start(at)).ok()?;
    file.read_exact(&mut piece).ok()?;
    Some(piece)
}

/// A stream, and of private ones which: they have a number of their own.
type StreamId = (u8, u8);

#[derive(Default)]
struct PacketWalk {
    streams: HashMap<StreamId, ElementaryStream>,
    order: Vec<StreamId>,
    /// The greatest time of each among the last that were met.
    last: HashMap<StreamId, u64>,
}

impl PacketWalk {
    fn is_done(&self) -> bool {
        !self.streams.is_empty() && self.streams.values().all(ElementaryStream::is_known)
    }

    /// Walks from packet to packet; over what is out of step to the next start code.
    fn walk(&mut self, data: &[u8]) {
        let mut at = 0;
        while let Some(rest) = data.get(at..).filter(|rest| rest.len() >= 6) {
            let [0, 0, 1, id, high, low, ..] = *rest else {
                let next = rest.windows(3).skip(1).position(|three| three == [0, 0, 1]);
                at += match next {
                    Some(next) => next + 1,
                    None => return,
                };
                continue;
            };
            let length = 6 + (usize::from(high) << 8 | usize::from(low));
            at += match id {
                // A pack: of MPEG-2 with stuffing behind it, else of MPEG-1.
                0xba => match rest.get(4).map(|byte| byte >> 6) {
                    Some(1) => 14 + usize::from(rest.get(13).map_or(0, |byte| byte & 7)),
                    _ => 12,
                },
                0xb9 => 4,
                0xbb..=0xff => {
                    if let Some(packet) = rest.get(..length.min(rest.len())) {
                        self.packet(id, packet);
                    }
                    length
                }
                // A start code inside what is packed: out of step.
                _ => 4,
            };
        }
    }

    fn packet(&mut self, id: u8, packet: &[u8]) -> Option<()> {
        if !matches!(id, 0xbd | 0xc0..=0xef) {
            return None;
        }
        let (time, payload) = pes(packet).or_else(|| first_edition(packet))?;
        let (id, coding, skipped) = match id {
            0xe0..=0xef => ((id, 0), Coding::Mpeg2Video, 0),
            0xbd => {
                let number = *payload.first()?;
                let coding = match number {
                    0x20..=0x3f => (Coding::Subtitles("dvd_subtitle"), 1),
                    0x80..=0x87 => (Coding::Ac3, 4),
                    0x88..=0x8f => (Coding::Dts, 4),
                    // Its header is what is read of it.
                    0xa0..=0xa7 => (Coding::DiscLpcm, 0),
                    _ => (Coding::Unknown, 0),
                };
                ((id, number), coding.0, coding.1)
            }
            _ => ((id, 0), Coding::MpegAudio, 0),
        };
        if !self.streams.contains_key(&id) {
            if self.order.len() >= STREAMS {
                return None;
            }
            self.order.push(id);
            self.streams.insert(id, ElementaryStream::new(coding, None));
        }
        let stream = self.streams.get_mut(&id)?;
        if let Some(time) = time {
            stream.note_time(time);
            let last = self.last.entry(id).or_insert(time);
            *last = (*last).max(time);
        }
        stream.take(payload.get(skipped..)?);
        // What is not MPEG-2 in a stream of pictures is most often H.264.
        if stream.coding == Coding::Mpeg2Video
            && stream.found.is_none()
            && stream.data.starts_with(&[0, 0, 0, 1])
        {
            stream.coding = Coding::H264;
        }
        Some(())
    }
}

/// The time and payload of a packet of MPEG-1 (ISO/IEC 11172-1, 2.4.3.3).
fn first_edition(packet: &[u8]) -> Option<(Option<u64>, &[u8])> {
    let mut rest = packet.get(6..)?;
    for _ in 0..17 {
        match *rest.first()? {
            0xff => rest = &rest[1..],
            byte if byte >> 6 == 1 => rest = rest.get(2..)?,
            byte if byte >> 4 == 2 => return Some((time(rest.get(..5)?), rest.get(5..)?)),
            byte if byte >> 4 == 3 => return Some((time(rest.get(..5)?), rest.get(10..)?)),
            0x0f => return Some((None, &rest[1..])),
            _ => return None,
        }
    }
    None
}
