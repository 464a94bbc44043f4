//! Devices, and by what they are told apart.
//!
//! Standing hangs on the hardware address where the system knows it, else on the address, and
//! never on what a device says of itself.

mod book;
mod device_kind;

use std::collections::BTreeSet;
use std::fmt;
use std::net::Ipv4Addr;
use std::str::FromStr;
use std::sync::Arc;

use mostra_protocol::Moment;

pub use book::{DEVICES, DeviceBook, Meeting};
pub use device_kind::{DeviceKind, Directions, KindHints, propose as propose_kind};

use crate::access::{Decision, Grant, Standing, decide};
use crate::ids::DeviceId;
use crate::proof::ProofState;
use crate::sighting::{Attempt, Contact};
use crate::traits::{Rules, Traits};

/// A hardware (MAC) address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Hardware(pub [u8; 6]);

impl Hardware {
    /// Whether it is an address that the device made up: phones use another one in each network, so
    /// it says nothing of the maker, and a device can come back with another.
    pub fn is_private(self) -> bool {
        self.0[0] & 2 != 0
    }

    /// The first three bytes, which belong to a maker unless the address is private.
    pub fn maker_bytes(self) -> Option<[u8; 3]> {
        let [a, b, c, ..] = self.0;
        (!self.is_private()).then_some([a, b, c])
    }
}

impl fmt::Display for Hardware {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [a, b, c, d, e, g] = self.0;
        write!(f, "{a:02x}:{b:02x}:{c:02x}:{d:02x}:{e:02x}:{g:02x}")
    }
}

/// A text that is no hardware address.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NoHardware;

impl FromStr for Hardware {
    type Err = NoHardware;

    fn from_str(text: &str) -> Result<Hardware, NoHardware> {
        let mut bytes = [0; 6];
        let mut parts = text.trim().split(':');
        for byte in &mut bytes {
            let part = parts.next().and_then(|p| u8::from_str_radix(p, 16).ok());
            *byte = part.ok_or(NoHardware)?;
        }
        match parts.next().is_some() || bytes == [0; 6] {
            true => Err(NoHardware),
            false => Ok(Hardware(bytes)),
        }
    }
}

/// One way by which a device is reached: a hardware address with the address that it has now, or an
/// address alone where the system knows no more.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Endpoint {
    /// The hardware address, where the system knows it.
    pub hardware: Option<Hardware>,
    /// The address last seen.
    pub address: Ipv4Addr,
    /// When it was last seen.
    pub last_seen: Moment,
}

impl Endpoint {
    /// By what it is told apart.
    pub fn contact(&self) -> Contact {
        Contact::of(self.address, self.hardware)
    }
}

/// Ways by which one device is reached, at most.
pub const ENDPOINTS: usize = 16;
/// UDNs of one device, at most.
pub const UDNS: usize = 16;

/// A device as the house knows it.
#[derive(Debug, Clone, PartialEq)]
pub struct Device {
    /// Its number in this house.
    pub id: DeviceId,
    /// The ways by which it is reached, at least one; a person may have put several together.
    pub endpoints: Vec<Endpoint>,
    /// The UDNs under which it announces itself.
    pub udns: BTreeSet<String>,
    /// The name a person gave it.
    pub name: Option<String>,
    /// The name in its description, which was read at it.
    pub described_name: Option<String>,
    /// What sort of device it is, as a person confirmed.
    pub kind: Option<DeviceKind>,
    /// The room a person says it is in.
    pub room: Option<String>,
    /// What a person noted of it.
    pub note: Option<String>,
    /// When it first asked for content. What never did and was never decided on has no standing.
    pub asked: Option<Moment>,
    /// When the doorway admitted it or turned it away, where no person decided.
    pub by_doorway: Option<Moment>,
    /// What it last called itself (`User-Agent`).
    pub user_agent: Option<String>,
    /// Its standing.
    pub standing: Standing,
    /// What it may see when admitted.
    pub grant: Grant,
    /// Added to update ids for this device, so that a decision makes it alone reload (CDS-45).
    pub update_offset: u32,
    /// When it was first seen.
    pub first_seen: Moment,
    /// When it was last seen.
    pub last_seen: Moment,
    /// What has been proven.
    pub proof: ProofState,
    /// What it last asked for in vain, as it is not let in.
    pub denied: Option<Denied>,
    /// Whether a person decided on it; such a device is not forgotten to make room.
    pub decided: bool,
    /// Whether it is being walked through: then it sees the test pieces.
    pub in_walkthrough: bool,
    /// The traits that a person set.
    pub traits: Traits,
    /// Names of the rules that it matched; they hold from then on, since one device may say
    /// different things of itself in different requests.
    pub rules: BTreeSet<String>,
    /// All its traits.
    pub shown: Arc<Traits>,
}

impl Device {
    /// The endpoint that was seen last.
    pub fn endpoint(&self) -> Option<&Endpoint> {
        self.endpoints.iter().max_by_key(|endpoint| endpoint.last_seen)
    }

    /// The address that it was last seen at.
    pub fn address(&self) -> Ipv4Addr {
        self.endpoint().map_or(Ipv4Addr::UNSPECIFIED, |endpoint| endpoint.address)
    }

    /// The hardware address that it was last seen by, where the system knows it.
    pub fn hardware(&self) -> Option<Hardware> {
        self.endpoint().and_then(|endpoint| endpoint.hardware)
    }

    /// Whether the system knows any hardware address of it.
    pub fn has_hardware(&self) -> bool {
        self.endpoints.iter().any(|endpoint| endpoint.hardware.is_some())
    }

    /// Its standing; nothing for one that never asked for content and that nobody added.
    pub fn stands(&self) -> Option<Standing> {
        (self.asked.is_some() || self.decided).then_some(self.standing)
    }

    /// The decision for this device now.
    pub fn decision(&self) -> Decision {
        match decide(self.standing, &self.grant) {
            Decision::Admitted(pass) if self.in_walkthrough => {
                Decision::Admitted(pass.with_test_pieces())
            }
            decision => decision,
        }
    }

    fn resolve(&mut self, rules: &Rules) {
        let shown = rules.resolve(&self.traits, &self.rules);
        if shown != *self.shown {
            self.shown = Arc::new(shown);
            self.update_offset = self.update_offset.wrapping_add(1);
        }
    }

    /// The name to show: a person's, else what it calls itself with where it is. A device can call
    /// itself as another is called, so that alone would say too much.
    pub fn label(&self) -> String {
        let said = self.described_name.as_deref().unwrap_or("Device");
        self.name.clone().unwrap_or_else(|| match (self.address(), self.hardware()) {
            (Ipv4Addr::UNSPECIFIED, Some(hardware)) => format!("{said} {hardware}"),
            (address, _) => format!("{said} at {address}"),
        })
    }
}

/// A request that was answered with nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Denied {
    /// When.
    pub at: Moment,
    /// What it asked for.
    pub attempt: Attempt,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hardware_addresses_read_and_write() {
        let text = "02:5e:11:00:00:2c";
        assert_eq!(text.parse::<Hardware>().unwrap().to_string(), text);
        assert!(
            "00:00:00:00:00:00".parse::<Hardware>().is_err()
                && "02:5e".parse::<Hardware>().is_err()
        );
    }
}
