//! The house's book of devices.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::Ipv4Addr;
use std::sync::Arc;

use mostra_protocol::Moment;

use super::{Device, ENDPOINTS, Endpoint, Hardware, UDNS};
use crate::access::{Doorway, Grant, Standing};
use crate::ids::DeviceId;
use crate::proof::ProofState;
use crate::sighting::Contact;
use crate::traits::{Observed, Rules, Traits};

/// Most devices remembered; beyond, the one not seen for longest goes on which nobody decided
/// (SEC-12).
pub const DEVICES: usize = 2048;

/// What came of meeting a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Meeting {
    /// The device's number.
    pub id: DeviceId,
    /// By what it was told apart.
    pub contact: Contact,
    /// Whether it was never met before.
    pub new: bool,
    /// The number of the device that was forgotten to make room for it.
    pub forgotten: Option<DeviceId>,
}

/// The house's book of devices. A device is found by the hardware address of whoever asks, where the
/// system knows it, else by the address.
#[derive(Debug, Clone, Default)]
pub struct DeviceBook {
    rules: Arc<Rules>,
    devices: BTreeMap<DeviceId, Device>,
    by_hardware: HashMap<Hardware, DeviceId>,
    by_address: HashMap<Ipv4Addr, DeviceId>,
    /// Records that were put together with another: what began under them goes on there.
    merged: HashMap<DeviceId, DeviceId>,
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
        let mut endpoints: Vec<(Endpoint, DeviceId)> = Vec::new();
        for mut device in devices {
            device.shown = Arc::new(book.rules.resolve(&device.traits, &device.rules));
            book.last_id = book.last_id.max(device.id.0);
            endpoints.extend(device.endpoints.iter().map(|endpoint| (*endpoint, device.id)));
            book.devices.insert(device.id, device);
        }
        // Of two that were at one address, the one seen last has it.
        endpoints.sort_by_key(|(endpoint, _)| endpoint.last_seen);
        for (endpoint, id) in endpoints {
            book.index(&endpoint, id);
        }
        book
    }

    fn index(&mut self, endpoint: &Endpoint, id: DeviceId) {
        self.by_address.insert(endpoint.address, id);
        if let Some(hardware) = endpoint.hardware {
            self.by_hardware.insert(hardware, id);
        }
    }

    /// Numbers up to this one are used, though not by a device of this book.
    pub fn used_up_to(&mut self, number: u32) {
        self.last_id = self.last_id.max(number);
    }

    /// The number of the device that this is, if it was met before.
    pub fn find(&self, address: Ipv4Addr, hardware: Option<Hardware>) -> Option<DeviceId> {
        let at_address = self.by_address.get(&address).copied();
        match hardware {
            None => at_address,
            Some(hardware) => self.by_hardware.get(&hardware).copied().or_else(|| {
                // A record made before the hardware address was known is the same device; one
                // with another hardware address is not, and nothing is inherited.
                at_address.filter(|id| self.devices.get(id).is_some_and(|d| !d.has_hardware()))
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
                let id = self.new_id();
                self.add(now, id, doorway)
            }
        };
        self.seen_by(now, id, address, hardware);
        let contact = Contact::of(address, hardware);
        Some(Meeting { id, contact, new: known.is_none(), forgotten })
    }

    /// Notes by which way a device was seen.
    fn seen_by(
        &mut self,
        now: Moment,
        id: DeviceId,
        address: Ipv4Addr,
        hardware: Option<Hardware>,
    ) {
        let Some(device) = self.devices.get_mut(&id) else { return };
        device.last_seen = device.last_seen.max(now);
        let by_hardware = |e: &&mut Endpoint| hardware.is_some() && e.hardware == hardware;
        let at_address = |e: &&mut Endpoint| {
            e.address == address && (e.hardware.is_none() || hardware.is_none())
        };
        let mut known = device.endpoints.iter_mut().find(by_hardware);
        if known.is_none() {
            known = device.endpoints.iter_mut().find(at_address);
        }
        let mut before = None;
        match known {
            Some(endpoint) => {
                before = Some(endpoint.address).filter(|before| *before != address);
                endpoint.address = address;
                endpoint.hardware = endpoint.hardware.or(hardware);
                endpoint.last_seen = endpoint.last_seen.max(now);
            }
            None => {
                if device.endpoints.len() >= ENDPOINTS {
                    let oldest = (0..device.endpoints.len())
                        .min_by_key(|at| device.endpoints[*at].last_seen);
                    oldest.map(|at| device.endpoints.remove(at));
                }
                device.endpoints.push(Endpoint { hardware, address, last_seen: now });
            }
        }
        if let Some(before) = before.filter(|before| self.by_address.get(before) == Some(&id)) {
            self.by_address.remove(&before);
        }
        self.index(&Endpoint { hardware, address, last_seen: now }, id);
    }

    /// Makes room for one more: `None` if there is none; gives who had to go, if anybody.
    fn make_room(&mut self) -> Option<Option<DeviceId>> {
        if self.devices.len() < DEVICES {
            return Some(None);
        }
        let may_go = self.devices.values().filter(|d| !d.decided && d.name.is_none());
        // Those that wait go before those that an open doorway admitted.
        let first = may_go.min_by_key(|d| (d.standing != Standing::Waiting, d.last_seen))?.id;
        self.forget(first).map(|device| Some(device.id))
    }

    /// A number that no device has had, for [`split`](Self::split).
    pub fn new_id(&mut self) -> DeviceId {
        self.last_id += 1;
        DeviceId(self.last_id)
    }

    fn add(&mut self, now: Moment, id: DeviceId, doorway: Doorway) -> DeviceId {
        self.devices.insert(
            id,
            Device {
                id,
                endpoints: Vec::new(),
                udns: BTreeSet::new(),
                name: None,
                user_agent: None,
                standing: doorway.first_standing(),
                grant: Grant::everything(),
                update_offset: 0,
                first_seen: now,
                last_seen: now,
                proof: ProofState::default(),
                denied: None,
                decided: false,
                traits: Traits::default(),
                rules: BTreeSet::new(),
                shown: Arc::default(),
            },
        );
        id
    }

    /// The number under which a record goes on that was put together with another.
    pub fn current(&self, id: DeviceId) -> DeviceId {
        let mut id = id;
        while let Some(into) = self.merged.get(&id) {
            id = *into;
        }
        id
    }

    /// A device by number.
    pub fn get(&self, id: DeviceId) -> Option<&Device> {
        self.devices.get(&self.current(id))
    }

    /// Forgets what devices took of files longer ago than counts; proof stays.
    pub fn rest(&mut self, now: Moment) {
        for device in self.devices.values_mut() {
            device.proof.rest(now);
        }
    }

    /// A device by number, to note what it did.
    pub fn get_mut(&mut self, id: DeviceId) -> Option<&mut Device> {
        self.devices.get_mut(&self.current(id))
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
    pub fn decide(&mut self, id: DeviceId, standing: Standing, grant: Grant) -> Option<&Device> {
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
    pub fn observe(&mut self, id: DeviceId, seen: &Observed<'_>) -> bool {
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
    pub fn set_traits(&mut self, id: DeviceId, traits: Traits) -> Option<&Device> {
        let rules = self.rules.clone();
        let device = self.devices.get_mut(&id)?;
        device.traits = traits;
        device.resolve(&rules);
        Some(device)
    }

    /// Puts two records together that are of one device: `into` stays, with its name, standing,
    /// grant and traits, and has from then on the other's endpoints, sight and proof as well. Of
    /// two proofs of one step the earlier one stays.
    ///
    /// Gives `into` as it is then; `None` unless both are there and are two.
    pub fn merge(&mut self, into: DeviceId, other: DeviceId) -> Option<&Device> {
        if into == other || !self.devices.contains_key(&into) {
            return None;
        }
        let gone = self.devices.remove(&other)?;
        let device = self.devices.get_mut(&into)?;
        device.endpoints.extend(gone.endpoints);
        device.endpoints.sort_by_key(|endpoint| std::cmp::Reverse(endpoint.last_seen));
        device.endpoints.truncate(ENDPOINTS);
        device.udns.extend(gone.udns);
        while device.udns.len() > UDNS {
            device.udns.pop_last();
        }
        device.name = device.name.take().or(gone.name);
        device.user_agent = device.user_agent.take().or(gone.user_agent);
        device.first_seen = device.first_seen.min(gone.first_seen);
        device.last_seen = device.last_seen.max(gone.last_seen);
        device.proof.merge(gone.proof);
        if device.standing != Standing::Admitted {
            let later = [device.denied, gone.denied].into_iter().flatten();
            device.denied = later.max_by_key(|denied| denied.at);
        }
        device.decided = true;
        device.rules.extend(gone.rules);
        device.update_offset = device.update_offset.wrapping_add(1);
        device.resolve(&self.rules);
        let endpoints = device.endpoints.clone();
        self.by_address.retain(|_, id| *id != other);
        self.by_hardware.retain(|_, id| *id != other);
        self.merged.insert(other, into);
        for endpoint in endpoints {
            self.by_address.entry(endpoint.address).or_insert(into);
            if let Some(hardware) = endpoint.hardware {
                self.by_hardware.insert(hardware, into);
            }
        }
        self.devices.get(&into)
    }

    /// Makes a device of its own of one of a device's endpoints, which was put together with the
    /// others by mistake. It stands as the doorway lets strangers stand, with what is `proven` of it
    /// alone; the other keeps what is proven of the rest.
    ///
    /// `new` is its number, from [`new_id`](Self::new_id). Gives it; `None` where there is no such
    /// endpoint, or no other beside it.
    pub fn split(
        &mut self,
        id: DeviceId,
        new: DeviceId,
        contact: Contact,
        doorway: Doorway,
        (proven, rest): (ProofState, ProofState),
    ) -> Option<&Device> {
        let device = self.devices.get(&id)?;
        let at = device.endpoints.iter().position(|endpoint| endpoint.contact() == contact)?;
        if device.endpoints.len() < 2 {
            return None;
        }
        let first_seen = device.first_seen;
        self.add(first_seen, new, doorway);
        let device = self.devices.get_mut(&id)?;
        let endpoint = device.endpoints.remove(at);
        device.proof = rest;
        device.update_offset = device.update_offset.wrapping_add(1);
        let apart = self.devices.get_mut(&new)?;
        apart.last_seen = endpoint.last_seen;
        apart.endpoints.push(endpoint);
        apart.proof = proven;
        apart.decided = true;
        self.by_address.retain(|address, id| *address != endpoint.address || *id != new);
        self.index(&endpoint, new);
        self.devices.get(&new)
    }

    /// Forgets a device; if it comes back it is met as new.
    pub fn forget(&mut self, id: DeviceId) -> Option<Device> {
        let device = self.devices.remove(&id)?;
        self.by_address.retain(|_, v| *v != id);
        self.by_hardware.retain(|_, v| *v != id);
        self.merged.retain(|_, into| *into != id);
        Some(device)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::proof::{Evidence, Proof, Step};

    const A: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 60);
    const B: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 61);
    const TV: Option<Hardware> = Some(Hardware([2, 0, 0, 0, 0, 1]));
    const OTHER: Option<Hardware> = Some(Hardware([2, 0, 0, 0, 0, 2]));

    fn at(seconds: u64) -> Moment {
        Moment::from_secs(seconds)
    }

    fn meet(
        book: &mut DeviceBook,
        second: u64,
        address: Ipv4Addr,
        hardware: Option<Hardware>,
        doorway: Doorway,
    ) -> (DeviceId, bool) {
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
            let more = all.iter().cloned().map(|d| Device { id: DeviceId(d.id.0 + 10_000), ..d });
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

    fn proof_at(second: u64, step: Step) -> ProofState {
        let mut state = ProofState::default();
        let evidence = Evidence::Connected;
        state.ladder.confirm(step, Proof { at: at(second), evidence, item: None, bytes: None });
        state
    }

    #[test]
    fn two_records_of_one_device_are_put_together_and_nothing_older_is_lost() {
        let mut book = DeviceBook::default();
        let (wired, _) = meet(&mut book, 5, A, TV, Doorway::Ask);
        book.decide(wired, Standing::Admitted, Grant::everything());
        book.get_mut(wired).unwrap().proof = proof_at(5, Step::Seen);
        let (wireless, _) = meet(&mut book, 1, B, OTHER, Doorway::Ask);
        book.get_mut(wireless).unwrap().proof = proof_at(1, Step::Seen);
        book.get_mut(wireless).unwrap().name = Some("Lounge television".into());
        let offset = book.get(wired).unwrap().update_offset;
        let merged = book.merge(wired, wireless).unwrap().clone();
        assert_eq!((merged.first_seen, merged.endpoints.len()), (at(1), 2));
        assert_eq!(merged.proof.ladder.proof(Step::Seen).unwrap().at, at(1));
        assert_eq!((&*merged.label(), merged.standing), ("Lounge television", Standing::Admitted));
        assert_eq!(merged.update_offset, offset + 1, "it reads its lists again");
        // By both ways it is the same, also after a restart, and what runs under the old number
        // goes on.
        assert_eq!(meet(&mut book, 9, B, OTHER, Doorway::Ask), (wired, false));
        assert_eq!(meet(&mut book, 9, A, TV, Doorway::Ask), (wired, false));
        assert_eq!(book.get(wireless).map(|device| device.id), Some(wired));
        let mut again = DeviceBook::load(book.iter().cloned(), Rules::default());
        assert_eq!(meet(&mut again, 10, B, OTHER, Doorway::Ask), (wired, false));
        assert!(book.merge(wired, wired).is_none() && book.merge(wired, DeviceId(99)).is_none());
        assert!(book.merge(DeviceId(99), wired).is_none() && book.get(wired).is_some());
    }

    #[test]
    fn what_was_put_together_by_mistake_is_taken_apart() {
        let mut book = DeviceBook::default();
        let (tv, _) = meet(&mut book, 1, A, TV, Doorway::Ask);
        book.decide(tv, Standing::Admitted, Grant::everything());
        let (other, _) = meet(&mut book, 2, B, OTHER, Doorway::Ask);
        book.merge(tv, other);
        let proofs = || (proof_at(2, Step::Read), proof_at(1, Step::Seen));
        let contact = Contact::of(B, OTHER);
        let apart = book.new_id();
        assert!(book.split(tv, apart, contact, Doorway::Ask, proofs()).is_some());
        assert!(apart != tv && apart != other, "numbers are not used again");
        let (one, two) = (book.get(tv).unwrap(), book.get(apart).unwrap());
        assert_eq!((one.standing, two.standing), (Standing::Admitted, Standing::Waiting));
        assert!(two.proof.ladder.proof(Step::Read).is_some());
        assert!(one.proof.ladder.proof(Step::Read).is_none());
        assert_eq!(meet(&mut book, 3, B, OTHER, Doorway::Ask), (apart, false));
        assert_eq!(meet(&mut book, 3, A, TV, Doorway::Ask), (tv, false));
        let mut again = |contact| {
            let new = book.new_id();
            book.split(tv, new, contact, Doorway::Ask, proofs()).is_some()
        };
        assert!(!again(Contact::of(A, TV)), "its last");
        assert!(!again(contact), "not its own");
    }

    #[test]
    fn ways_to_a_device_are_bounded() {
        let mut book = DeviceBook::default();
        let (tv, _) = meet(&mut book, 1, A, TV, Doorway::Ask);
        for n in 0..100_u8 {
            let hardware = Some(Hardware([2, 0, 0, 0, 1, n]));
            let address = Ipv4Addr::new(192, 0, 2, 100 + n);
            let (other, _) = meet(&mut book, 2 + u64::from(n), address, hardware, Doorway::Ask);
            book.merge(tv, other);
        }
        assert_eq!(book.get(tv).unwrap().endpoints.len(), ENDPOINTS);
    }
}
