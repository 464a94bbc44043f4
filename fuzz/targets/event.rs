//! Events and what subscribers ask.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_protocol::gena;

fuzz_target!(|text: &str| {
    drop(gena::read_properties(text));
    let _ = gena::Asked::read(Some(text), Some(text), Some(text));
    let _ = gena::read_timeout(Some(text));
});
