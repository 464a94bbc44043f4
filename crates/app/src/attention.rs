//! What needs a person's attention.

use mostra_core::access::Standing;

use crate::Context;
use crate::devices::Devices;
use crate::library::Library;
use crate::network::{Network, Sameness};

/// What needs a person's attention, in sentences.
pub fn attention(
    context: &Context,
    network: &Network,
    devices: &Devices,
    library: &Library,
) -> Vec<String> {
    let mut list = Vec::new();
    let waiting = devices.book().iter().filter(|d| d.standing == Standing::Waiting).count();
    match waiting {
        0 => {}
        1 => list.push("One device waits for your decision.".into()),
        more => list.push(format!("{more} devices wait for your decision.")),
    }
    for folder in library.catalogue().folders() {
        if library.scans.known(folder.serial).away.is_some() {
            let label = &folder.label;
            list.push(format!("{label} is away: its drive is not there or does not answer. What is in it is hidden."));
        }
    }
    if network.served().is_empty() && network.off().is_none() {
        list.push("No interface has an address of a home network, so devices cannot find the house. Connect the network; the house is served there by itself.".into());
    }
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
