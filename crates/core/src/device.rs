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
    /// What it last asked for in vain, as it is not let in.
    pub denied: Option<Denied>,
    /// Whether a person decided on it; such a device is not forgotten to make room.
    pub decided: bool,
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

/// A request that was answered with nothing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Denied {
    /// When.
    pub at: Moment,
    /// What it asked for, in words.
    pub what: String,
}

/// Most devices remembered; beyond, the one not seen for longest goes on which nobody decided
/// (SEC-12).
pub const DEVICES: usize = 2048;

/// What came of meeting a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Meeting {
    /// The device's number.
    pub id: u32,
    /// Whether it was never met before.
    pub new: bool,
    /// The number of the device that was forgotten to make room for it.
    pub forgotten: Option<u32>,
}

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
        if devices.len() > DEVICES {
            devices.sort_by_key(|d| std::cmp::Reverse((d.decided, d.last_seen)));
            devices.truncate(DEVICES);
        }
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

    /// Numbers up to this one are used, though not by a device of this book.
    pub fn used_up_to(&mut self, number: u32) {
        self.last_id = self.last_id.max(number);
    }

    /// The number of the device that this is, if it was met before.
    pub fn find(&self, address: Ipv4Addr, hardware: Option<Hardware>) -> Option<u32> {
        let at_address = self.by_address.get(&address).copied();
        match hardware {
            None => at_address,
            Some(hardware) => self.by_hardware.get(&hardware).copied().or_else(|| {
                // A record made before the hardware address was known is the same device; one
                // with another hardware address is not, and nothing is inherited.
                at_address.filter(|id| self.devices.get(id).is_some_and(|d| d.hardware.is_none()))
            }),
        }
    }

    /// Somebody at this address asks, by a connection. If it was never met before the doorway
    /// decides its standing. `None` where there is no room for it.
    pub fn meet(
        &mut self,
        now: Moment,
        address: Ipv4Addr,
        hardware: Option<Hardware>,
        doorway: Doorway,
    ) -> Option<Meeting> {
        let known = self.find(address, hardware);
        let mut forgotten = None;
        let id = match known {
            Some(id) => id,
            None => {
                forgotten = self.make_room()?;
                self.add(now, address, doorway)
            }
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
        Some(Meeting { id, new: known.is_none(), forgotten })
    }

    /// Makes room for one more: `None` if there is none; gives who had to go, if anybody.
    fn make_room(&mut self) -> Option<Option<u32>> {
        if self.devices.len() < DEVICES {
            return Some(None);
        }
        let may_go = self.devices.values().filter(|d| !d.decided && d.name.is_none());
        // Those that wait go before those that an open doorway admitted.
        let first = may_go.min_by_key(|d| (d.standing != Standing::Waiting, d.last_seen))?.id;
        self.forget(first).map(|device| Some(device.id))
    }

    fn add(&mut self, now: Moment, address: Ipv4Addr, doorway: Doorway) -> u32 {
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
                denied: None,
                decided: false,
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
        device.decided = true;
        if standing == Standing::Admitted {
            device.denied = None;
        }
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

    fn meet(
        book: &mut DeviceBook,
        second: u64,
        address: Ipv4Addr,
        hardware: Option<Hardware>,
        doorway: Doorway,
    ) -> (u32, bool) {
        let met = book.meet(at(second), address, hardware, doorway).expect("room");
        (met.id, met.new)
    }

    #[test]
    fn standing_follows_the_hardware_address() {
        let mut book = DeviceBook::default();
        let (tv, new) = meet(&mut book, 1, A, TV, Doorway::Ask);
        assert!(new);
        book.decide(tv, Standing::Admitted, Grant::everything());
        assert_eq!(
            meet(&mut book, 2, B, TV, Doorway::Ask),
            (tv, false),
            "a new address, the same device"
        );
        let (other, new) = meet(&mut book, 3, B, OTHER, Doorway::Ask);
        assert!(new && other != tv);
        assert_eq!(book.get(other).unwrap().standing, Standing::Waiting, "inherits nothing");
        assert_eq!(book.at(B).unwrap().id, other);
    }

    #[test]
    fn an_address_learns_its_hardware_once() {
        let mut book = DeviceBook::default();
        let (tv, _) = meet(&mut book, 1, A, None, Doorway::Ask);
        assert_eq!(meet(&mut book, 2, A, TV, Doorway::Ask).0, tv);
        assert_eq!(meet(&mut book, 3, A, None, Doorway::Ask).0, tv);
        assert_ne!(meet(&mut book, 4, A, OTHER, Doorway::Ask).0, tv);
    }

    #[test]
    fn a_decision_moves_only_that_devices_ids() {
        let mut book = DeviceBook::default();
        let (a, _) = meet(&mut book, 1, A, None, Doorway::Ask);
        let (b, _) = meet(&mut book, 1, B, None, Doorway::Ask);
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
        let (tv, _) = meet(&mut book, 1, A, TV, Doorway::Open);
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
        let (a, _) = meet(&mut book, 1, A, TV, Doorway::Open);
        assert_eq!(book.get(a).unwrap().standing, Standing::Admitted);
        book.forget(a);
        let (again, new) = meet(&mut book, 2, A, TV, Doorway::Ask);
        assert!(new && again > a);
    }

    #[test]
    fn a_flood_of_strangers_is_bounded_whatever_the_doorway_and_costs_nobody_decided_on() {
        for doorway in [Doorway::Ask, Doorway::Open] {
            let mut book = DeviceBook::default();
            let (tv, _) = meet(&mut book, 0, A, TV, Doorway::Ask);
            book.decide(tv, Standing::Admitted, Grant::everything());
            let (named, _) = meet(&mut book, 0, B, OTHER, Doorway::Ask);
            book.get_mut(named).unwrap().name = Some("Den console".into());
            let mut forgotten = BTreeSet::new();
            for n in 0..5000u32 {
                let address = Ipv4Addr::from(0x0a00_0000 + n);
                let met = book.meet(at(1 + u64::from(n)), address, None, doorway).unwrap();
                assert!(met.new);
                forgotten.extend(met.forgotten);
            }
            assert_eq!(book.iter().count(), DEVICES);
            assert!(book.get(tv).is_some() && book.get(named).is_some());
            assert_eq!(forgotten.len(), 5002 - DEVICES, "each that went is told, to go everywhere");
            let all: Vec<Device> = book.iter().cloned().collect();
            let more = all.iter().cloned().map(|d| Device { id: d.id + 10_000, ..d });
            let again = DeviceBook::load(all.iter().cloned().chain(more), Rules::default());
            assert!(again.iter().count() == DEVICES && again.get(tv).is_some());
        }
        // Where a person decided on all of them, there is no room for another.
        let mut book = DeviceBook::default();
        for n in 0..DEVICES as u32 {
            let (id, _) = meet(&mut book, 1, Ipv4Addr::from(0x0a00_0000 + n), None, Doorway::Ask);
            book.decide(id, Standing::Refused, Grant::everything());
        }
        assert_eq!(book.meet(at(2), A, None, Doorway::Open), None);
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
