//! Playlists; the first byte chooses the form.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mostra_media::playlist;

fuzz_target!(|bytes: &[u8]| {
    let Some((first, rest)) = bytes.split_first() else { return };
    let form = ["m3u", "m3u8", "pls", "xspf"][usize::from(first % 4)];
    for bytes in [bytes, rest] {
        if let Ok(entries) = playlist::read(bytes, form) {
            assert!(entries.len() <= 20_000);
        }
    }
});
