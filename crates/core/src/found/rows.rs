//! Which found things and which devices are one: the rules.
//!
//! 1. Things of one host are one, host being a hardware address or, where the system knows none, an
//!    address. A television announces its renderer and what else it offers as several devices.
//! 2. Of one host, two renderers are two things, and so are two servers: a program that plays to
//!    several rooms is a thing for each room.
//! 3. A device, which has a standing, is one with the things at its hardware addresses, else at its
//!    addresses, and with those whose UDN was read at it.
//!
//! A UDN is only said by a thing, so what joins rows carries no standing over: of a row with two
//! devices each keeps its own until a person puts them together.

use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;

use super::Role;
use crate::device::Hardware;
use crate::ids::{DeviceId, FoundId};
use crate::sighting::Contact;

/// A thing, and by what it is joined.
#[derive(Debug, Clone)]
pub struct ThingPlace {
    /// Its number.
    pub id: FoundId,
    /// Its address.
    pub address: Ipv4Addr,
    /// Its hardware address, where the system knows it.
    pub hardware: Option<Hardware>,
    /// Its UDNs.
    pub udns: BTreeSet<String>,
    /// What it is for.
    pub roles: BTreeSet<Role>,
}

/// A device, and by what it is joined.
#[derive(Debug, Clone)]
pub struct DevicePlace {
    /// Its number.
    pub id: DeviceId,
    /// The ways by which it is reached.
    pub contacts: Vec<(Ipv4Addr, Option<Hardware>)>,
    /// UDNs that were read at it.
    pub udns: BTreeSet<String>,
}

/// What a person sees as one.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Row {
    /// The things, the first found first.
    pub things: Vec<FoundId>,
    /// The devices.
    pub devices: BTreeSet<DeviceId>,
}

/// Joins things and devices to rows: those of things first, in the order in which they were found,
/// then those of devices that were not found.
pub fn join(things: &[ThingPlace], devices: &[DevicePlace]) -> Vec<Row> {
    let mut rows: Vec<Row> = Vec::new();
    let mut of_host: BTreeMap<Contact, Vec<usize>> = BTreeMap::new();
    let mut taken: Vec<BTreeSet<Role>> = Vec::new();
    let mut by_udn: BTreeMap<String, usize> = BTreeMap::new();
    let mut by_address: BTreeMap<Ipv4Addr, Vec<usize>> = BTreeMap::new();
    let mut hardware: Vec<Option<Hardware>> = Vec::new();
    for thing in things {
        let only: BTreeSet<Role> = thing
            .roles
            .iter()
            .copied()
            .filter(|role| matches!(role, Role::Renderer | Role::Server))
            .collect();
        let host = of_host.entry(Contact::of(thing.address, thing.hardware)).or_default();
        let row = host.iter().copied().find(|row| taken[*row].is_disjoint(&only));
        let row = row.unwrap_or_else(|| {
            rows.push(Row::default());
            taken.push(BTreeSet::new());
            hardware.push(thing.hardware);
            host.push(rows.len() - 1);
            by_address.entry(thing.address).or_default().push(rows.len() - 1);
            rows.len() - 1
        });
        rows[row].things.push(thing.id);
        taken[row].extend(only);
        for udn in &thing.udns {
            by_udn.entry(udn.to_lowercase()).or_insert(row);
        }
    }
    let mut alone = Vec::new();
    for device in devices {
        let mut its: BTreeSet<usize> = BTreeSet::new();
        for (address, known) in &device.contacts {
            if let Some(known) = known {
                its.extend(of_host.get(&Contact::Hardware(*known)).into_iter().flatten());
            }
            let here = by_address.get(address).into_iter().flatten();
            // Where both are known they decide: the address went to somebody else.
            its.extend(here.filter(|row| known.is_none() || hardware[**row].is_none()));
        }
        its.extend(device.udns.iter().filter_map(|udn| by_udn.get(&udn.to_lowercase())));
        if its.is_empty() {
            alone.push(Row { things: Vec::new(), devices: BTreeSet::from([device.id]) });
        }
        for row in its {
            rows[row].devices.insert(device.id);
        }
    }
    rows.extend(alone);
    rows
}

#[cfg(test)]
mod tests {
    use super::*;

    fn thing(id: u32, last: u8, hardware: Option<u8>, role: Role) -> ThingPlace {
        ThingPlace {
            id: FoundId(id),
            address: Ipv4Addr::new(192, 0, 2, last),
            hardware: hardware.map(|n| Hardware([2, 0, 0, 0, 0, n])),
            udns: BTreeSet::from([format!("uuid:{id}")]),
            roles: BTreeSet::from([role]),
        }
    }

    fn device(id: u32, last: u8, hardware: Option<u8>, udn: Option<&str>) -> DevicePlace {
        let hardware = hardware.map(|n| Hardware([2, 0, 0, 0, 0, n]));
        DevicePlace {
            id: DeviceId(id),
            contacts: vec![(Ipv4Addr::new(192, 0, 2, last), hardware)],
            udns: udn.map(str::to_owned).into_iter().collect(),
        }
    }

    fn joined(things: &[ThingPlace], devices: &[DevicePlace]) -> Vec<(Vec<u32>, Vec<u32>)> {
        let rows = join(things, devices).into_iter();
        rows.map(|row| {
            let things = row.things.iter().map(|id| id.0).collect();
            (things, row.devices.iter().map(|id| id.0).collect())
        })
        .collect()
    }

    #[test]
    fn what_one_host_announces_is_one_but_for_several_rooms() {
        let things = [
            thing(1, 5, Some(5), Role::Other),
            thing(2, 5, Some(5), Role::Renderer),
            thing(3, 6, Some(6), Role::Renderer),
            thing(4, 6, Some(6), Role::Renderer),
            thing(5, 6, Some(6), Role::Server),
            thing(6, 7, None, Role::Router),
        ];
        let rows = [vec![1, 2], vec![3, 5], vec![4], vec![6]].map(|things| (things, vec![]));
        assert_eq!(joined(&things, &[]), rows);
    }

    #[test]
    fn a_device_is_one_with_what_is_at_its_hardware_its_address_or_its_udn() {
        let things = [
            thing(1, 5, Some(5), Role::Renderer),
            thing(2, 6, None, Role::Renderer),
            thing(3, 7, Some(7), Role::Renderer),
        ];
        let devices = [
            // Its address was another one.
            device(11, 99, Some(5), None),
            device(12, 6, None, None),
            // The address went to another.
            device(13, 7, Some(70), None),
            // By its radio it has another hardware address.
            device(14, 8, Some(8), Some("UUID:3")),
        ];
        assert_eq!(
            joined(&things, &devices),
            [(vec![1], vec![11]), (vec![2], vec![12]), (vec![3], vec![14]), (vec![], vec![13])]
        );
    }

    #[test]
    fn nothing_is_lost_and_nothing_is_twice() {
        let things: Vec<ThingPlace> = (0..200_u8)
            .map(|n| {
                let role = [Role::Renderer, Role::Server, Role::Other][usize::from(n) % 3];
                thing(n.into(), n % 40, (n % 5 > 0).then_some(n % 40), role)
            })
            .collect();
        let devices: Vec<DevicePlace> =
            (0..200_u8).map(|n| device(n.into(), n, (n % 2 > 0).then_some(n), None)).collect();
        let rows = join(&things, &devices);
        let mut ids: Vec<u32> = rows.iter().flat_map(|row| &row.things).map(|id| id.0).collect();
        ids.sort_unstable();
        assert_eq!(ids, (0..200).collect::<Vec<_>>());
        let devices: BTreeSet<_> = rows.iter().flat_map(|row| &row.devices).collect();
        assert_eq!(devices.len(), 200);
    }
}
