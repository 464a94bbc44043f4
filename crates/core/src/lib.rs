//! The house's own rules: what is offered, who may see it, and what has been proven.
//!
//! Like `mostra-protocol`, this crate is pure: no sockets, no files, no clock, no database.
//! Time, bytes delivered and records come in as arguments; values come out.
//!
//! * [`catalogue`] holds every object in memory as a value. A snapshot is cheap to clone, a
//!   batch of [`Change`](catalogue::Change)s makes the next one.
//! * [`access`] decides. Everything that shows or opens an item takes a [`access::Pass`], and
//!   only a decision for a device or a signed-in account makes one.
//! * [`device`] says who is asking, and [`proof`] and [`playback`] turn what a device really
//!   did into the steps of its proof.
//! * [`present`] writes the catalogue in the form that a device reads.
#![forbid(unsafe_code)]

pub mod access;
pub mod account;
pub mod catalogue;
pub mod conversation;
pub mod date;
pub mod delivery;
pub mod device;
pub mod drives;
pub mod endings;
pub mod episode;
pub mod exposure;
pub mod facts;
pub mod format;
pub mod found;
pub mod glossary;
pub mod handover;
pub mod house_file;
pub mod icy_metadata;
pub mod ids;
pub mod kind;
pub mod left_out;
pub mod link_rule;
pub mod not_now;
pub mod off;
pub mod playback;
pub mod players;
pub mod preflight;
pub mod present;
pub mod preset;
pub mod profile;
pub mod proof;
pub mod resource;
pub mod rights;
pub mod samples;
pub mod saving;
pub mod sighting;
pub mod station;
pub mod stop;
pub mod streaming;
pub mod traits;
pub mod walkthrough;
pub mod webhook;

mod chunks;
mod collate;
mod locale;
pub mod pace;
mod packs;
mod shards;

pub use collate::natural_order;
pub use kind::{Kind, Kinds, KindsError};
pub use locale::Locale;
pub use mostra_protocol::Moment;
pub use mostra_protocol::model::text;
