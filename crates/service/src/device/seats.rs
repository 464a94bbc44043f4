//! Connections of devices, in bounded number (HTTP-32, SEC-12).

use std::collections::HashMap;
use std::net::Ipv4Addr;
use std::sync::{Arc, Mutex, PoisonError};

/// How many connections there may be, and how many each source has.
#[derive(Debug)]
pub struct Seats {
    most: usize,
    taken: Mutex<HashMap<Ipv4Addr, usize>>,
}

impl Seats {
    /// Room for so many in all, and for half of them from one source: no device alone keeps the
    /// others out.
    pub fn new(most: usize) -> Seats {
        Seats { most, taken: Mutex::default() }
    }

    /// A seat for a connection from an address, if there is one left for it.
    pub fn take(self: &Arc<Self>, source: Ipv4Addr) -> Option<Seat> {
        let mut taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
        let all: usize = taken.values().sum();
        let its = taken.get(&source).copied().unwrap_or(0);
        if all >= self.most || its >= self.most / 2 {
            return None;
        }
        taken.insert(source, its + 1);
        Some(Seat { seats: self.clone(), source })
    }
}

/// A connection's seat, free again when this is dropped.
#[derive(Debug)]
pub struct Seat {
    seats: Arc<Seats>,
    source: Ipv4Addr,
}

impl Drop for Seat {
    fn drop(&mut self) {
        let mut taken = self.seats.taken.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(its) = taken.get_mut(&self.source) {
            *its -= 1;
            if *its == 0 {
                taken.remove(&self.source);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn seats_are_bounded_in_all_and_for_each_source() {
        let seats = Arc::new(Seats::new(4));
        let (a, b, c) = ([192, 0, 2, 1].into(), [192, 0, 2, 2].into(), [192, 0, 2, 3].into());
        let first = [seats.take(a), seats.take(a)];
        assert!(first.iter().all(Option::is_some) && seats.take(a).is_none(), "half for one");
        let second = [seats.take(b), seats.take(b)];
        assert!(second.iter().all(Option::is_some) && seats.take(c).is_none(), "all taken");
        drop(first);
        assert!(seats.take(c).is_some() && seats.taken.lock().unwrap().len() == 1);
    }
}
