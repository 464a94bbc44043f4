//! Requests to the content directory.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_protocol::content_directory::{Browse, Leniency, Search};
use mostra_protocol::soap;

fuzz_target!(|text: &str| {
    let Ok(call) = soap::read_call(text) else { return };
    let _ = Browse::read(&call, Leniency::Standard);
    let _ = Browse::read(&call, Leniency::PassOverSort);
    let _ = Search::read(&call, Leniency::Standard);
});
