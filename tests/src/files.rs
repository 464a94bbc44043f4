//! Files that tests use.

use std::fs;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};

use crate::top;

/// A file of the demo media.
pub fn media(name: &str) -> PathBuf {
    top().join("demo/media").join(name)
}

/// Bytes of a sound that no test hears to its end.
pub const LONG: u64 = 600 << 20;

/// A sound of many megabytes that takes no room on disk.
pub fn long_sound(path: &Path) {
    let file = fs::File::create(path).expect("a file");
    file.set_len(LONG + 44).expect("a sparse file");
    let size = (LONG as u32).to_le_bytes();
    let mut head = b"RIFF".to_vec();
    head.extend((LONG as u32 + 36).to_le_bytes());
    head.extend(b"WAVEfmt \x10\0\0\0\x01\0\x02\0");
    head.extend(44_100_u32.to_le_bytes());
    head.extend((44_100_u32 * 4).to_le_bytes());
    head.extend(b"\x04\0\x10\0data");
    head.extend(size);
    file.write_all_at(&head, 0).expect("a header");
}

/// The library that gives a program another time (Debian's package faketime).
///
/// # Panics
/// When it is not installed.
pub fn faketime() -> PathBuf {
    let machines = fs::read_dir("/usr/lib").into_iter().flatten().flatten();
    let mut files = machines.map(|one| one.path().join("faketime/libfaketime.so.1"));
    files.find(|file| file.exists()).expect("faketime is installed")
}
