//! Other media servers on the network: whether one has our name, so that people could take the
//! two for one.

use std::collections::HashMap;
use std::net::Ipv4Addr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use futures_util::StreamExt as _;
use mostra_core::station::Address;
use mostra_protocol::description;

use crate::house::House;

/// How long what was read of a server counts.
const FRESH: Duration = Duration::from_secs(600);
/// Servers remembered at most (SEC-12).
const SERVERS: usize = 64;
const CONNECT: Duration = Duration::from_secs(3);
const WHOLE: Duration = Duration::from_secs(10);
/// Bytes of a description (SEC-11).
const BYTES: usize = 512 << 10;

/// When each server was last looked at.
#[derive(Debug, Default)]
pub struct OtherServers(Mutex<HashMap<Ipv4Addr, Instant>>);

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
pub fn announced(house: &Arc<House>, source: Ipv4Addr, location: &str) {
    let Some(address) = Address::parse(location) else { return };
    if address.host != source.to_string() || !house.other_servers.is_due(source) {
        return;
    }
    let house = house.clone();
    tokio::spawn(async move {
        let read = tokio::time::timeout(WHOLE, name(&address)).await;
        if let Ok(Some(name)) = read
            && name == house.settings().name
        {
            house.note_twin(source, "name");
        }
    });
}

async fn name(address: &Address) -> Option<String> {
    let client = reqwest::Client::builder()
        .redirect(reqwest::redirect::Policy::none())
        .no_proxy()
        .connect_timeout(CONNECT)
        .user_agent(crate::house::server_field())
        .build()
        .ok()?;
    let answer = client.get(address.written()).send().await.ok()?;
    if !answer.status().is_success() {
        return None;
    }
    let mut bytes = Vec::new();
    let mut pieces = answer.bytes_stream();
    while let Some(piece) = pieces.next().await {
        bytes.extend_from_slice(&piece.ok()?);
        if bytes.len() > BYTES {
            return None;
        }
    }
    let read = description::read(&String::from_utf8_lossy(&bytes)).ok()?;
    Some(read.friendly_name.trim().to_owned())
}
