//! What needs a person's attention.

use std::net::Ipv4Addr;
use std::sync::PoisonError;
use std::time::Duration;

use super::{House, Topic};

/// How long another server with our name or UDN is told without being heard again.
const TWIN: Duration = Duration::from_secs(1800);

impl House {
    /// Another server on the network is taken for this one; `what` says by what.
    pub fn note_twin(&self, address: Ipv4Addr, what: &'static str) {
        let mut twins = self.twins.lock().unwrap_or_else(PoisonError::into_inner);
        // Bounded, whatever is sent (SEC-12).
        let known = twins.contains_key(&(address, what));
        if known || twins.len() < 16 {
            twins.insert((address, what), self.clock.now());
        }
        drop(twins);
        if !known {
            tracing::warn!("another server, at {address}, has this one's {what}");
            self.tell(Topic::House);
        }
    }

    /// What needs a person's attention.
    pub fn attention(&self) -> Vec<String> {
        let mut list = Vec::new();
        if !self.records_answer() {
            list.push("PostgreSQL does not answer. Watching goes on; changes cannot be saved until it is back.".into());
        }
        let dropped = self.sightings.dropped();
        if dropped > 0 {
            list.push(format!(
                "{dropped} sightings were dropped under load; proof may be incomplete."
            ));
        }
        let mut twins = self.twins.lock().unwrap_or_else(PoisonError::into_inner);
        // As long as an announcement counts: whoever is still there is heard again.
        let now = self.clock.now();
        twins.retain(|_, heard| now.saturating_sub(*heard) < TWIN);
        list.extend(twins.keys().map(|(address, what)| match *what {
            "UDN" => format!("Another server, at {address}, announces itself under this one's UDN: devices take the two for one. Was this data directory copied? `mostra house renew` makes this one a new server."),
            _ => format!("Another server, at {address}, has the same name. Give this one another, so that people can tell them apart."),
        }));
        let problems = self.discovery_problems.lock().unwrap_or_else(PoisonError::into_inner);
        list.extend(
            problems
                .iter()
                .map(|(name, why)| format!("Devices cannot find the house on {name}: {why}")),
        );
        list
    }
}
