//! What datagrams said of senders that have not connected yet. Their addresses may be forged, so
//! that this is little, and forgotten soon.

use std::collections::HashMap;
use std::net::Ipv4Addr;
use std::time::Duration;

use mostra_core::sighting::Act;
use mostra_protocol::Moment;

/// Senders remembered at most.
const SENDERS: usize = 256;
/// For how long: whoever searches connects soon after.
const FRESH: Duration = Duration::from_secs(600);

/// The last datagram of each.
#[derive(Debug, Default)]
pub(super) struct Datagrams(HashMap<Ipv4Addr, (Moment, Act)>);

impl Datagrams {
    /// Notes what one did. Where there is no room it is not noted.
    pub(super) fn note(&mut self, now: Moment, address: Ipv4Addr, act: Act) {
        if self.0.len() >= SENDERS && !self.0.contains_key(&address) {
            self.0.retain(|_, (at, _)| now.since(*at) < FRESH);
            if self.0.len() >= SENDERS {
                return;
            }
        }
        self.0.insert(address, (now, act));
    }

    /// Takes what an address sent lately.
    pub(super) fn take(&mut self, now: Moment, address: Ipv4Addr) -> Option<(Moment, Act)> {
        let (at, act) = self.0.remove(&address)?;
        (now.since(at) < FRESH).then_some((at, act))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn little_is_remembered_and_not_for_long() {
        let mut datagrams = Datagrams::default();
        let address = |n: u32| Ipv4Addr::from(0x0a00_0000 + n);
        for n in 0..10_000 {
            datagrams.note(Moment::from_secs(1), address(n), Act::Announced);
        }
        assert_eq!(datagrams.0.len(), SENDERS);
        assert!(datagrams.take(Moment::from_secs(2), address(1)).is_some());
        assert!(datagrams.take(Moment::from_secs(2), address(1)).is_none(), "once");
        assert!(datagrams.take(Moment::from_secs(700), address(2)).is_none(), "too long ago");
        datagrams.note(Moment::from_secs(800), address(9_999), Act::Announced);
        datagrams.note(Moment::from_secs(800), address(9_998), Act::Announced);
        assert!(datagrams.take(Moment::from_secs(800), address(9_998)).is_some());
    }
}
