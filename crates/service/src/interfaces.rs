//! Which interface addresses the house is served on.

use std::net::{IpAddr, Ipv4Addr};

use mostra_protocol::ssdp::Link;

use crate::config::Interfaces;
use crate::trouble::Trouble;

/// An interface address to serve.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Served {
    /// The interface's name.
    pub name: String,
    /// Its index.
    pub index: u32,
    /// Our address on it.
    pub address: Ipv4Addr,
    /// Bits of the subnet's prefix.
    pub prefix: u8,
}

impl Served {
    /// The link for discovery, with the device listener's port.
    pub fn link(&self, port: u16) -> Link {
        Link { id: self.index, address: self.address, prefix: self.prefix, port, search_port: None }
    }
}

/// Those of the host's interfaces that are to be served and are up, one address for each.
///
/// # Errors
/// Those of the system.
pub fn present(wanted: &Interfaces) -> std::io::Result<Vec<Served>> {
    Ok(pick(wanted, &if_addrs::get_if_addrs()?))
}

fn pick(wanted: &Interfaces, all: &[if_addrs::Interface]) -> Vec<Served> {
    let mut served: Vec<Served> = Vec::new();
    for interface in all.iter().filter(|i| i.is_oper_up()) {
        let (IpAddr::V4(address), if_addrs::IfAddr::V4(details)) =
            (interface.ip(), &interface.addr)
        else {
            continue;
        };
        // On loopback every 127.x.x.x is ours, whether it was given to the interface or not
        // (SSDP-45).
        let of_loopback = |entry: &String| {
            let asked = entry.parse::<Ipv4Addr>().ok().filter(|_| address.is_loopback());
            asked.filter(|asked| asked.is_loopback() && !asked.is_broadcast())
        };
        let listed = match wanted {
            Interfaces::Listed(list) => list.iter().find_map(of_loopback),
            _ => None,
        };
        let address = listed.unwrap_or(address);
        let chosen = match wanted {
            Interfaces::Loopback => address == Ipv4Addr::LOCALHOST,
            Interfaces::Auto => {
                let local = address.is_private() || address.is_link_local();
                local && !address.is_loopback() && !interface.is_p2p()
            }
            Interfaces::Listed(list) => {
                list.iter().any(|entry| *entry == interface.name || entry.parse() == Ok(address))
            }
        };
        let index = interface.index.unwrap_or(0);
        if chosen && !served.iter().any(|s| s.index == index) {
            let prefix = u32::from(details.netmask).leading_ones() as u8;
            served.push(Served { name: interface.name.clone(), index, address, prefix });
        }
    }
    served
}

/// Chooses from the host's interfaces at start.
///
/// # Errors
/// [`Trouble`] for a name or address that the host does not have, or when there is none at all.
pub fn choose(wanted: &Interfaces) -> Result<Vec<Served>, Trouble> {
    let all = if_addrs::get_if_addrs().map_err(|e| {
        Trouble::new(format!("the host's interfaces cannot be listed: {e}"), "Check the system.")
    })?;
    let served = pick(wanted, &all);
    let names: Vec<String> = all.iter().map(|i| format!("{} ({})", i.name, i.ip())).collect();
    let here = format!("This host has: {}.", names.join(", "));
    if let Interfaces::Listed(list) = wanted {
        let missing = list.iter().find(|entry| {
            !served.iter().any(|s| s.name == **entry || entry.parse() == Ok(s.address))
        });
        if let Some(missing) = missing {
            return Err(Trouble::new(
                format!("there is no interface or IPv4 address {missing:?}"),
                &here,
            ));
        }
    }
    if served.is_empty() {
        return Err(Trouble::new(
            "no interface has a private IPv4 address",
            &format!("{here} Connect the network, or name one with --interfaces."),
        ));
    }
    Ok(served)
}

#[cfg(test)]
mod tests {
    use if_addrs::{IfAddr, IfOperStatus, Ifv4Addr, Interface};

    use super::*;

    fn interface(name: &str, index: u32, address: [u8; 4]) -> Interface {
        let addr = IfAddr::V4(Ifv4Addr {
            ip: address.into(),
            netmask: [255, 255, 255, 0].into(),
            prefixlen: 24,
            broadcast: None,
        });
        let oper_status = IfOperStatus::Up;
        Interface { name: name.into(), addr, index: Some(index), oper_status, is_p2p: false }
    }

    fn names(wanted: &Interfaces, all: &[Interface]) -> Vec<String> {
        pick(wanted, all).into_iter().map(|s| format!("{} {}", s.name, s.address)).collect()
    }

    #[test]
    fn by_default_all_private_networks_are_served() {
        let down = Interface {
            oper_status: IfOperStatus::Down,
            ..interface("down0", 4, [192, 168, 9, 1])
        };
        let line = Interface { is_p2p: true, ..interface("line0", 5, [10, 8, 0, 1]) };
        let all = [
            interface("lo", 1, [127, 0, 0, 1]),
            interface("lan0", 2, [192, 168, 1, 21]),
            interface("lan0", 2, [192, 168, 1, 22]),
            interface("wan0", 3, [203, 0, 113, 9]),
            down,
            line,
            interface("lan1", 6, [10, 0, 0, 3]),
        ];
        assert_eq!(names(&Interfaces::Auto, &all), ["lan0 192.168.1.21", "lan1 10.0.0.3"]);
        assert_eq!(names(&Interfaces::Loopback, &all), ["lo 127.0.0.1"]);
        // Named, also one that would not be served by itself.
        let listed = |entry: &str| names(&Interfaces::Listed(vec![entry.into()]), &all);
        assert_eq!(listed("line0"), ["line0 10.8.0.1"]);
        assert_eq!(listed("192.168.1.22"), ["lan0 192.168.1.22"]);
        assert_eq!(listed("127.0.0.21"), ["lo 127.0.0.21"], "all of loopback is ours");
        assert!(listed("10.9.9.9").is_empty());
    }
}
