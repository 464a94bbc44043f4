//! Those who asked from where this house serves nobody: they get nothing, and a person can read
//! that they asked.

use std::collections::BTreeMap;
use std::fmt;
use std::net::Ipv4Addr;

use mostra_protocol::Moment;

/// Addresses kept at most (SEC-12).
const OUTSIDERS: usize = 64;

/// What somebody from elsewhere did.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum OutsideAct {
    /// They searched.
    Searched,
    /// They connected.
    Connected,
    /// They connected to an address of this host at which the house is not served.
    Elsewhere(Ipv4Addr),
}

/// Somebody from elsewhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Outsider {
    /// Their address, as it says.
    pub address: Ipv4Addr,
    /// What they did.
    pub act: OutsideAct,
    /// When they did so first.
    pub first: Moment,
    /// When they did so last.
    pub last: Moment,
    /// How many times.
    pub times: u32,
}

impl fmt::Display for Outsider {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Outsider { address, act, .. } = self;
        match act {
            OutsideAct::Searched => {
                write!(f, "{address} searched; it is not in a network that this house serves")
            }
            OutsideAct::Connected => {
                write!(f, "{address} connected; it is not in a network that this house serves")
            }
            OutsideAct::Elsewhere(to) => {
                write!(f, "{address} connected to {to}, where this house is not served")
            }
        }
    }
}

/// The last of them.
#[derive(Debug, Clone, Default)]
pub struct Outsiders(BTreeMap<(Ipv4Addr, OutsideAct), Outsider>);

impl Outsiders {
    /// Notes one; true if they were not known. The one that was not seen for longest makes room.
    pub fn note(&mut self, now: Moment, address: Ipv4Addr, act: OutsideAct) -> bool {
        if let Some(known) = self.0.get_mut(&(address, act)) {
            known.last = now;
            known.times = known.times.saturating_add(1);
            return false;
        }
        if self.0.len() >= OUTSIDERS {
            let oldest = self.0.iter().min_by_key(|(_, one)| one.last).map(|(key, _)| *key);
            oldest.map(|key| self.0.remove(&key));
        }
        let one = Outsider { address, act, first: now, last: now, times: 1 };
        self.0.insert((address, act), one);
        true
    }

    /// All of them, those seen last first.
    pub fn latest(&self) -> Vec<Outsider> {
        let mut all: Vec<Outsider> = self.0.values().copied().collect();
        all.sort_by_key(|one| std::cmp::Reverse(one.last));
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_asks_from_elsewhere_is_put_together_and_bounded() {
        let mut outsiders = Outsiders::default();
        let address = |n: u32| Ipv4Addr::from(0xc0a8_0000 + n);
        for n in 0..1000 {
            assert!(outsiders.note(Moment::from_secs(n.into()), address(n), OutsideAct::Searched));
        }
        let now = Moment::from_secs(2000);
        assert!(!outsiders.note(now, address(990), OutsideAct::Searched));
        let all = outsiders.latest();
        assert_eq!((all.len(), all[0].address, all[0].times), (OUTSIDERS, address(990), 2));
        let text = "192.168.3.222 searched; it is not in a network that this house serves";
        assert_eq!(all[0].to_string(), text);
    }
}
