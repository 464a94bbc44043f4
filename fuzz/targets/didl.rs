//! DIDL-Lite, as search results and metadata come.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_fuzz::bounded;
use mostra_protocol::model::didl;

fuzz_target!(|text: &str| {
    drop(bounded(text.len(), || didl::read(text)));
});
