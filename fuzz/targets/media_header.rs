//! Headers and indexes of media files.
#![no_main]

use std::fs::File;
use std::io::{Seek as _, Write as _};

use libfuzzer_sys::fuzz_target;
use mostra_media::extension::Extension;
use mostra_media::probe::probe_opened;
use mostra_media::walk::Stat;

fuzz_target!(|bytes: &[u8]| {
    // What ffprobe reads is not ours to fuzz.
    let foreign: [&[u8]; 3] = [b"\x30\x26\xb2\x75", b"\0\0\x01\xba", b"\0\0\x01\xb3"];
    let streams = bytes.first() == Some(&0x47) || bytes.get(4) == Some(&0x47);
    let film = bytes.starts_with(b"RIFF") && bytes.get(8..12) == Some(b"AVI ");
    if streams || film || foreign.iter().any(|magic| bytes.starts_with(magic)) {
        return;
    }
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
    let _ = probe_opened(file, Extension::of("fuzzed.mp3"), || place.clone(), stat);
});
