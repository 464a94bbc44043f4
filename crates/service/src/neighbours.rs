//! Hardware addresses of neighbours, as the system knows them.

use std::net::Ipv4Addr;

use mostra_core::device::Hardware;

/// The hardware address at an address on the local network, from the kernel's table. Loopback
/// and routed addresses have none.
pub fn hardware(address: Ipv4Addr) -> Option<Hardware> {
    if address.is_loopback() {
        return None;
    }
    let table = std::fs::read_to_string("/proc/net/arp").ok()?;
    table.lines().skip(1).find_map(|line| {
        let mut columns = line.split_ascii_whitespace();
        let found = columns.next()?.parse::<Ipv4Addr>().ok()? == address;
        // Columns: address, hardware type, flags, hardware address; flag 2 is "complete".
        let flags = u32::from_str_radix(columns.nth(1)?.trim_start_matches("0x"), 16).ok()?;
        let hardware = columns.next()?;
        (found && flags & 2 != 0).then(|| hardware.parse().ok())?
    })
}
