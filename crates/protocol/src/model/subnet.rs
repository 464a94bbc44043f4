//! Which addresses are those of hosts in a subnet.

use std::net::Ipv4Addr;

use ipnet::Ipv4Net;

/// Whether an address is that of a host in the subnet of `own` with a prefix of so many bits: not
/// the subnet's own address, and not the one by which all its hosts are reached (RFC 1122
/// 3.2.1.3).
pub fn is_host(own: Ipv4Addr, prefix: u8, address: Ipv4Addr) -> bool {
    let Ok(subnet) = Ipv4Net::new(own, prefix) else { return false };
    // Links of two hosts have neither of both (RFC 3021).
    let special = address == subnet.network() || address == subnet.broadcast();
    subnet.contains(&address) && (prefix >= 31 || !special)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_of_a_subnet_are_neither_its_first_nor_its_last_address() {
        let own = Ipv4Addr::new(192, 0, 2, 21);
        let holds = |prefix, last| is_host(own, prefix, Ipv4Addr::new(192, 0, 2, last));
        assert!(holds(24, 1) && holds(24, 254) && !holds(24, 0) && !holds(24, 255));
        assert!(holds(28, 17) && !holds(28, 16) && !holds(28, 31) && !holds(28, 32));
        assert!(holds(31, 20) && holds(31, 21) && !holds(31, 22));
        assert!(holds(32, 21) && !holds(32, 20));
        assert!(is_host(own, 0, Ipv4Addr::new(10, 0, 0, 1)) && !is_host(own, 33, own));
    }
}
