//! Hardware addresses of neighbours, as the kernel knows them and tells over netlink.
//!
//! The kernel tells of a change before anything of the neighbour reaches a socket of ours. So what
//! it told is read when somebody asks, and the answer is always as new as the connection or
//! datagram that it is asked for; there is no task that could lag behind.

use std::collections::BTreeMap;
use std::io;
use std::net::Ipv4Addr;
use std::ops::ControlFlow;
use std::sync::{Mutex, PoisonError};

use netlink_packet_core::{NLM_F_DUMP, NLM_F_REQUEST, NetlinkMessage, NetlinkPayload};
use netlink_packet_route::neighbour::{
    NeighbourAddress, NeighbourAttribute, NeighbourMessage, NeighbourState,
};
use netlink_packet_route::{AddressFamily, RouteNetlinkMessage};
use netlink_sys::protocols::NETLINK_ROUTE;
use netlink_sys::{Socket, SocketAddr};

/// The kernel's group for changes of neighbours (`RTNLGRP_NEIGH`), as a bit.
const NEIGHBOUR_GROUP: u32 = 1 << 2;
/// Bytes read at a time; the kernel puts at most this much into one answer.
const BUFFER: usize = 32 << 10;

/// What the kernel knows of the neighbours on all interfaces.
#[derive(Debug)]
pub struct Neighbours(Mutex<Table>);

#[derive(Debug)]
struct Table {
    socket: Socket,
    known: NeighbourTable,
}

/// Hardware addresses by address and interface.
#[derive(Debug, Default)]
struct NeighbourTable(BTreeMap<(Ipv4Addr, u32), [u8; 6]>);

impl Neighbours {
    /// Listens to the kernel from now on.
    ///
    /// # Errors
    /// Those of the system.
    pub fn listen() -> io::Result<Neighbours> {
        let mut socket = Socket::new(NETLINK_ROUTE)?;
        socket.bind(&SocketAddr::new(0, NEIGHBOUR_GROUP))?;
        socket.set_non_blocking(true)?;
        let mut table = Table { socket, known: NeighbourTable::default() };
        table.ask_for_all()?;
        Ok(Neighbours(Mutex::new(table)))
    }

    /// The hardware address at an address on the local network. Loopback and routed addresses
    /// have none.
    pub fn hardware(&self, address: Ipv4Addr) -> Option<[u8; 6]> {
        if address.is_loopback() {
            return None;
        }
        let mut table = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        table.catch_up();
        table.known.hardware(address)
    }
}

impl Table {
    fn ask_for_all(&mut self) -> io::Result<()> {
        self.known = NeighbourTable::default();
        let mut question = NeighbourMessage::default();
        question.header.family = AddressFamily::Inet;
        let mut message = NetlinkMessage::from(RouteNetlinkMessage::GetNeighbour(question));
        message.header.flags = NLM_F_DUMP | NLM_F_REQUEST;
        message.finalize();
        let mut bytes = vec![0; message.header.length as usize];
        message.serialize(&mut bytes);
        self.socket.send_to(&bytes, &SocketAddr::new(0, 0), 0).map(|_| ())
    }

    /// Reads all that the kernel told.
    fn catch_up(&mut self) {
        let mut buffer = vec![0; BUFFER];
        // Once more for what the kernel dropped as nobody had read for long.
        let mut lost = 0;
        loop {
            match self.socket.recv(&mut &mut buffer[..], 0) {
                Ok(length) => self.known.note_all(&buffer[..length.min(BUFFER)]),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) if error.raw_os_error() == Some(libc::ENOBUFS) && lost < 3 => {
                    lost += 1;
                    if self.ask_for_all().is_err() {
                        return;
                    }
                }
                // Nothing more, or nothing that could be had.
                Err(_) => return,
            }
        }
    }
}

impl NeighbourTable {
    fn hardware(&self, address: Ipv4Addr) -> Option<[u8; 6]> {
        let mut all = self.0.range((address, 0)..=(address, u32::MAX));
        all.next().map(|(_, hardware)| *hardware)
    }

    /// Notes messages that lie one behind the other.
    fn note_all(&mut self, mut bytes: &[u8]) {
        while let ControlFlow::Continue(length) = self.note_first(bytes) {
            bytes = bytes.get(length..).unwrap_or_default();
        }
    }

    /// Notes the first message; gives how long it is, unless there is none.
    fn note_first(&mut self, bytes: &[u8]) -> ControlFlow<(), usize> {
        let Ok(message) = NetlinkMessage::<RouteNetlinkMessage>::deserialize(bytes) else {
            return ControlFlow::Break(());
        };
        let length = message.header.length as usize;
        match message.payload {
            NetlinkPayload::InnerMessage(RouteNetlinkMessage::NewNeighbour(neighbour)) => {
                self.note(&neighbour, true);
            }
            NetlinkPayload::InnerMessage(RouteNetlinkMessage::DelNeighbour(neighbour)) => {
                self.note(&neighbour, false);
            }
            _ => {}
        }
        // Messages begin at multiples of four bytes.
        if length == 0 {
            ControlFlow::Break(())
        } else {
            ControlFlow::Continue(length.next_multiple_of(4))
        }
    }

    fn note(&mut self, neighbour: &NeighbourMessage, is_there: bool) {
        let mut address = None;
        let mut hardware = None;
        for attribute in &neighbour.attributes {
            match attribute {
                NeighbourAttribute::Destination(NeighbourAddress::Inet(inet)) => {
                    address = Some(*inet);
                }
                NeighbourAttribute::LinkLayerAddress(bytes) => {
                    hardware = <[u8; 6]>::try_from(&bytes[..]).ok();
                }
                _ => {}
            }
        }
        let Some(address) = address else { return };
        let key = (address, neighbour.header.ifindex);
        let counts = is_there
            && matches!(
                neighbour.header.state,
                NeighbourState::Reachable
                    | NeighbourState::Stale
                    | NeighbourState::Delay
                    | NeighbourState::Probe
                    | NeighbourState::Permanent
            );
        match hardware.filter(|bytes| counts && *bytes != [0; 6]) {
            Some(hardware) => self.0.insert(key, hardware),
            None => self.0.remove(&key),
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ADDRESS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 7);

    fn message(
        make: impl Fn(NeighbourMessage) -> RouteNetlinkMessage,
        interface: u32,
        state: NeighbourState,
        hardware: &[u8],
    ) -> Vec<u8> {
        let mut neighbour = NeighbourMessage::default();
        neighbour.header.family = AddressFamily::Inet;
        neighbour.header.ifindex = interface;
        neighbour.header.state = state;
        neighbour.attributes = vec![
            NeighbourAttribute::Destination(NeighbourAddress::Inet(ADDRESS)),
            NeighbourAttribute::LinkLayerAddress(hardware.to_vec()),
        ];
        let mut message = NetlinkMessage::from(make(neighbour));
        message.finalize();
        let mut bytes = vec![0; message.header.length as usize];
        message.serialize(&mut bytes);
        bytes
    }

    #[test]
    fn what_the_kernel_tells_is_known_until_it_tells_otherwise() {
        use RouteNetlinkMessage::{DelNeighbour, NewNeighbour};
        let mut known = NeighbourTable::default();
        let first = message(NewNeighbour, 2, NeighbourState::Reachable, &[2, 0, 0, 0, 0, 1]);
        known.note_all(&first);
        assert_eq!(known.hardware(ADDRESS), Some([2, 0, 0, 0, 0, 1]));
        // Several in one answer, the last of which counts; another interface is another neighbour.
        let mut several = message(NewNeighbour, 2, NeighbourState::Stale, &[2, 0, 0, 0, 0, 2]);
        several.extend(message(NewNeighbour, 3, NeighbourState::Reachable, &[2, 0, 0, 0, 0, 3]));
        known.note_all(&several);
        assert_eq!(known.hardware(ADDRESS), Some([2, 0, 0, 0, 0, 2]));
        known.note_all(&message(NewNeighbour, 2, NeighbourState::Failed, &[]));
        assert_eq!(known.hardware(ADDRESS), Some([2, 0, 0, 0, 0, 3]));
        known.note_all(&message(DelNeighbour, 3, NeighbourState::Reachable, &[2, 0, 0, 0, 0, 3]));
        assert_eq!(known.hardware(ADDRESS), None);
        assert_eq!(known.hardware(Ipv4Addr::new(192, 0, 2, 8)), None);
    }

    #[test]
    fn what_is_no_message_is_passed_over() {
        let mut known = NeighbourTable::default();
        known.note_all(&[]);
        known.note_all(&[0; 64]);
        known.note_all(&[0xff; 64]);
        let loopback =
            message(RouteNetlinkMessage::NewNeighbour, 1, NeighbourState::Noarp, &[0; 6]);
        known.note_all(&loopback);
        known.note_all(&loopback[..loopback.len() - 3]);
        assert!(known.0.is_empty());
    }

    #[test]
    fn the_kernel_answers() {
        let neighbours = Neighbours::listen().unwrap();
        assert_eq!(neighbours.hardware(Ipv4Addr::LOCALHOST), None);
        assert_eq!(neighbours.hardware(Ipv4Addr::new(203, 0, 113, 99)), None);
    }
}
