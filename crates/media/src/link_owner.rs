//! What the system says of who owns a link, and of the rights to what it leads to.

use std::fs::Metadata;
use std::io;
use std::os::fd::{AsFd, AsRawFd as _, OwnedFd};
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use mostra_core::link_rule::{AccessRights, Acl, LinkOwner, READ, SEARCH};
use nix::fcntl::OFlag;
use nix::sys::stat::Mode;
use nix::unistd::{Uid, User, geteuid, getgrouplist};
use rustix::io::Errno;

/// Bytes of an access control list that are read: of about 500 users and groups.
const LIST: usize = 4 << 10;

/// What a link leads to.
#[derive(Debug)]
pub struct LedTo {
    /// Its path, with no link on it any more.
    pub real: PathBuf,
    /// What the system says of it.
    pub metadata: Metadata,
    /// The number of the account that owns the link.
    pub owner: u32,
}

/// What a link in an open directory leads to. The link is opened first, so that its owner is that of
/// the one that was followed, whatever takes its place meanwhile.
///
/// # Errors
/// When it is none, leads nowhere, or the system does not tell.
pub fn led_to(directory: &OwnedFd, name: &str) -> io::Result<LedTo> {
    let flags = OFlag::O_PATH | OFlag::O_NOFOLLOW | OFlag::O_CLOEXEC;
    let link = nix::fcntl::openat(directory, name, flags, Mode::empty())?;
    let target = nix::fcntl::readlinkat(&link, "")?;
    let owner = nix::sys::stat::fstat(&link)?.st_uid;
    let around = std::fs::read_link(descriptor(directory))?;
    let real = std::fs::canonicalize(around.join(target))?;
    let metadata = std::fs::metadata(&real)?;
    Ok(LedTo { real, metadata, owner })
}

fn descriptor(opened: &impl AsFd) -> PathBuf {
    Path::new("/proc/self/fd").join(opened.as_fd().as_raw_fd().to_string())
}

/// An account of the system, with its groups where the system knows it.
pub fn account(user: u32) -> LinkOwner {
    let known = User::from_uid(Uid::from_raw(user)).ok().flatten();
    let groups = known.and_then(|known| {
        let name = std::ffi::CString::new(known.name).ok()?;
        getgrouplist(&name, known.gid).ok()
    });
    let groups = groups.map(|all| all.into_iter().map(|group| group.as_raw()).collect());
    LinkOwner { user, groups }
}

/// Whether whatever an account's links lead to is its own affair: the administrator's, and those of
/// the account that runs the service, which cannot read more than the service does.
pub fn may_lead_anywhere(user: u32) -> bool {
    user == 0 || user == geteuid().as_raw()
}

/// The rights to what is at a path.
///
/// # Errors
/// When the system does not tell.
pub fn rights_at(path: &Path) -> io::Result<AccessRights> {
    let metadata = std::fs::metadata(path)?;
    let mut bytes = [0; LIST];
    let acl = match rustix::fs::getxattr(path, "system.posix_acl_access", &mut bytes[..]) {
        Ok(length) => {
            let unread = || io::Error::other("its access control list does not read");
            Some(Acl::parse(&bytes[..length]).ok_or_else(unread)?)
        }
        // It has none, or the file system knows none.
        Err(Errno::NODATA | Errno::OPNOTSUPP) => None,
        Err(error) => return Err(error.into()),
    };
    let (user, group, mode) = (metadata.uid(), metadata.gid(), metadata.mode());
    Ok(AccessRights { user, group, mode, acl })
}

/// The rights to what is open.
///
/// # Errors
/// When the system does not tell.
pub fn rights_of(opened: &impl AsFd) -> io::Result<AccessRights> {
    rights_at(&descriptor(opened))
}

/// Whether an account could read what is open: a file, or a directory with what is in it. What cannot
/// be told counts as no.
pub fn could_read(owner: &LinkOwner, opened: &impl AsFd, is_directory: bool) -> bool {
    let wanted = if is_directory { READ | SEARCH } else { READ };
    rights_of(opened).is_ok_and(|rights| rights.let_do(owner, wanted))
}

/// Whether an account could read what is at a real path, and go there.
pub fn could_reach(owner: &LinkOwner, real: &Path, is_directory: bool) -> bool {
    let wanted = if is_directory { READ | SEARCH } else { READ };
    let lets = |path: &Path, wanted| rights_at(path).is_ok_and(|r| r.let_do(owner, wanted));
    lets(real, wanted) && real.ancestors().skip(1).all(|on_the_way| lets(on_the_way, SEARCH))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt as _;

    #[test]
    fn modes_on_the_way_decide_for_those_who_own_nothing_there() {
        let folder = tempfile::tempdir().unwrap();
        let closed = folder.path().join("closed");
        let file = closed.join("film");
        std::fs::create_dir(&closed).unwrap();
        std::fs::write(&file, b"x").unwrap();
        let set = |path: &Path, mode| {
            std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
        };
        set(folder.path(), 0o755);
        let stranger = LinkOwner { user: 4_000_000_000, groups: None };
        for (outer, inner, can) in [
            (0o755, 0o644, true),
            (0o711, 0o644, true),
            (0o700, 0o644, false),
            (0o755, 0o640, false),
        ] {
            set(&closed, outer);
            set(&file, inner);
            assert_eq!(could_reach(&stranger, &file, false), can, "{outer:o} {inner:o}");
        }
        set(&closed, 0o711);
        assert!(!could_reach(&stranger, &closed, true), "it may go through and not list");
        assert!(!could_read(&stranger, &std::fs::File::open(&closed).unwrap(), true));
        set(&closed, 0o755);
        assert!(could_read(&stranger, &std::fs::File::open(&closed).unwrap(), true));
    }

    #[test]
    fn accounts_have_their_groups_and_unknown_ones_none_that_are_known() {
        assert!(account(0).groups.is_some_and(|groups| groups.contains(&0)));
        assert_eq!(account(4_000_000_000).groups, None);
    }
}
