//! What stops the service on the way to a folder.

use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

use mostra_core::rights::{DirectoryRights, Obstacle, Reader};
use nix::unistd::{Gid, Group, Uid, getegid, geteuid, getgroups};

/// The group that the package makes for whoever shares media with the service.
const MEDIA_GROUP: &str = "mostra-media";

/// The directory on a path at which the service's user is stopped, and the command that opens it;
/// `None` when the path's permission bits are not what stops it.
pub fn what_stops(path: &Path) -> Option<(Obstacle, String)> {
    let mut way: Vec<&Path> = path.ancestors().collect();
    way.reverse();
    let seen = way.iter().map_while(|directory| {
        let metadata = std::fs::metadata(directory).ok()?;
        Some(DirectoryRights {
            path: directory.to_string_lossy().into_owned(),
            mode: metadata.mode() & 0o777,
            owner: metadata.uid(),
            group: metadata.gid(),
        })
    });
    let mut seen: Vec<DirectoryRights> = seen.collect();
    if seen.len() < way.len() {
        // Beyond the one that stops it nothing is seen: that one is not the folder.
        seen.push(DirectoryRights { path: String::new(), mode: 0o777, owner: 0, group: 0 });
    }
    let groups: Vec<Gid> = getgroups().unwrap_or_default().into_iter().chain([getegid()]).collect();
    let reader = Reader {
        user: Uid::as_raw(geteuid()),
        groups: groups.iter().copied().map(Gid::as_raw).collect(),
    };
    let obstacle = Obstacle::on_path(&seen, &reader)?;
    let name = |gid: Gid| Group::from_gid(gid).ok().flatten().map(|group| group.name);
    let media = groups.iter().copied().filter_map(name).find(|name| name == MEDIA_GROUP);
    let group = media.or_else(|| name(getegid())).unwrap_or_else(|| getegid().to_string());
    let command = obstacle.command(&group);
    Some((obstacle, command))
}
