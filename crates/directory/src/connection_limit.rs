//! Connections of devices, in bounded number (HTTP-32, SEC-12).

use std::collections::HashMap;
use std::net::Ipv4Addr;
use std::sync::{Arc, Mutex, PoisonError};

/// Connections that everybody gets as long as there is one: players open three at once (HTTP-32).
const FEW: usize = 4;

/// How many connections there may be, and how many each source has.
#[derive(Debug)]
pub(crate) struct ConnectionLimit {
    most: usize,
    taken: Mutex<Permit>,
}

#[derive(Debug, Default)]
struct Permit {
    by_source: HashMap<Ipv4Addr, usize>,
    /// Those of sources that are not let in.
    outside: usize,
}

impl ConnectionLimit {
    /// Room for so many in all.
    pub(crate) fn new(most: usize) -> ConnectionLimit {
        ConnectionLimit { most, taken: Mutex::default() }
    }

    /// A slot for a connection from an address, if there is one left for it. Who has many gets
    /// another only while twice as many are free, so that no few of them keep the others out; and
    /// half of all are kept for those who are let in.
    pub(crate) fn take(self: &Arc<Self>, source: Ipv4Addr, admitted: bool) -> Option<Slot> {
        let mut taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
        let all: usize = taken.by_source.values().sum();
        let its = taken.by_source.get(&source).copied().unwrap_or(0);
        let outside = !admitted && taken.outside >= self.most / 2;
        if outside || all >= self.most || its >= FEW.max((self.most - all) / 2) {
            return None;
        }
        taken.by_source.insert(source, its + 1);
        taken.outside += usize::from(!admitted);
        Some(Slot { limit: self.clone(), source, admitted })
    }
}

/// A connection's slot, free again when this is dropped.
#[derive(Debug)]
pub(crate) struct Slot {
    limit: Arc<ConnectionLimit>,
    source: Ipv4Addr,
    admitted: bool,
}

impl Drop for Slot {
    fn drop(&mut self) {
        let mut taken = self.limit.taken.lock().unwrap_or_else(PoisonError::into_inner);
        taken.outside -= usize::from(!self.admitted);
        if let Some(its) = taken.by_source.get_mut(&self.source) {
            *its -= 1;
            if *its == 0 {
                taken.by_source.remove(&self.source);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_has_many_leaves_room_for_the_others() {
        let limit = Arc::new(ConnectionLimit::new(1024));
        let source = |n: u8| Ipv4Addr::new(192, 0, 2, n);
        let mut kept = Vec::new();
        // Three that take all they get.
        let greedy = [1, 2, 3].map(|n| {
            let before = kept.len();
            kept.extend(std::iter::from_fn(|| limit.take(source(n), true)));
            kept.len() - before
        });
        assert_eq!(greedy, [341, 228, 152]);
        // Fifty players with three each.
        let players = (10..60).flat_map(|n| [n; 3]).filter_map(|n| limit.take(source(n), true));
        let players: Vec<Slot> = players.collect();
        assert_eq!(players.len(), 150);
        drop(kept);
        drop(players);
        assert!(limit.taken.lock().unwrap().by_source.is_empty(), "all free again");
    }

    #[test]
    fn strangers_leave_half_to_those_who_are_let_in() {
        let limit = Arc::new(ConnectionLimit::new(100));
        let source = |n: u8| Ipv4Addr::new(192, 0, 2, n);
        let strangers: Vec<Slot> =
            (0..200).flat_map(|n| [n; 4]).filter_map(|n| limit.take(source(n), false)).collect();
        assert_eq!(strangers.len(), 50);
        let television: Vec<Slot> =
            std::iter::from_fn(|| limit.take(source(201), true)).take(20).collect();
        assert_eq!(television.len(), 17, "a third of what was free, as ever");
        drop(strangers);
        assert!(limit.take(source(202), false).is_some(), "free again");
    }

    #[test]
    fn there_are_no_more_than_there_are() {
        let limit = Arc::new(ConnectionLimit::new(16));
        let all: Vec<Slot> =
            (0..99).filter_map(|n| limit.take(Ipv4Addr::new(192, 0, 2, n), true)).collect();
        assert_eq!(all.len(), 16);
    }
}
