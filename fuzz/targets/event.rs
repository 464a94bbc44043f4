//! Events and what subscribers ask.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_fuzz::bounded;
use mostra_protocol::control_point::{read_last_change, read_properties};
use mostra_protocol::server::{Asked, read_timeout};

fuzz_target!(|text: &str| {
    drop(bounded(text.len(), || read_properties(text)));
    drop(bounded(text.len(), || read_last_change(text)));
    let _ = Asked::read(Some(text), Some(text), Some(text));
    let _ = read_timeout(Some(text));
});
