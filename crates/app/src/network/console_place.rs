//! Where the console answers, for a person who opens a device's address of ours.

use std::net::Ipv4Addr;
use std::sync::atomic::{AtomicU16, Ordering};

/// The ports of the console; 0 while it does not answer there.
#[derive(Debug, Default)]
pub struct ConsolePlace {
    loopback: AtomicU16,
    house: AtomicU16,
}

impl ConsolePlace {
    /// The console answers on this port of loopback.
    pub fn set_loopback(&self, port: u16) {
        self.loopback.store(port, Ordering::Relaxed);
    }

    /// The console's port on this host; 0 while it does not answer.
    pub fn loopback_port(&self) -> u16 {
        self.loopback.load(Ordering::Relaxed)
    }

    /// The console's address and port on this host.
    pub fn on_this_host(&self) -> String {
        format!("127.0.0.1:{}", self.loopback.load(Ordering::Relaxed))
    }

    /// The console answers on this port of the house's network, by TLS; no longer with `None`.
    pub fn set_house(&self, port: Option<u16>) {
        self.house.store(port.unwrap_or(0), Ordering::Relaxed);
    }

    /// The console's address for somebody at `from` who reached us at `to`.
    pub fn url(&self, from: Ipv4Addr, to: Ipv4Addr) -> Option<String> {
        let (loopback, house) =
            (self.loopback.load(Ordering::Relaxed), self.house.load(Ordering::Relaxed));
        if loopback != 0 && (from.is_loopback() || from == to) {
            return Some(format!("http://127.0.0.1:{loopback}/"));
        }
        (house != 0).then(|| format!("https://{to}:{house}/"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_is_on_the_host_is_led_to_loopback_and_others_where_it_is_open() {
        let place = ConsolePlace::default();
        let (host, tablet) = (Ipv4Addr::new(10, 0, 0, 2), Ipv4Addr::new(10, 0, 0, 9));
        assert_eq!(place.url(host, host), None, "nowhere yet");
        place.set_loopback(7641);
        assert_eq!(place.url(host, host).as_deref(), Some("http://127.0.0.1:7641/"));
        assert_eq!(place.url(tablet, host), None, "closed to the house");
        place.set_house(Some(7642));
        assert_eq!(place.url(tablet, host).as_deref(), Some("https://10.0.0.2:7642/"));
        place.set_house(None);
        assert_eq!(place.url(tablet, host), None);
    }
}
