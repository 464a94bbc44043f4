//! End-to-end tests, each in a network namespace of its own.
// A test that cannot go on has failed: that is what unwrap says.
#![allow(clippy::unwrap_used)]

mod accessible;
mod bridge;
mod choices;
mod configured;
mod console;
mod content;
mod counters;
mod crowded;
mod damage;
mod decode;
mod demo;
mod drives;
mod ended;
mod first_hour;
mod folders;
mod foreign;
mod forged;
mod hardware;
mod installed;
mod interface;
mod interfaces;
mod letter;
mod living;
mod mounts;
mod pictures;
mod postgres;
mod promises;
mod proof;
mod reached;
mod recovery;
mod resume;
mod saved;
mod sightings;
mod standing;
mod startup;
mod streaming;
mod streams;
mod traits;
mod walkthrough;
mod watching;
mod wire;
mod written;
