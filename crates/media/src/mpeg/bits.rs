//! BitReader of a header, from the left.

/// Reads bits; at the end of the data there is nothing more.
pub(super) struct BitReader<'a> {
    data: &'a [u8],
    at: usize,
}

impl<'a> BitReader<'a> {
    pub(super) fn new(data: &'a [u8]) -> BitReader<'a> {
        BitReader { data, at: 0 }
    }

    pub(super) fn bit(&mut self) -> Option<bool> {
        let byte = self.data.get(self.at / 8)?;
        let bit = byte >> (7 - self.at % 8) & 1 == 1;
        self.at += 1;
        Some(bit)
    }

    /// Up to 32 bits as a number.
    pub(super) fn number(&mut self, bits: u32) -> Option<u32> {
        (0..bits).try_fold(0u32, |number, _| Some(number << 1 | u32::from(self.bit()?)))
    }

    pub(super) fn skip(&mut self, bits: usize) -> Option<()> {
        self.at = self.at.checked_add(bits).filter(|at| *at <= self.data.len() * 8)?;
        Some(())
    }

    /// An Exp-Golomb code without sign (ITU-T H.264, 9.1).
    pub(super) fn golomb(&mut self) -> Option<u32> {
        let mut zeros = 0;
        while !self.bit()? {
            zeros += 1;
            if zeros > 31 {
                return None;
            }
        }
        Some(((1u64 << zeros) - 1 + u64::from(self.number(zeros)?)) as u32)
    }

    /// An Exp-Golomb code with sign.
    pub(super) fn signed(&mut self) -> Option<i32> {
        let code = i64::from(self.golomb()?);
        Some((if code % 2 == 1 { (code + 1) / 2 } else { -(code / 2) }) as i32)
    }
}

/// A NAL unit's payload without the bytes that keep start codes out of it (ITU-T H.264, 7.3.1).
pub(super) fn unescaped(unit: &[u8]) -> Vec<u8> {
    let mut plain = Vec::with_capacity(unit.len());
    let mut zeros = 0;
    for byte in unit {
        if zeros >= 2 && *byte == 3 {
            zeros = 0;
            continue;
        }
        zeros = if *byte == 0 { zeros + 1 } else { 0 };
        plain.push(*byte);
    }
    plain
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_read_as_the_standard_writes_them() {
        // 1, 010, 011, 00100, 00101 are 0 to 4.
        let mut bits = BitReader::new(&[0b1010_0110, 0b0100_0010, 0b1000_0000]);
        let read: Vec<u32> = (0..5).map(|_| bits.golomb().unwrap()).collect();
        assert_eq!(read, [0, 1, 2, 3, 4]);
        let mut bits = BitReader::new(&[0b1010_0110, 0b0100_0010, 0b1000_0000]);
        let read: Vec<i32> = (0..5).map(|_| bits.signed().unwrap()).collect();
        assert_eq!(read, [0, 1, -1, 2, -2]);
        assert_eq!(BitReader::new(&[0; 20]).golomb(), None);
        let mut bits = BitReader::new(&[0xa5]);
        assert_eq!((bits.number(3), bits.skip(4), bits.bit()), (Some(5), Some(()), Some(true)));
        assert_eq!((bits.bit(), bits.skip(1), bits.number(1)), (None, None, None));
        assert_eq!(unescaped(&[0, 0, 3, 1, 0, 0, 3, 0, 3]), [0, 0, 1, 0, 0, 0, 3]);
    }
}
