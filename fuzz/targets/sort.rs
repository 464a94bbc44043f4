//! SortCriteria and filters.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_protocol::model::object_filter::Filter;
use mostra_protocol::model::sort;

fuzz_target!(|text: &str| {
    let _ = sort::parse(text);
    assert!(sort::parse_known(text).len() <= 16);
    let _ = Filter::parse(text).wants("res@size");
});
