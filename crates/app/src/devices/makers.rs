//! Who made a device, by its hardware address: from the register that Debian's package ieee-data
//! brings. Where that is not installed nothing is known.

use std::collections::BTreeMap;
use std::io::Read;
use std::sync::OnceLock;

use mostra_core::device::Hardware;
use mostra_core::text::{NAME, tame};

/// Where the package has the register.
const REGISTER: &str = "/usr/share/ieee-data/oui.csv";
/// Makers read at most; the register has some thirty thousand.
const MAKERS: usize = 100_000;

/// Makers by the first three bytes of their addresses.
#[derive(Debug, Default)]
pub(super) struct Makers(OnceLock<BTreeMap<[u8; 3], Box<str>>>);

impl Makers {
    /// Reads the register; until that is done nothing is known.
    pub(super) fn load(&self) {
        let read = std::fs::File::open(REGISTER).map(|file| read(std::io::BufReader::new(file)));
        match read {
            Ok(makers) => {
                let _ = self.0.set(makers);
            }
            Err(error) => {
                tracing::info!("makers of devices are not known: {REGISTER}: {error}");
            }
        }
    }

    /// Who made what has this address.
    pub(super) fn of(&self, hardware: Hardware) -> Option<&str> {
        self.0.get()?.get(&hardware.maker_bytes()?).map(|name| &**name)
    }
}

/// Reads lines such as `MA-L,002272,"Tarn Audio, Ltd",Quay 1`.
fn read(register: impl Read) -> BTreeMap<[u8; 3], Box<str>> {
    let mut makers = BTreeMap::new();
    let mut lines = csv::ReaderBuilder::new().flexible(true).from_reader(register);
    for line in lines.byte_records().map_while(Result::ok).take(MAKERS) {
        let number = line.get(1).and_then(|hex| std::str::from_utf8(hex).ok());
        let number = number.and_then(|hex| u32::from_str_radix(hex.trim(), 16).ok());
        let name = line.get(2).map(String::from_utf8_lossy);
        if let (Some(number @ 0..=0xff_ffff), Some(name)) = (number, name) {
            let [_, a, b, c] = number.to_be_bytes();
            makers.insert([a, b, c], tame(name.trim(), NAME).into());
        }
    }
    makers
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn makers_are_read_and_private_addresses_have_none() {
        let register = "Registry,Assignment,Organization Name,Address\n\
             MA-L,02AB01,Nobody,\nMA-L,0400FE,\"Tarn Audio, Ltd\",\"1 Quay\n2 Quay\"\n\
             MA-L,zz,Wrong,\nMA-L,00A1B2,Ostrand,x\n";
        let makers = Makers(OnceLock::from(read(register.as_bytes())));
        let of = |text: &str| makers.of(text.parse().unwrap()).map(str::to_owned);
        assert_eq!(of("04:00:fe:12:34:56").as_deref(), Some("Tarn Audio, Ltd"));
        assert_eq!(of("00:a1:b2:00:00:01").as_deref(), Some("Ostrand"));
        assert_eq!(of("02:ab:01:00:00:01"), None, "private");
        assert_eq!(of("00:00:5e:00:00:01"), None);
        assert_eq!(Makers::default().of(Hardware([0, 1, 2, 3, 4, 5])), None, "not read yet");
    }
}
