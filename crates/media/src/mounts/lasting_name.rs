//! The name that a file system keeps wherever it is plugged in: its UUID.

use std::collections::HashMap;
use std::fs::File;
use std::os::fd::AsRawFd as _;
use std::path::{Path, PathBuf};

/// File systems by their devices' paths, as the system lists them.
pub(super) struct LastingNames(HashMap<PathBuf, String>);

impl LastingNames {
    pub(super) fn read() -> LastingNames {
        let links = std::fs::read_dir("/dev/disk/by-uuid").into_iter().flatten().flatten();
        let named = links.filter_map(|link| {
            let device = std::fs::canonicalize(link.path()).ok()?;
            Some((device, link.file_name().into_string().ok()?))
        });
        LastingNames(named.collect())
    }

    /// The name of the file system of a block device, mounted at `point`: as /dev tells it, else as
    /// the system's device manager noted it, else as the file system itself does. A packaged service
    /// has a /dev of its own without disks.
    pub(super) fn of(
        &self,
        source: &str,
        device: &str,
        kind: &str,
        point: &Path,
    ) -> Option<String> {
        if !source.starts_with("/dev/") {
            return None;
        }
        let listed = self.0.get(Path::new(source)).cloned();
        listed.or_else(|| noted(device)).or_else(|| own(kind, point))
    }
}

/// What udev noted of a device, by its numbers.
fn noted(device: &str) -> Option<String> {
    let is_numbers = |c: char| c.is_ascii_digit() || c == ':';
    if !device.chars().all(is_numbers) {
        return None;
    }
    noted_in(&std::fs::read_to_string(format!("/run/udev/data/b{device}")).ok()?)
}

fn noted_in(text: &str) -> Option<String> {
    let uuid = text.lines().find_map(|line| line.strip_prefix("E:ID_FS_UUID="))?.trim();
    (!uuid.is_empty()).then(|| uuid.to_owned())
}

/// A file system's UUID, as `FS_IOC_GETFSUUID` gives it (linux/fs.h).
#[repr(C)]
struct FsUuid {
    length: u8,
    bytes: [u8; 16],
}

nix::ioctl_read!(fs_ioc_getfsuuid, 0x15, 0, FsUuid);

/// What a file system says of itself. One in user space is not asked: it might not answer.
fn own(kind: &str, point: &Path) -> Option<String> {
    if kind.starts_with("fuse") {
        return None;
    }
    let top = File::open(point).ok()?;
    let mut uuid = FsUuid { length: 0, bytes: [0; 16] };
    // SAFETY: the descriptor is open, and the kernel writes a struct of this form and size.
    #[allow(unsafe_code)]
    unsafe { fs_ioc_getfsuuid(top.as_raw_fd(), &raw mut uuid) }.ok()?;
    written(uuid.bytes.get(..usize::from(uuid.length))?)
}

/// As tools write it: in five groups where it has sixteen bytes.
fn written(bytes: &[u8]) -> Option<String> {
    if bytes.iter().all(|byte| *byte == 0) {
        return None;
    }
    let mut text = String::new();
    for (at, byte) in bytes.iter().enumerate() {
        if bytes.len() == 16 && matches!(at, 4 | 6 | 8 | 10) {
            text.push('-');
        }
        text.push_str(&format!("{byte:02x}"));
    }
    Some(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_uuid_is_written_as_everywhere() {
        let bytes: Vec<u8> = (0..16).map(|n| n * 17).collect();
        assert_eq!(written(&bytes).as_deref(), Some("00112233-4455-6677-8899-aabbccddeeff"));
        assert_eq!(written(&[0x1a, 0x2b, 0, 1]).as_deref(), Some("1a2b0001"));
        assert_eq!((written(&[0; 16]), written(&[])), (None, None));
        let noted = "S:disk/by-uuid/x\nE:ID_FS_TYPE=ext4\nE:ID_FS_UUID=1A2B-3C4D\n";
        assert_eq!(noted_in(noted).as_deref(), Some("1A2B-3C4D"));
        assert_eq!(noted_in("E:ID_FS_UUID=\n"), None);
        assert_eq!(super::noted("../../etc"), None);
    }
}
