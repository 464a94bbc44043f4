//! Which interfaces came, went or changed their address, from looks at the host one after the
//! other.

use crate::ServedInterface;

/// What is to be done about an interface.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum InterfaceChange {
    /// It came up: serve it.
    Up(ServedInterface),
    /// It went away.
    Down(ServedInterface),
    /// It has another address than the one served, which is the first of the two.
    Moved(ServedInterface, ServedInterface),
}

/// Compares looks at the host's interfaces with what is served.
#[derive(Debug, Default)]
pub struct InterfaceMonitor {
    seen: Vec<ServedInterface>,
}

impl InterfaceMonitor {
    /// Takes a look. What differs from what is served counts once two looks in a row agree
    /// (SSDP-28): an interface that comes up takes a moment to settle. What could not be done is
    /// named again at the next look.
    pub fn look(
        &mut self,
        now: Vec<ServedInterface>,
        served: &[ServedInterface],
    ) -> Vec<InterfaceChange> {
        let settled = now == self.seen;
        self.seen = now;
        if !settled {
            return Vec::new();
        }
        let same = |a: &&ServedInterface, b: &ServedInterface| a.index == b.index;
        let gone = served.iter().filter(|s| !self.seen.iter().any(|n| same(s, n)));
        let mut changes: Vec<InterfaceChange> = gone.cloned().map(InterfaceChange::Down).collect();
        for interface in &self.seen {
            match served.iter().find(|s| same(s, interface)) {
                None => changes.push(InterfaceChange::Up(interface.clone())),
                Some(before) if before == interface => {}
                Some(before) => {
                    changes.push(InterfaceChange::Moved(before.clone(), interface.clone()));
                }
            }
        }
        changes
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn interface(index: u32, last: u8) -> ServedInterface {
        let address = [192, 0, 2, last].into();
        ServedInterface { name: format!("lan{index}"), index, address, prefix: 24 }
    }

    #[test]
    fn what_two_looks_agree_on_counts() {
        let mut monitor = InterfaceMonitor::default();
        let served = vec![interface(1, 1)];
        assert_eq!(monitor.look(served.clone(), &served), []);
        assert_eq!(monitor.look(served.clone(), &served), [], "as it is served");
        let two = vec![interface(1, 1), interface(2, 2)];
        assert_eq!(monitor.look(two.clone(), &served), [], "not yet");
        let up = InterfaceChange::Up(interface(2, 2));
        for _ in 0..2 {
            // As long as it is not done.
            assert_eq!(monitor.look(two.clone(), &served), std::slice::from_ref(&up));
        }
        assert_eq!(monitor.look(two.clone(), &two), []);
        // One that comes and goes at once is nothing.
        assert_eq!(monitor.look(served.clone(), &two), []);
        assert_eq!(monitor.look(two.clone(), &two), []);
        assert_eq!(monitor.look(two.clone(), &two), []);
    }

    #[test]
    fn what_goes_is_named_before_what_comes_and_another_address_is_a_move() {
        let mut monitor = InterfaceMonitor::default();
        let served = vec![interface(1, 1), interface(2, 2)];
        let now = vec![interface(2, 9), interface(3, 3)];
        monitor.look(now.clone(), &served);
        let changes = monitor.look(now, &served);
        let expected = [
            InterfaceChange::Down(interface(1, 1)),
            InterfaceChange::Moved(interface(2, 2), interface(2, 9)),
            InterfaceChange::Up(interface(3, 3)),
        ];
        assert_eq!(changes, expected);
    }
}
