//! What needs a person's attention.

use crate::Context;
use crate::devices::Devices;
use crate::network::{Network, Sameness};

/// What needs a person's attention, in sentences.
pub fn attention(context: &Context, network: &Network, devices: &Devices) -> Vec<String> {
    let mut list = Vec::new();
    if !context.records_answer() {
        list.push("PostgreSQL does not answer. Watching goes on; changes cannot be saved until it is back.".into());
    }
    let dropped = devices.dropped();
    if dropped > 0 {
        list.push(format!("{dropped} sightings were dropped under load; proof may be incomplete."));
    }
    list.extend(network.duplicate_servers().iter().map(|(address, same)| match same {
        Sameness::Udn => format!("Another server, at {address}, announces itself under this one's UDN: devices take the two for one. Was this data directory copied? `mostra house renew` makes this one a new server."),
        Sameness::Name => format!("Another server, at {address}, has the same name. Give this one another, so that people can tell them apart."),
    }));
    let problems = network.problems();
    list.extend(
        problems
            .iter()
            .map(|(name, why)| format!("Devices cannot find the house on {name}: {why}")),
    );
    list
}
