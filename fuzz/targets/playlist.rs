//! Playlists and subtitles; the first byte chooses the form.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_fuzz::bounded;
use mostra_media::{playlist, subtitle};

fuzz_target!(|bytes: &[u8]| {
    let Some((first, rest)) = bytes.split_first() else { return };
    let form = ["m3u", "m3u8", "pls", "xspf"][usize::from(first % 4)];
    let (is_webvtt, webvtt_wanted) = (first & 4 != 0, first & 8 != 0);
    bounded(rest.len(), || subtitle::as_form(rest, is_webvtt, webvtt_wanted));
    for bytes in [bytes, rest] {
        if let Ok(entries) = bounded(bytes.len(), || playlist::read(bytes, form)) {
            assert!(entries.len() <= 20_000);
        }
    }
});
