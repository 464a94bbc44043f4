//! What connects the house with the network: the interfaces of the host, sockets on each of them,
//! the neighbours that the kernel knows, and requests to other machines.
//!
//! Nothing here knows what a device may do or what the house holds. The service uses this crate,
//! and so do the stand-ins.

pub mod http;
mod interface_monitor;
mod interfaces;
mod listen;
mod neighbours;
mod player_search;
mod ssdp_socket;
mod tcp_probe;

pub use interface_monitor::{InterfaceChange, InterfaceMonitor};
pub use interfaces::{InterfaceError, Interfaces, ServedInterface};
pub use listen::{ListenError, drop_given, listen, take_given};
pub use neighbours::Neighbours;
pub use player_search::search_is_answered;
pub use ssdp_socket::{Received, SsdpSocket, Via};
pub use tcp_probe::{Reading, TcpProbe};
