//! Looking for media servers by multicast.

use anyhow::Context as _;
use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4};
use std::time::Duration;

use mostra_protocol::control_point::{Message, compose_search, parse_datagram};
use mostra_protocol::model::identifiers::{SSDP_GROUP, SSDP_PORT};
use socket2::{Domain, Protocol, Socket, Type};
use tokio::net::UdpSocket;

use crate::persona::Persona;

/// Searches from the persona's own address; gives the LOCATION that answers first of those that were
/// not `tried` yet. A television shows what answered and does not wait for the rest.
///
/// # Errors
/// A sentence that says what failed.
pub(crate) async fn find(persona: &Persona, tried: &[String]) -> anyhow::Result<Option<String>> {
    let search = persona.search.as_ref().context("it never searches")?;
    find_of(persona, &search.target, tried).await
}

/// The same for another target.
///
/// # Errors
/// A sentence that says what failed.
pub(crate) async fn find_of(
    persona: &Persona,
    wanted: &str,
    tried: &[String],
) -> anyhow::Result<Option<String>> {
    let search = persona.search.as_ref().context("it never searches")?;
    let socket =
        open(persona.address).with_context(|| format!("cannot search from {}", persona.address))?;
    let message = compose_search(wanted, search.mx, &persona.user_agent);
    let group = SocketAddr::V4(SocketAddrV4::new(SSDP_GROUP, SSDP_PORT));
    let mut buffer = [0; 2048];
    for _ in 0..search.times {
        socket.send_to(&message, group).await.context("cannot search")?;
        let end =
            tokio::time::Instant::now() + Duration::from_millis(u64::from(search.mx) * 1000 + 300);
        while let Ok(Ok((length, _))) =
            tokio::time::timeout_at(end, socket.recv_from(&mut buffer)).await
        {
            if let Some(Message::Answer { about, target }) = parse_datagram(&buffer[..length])
                && let Some(location) = about.location
                && target == wanted
                && !tried.contains(&location)
            {
                return Ok(Some(location));
            }
        }
    }
    Ok(None)
}

fn open(address: Ipv4Addr) -> std::io::Result<UdpSocket> {
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_nonblocking(true)?;
    socket.bind(&SocketAddrV4::new(address, 0).into())?;
    // On loopback the group is reached through 127.0.0.1, whatever address is ours.
    let leaving = if address.is_loopback() { Ipv4Addr::LOCALHOST } else { address };
    socket.set_multicast_if_v4(&leaving)?;
    socket.set_multicast_ttl_v4(if address.is_loopback() { 0 } else { 2 })?;
    UdpSocket::from_std(socket.into())
}
