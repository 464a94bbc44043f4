//! Descriptions of other devices.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_fuzz::bounded;
use mostra_protocol::control_point::{read_description, resolve};
use mostra_protocol::model::service;

fuzz_target!(|text: &str| {
    if let Ok(read) = bounded(text.len(), || read_description(text)) {
        let _ = read.with(&service::av_transport::DEFINITION);
        let base = read.url_base.as_deref();
        let _ = resolve("http://192.0.2.7/d.xml", base, &read.root().presentation);
    }
    drop(bounded(text.len(), || service::read(text)));
});
