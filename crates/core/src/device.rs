//! Who is asking: the house's book of devices.
//!
//! Standing hangs on the hardware address where the system knows it, else on the address, and
//! never on what a device says of itself.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fmt;
use std::net::Ipv4Addr;
use std::str::FromStr;
use std::sync::Arc;

use mostra_protocol::Moment;

use crate::access::{Decision, Doorway, Grant, Standing, decide};
use crate::proof::Ladder;
use crate::traits::{Observed, Rules, Traits};

/// A hardware (MAC) address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Hardware(pub [u8; 6]);

impl fmt::Display for Hardware {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [a, b, c, d, e, g] = self.0;
        write!(f, "{a:02x}:{b:02x}:{c:02x}:{d:02x}:{e:02x}:{g:02x}")
    }
}

impl FromStr for Hardware {
    type Err = ();

    fn from_str(text: &str) -> Result<Hardware, ()> {
        let mut bytes = [0; 6];
        let mut parts = text.trim().split(':');
        for byte in &mut bytes {
            *byte = parts.next().and_then(|p| u8::from_str_radix(p, 16).ok()).ok_or(())?;
        }
        if parts.next().is_some() || bytes == [0; 6] { Err(()) } else { Ok(Hardware(bytes)) }
    }
}

/// A device as the house knows it.
#[derive(Debug, Clone, PartialEq)]
pub struct Device {
    /// Its number in this house.
    pub id: u32,
    /// The address it was last seen at.
    pub address: Ipv4Addr,
    /// Its hardware address, where the system knows it.
    pub hardware: Option<Hardware>,
    /// The name a person gave it.
    pub name: Option<String>,
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
    pub ladder: Ladder,
    /// The traits that a person set.
    pub traits: Traits,
    /// Names of the rules that it matched; they hold from then on, since one device may say
    /// different things of itself in different requests.
    pub rules: BTreeSet<String>,
    /// All its traits.
    pub shown: Arc<Traits>,
}

impl Device {
    /// The decision for this device now.
    pub fn decision(&self) -> Decision {
        decide(self.standing, &self.grant)
    }

    fn resolve(&mut self, rules: &Rules) {
        let shown = rules.resolve(&self.traits, &self.rules);
        if shown != *self.shown {
            self.shown = Arc::new(shown);
            self.update_offset = self.update_offset.wrapping_add(1);
        }
    }

    /// The name to show: a person's, or where it is.
    pub fn label(&self) -> String {
        self.name.clone().unwrap_or_else(|| format!("Device at {}", self.address))
    }
}

/// Most devices remembered; beyond, the waiting one not seen for longest goes (SEC-12).
const DEVICES: usize = 2048;

/// All devices, by what they are told apart by.
#[derive(Debug, Clone, Default)]
pub struct DeviceBook {
    rules: Arc<Rules>,
    devices: BTreeMap<u32, Device>,
    by_hardware: HashMap<Hardware, u32>,
    by_address: HashMap<Ipv4Addr, u32>,
    last_id: u32,
}

impl DeviceBook {
    /// A book with the devices recorded earlier, which match rules from now on.
    pub fn load(devices: impl IntoIterator<Item = Device>, rules: Rules) -> DeviceBook {
        let mut book = DeviceBook { rules: Arc::new(rules), ..DeviceBook::default() };
        let mut devices: Vec<Device> = devices.into_iter().collect();
        // Of two that were at one address, the one seen last has it.
        devices.sort_by_key(|d| d.last_seen);
        for mut device in devices {
            device.shown = Arc::new(book.rules.resolve(&device.traits, &device.rules));
            book.last_id = book.last_id.max(device.id);
            book.by_address.insert(device.address, device.id);
            if let Some(hardware) = device.hardware {
                book.by_hardware.insert(hardware, device.id);
            }
            book.devices.insert(device.id, device);
        }
        book
    }

    /// Somebody at this address asks. Gives its number, and whether it was never met before;
    /// then the doorway decides its standing.
    pub fn meet(
        &mut self,
        now: Moment,
        address: Ipv4Addr,
        hardware: Option<Hardware>,
        doorway: Doorway,
    ) -> (u32, bool) {
        let at_address = self.by_address.get(&address).copied();
        let known = match hardware {
            None => at_address,
            Some(hardware) => self.by_hardware.get(&hardware).copied().or_else(|| {
                // A record made before the hardware address was known is the same device; one
                // with another hardware address is not, and nothing is inherited.
                at_address.filter(|id| self.devices.get(id).is_some_and(|d| d.hardware.is_none()))
            }),
        };
        let id = match known {
            Some(id) => id,
            None => self.add(now, address, doorway),
        };
        if let Some(device) = self.devices.get_mut(&id) {
            device.last_seen = device.last_seen.max(now);
            if device.address != address && self.by_address.get(&device.address) == Some(&id) {
                self.by_address.remove(&device.address);
            }
            device.address = address;
            if let Some(hardware) = hardware {
                device.hardware = Some(hardware);
                self.by_hardware.insert(hardware, id);
            }
        }
        self.by_address.insert(address, id);
        (id, known.is_none())
    }

    fn add(&mut self, now: Moment, address: Ipv4Addr, doorway: Doorway) -> u32 {
        if self.devices.len() >= DEVICES {
            let waiting = self.devices.values().filter(|d| d.standing == Standing::Waiting);
            if let Some(oldest) = waiting.min_by_key(|d| d.last_seen).map(|d| d.id) {
                self.forget(oldest);
            }
        }
        self.last_id += 1;
        let id = self.last_id;
        self.devices.insert(
            id,
            Device {
                id,
                address,
                hardware: None,
                name: None,
                user_agent: None,
                standing: doorway.first_standing(),
                grant: Grant::everything(),
                update_offset: 0,
                first_seen: now,
                last_seen: now,
                ladder: Ladder::default(),
                traits: Traits::default(),
                rules: BTreeSet::new(),
                shown: Arc::default(),
            },
        );
        id
    }

    /// A device by number.
    pub fn get(&self, id: u32) -> Option<&Device> {
        self.devices.get(&id)
    }

    /// A device by number, to note what it did.
    pub fn get_mut(&mut self, id: u32) -> Option<&mut Device> {
        self.devices.get_mut(&id)
    }

    /// The device that was last seen at an address.
    pub fn at(&self, address: Ipv4Addr) -> Option<&Device> {
        self.devices.get(self.by_address.get(&address)?)
    }

    /// All devices by number.
    pub fn iter(&self) -> impl Iterator<Item = &Device> {
        self.devices.values()
    }

    /// Decides on a device. Its update ids move if anything changed for it, nobody else's do.
    pub fn decide(&mut self, id: u32, standing: Standing, grant: Grant) -> Option<&Device> {
        let device = self.devices.get_mut(&id)?;
        if device.standing != standing || device.grant != grant {
            device.standing = standing;
            device.grant = grant;
            device.update_offset = device.update_offset.wrapping_add(1);
        }
        Some(device)
    }

    /// Notes what a device does and says; true if it matched a rule that it had not matched
    /// before. If it is shown something else by that, its update ids move.
    pub fn observe(&mut self, id: u32, seen: &Observed<'_>) -> bool {
        let rules = self.rules.clone();
        let Some(device) = self.devices.get_mut(&id) else { return false };
        let new = rules.matched(seen, &device.rules);
        let is_new = !new.is_empty();
        device.rules.extend(new);
        if is_new {
            device.resolve(&rules);
        }
        is_new
    }

    /// Sets the traits of a device as a person wants them.
    pub fn set_traits(&mut self, id: u32, traits: Traits) -> Option<&Device> {
        let rules = self.rules.clone();
        let device = self.devices.get_mut(&id)?;
        device.traits = traits;
        device.resolve(&rules);
        Some(device)
    }

    /// Forgets a device; if it comes back it is met as new.
    pub fn forget(&mut self, id: u32) -> Option<Device> {
        let device = self.devices.remove(&id)?;
        self.by_address.retain(|_, v| *v != id);
        self.by_hardware.retain(|_, v| *v != id);
        Some(device)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    const A: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 60);
    const B: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 61);
    const TV: Option<Hardware> = Some(Hardware([2, 0, 0, 0, 0, 1]));
    const OTHER: Option<Hardware> = Some(Hardware([2, 0, 0, 0, 0, 2]));

    fn at(seconds: u64) -> Moment {
        Duration::from_secs(seconds)
    }

    #[test]
    fn standing_follows_the_hardware_address() {
        let mut book = DeviceBook::default();
        let (tv, new) = book.meet(at(1), A, TV, Doorway::Ask);
        assert!(new);
        book.decide(tv, Standing::Admitted, Grant::everything());
        assert_eq!(
            book.meet(at(2), B, TV, Doorway::Ask),
            (tv, false),
            "a new address, the same device"
        );
        let (other, new) = book.meet(at(3), B, OTHER, Doorway::Ask);
        assert!(new && other != tv);
        assert_eq!(book.get(other).unwrap().standing, Standing::Waiting, "inherits nothing");
        assert_eq!(book.at(B).unwrap().id, other);
    }

    #[test]
    fn an_address_learns_its_hardware_once() {
        let mut book = DeviceBook::default();
        let (tv, _) = book.meet(at(1), A, None, Doorway::Ask);
        assert_eq!(book.meet(at(2), A, TV, Doorway::Ask).0, tv);
        assert_eq!(book.meet(at(3), A, None, Doorway::Ask).0, tv);
        assert_ne!(book.meet(at(4), A, OTHER, Doorway::Ask).0, tv);
    }

    #[test]
    fn a_decision_moves_only_that_devices_ids() {
        let mut book = DeviceBook::default();
        let (a, _) = book.meet(at(1), A, None, Doorway::Ask);
        let (b, _) = book.meet(at(1), B, None, Doorway::Ask);
        book.decide(a, Standing::Admitted, Grant::everything());
        book.decide(a, Standing::Admitted, Grant::everything());
        assert_eq!(book.get(a).unwrap().update_offset, 1, "deciding the same again moves nothing");
        assert_eq!(book.get(b).unwrap().update_offset, 0);
    }

    #[test]
    fn a_rule_once_matched_holds_and_a_person_has_the_last_word() {
        use crate::traits::{Rule, When};
        let traits = Traits { page_objects: Some(10), ..Traits::default() };
        let when = When { user_agent: Some("old".into()), ..When::default() };
        let rules = Rules { rules: vec![Rule { name: "old ones".into(), when, traits }] };
        let mut book = DeviceBook::load([], rules.clone());
        let (tv, _) = book.meet(at(1), A, TV, Doorway::Open);
        let seen =
            |agent| Observed { address: A, user_agent: agent, field: &|_| false, registrar: false };
        assert!(!book.observe(tv, &seen(Some("New/2"))));
        assert!(book.observe(tv, &seen(Some("Old/1"))));
        assert!(!book.observe(tv, &seen(None)), "nothing new");
        let device = book.get(tv).unwrap().clone();
        assert_eq!((device.shown.page_objects, device.update_offset), (Some(10), 1));
        let again = DeviceBook::load([device], rules);
        assert_eq!(again.get(tv).unwrap().shown.page_objects, Some(10), "over a restart");
        book.set_traits(tv, Traits { page_objects: Some(99), ..Traits::default() });
        assert_eq!(book.get(tv).unwrap().shown.page_objects, Some(99));
        book.set_traits(tv, Traits::default());
        let device = book.get(tv).unwrap();
        assert_eq!((device.shown.page_objects, device.update_offset), (Some(10), 3));
    }

    #[test]
    fn a_forgotten_device_is_met_as_new_and_numbers_are_not_reused() {
        let mut book = DeviceBook::default();
        let (a, _) = book.meet(at(1), A, TV, Doorway::Open);
        assert_eq!(book.get(a).unwrap().standing, Standing::Admitted);
        book.forget(a);
        let (again, new) = book.meet(at(2), A, TV, Doorway::Ask);
        assert!(new && again > a);
    }

    #[test]
    fn a_flood_of_strangers_is_bounded_and_costs_no_admitted_device() {
        let mut book = DeviceBook::default();
        let (tv, _) = book.meet(at(0), A, TV, Doorway::Open);
        for n in 0..5000u32 {
            book.meet(at(1), Ipv4Addr::from(0x0a00_0000 + n), None, Doorway::Ask);
        }
        assert!(book.iter().count() <= DEVICES && book.get(tv).is_some());
    }

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
