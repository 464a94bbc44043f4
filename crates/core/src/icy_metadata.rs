//! Titles that stations send between the sound, taken out before it goes to a player that would
//! play them as noise (HTTP-42).

/// Takes out what stands between the sound: after each so many bytes of it one byte with the
/// length of a text, in sixteens, and the text.
#[derive(Debug, Clone)]
pub struct IcyMetadata {
    every: usize,
    /// Bytes of sound until the next length.
    sound: usize,
    /// Bytes of text still to be taken out.
    text: usize,
}

/// The most sound between two texts that is believed.
const MOST: usize = 16 << 20;

impl IcyMetadata {
    /// For a station that says after how many bytes of sound a text comes; `None` where that
    /// says that none does.
    pub fn every(bytes: &str) -> Option<IcyMetadata> {
        let every = bytes.trim().parse().ok().filter(|n| (1..=MOST).contains(n))?;
        Some(IcyMetadata { every, sound: every, text: 0 })
    }

    /// The sound in the next bytes that came.
    pub fn sound(&mut self, mut bytes: &[u8]) -> Vec<u8> {
        let mut sound = Vec::with_capacity(bytes.len());
        while let Some(first) = bytes.first() {
            let count = if self.text > 0 {
                let count = self.text.min(bytes.len());
                self.text -= count;
                count
            } else if self.sound > 0 {
                let count = self.sound.min(bytes.len());
                sound.extend_from_slice(&bytes[..count]);
                self.sound -= count;
                count
            } else {
                self.text = usize::from(*first) * 16;
                self.sound = self.every;
                1
            };
            bytes = &bytes[count..];
        }
        sound
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn only_a_sensible_distance_is_believed() {
        for none in ["0", "", "-1", "x", "99999999999"] {
            assert!(IcyMetadata::every(none).is_none(), "{none}");
        }
        assert!(IcyMetadata::every(" 16000 ").is_some());
    }

    proptest! {
        #[test]
        fn sound_comes_out_however_it_is_cut(
            every in 1usize..40,
            sound in proptest::collection::vec(any::<u8>(), 0..400),
            texts in proptest::collection::vec(0u8..4, 1..8),
            cuts in proptest::collection::vec(1usize..60, 1..20),
        ) {
            let mut sent = Vec::new();
            for (n, piece) in sound.chunks(every).enumerate() {
                sent.extend_from_slice(piece);
                if piece.len() == every {
                    let length = texts[n % texts.len()];
                    sent.push(length);
                    sent.extend(std::iter::repeat_n(b'T', usize::from(length) * 16));
                }
            }
            let mut reader = IcyMetadata::every(&every.to_string()).unwrap();
            let (mut heard, mut rest, mut n) = (Vec::new(), sent.as_slice(), 0);
            while !rest.is_empty() {
                let (piece, after) = rest.split_at(cuts[n % cuts.len()].min(rest.len()));
                heard.extend(reader.sound(piece));
                (rest, n) = (after, n + 1);
            }
            prop_assert_eq!(heard, sound);
        }
    }
}
