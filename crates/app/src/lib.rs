//! What the house does, without HTTP: its owners of state and what can be asked of them.
//!
//! Each owner keeps its part of the state private and is handed out by itself, so that whoever
//! uses one cannot reach the others:
//!
//! - [`Library`](library::Library): published folders, their scans, the catalogue, opening files;
//! - [`Devices`](devices::Devices): who is known, decisions, sightings and proof;
//! - [`Streams`](streams::Streams): what is on its way to devices;
//! - [`Network`](network::Network): who the house says it is, discovery, events to subscribers;
//! - [`Accounts`](accounts::Accounts): people and their sessions.
//!
//! `Library` uses `Devices`, which uses `Streams` and the [`Subscriptions`](network::Subscriptions);
//! `Network` and `Accounts` use none of them.

pub mod accounts;
pub mod attention;
pub mod clock;
pub mod compute_pool;
mod context;
pub mod devices;
pub mod foreign_text;
pub mod handover;
pub mod host_load;
pub mod kept_log;
pub mod library;
pub mod memory;
pub mod network;
mod not_saved;
pub mod preflight;
pub mod random;
pub mod saved_records;
pub mod settings;
pub mod streams;
pub mod walkthroughs;

pub use clock::Clock;
pub use context::{Context, Topic};
