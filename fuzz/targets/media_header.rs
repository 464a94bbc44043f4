//! Headers and indexes of media files.
#![no_main]

use std::fs::File;
use std::io::{Seek as _, Write as _};

use libfuzzer_sys::fuzz_target;
use mostra_fuzz::bounded;
use mostra_media::extension::Extension;
use mostra_media::probe::probe_opened;
use mostra_media::walk::Stat;

fuzz_target!(init: {
    // What ffprobe reads is not ours to fuzz: it is not found.
    // SAFETY: no other thread is there yet.
    unsafe { std::env::set_var("PATH", "") };
}, |bytes: &[u8]| {
    let place = std::env::temp_dir().join(format!("mostra-fuzz-{}", std::process::id()));
    let open = || {
        let mut options = File::options();
        let mut file = options.read(true).write(true).create(true).truncate(true).open(&place)?;
        file.write_all(bytes)?;
        file.rewind()?;
        std::io::Result::Ok(file)
    };
    let file = open().expect("a file to read");
    let stat = Stat { size: bytes.len() as u64, modified_ms: 0 };
    bounded(bytes.len(), || {
        let _ = probe_opened(file, Extension::of("fuzzed.mp3"), stat);
    });
});
