//! Requests to the content directory.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_fuzz::bounded;
use mostra_protocol::control_point::read_answer;
use mostra_protocol::server::content_directory::{Browse, Leniency, Search};
use mostra_protocol::server::read_call;

fuzz_target!(|text: &str| {
    let _ = bounded(text.len(), || read_answer(text));
    let Ok(call) = bounded(text.len(), || read_call(text)) else { return };
    let _ = Browse::read(&call, Leniency::Standard);
    let _ = Browse::read(&call, Leniency::PassOverSort);
    let _ = Search::read(&call, Leniency::Standard);
});
