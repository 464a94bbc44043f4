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
        Link { id: self.index, address: self.address, prefix: self.prefix, port }
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
        let chosen = match wanted {
            Interfaces::Loopback => address == Ipv4Addr::LOCALHOST,
            Interfaces::Auto => {
                !address.is_loopback() && (address.is_private() || address.is_link_local())
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
