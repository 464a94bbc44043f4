//! The house's book of devices.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::Ipv4Addr;
use std::sync::Arc;
use std::time::Duration;

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

/// How long after it was last seen a device counts as one that waits for a person.
const WAITS: Duration = Duration::from_secs(7 * 86_400);

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
        // Of one that was added before it was seen nobody knows the address.
        if !endpoint.address.is_unspecified() {
            self.by_address.insert(endpoint.address, id);
        }
        if let Some(hardware) = endpoint.hardware {
            self.by_hardware.insert(hardware, id);
        }
    }

    /// Numbers up to this one are used, though not by a device of this book.
    pub fn used_up_to(&mut self, number: u32) {
        self.last_id = self.last_id.max(number);
    }

    /// The number of the device that this seems to be, if it was met before. Where the system does
    /// not know the hardware address, that is whoever was last at the address: enough to tell what a
    /// datagram may be of, and to whom not to answer, but not to let anybody in
    /// ([`meet`](Self::meet)).
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

    /// Somebody at this address connects. `None` where there is no room for a record of it, and where
    /// the system does not know the hardware address of who connects from the address of a device that
    /// has one: a device is not somebody else because its neighbour entry is missing, and nobody is
    /// let in as that device.
    pub fn meet(
        &mut self,
        now: Moment,
        address: Ipv4Addr,
        hardware: Option<Hardware>,
    ) -> Option<Meeting> {
        let known = self.find(address, hardware);
        let has_hardware = |id| self.devices.get(&id).is_some_and(Device::has_hardware);
        if hardware.is_none() && known.is_some_and(has_hardware) {
            return None;
        }
        let mut forgotten = None;
        let id = match known {
            Some(id) => id,
            None => {
                forgotten = self.make_room(now)?;
                let id = self.new_id();
                self.add(now, id)
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

    /// Makes room for one more: `None` if there is none; gives who had to go, if anybody. Half of the
    /// room is of those that came first and wait for a person: who comes under ever new hardware
    /// addresses pushes none of them out.
    fn make_room(&mut self, now: Moment) -> Option<Option<DeviceId>> {
        if self.devices.len() < DEVICES {
            return Some(None);
        }
        let may_go = self.devices.values().filter(|d| !d.decided && d.name.is_none());
        // Those that never asked go first, and those that wait before those that an open doorway
        // admitted.
        let rank = |d: &&Device| (d.asked.is_some(), d.standing == Standing::Admitted, d.last_seen);
        let mut may_go: Vec<&Device> = may_go.collect();
        let waits = |device: &Device| {
            device.standing == Standing::Waiting && now.since(device.last_seen) < WAITS
        };
        may_go.sort_by_key(|device| {
            device.asked.filter(|_| waits(device)).map_or((true, now), |asked| (false, asked))
        });
        let waiting = may_go.iter().take_while(|device| device.asked.is_some() && waits(device));
        let kept = waiting.count().min(DEVICES / 2);
        let first = may_go.into_iter().skip(kept).min_by_key(rank)?.id;
        self.forget(first).map(|device| Some(device.id))
    }

    /// A number that no device has had, for [`split`](Self::split).
    pub fn new_id(&mut self) -> DeviceId {
        self.last_id += 1;
        DeviceId(self.last_id)
    }

    fn add(&mut self, now: Moment, id: DeviceId) -> DeviceId {
        self.devices.insert(
            id,
            Device {
                id,
                endpoints: Vec::new(),
                udns: BTreeSet::new(),
                name: None,
                described_name: None,
                kind: None,
                room: None,
                note: None,
                asked: None,
                by_doorway: None,
                user_agent: None,
                standing: Standing::Waiting,
                grant: Grant::everything(),
                update_offset: 0,
                first_seen: now,
                last_seen: now,
                proof: ProofState::default(),
                denied: None,
                decided: false,
                in_walkthrough: false,
                traits: Traits::default(),
                rules: BTreeSet::new(),
                shown: Arc::default(),
            },
        );
        id
    }

    /// A device asks for content. The first time the doorway decides its standing, and again once it
    /// is no longer closed for one that it turned away; a person's decision stays. Gives the
    /// standing that the doorway gave it now.
    pub fn ask(&mut self, now: Moment, id: DeviceId, doorway: Doorway) -> Option<Standing> {
        let device = self.get_mut(id)?;
        let first = device.asked.is_none();
        device.asked.get_or_insert(now);
        let turned_away = device.standing == Standing::Refused && doorway != Doorway::Closed;
        if device.decided || !(first || turned_away) {
            return None;
        }
        let standing = doorway.first_standing();
        device.by_doorway = (standing != Standing::Waiting).then_some(now);
        if device.standing != standing && !first {
            device.update_offset = device.update_offset.wrapping_add(1);
        }
        device.standing = standing;
        Some(standing)
    }

    /// A person adds a device, before or without its asking: by its hardware address, its address,
    /// or both. It waits for a decision. Gives one that is known already as it is; `None` where
    /// there is no room.
    pub fn add_by_hand(
        &mut self,
        now: Moment,
        address: Ipv4Addr,
        hardware: Option<Hardware>,
    ) -> Option<(DeviceId, Option<DeviceId>)> {
        let mut forgotten = None;
        let id = match self
            .find(address, hardware)
            .filter(|_| !address.is_unspecified() || hardware.is_some())
        {
            Some(id) => id,
            None => {
                forgotten = self.make_room(now)?;
                let id = self.new_id();
                self.add(now, id);
                self.seen_by(now, id, address, hardware);
                id
            }
        };
        self.get_mut(id)?.decided = true;
        Some((id, forgotten))
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
        device.by_doorway = None;
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
        device.described_name = device.described_name.take().or(gone.described_name);
        device.kind = device.kind.or(gone.kind);
        device.room = device.room.take().or(gone.room);
        device.note = device.note.take().or(gone.note);
        device.asked = [device.asked, gone.asked].into_iter().flatten().min();
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
        let (first_seen, asked) = (device.first_seen, device.asked);
        self.add(first_seen, new);
        if let Some(asked) = asked {
            self.ask(asked, new, doorway);
        }
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
mod tests;
