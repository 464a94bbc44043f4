//! Which paths lie on one drive or network share, and what a drive is called the next time as well.

mod lasting_name;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use mostra_core::drives::Drives;

use self::lasting_name::LastingNames;

/// Where file systems are mounted, as the kernel says; asking it touches none of them.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Mounts(Vec<Mount>);

#[derive(Debug, Clone, PartialEq, Eq)]
struct Mount {
    point: PathBuf,
    /// Which part of the file system is seen there.
    part: String,
    kind: String,
    source: String,
    /// The device's numbers: `8:1`.
    device: String,
}

impl Mounts {
    /// Reads the kernel's list.
    pub fn read() -> Mounts {
        Mounts::parse(&std::fs::read_to_string("/proc/self/mountinfo").unwrap_or_default())
    }

    fn parse(list: &str) -> Mounts {
        let mounts = list.lines().filter_map(|line| {
            // Optional fields end with a dash (proc_pid_mountinfo(5)).
            let (fields, rest) = line.split_once(" - ")?;
            let mut fields = fields.split(' ').skip(2);
            let device = fields.next()?.to_owned();
            let (part, point) = (unescape(fields.next()?), unescape(fields.next()?).into());
            let mut rest = rest.split(' ');
            let (kind, source) = (rest.next()?.to_owned(), unescape(rest.next()?));
            Some(Mount { point, part, kind, source, device })
        });
        Mounts(mounts.collect())
    }

    /// All mount points.
    pub fn points(&self) -> impl Iterator<Item = &Path> {
        self.0.iter().map(|mount| mount.point.as_path())
    }

    /// Whether something is mounted at a path that holds no files of anybody: what the kernel shows
    /// of itself.
    pub fn is_system(&self, point: &Path) -> bool {
        const SYSTEM: [&str; 18] = [
            "autofs",
            "binfmt_misc",
            "bpf",
            "cgroup",
            "cgroup2",
            "configfs",
            "debugfs",
            "devpts",
            "devtmpfs",
            "efivarfs",
            "hugetlbfs",
            "mqueue",
            "nsfs",
            "proc",
            "pstore",
            "securityfs",
            "sysfs",
            "tracefs",
        ];
        let at = self.0.iter().rfind(|mount| mount.point == point);
        at.is_some_and(|mount| SYSTEM.contains(&mount.kind.as_str()))
    }

    /// The mount point that a path lies under, by its text alone.
    pub fn of(&self, path: &Path) -> PathBuf {
        self.around(path).map_or_else(|| "/".into(), |mount| mount.point.clone())
    }

    /// The kind of file system that a path lies on, as the kernel calls it.
    pub fn kind_of(&self, path: &Path) -> Option<&str> {
        self.around(path).map(|mount| mount.kind.as_str())
    }

    /// Of two on one point the later one, which lies over the other.
    fn around(&self, path: &Path) -> Option<&Mount> {
        let around = self.0.iter().filter(|mount| path.starts_with(&mount.point));
        around.max_by_key(|mount| mount.point.components().count())
    }

    /// The drives of a folder whose top really is `root`, by the path below it at which they
    /// begin: the top itself, what is mounted below it, and what links (path below the folder to
    /// what is behind it) lead to on other drives.
    pub fn drives(&self, root: &Path, links: &BTreeMap<String, String>) -> Drives {
        let names = LastingNames::read();
        let mut drives = Drives::new();
        let top = self.around(root);
        drives.insert(String::new(), top.map(|mount| mount.name(&names)).unwrap_or_default());
        self.put_below(root, "", &names, &mut drives);
        for (link, target) in links {
            let target = Path::new(target);
            let mount = self.around(target);
            if let Some(mount) = mount.filter(|mount| Some(*mount) != top) {
                drives.insert(link.clone(), mount.name(&names));
            }
            self.put_below(target, link, &names, &mut drives);
        }
        drives
    }

    /// The drive that a real path is on, as [`drives`](Self::drives) names it.
    pub fn drive(&self, real: &Path) -> String {
        self.around(real).map(|mount| mount.name(&LastingNames::read())).unwrap_or_default()
    }

    /// Drives of a folder at `root` as they were recorded, where some were recorded by the names of
    /// their devices, as the system gave them no others then: those that are so now get the names
    /// that last.
    pub fn renamed(
        &self,
        recorded: &Drives,
        root: &Path,
        links: &BTreeMap<String, String>,
    ) -> Drives {
        let names = LastingNames::read();
        let place = |path: &str| {
            let link = links.iter().find(|(link, _)| mostra_core::drives::is_below(path, link));
            match link {
                Some((link, target)) => {
                    Path::new(target).join(path[link.len()..].trim_start_matches('/'))
                }
                None => root.join(path),
            }
        };
        let lasting = |path: &str, name: &String| {
            let mount = self.around(&place(path)).filter(|mount| mount.passing_name() == *name);
            mount.map_or_else(|| name.clone(), |mount| mount.name(&names))
        };
        recorded.iter().map(|(path, name)| (path.clone(), lasting(path, name))).collect()
    }

    fn put_below(&self, top: &Path, path: &str, names: &LastingNames, drives: &mut Drives) {
        for mount in &self.0 {
            let below = mount.point.strip_prefix(top).ok().and_then(Path::to_str);
            if let Some(below) = below.filter(|below| !below.is_empty()) {
                let slash = if path.is_empty() { "" } else { "/" };
                drives.insert(format!("{path}{slash}{below}"), mount.name(names));
            }
        }
    }
}

impl Mount {
    /// What the file system is called the next time as well: a disk gets another device name
    /// when it is plugged in again, but keeps its own.
    fn name(&self, names: &LastingNames) -> String {
        let lasting = names.of(&self.source, &self.device, &self.kind, &self.point);
        let source = lasting.as_deref().unwrap_or(&self.source);
        format!("{} {source} {}", self.kind, self.part)
    }

    /// The same by the name of its device, which the next disk may have.
    fn passing_name(&self) -> String {
        format!("{} {} {}", self.kind, self.source, self.part)
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

    #[test]
    fn the_drives_of_a_folder() {
        let mounts = Mounts::parse(
            "21 1 8:1 / / rw - ext4 /dev/a rw\n\
             30 21 8:2 / /srv/media/disk2 rw shared:1 - ext4 /dev/b rw\n\
             31 30 0:5 / /srv/media/disk2 rw - tmpfs upper rw\n\
             32 21 0:6 /films /mnt/share rw - nfs host:/x rw\n",
        );
        let links = [("far", "/mnt/share/new"), ("near", "/srv/other")];
        let links = links.map(|(path, target)| (path.to_owned(), target.to_owned())).into();
        let drives = mounts.drives(Path::new("/srv/media"), &links);
        let told: Vec<(&str, &str)> =
            drives.iter().map(|(path, drive)| (path.as_str(), drive.as_str())).collect();
        let expected =
            [("", "ext4 /dev/a /"), ("disk2", "tmpfs upper /"), ("far", "nfs host:/x /films")];
        assert_eq!(told, expected);
    }
}
