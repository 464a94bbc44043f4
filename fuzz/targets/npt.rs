//! TimeSeekRange fields.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_protocol::model::npt;

fuzz_target!(|text: &str| {
    if let Some(npt::TimeRange { from, to: Some(to) }) = npt::read(text) {
        assert!(from <= to);
    }
});
