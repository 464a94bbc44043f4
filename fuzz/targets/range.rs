//! Range fields.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_protocol::server::range;

fuzz_target!(|text: &str| {
    for size in [0, 1, 1000, u64::MAX] {
        if let range::Selection::Part { first, last } = range::select(Some(text), size) {
            assert!(first <= last && last < size);
        }
    }
});
