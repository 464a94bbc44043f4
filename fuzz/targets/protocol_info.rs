//! Lists of protocolInfo.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_fuzz::bounded;
use mostra_protocol::control_point::protocol_info;

fuzz_target!(|text: &str| {
    assert!(bounded(text.len(), || protocol_info::read_list(text)).len() <= 2000);
});
