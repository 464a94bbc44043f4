//! What a UPnP/DLNA media server says and understands, and when.
//!
//! This crate reads and writes the wire formats (SSDP, description, SOAP control, DIDL-Lite,
//! GENA, HTTP ranges, the DLNA header fields) and holds the state machines behind them. It
//! opens no socket, reads no file and knows no clock:
//!
//! ```text
//!   datagram, request ──▶ handle(now, input) ┐
//!                                            ├─ state machine ─▶ poll_output(now) ─▶ bytes to send
//!   timer at next_deadline() ────────────────┘
//! ```
//!
//! The two types that matter are [`ssdp::Announcer`], which announces a server and answers
//! searches, and [`gena::Publisher`], which keeps subscriptions and decides when an event goes
//! out. Everything else is a pure function from text to value or back.
//!
//! Requirement ids in the documentation (`SSDP-16`, `CDS-30`) are those of the project's
//! protocol requirements; `docs/conformance.csv` names the test for each.
#![forbid(unsafe_code)]

pub mod charset;
pub mod conditions;
pub mod connection_manager;
pub mod content_directory;
pub mod description;
pub mod didl;
pub mod dlna;
pub mod gena;
pub mod identifiers;
pub mod npt;
pub mod object_filter;
pub mod property;
pub mod protocol_info;
pub mod range;
pub mod registrar;
pub mod search;
pub mod service_document;
pub mod soap;
pub mod sort;
pub mod ssdp;
mod stamp;
pub mod subnet;
pub mod text;
pub mod xml;
pub mod xml_writer;

pub use stamp::{Moment, http_date, read_http_date};
