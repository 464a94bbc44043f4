//! Descriptions of other devices.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_protocol::description;

fuzz_target!(|text: &str| {
    drop(description::read(text));
});
