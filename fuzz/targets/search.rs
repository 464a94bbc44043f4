//! SearchCriteria.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_fuzz::bounded;
use mostra_protocol::model::search;

fuzz_target!(|text: &str| {
    drop(bounded(text.len(), || search::parse(text)));
});
