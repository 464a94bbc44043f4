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
//! There are two roles, each with a facade of its own, and what both share:
//!
//! - [`server`]: announces a media server, answers searches and calls, publishes events;
//! - [`control_point`]: finds devices, reads what they are, calls them, subscribes at them;
//! - [`model`]: names, documents and values that both write and read.
//!
//! The machines are [`server::Announcer`] and [`server::Publisher`] on one side,
//! [`control_point::Finder`] and [`control_point::Subscriber`] on the other. Everything else is a
//! pure function from text to value or back.
//!
//! Requirement ids in the documentation (`SSDP-16`, `CDS-30`) are those of
//! `docs/requirements.md`; `docs/conformance.csv` names the test for each.
#![forbid(unsafe_code)]

pub mod control_point;
mod messages;
pub mod model;
pub mod server;
mod stamp;

pub use stamp::{Moment, http_date, read_http_date};
