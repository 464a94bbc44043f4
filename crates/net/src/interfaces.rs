//! Which interface addresses the house is served on.

use std::io;
use std::net::{IpAddr, Ipv4Addr};

use mostra_protocol::model::subnet;
use mostra_protocol::server::Link;

/// Which interfaces to serve.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Interfaces {
    /// All that are up and have a private IPv4 address.
    Auto,
    /// Loopback only.
    Loopback,
    /// These names or addresses.
    Listed(Vec<String>),
}

/// Why there is nothing to serve.
#[derive(Debug, thiserror::Error)]
pub enum InterfaceError {
    /// The system does not list its interfaces.
    #[error("the host's interfaces cannot be listed: {0}")]
    Unlisted(#[from] io::Error),
    /// One that was named is not there.
    #[error("there is no interface or IPv4 address {name:?}")]
    Missing {
        /// What was named.
        name: String,
        /// What the host has.
        here: Vec<String>,
    },
}

impl InterfaceError {
    /// What a person can do about it.
    pub fn remedy(&self) -> String {
        match self {
            InterfaceError::Unlisted(_) => "Check the system.".into(),
            InterfaceError::Missing { here, .. } => {
                format!("This host has: {}.", here.join(", "))
            }
        }
    }
}

/// An interface address that the house is served on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServedInterface {
    /// The interface's name.
    pub name: String,
    /// Its index.
    pub index: u32,
    /// Our address on it.
    pub address: Ipv4Addr,
    /// Bits of the subnet's prefix.
    pub prefix: u8,
}

impl ServedInterface {
    /// The link for discovery, with the device listener's port.
    pub fn link(&self, port: u16) -> Link {
        Link { id: self.index, address: self.address, prefix: self.prefix, port, search_port: None }
    }

    /// Whether an address is that of a host in the interface's subnet.
    pub fn holds(&self, source: Ipv4Addr) -> bool {
        subnet::is_host(self.address, self.prefix, source)
    }

    /// Those of the host's interfaces that are to be served and are up, one address for each.
    ///
    /// # Errors
    /// Those of the system.
    pub fn present(wanted: &Interfaces) -> io::Result<Vec<ServedInterface>> {
        Ok(pick(wanted, &if_addrs::get_if_addrs()?))
    }

    /// Chooses from the host's interfaces at start.
    ///
    /// # Errors
    /// [`InterfaceError`] for a name or address that the host does not have. One that is there and
    /// not up yet is no error, nor is a host without any: each is served once it is up.
    pub fn choose(wanted: &Interfaces) -> Result<Vec<ServedInterface>, InterfaceError> {
        let all = if_addrs::get_if_addrs()?;
        let served = pick(wanted, &all);
        let here = || all.iter().map(|i| format!("{} ({})", i.name, i.ip())).collect();
        if let Interfaces::Listed(list) = wanted {
            let is_there = |entry: &String| {
                let named =
                    |i: &if_addrs::Interface| i.name == *entry || entry.parse() == Ok(i.ip());
                served.iter().any(|s| entry.parse() == Ok(s.address)) || all.iter().any(named)
            };
            if let Some(name) = list.iter().find(|entry| !is_there(entry)) {
                return Err(InterfaceError::Missing { name: name.clone(), here: here() });
            }
        }
        Ok(served)
    }
}

fn pick(wanted: &Interfaces, all: &[if_addrs::Interface]) -> Vec<ServedInterface> {
    let mut served: Vec<ServedInterface> = Vec::new();
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
            served.push(ServedInterface { name: interface.name.clone(), index, address, prefix });
        }
    }
    served
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
