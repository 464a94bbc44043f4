//! Which paths lie on one drive or network share.

use std::path::{Path, PathBuf};

/// Where file systems are mounted, as the kernel says; asking it touches none of them.
#[derive(Debug, Clone, Default)]
pub struct Mounts(Vec<PathBuf>);

impl Mounts {
    /// Reads the kernel's list.
    pub fn read() -> Mounts {
        Mounts::parse(&std::fs::read_to_string("/proc/self/mountinfo").unwrap_or_default())
    }

    fn parse(list: &str) -> Mounts {
        let points = list.lines().filter_map(|line| line.split(' ').nth(4));
        Mounts(points.map(|point| PathBuf::from(unescape(point))).collect())
    }

    /// The mount point that a path lies under, by its text alone.
    pub fn of(&self, path: &Path) -> PathBuf {
        let around = self.0.iter().filter(|point| path.starts_with(point));
        around.max_by_key(|point| point.components().count()).cloned().unwrap_or("/".into())
    }
}

/// Blanks and the like stand as a backslash and three octal digits.
fn unescape(text: &str) -> String {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((first, after)) = rest.split_first() {
        let octal = after.get(..3).and_then(|d| std::str::from_utf8(d).ok());
        match octal.and_then(|digits| u8::from_str_radix(digits, 8).ok()) {
            Some(byte) if *first == b'\\' => {
                bytes.push(byte);
                rest = &after[3..];
            }
            _ => {
                bytes.push(*first);
                rest = after;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_nearest_mount_around_a_path() {
        let mounts = Mounts::parse(
            "21 1 8:1 / / rw - ext4 /dev/a rw\n\
             30 21 8:2 / /media/My\\040drive rw - ext4 /dev/b rw\n\
             31 30 0:5 / /media/My\\040drive/share rw - nfs host:/x rw\n",
        );
        let of = |path: &str| mounts.of(Path::new(path));
        assert_eq!(of("/srv/films"), Path::new("/"));
        assert_eq!(of("/media/My drive/a.mp3"), Path::new("/media/My drive"));
        assert_eq!(of("/media/My drive/share/b"), Path::new("/media/My drive/share"));
        assert_eq!(of("/media/My drives"), Path::new("/"));
        assert_eq!(Mounts::default().of(Path::new("/x")), Path::new("/"));
    }
}
