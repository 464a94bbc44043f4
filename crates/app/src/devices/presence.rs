//! Which devices are there, and which of them do something now.

use std::collections::BTreeSet;
use std::net::Ipv4Addr;
use std::sync::PoisonError;
use std::time::Duration;

use mostra_core::Moment;
use mostra_core::device::{Device, Hardware};
use mostra_core::ids::DeviceId;
use mostra_core::sighting::Sighting;

use super::Devices;
use crate::Topic;

/// How long a device counts as active after it did something, and how many do at one time.
const ACTIVE: Duration = Duration::from_secs(10);
const ACTIVE_DEVICES: usize = 256;

/// A device that is tried at an address, by the hardware address that it had there.
pub type TriedDevice = (DeviceId, Ipv4Addr, Hardware);

impl Devices {
    /// Those of the devices that can be tried: by hardware address and address, those seen last first.
    pub fn to_try(&self, most: usize) -> Vec<TriedDevice> {
        let book = self.book();
        let ways = book.iter().filter_map(|device| {
            let endpoint = device.endpoint()?;
            let known = (device.id, endpoint.address, endpoint.hardware?);
            (!endpoint.address.is_unspecified()).then_some((endpoint.last_seen, known))
        });
        let mut ways: Vec<_> = ways.collect();
        ways.sort_by_key(|(seen, _)| std::cmp::Reverse(*seen));
        ways.into_iter().take(most).map(|(_, known)| known).collect()
    }

    /// Devices were tried a while ago by a datagram, for which the system asked who has their
    /// address (ARP): those whom it does not know any more are away.
    pub fn were_tried(&self, tried: &[TriedDevice]) {
        let now = self.context.now();
        let silent = |(id, address, hardware): &TriedDevice| {
            (self.hardware(*address) != Some(*hardware)).then_some(*id)
        };
        let silent: BTreeSet<DeviceId> = tried.iter().filter_map(silent).collect();
        let known: BTreeSet<DeviceId> = self.book().iter().map(|device| device.id).collect();
        let mut away = self.away.lock().unwrap_or_else(PoisonError::into_inner);
        let before = away.len();
        let answered =
            |id: &DeviceId| !silent.contains(id) && tried.iter().any(|(tried, ..)| tried == id);
        away.retain(|id, _| known.contains(id) && !answered(id));
        let mut changed = away.len() != before;
        for id in silent {
            away.entry(id).or_insert_with(|| {
                changed = true;
                now
            });
        }
        drop(away);
        if changed {
            self.context.changed(Topic::Devices);
        }
    }

    /// Since when a device answers nothing, where it was tried and is not heard since.
    pub fn away_since(&self, device: &Device) -> Option<Moment> {
        let away = self.away.lock().unwrap_or_else(PoisonError::into_inner);
        away.get(&device.id).copied().filter(|since| device.last_seen < *since)
    }

    /// Devices that did something within the last ten seconds, with what and when, the latest first.
    pub fn active(&self) -> Vec<(Device, Moment, String)> {
        let now = self.context.now();
        let book = self.book();
        let mut active = self.active.lock().unwrap_or_else(PoisonError::into_inner);
        active.retain(|_, (at, _)| now.since(*at) < ACTIVE);
        let known = active
            .iter()
            .filter_map(|(id, (at, what))| Some((book.get(*id)?.clone(), *at, what.clone())));
        let mut known: Vec<_> = known.collect();
        known.sort_by_key(|(_, at, _)| std::cmp::Reverse(*at));
        known
    }

    /// Notes what a device did last.
    pub(super) fn note_active(&self, sighting: &Sighting) {
        let mut active = self.active.lock().unwrap_or_else(PoisonError::into_inner);
        if active.len() >= ACTIVE_DEVICES {
            active.retain(|_, (at, _)| sighting.last.since(*at) < ACTIVE);
        }
        if active.len() < ACTIVE_DEVICES || active.contains_key(&sighting.device) {
            active.insert(sighting.device, (sighting.last, sighting.act.to_string()));
        }
    }
}
