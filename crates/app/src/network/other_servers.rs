//! Other media servers on the network: whether one has our name, so that people could take the
//! two for one.

use std::collections::HashMap;
use std::net::Ipv4Addr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use mostra_core::station::Address;
use mostra_net::http::{Bounds, Client, HttpOptions};
use mostra_protocol::control_point::read_description;

use super::{Network, Sameness, server_field};

/// How long what was read of a server counts.
const FRESH: Duration = Duration::from_secs(600);
/// Servers remembered at most (SEC-12).
const SERVERS: usize = 64;
const BOUNDS: Bounds =
    Bounds { connect: Duration::from_secs(3), whole: Some(Duration::from_secs(10)), silence: None };
/// Bytes of a description (SEC-11).
const BYTES: usize = 512 << 10;

/// When each server was last looked at.
#[derive(Debug, Default)]
pub(super) struct OtherServers(Mutex<HashMap<Ipv4Addr, Instant>>);

impl OtherServers {
    /// Whether a server is to be looked at now.
    fn is_due(&self, source: Ipv4Addr) -> bool {
        let mut seen = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        seen.retain(|_, at| at.elapsed() < FRESH);
        if seen.contains_key(&source) || seen.len() >= SERVERS {
            return false;
        }
        seen.insert(source, Instant::now());
        true
    }
}

/// A server announced itself: reads its name, at the address that the announcement came from
/// and nowhere else (SEC-9).
pub(super) fn announced(network: &Arc<Network>, source: Ipv4Addr, location: &str) {
    let Some(address) = Address::parse(location) else { return };
    if address.host() != source.to_string() || !network.other_servers.is_due(source) {
        return;
    }
    let network = network.clone();
    tokio::spawn(async move {
        if name(&address).await.is_some_and(|name| name == network.name()) {
            network.note_duplicate(source, Sameness::Name);
        }
    });
}

async fn name(address: &Address) -> Option<String> {
    let options = HttpOptions { user_agent: Some(server_field()), ..HttpOptions::default() };
    let client = Client::new(&BOUNDS, &options).ok()?;
    let bytes = client.document(&address.written(), BYTES).await.ok()?;
    let read = read_description(&String::from_utf8_lossy(&bytes)).ok()?;
    Some(read.root().friendly_name.trim().to_owned())
}
