//! The sockets of one interface for discovery.

use std::io;
use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4};
use std::sync::Arc;
use std::time::Duration;

use mostra_protocol::model::identifiers::{SSDP_GROUP, SSDP_PORT};
use mostra_protocol::server::Link;
use socket2::{Domain, Protocol, SockRef, Socket, Type};
use tokio::net::UdpSocket;
use tokio::sync::mpsc;
use tokio::task::AbortHandle;

use crate::ServedInterface;

/// A datagram that came.
#[derive(Debug)]
pub struct Received {
    /// The index of the interface.
    pub interface: u32,
    /// Who sent it, as it says.
    pub from: SocketAddrV4,
    /// By which of the interface's sockets it came.
    pub via: Via,
    /// What it holds.
    pub data: Vec<u8>,
}

/// A socket of an interface.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Via {
    /// The one that joined the group.
    Group,
    /// The one at our address.
    Own,
    /// The one by which we search, and to which answers come (SCP-3).
    Search,
}

/// Ports on which unicast searches may be taken instead (SSDP-6).
const SEARCH_PORTS: std::ops::RangeInclusive<u16> = 49_152..=65_535;

#[derive(Debug)]
struct Sockets {
    /// For what comes by the group; none where the port belongs to somebody else: then the house
    /// only announces (SSDP-6).
    group: Option<UdpSocket>,
    /// For what comes to our address, and for all that is sent but searches.
    own: UdpSocket,
    /// For our searches and their answers.
    search: UdpSocket,
}

impl Sockets {
    fn by(&self, via: Via) -> Option<&UdpSocket> {
        match via {
            Via::Group => self.group.as_ref(),
            Via::Own => Some(&self.own),
            Via::Search => Some(&self.search),
        }
    }
}

/// An interface on which datagrams are received and sent, until this is dropped.
#[derive(Debug)]
pub struct SsdpSocket {
    /// The interface.
    pub interface: ServedInterface,
    sockets: Arc<Sockets>,
    /// The port of our own socket, where it is not the usual one.
    search_port: Option<u16>,
    /// Why nothing is received by the group.
    group_error: Option<io::Error>,
    /// The port by which we search.
    searches_from: u16,
    tasks: [AbortHandle; 3],
}

impl SsdpSocket {
    /// Opens the sockets of an interface and receives on all. What comes while `received` is full
    /// is dropped, before it costs anything.
    ///
    /// # Errors
    /// Those of the system, where nothing can be sent either.
    pub fn open(
        interface: &ServedInterface,
        ttl: u32,
        received: &mpsc::Sender<Received>,
    ) -> io::Result<SsdpSocket> {
        let (own, search_port) = own(interface.address, ttl)?;
        let (group, group_error) = match group(interface.index) {
            Ok(group) => (Some(group), None),
            Err(error) => (None, Some(error)),
        };
        let search = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
        search.set_nonblocking(true)?;
        search.bind(&SocketAddrV4::new(interface.address, 0).into())?;
        send_by(&search, interface.address, ttl)?;
        let search = UdpSocket::from_std(search.into())?;
        let searches_from = search.local_addr()?.port();
        let sockets = Arc::new(Sockets { group, own, search });
        let tasks = [Via::Group, Via::Own, Via::Search].map(|via| {
            let receiving = receive(sockets.clone(), interface.clone(), via, received.clone());
            tokio::spawn(receiving).abort_handle()
        });
        let interface = interface.clone();
        Ok(SsdpSocket { interface, sockets, search_port, group_error, searches_from, tasks })
    }

    /// Whether a datagram is one of our own searches, which come back to us by the group.
    pub fn is_own_search(&self, from: SocketAddrV4) -> bool {
        *from.ip() == self.interface.address && from.port() == self.searches_from
    }

    /// Sends a search; its answers come [by the same socket](Via::Search).
    ///
    /// # Errors
    /// Those of the system.
    pub fn search(&self, data: &[u8], to: SocketAddrV4) -> io::Result<()> {
        send_now(&self.sockets.search, data, to)
    }

    /// Why nothing is received by the group, where that is so.
    pub fn group_error(&self) -> Option<&io::Error> {
        self.group_error.as_ref()
    }

    /// The link for the announcer, with the device listener's port.
    pub fn link(&self, port: u16) -> Link {
        Link { search_port: self.search_port, ..self.interface.link(port) }
    }

    /// Sends a datagram, or drops it: an interface that takes nothing holds up no other. The system
    /// keeps answers to addresses that nobody has for seconds, until no more can be sent by the
    /// same socket; what is for the group goes by the other one then.
    ///
    /// # Errors
    /// Those of the system.
    pub fn send(&self, data: &[u8], to: SocketAddrV4) -> io::Result<()> {
        match send_now(&self.sockets.own, data, to) {
            Err(full) if full.kind() == io::ErrorKind::WouldBlock && to.ip().is_multicast() => {
                send_now(&self.sockets.search, data, to)
            }
            sent => sent,
        }
    }
}

/// Sends a datagram unless that would have to wait.
fn send_now(socket: &UdpSocket, data: &[u8], to: SocketAddrV4) -> io::Result<()> {
    SockRef::from(socket).send_to(data, &to.into()).map(|_| ())
}

impl Drop for SsdpSocket {
    fn drop(&mut self) {
        self.tasks.iter().for_each(AbortHandle::abort);
    }
}

async fn receive(
    sockets: Arc<Sockets>,
    interface: ServedInterface,
    via: Via,
    received: mpsc::Sender<Received>,
) {
    let Some(socket) = sockets.by(via) else { return };
    let mut buffer = vec![0; 65_536];
    loop {
        match socket.recv_from(&mut buffer).await {
            Ok((length, SocketAddr::V4(from))) => {
                let data = buffer[..length].to_vec();
                let datagram = Received { interface: interface.index, from, via, data };
                let _ = received.try_send(datagram);
                if received.is_closed() {
                    return;
                }
            }
            Ok(_) => {}
            Err(error) => {
                tracing::debug!("receiving on {}: {error}", interface.name);
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
        }
    }
}

fn bound(address: Ipv4Addr) -> io::Result<Socket> {
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_reuse_address(true)?;
    socket.set_nonblocking(true)?;
    socket.bind(&SocketAddrV4::new(address, SSDP_PORT).into())?;
    Ok(socket)
}

/// A socket bound to the group and joined by index, with deliveries to other joins switched off:
/// what arrives here came by this interface (SSDP-3).
fn group(index: u32) -> io::Result<UdpSocket> {
    let group = bound(SSDP_GROUP)?;
    group.set_multicast_all_v4(false)?;
    let index = socket2::InterfaceIndexOrAddress::Index(index);
    group.join_multicast_v4_n(&SSDP_GROUP, &index)?;
    UdpSocket::from_std(group.into())
}

/// A socket at our address, with its port if that is not the usual one.
fn own(address: Ipv4Addr, ttl: u32) -> io::Result<(UdpSocket, Option<u16>)> {
    let (own, search_port) = match bound(address) {
        Ok(own) => (own, None),
        // Another stack holds the port for itself: advertise all the same (SSDP-6).
        Err(_) => {
            let own = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
            own.set_nonblocking(true)?;
            let free = |port: &u16| own.bind(&SocketAddrV4::new(address, *port).into()).is_ok();
            let port = SEARCH_PORTS.into_iter().find(free);
            (own, Some(port.ok_or(io::ErrorKind::AddrInUse)?))
        }
    };
    send_by(&own, address, ttl)?;
    Ok((UdpSocket::from_std(own.into())?, search_port))
}

/// Has multicast leave by the interface of an address; on loopback it stays there.
fn send_by(socket: &Socket, address: Ipv4Addr, ttl: u32) -> io::Result<()> {
    socket.set_multicast_if_v4(&address)?;
    socket.set_multicast_loop_v4(true)?;
    socket.set_multicast_ttl_v4(if address.is_loopback() { 0 } else { ttl })
}
