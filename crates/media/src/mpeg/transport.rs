//! Transport streams: packets of 188 bytes, or of 192 with a time before each.

use std::collections::HashMap;
use std::io::{Read as _, Seek as _, SeekFrom};

use mostra_core::facts::Facts;
use mostra_core::format::Format;

use super::{Coding, ElementaryStream, facts, pes};
use crate::part_reader::PartReader;

/// Bytes read from the beginning at most, and from the end.
const HEAD: u64 = 8 << 20;
const TAIL: u64 = 4 << 20;
/// Bytes read at a time.
const PIECE: usize = 256 << 10;

/// Programs and streams that are looked at.
const PROGRAMS: usize = 16;
const STREAMS: usize = 64;

/// Reads a transport stream.
pub(crate) fn read(file: &mut PartReader, known: Facts) -> Option<Facts> {
    let (before, length) = if known.format == Format::M2ts { (4, 192) } else { (0, 188) };
    let layout = PacketLayout { before, length, size: known.size };
    let mut reading = ProgramTables::default();
    let mut at = 0;
    while at < HEAD.min(known.size) && !reading.is_done() {
        at = layout.packets(file, at, |packet| reading.take(packet))?;
    }
    reading.end();
    let ids = std::mem::take(&mut reading.order);
    let mut last: HashMap<u16, u64> = HashMap::new();
    let wanted = |id: &u16| reading.streams.get(id).is_some_and(|stream| stream.coding.plays());
    let plays = ids.iter().filter(|id| wanted(id)).count();
    let mut back = PIECE as u64;
    loop {
        let begin = known.size.saturating_sub(back) / layout.length * layout.length;
        let (mut at, end) = (begin, (begin + PIECE as u64).min(known.size));
        let mut found: HashMap<u16, u64> = HashMap::new();
        while at < end {
            at = layout.packets(file, at, |packet| {
                let packet = Packet::read(packet)?;
                if packet.begins && wanted(&packet.id) {
                    let (time, _) = pes(packet.payload)?;
                    // Times of pictures do not come in their order.
                    let last = found.entry(packet.id).or_default();
                    *last = time.map_or(*last, |time| time.max(*last));
                }
                Some(())
            })?;
        }
        for (id, time) in found.into_iter().filter(|(_, time)| *time > 0) {
            last.entry(id).or_insert(time);
        }
        if last.len() >= plays || begin == 0 || back >= TAIL {
            break;
        }
        back += PIECE as u64;
    }
    let streams: Vec<&ElementaryStream> =
        ids.iter().filter_map(|id| reading.streams.get(id)).collect();
    facts(&streams, |number| last.get(ids.get(number)?).copied(), known)
}

struct PacketLayout {
    before: usize,
    length: u64,
    size: u64,
}

impl PacketLayout {
    /// Hands over the packets of the next piece; gives where the piece after it begins. `None` if
    /// what is there is not in step.
    fn packets(
        &self,
        file: &mut PartReader,
        at: u64,
        mut take: impl FnMut(&[u8]) -> Option<()>,
    ) -> Option<u64> {
        let length = self.length as usize;
        let mut piece = vec![0; PIECE / length * length];
        file.seek(SeekFrom::Start(at)).ok()?;
        let left = (self.size - at).min(piece.len() as u64);
        piece.truncate(left as usize);
        file.read_exact(&mut piece).ok()?;
        let (mut packets, mut odd) = (0, 0);
        for packet in piece.chunks_exact(length) {
            packets += 1;
            match packet.get(self.before..) {
                Some(packet) if packet[0] == 0x47 => {
                    take(packet);
                }
                _ => odd += 1,
            }
        }
        // One that is damaged here and there plays all the same.
        (odd * 20 <= packets).then_some(at + piece.len().max(1) as u64)
    }
}

/// A packet with something in it.
struct Packet<'a> {
    id: u16,
    begins: bool,
    payload: &'a [u8],
}

impl Packet<'_> {
    fn read(packet: &[u8]) -> Option<Packet<'_>> {
        let [_, a, b, flags, ..] = *packet else { return None };
        let (damaged, scrambled) = (a & 0x80 != 0, flags & 0xc0 != 0);
        if damaged || scrambled || flags & 0x10 == 0 {
            return None;
        }
        let adaptation = match flags & 0x20 {
            0 => 0,
            _ => 1 + usize::from(*packet.get(4)?),
        };
        let id = u16::from(a & 0x1f) << 8 | u16::from(b);
        Some(Packet { id, begins: a & 0x40 != 0, payload: packet.get(4 + adaptation..)? })
    }
}

/// What the beginning of a transport stream tells.
#[derive(Default)]
struct ProgramTables {
    /// Tables that come in pieces, by packet id.
    sections: HashMap<u16, Vec<u8>>,
    /// Packet ids of the tables of programs.
    programs: Vec<u16>,
    /// Those that were read.
    listed: Vec<u16>,
    streams: HashMap<u16, ElementaryStream>,
    /// Streams in the order of the tables.
    order: Vec<u16>,
}

impl ProgramTables {
    fn is_done(&self) -> bool {
        !self.programs.is_empty()
            && self.listed.len() == self.programs.len()
            && self.streams.values().all(ElementaryStream::is_known)
    }

    fn end(&mut self) {
        for stream in self.streams.values_mut().filter(|stream| stream.found.is_none()) {
            stream.look();
        }
    }

    fn take(&mut self, packet: &[u8]) -> Option<()> {
        let packet = Packet::read(packet)?;
        if packet.id == 0 || self.programs.contains(&packet.id) {
            let section = self.section(&packet)?;
            match packet.id {
                0 => self.list_programs(&section),
                id => self.list_streams(id, &section),
            };
            return Some(());
        }
        let stream = self.streams.get_mut(&packet.id)?;
        if packet.begins {
            let (time, payload) = pes(packet.payload)?;
            time.into_iter().for_each(|time| stream.note_time(time));
            stream.take(payload);
        } else if !stream.times.is_empty() {
            stream.take(packet.payload);
        }
        Some(())
    }

    /// A table that is whole with this packet.
    fn section(&mut self, packet: &Packet<'_>) -> Option<Vec<u8>> {
        let section = self.sections.entry(packet.id).or_default();
        if packet.begins {
            let skipped = 1 + usize::from(*packet.payload.first()?);
            *section = packet.payload.get(skipped..)?.to_vec();
        } else if section.is_empty() {
            return None;
        } else {
            section.extend_from_slice(packet.payload);
        }
        let [_, a, b, ..] = section[..] else { return None };
        let length = 3 + (usize::from(a & 0x0f) << 8 | usize::from(b));
        if section.len() < length {
            return None;
        }
        let mut whole = std::mem::take(section);
        // Without the checksum at the end.
        whole.truncate(length.checked_sub(4)?);
        Some(whole)
    }

    fn list_programs(&mut self, section: &[u8]) -> Option<()> {
        if section.first() != Some(&0) {
            return None;
        }
        for row in section.get(8..)?.chunks_exact(4) {
            let id = u16::from(row[2] & 0x1f) << 8 | u16::from(row[3]);
            let network = row[0] == 0 && row[1] == 0;
            if !network && !self.programs.contains(&id) && self.programs.len() < PROGRAMS {
                self.programs.push(id);
            }
        }
        Some(())
    }

    fn list_streams(&mut self, program: u16, section: &[u8]) -> Option<()> {
        if section.first() != Some(&2) || self.listed.contains(&program) {
            return None;
        }
        self.listed.push(program);
        let length = |at: usize| -> Option<usize> {
            Some(usize::from(section.get(at)? & 0x0f) << 8 | usize::from(*section.get(at + 1)?))
        };
        let about = length(10)?;
        let disc = descriptors(section.get(12..12 + about)?)
            .any(|(tag, data)| tag == 5 && data.starts_with(b"HDMV"));
        let mut at = 12 + about;
        while let Some(kind) = section.get(at) {
            let id = u16::from(section.get(at + 1)? & 0x1f) << 8 | u16::from(*section.get(at + 2)?);
            let about = length(at + 3)?;
            let described = section.get(at + 5..at + 5 + about)?;
            at += 5 + about;
            if self.order.len() >= STREAMS || self.streams.contains_key(&id) {
                continue;
            }
            let language = descriptors(described)
                .find(|(tag, data)| matches!(tag, 0x0a | 0x56 | 0x59) && data.len() >= 3)
                .and_then(|(_, data)| std::str::from_utf8(&data[..3]).ok())
                .filter(|word| *word != "und" && word.bytes().all(|b| b.is_ascii_alphabetic()))
                .map(str::to_owned);
            self.order.push(id);
            self.streams
                .insert(id, ElementaryStream::new(coding(*kind, described, disc), language));
        }
        Some(())
    }
}

/// Descriptors: tag and data.
fn descriptors(data: &[u8]) -> impl Iterator<Item = (u8, &[u8])> {
    let mut rest = data;
    std::iter::from_fn(move || {
        let [tag, length, ..] = *rest else { return None };
        let data = rest.get(2..2 + usize::from(length))?;
        rest = &rest[2 + usize::from(length)..];
        Some((tag, data))
    })
}

fn coding(kind: u8, described: &[u8], disc: bool) -> Coding {
    let has = |wanted: u8| descriptors(described).any(|(tag, _)| tag == wanted);
    let registered =
        |name: &[u8]| descriptors(described).any(|(tag, data)| tag == 5 && data.starts_with(name));
    match kind {
        0x01 | 0x02 => Coding::Mpeg2Video,
        0x03 | 0x04 => Coding::MpegAudio,
        0x0f => Coding::Adts,
        0x1b => Coding::H264,
        0x24 => Coding::Hevc,
        0x80 if disc => Coding::StreamLpcm,
        0x81 | 0x84 | 0x87 => Coding::Ac3,
        0x82 | 0x8a => Coding::Dts,
        0x90 if disc => Coding::Subtitles("hdmv_pgs_subtitle"),
        0x06 if has(0x6a) || has(0x7a) || registered(b"AC-3") || registered(b"EAC3") => Coding::Ac3,
        0x06 if has(0x7b) || registered(b"DTS") => Coding::Dts,
        0x06 if has(0x59) => Coding::Subtitles("dvb_subtitle"),
        0x06 if has(0x56) => Coding::Subtitles("dvb_teletext"),
        // Opus, and others that name themselves.
        0x06 if has(5) || has(0x7c) || has(0x7f) => Coding::Unknown,
        // Private data, sections, metadata.
        0x05 | 0x06 | 0x08..=0x0e | 0x12..=0x1a | 0x86 | 0xc0 => Coding::Data,
        _ => Coding::Unknown,
    }
}
