//! Links in a folder: beneath what each path is opened, and what the owners of the links could read.

use std::fs::Metadata;
use std::io;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;
use std::sync::Arc;

use mostra_core::catalogue::Beneath;
use mostra_core::link_rule::{LinkOwner, LinkRule};
use mostra_media::link_owner::{self, LedTo, could_reach};
use mostra_media::open;

use super::super::look::{OpenDirectory, Owners, join};
use super::Walk;

impl Walk {
    /// Beneath what a path below the folder is opened.
    pub(super) fn beneath(&self, path: &str) -> Beneath {
        Beneath::of(&self.job.root, &self.lock().links, Path::new(path))
    }

    /// The directory at a path below the folder, with the links in it that were followed.
    pub(super) fn around(&self, path: &str) -> OpenDirectory {
        let prefix = join(path, "");
        let (beneath, owners) = (self.beneath(path), self.owners(path));
        let state = self.lock();
        let here = state.links.range(prefix.clone()..);
        let here = here.map_while(|(link, _)| Some((link, link.strip_prefix(&prefix)?)));
        // Only those of this walk: of another nobody knows whether what is behind it answers.
        let links = here.filter(|(_, name)| !name.contains('/')).filter_map(|(link, name)| {
            let owner = state.owners.get(link)?.clone();
            let beneath = Beneath::of(&self.job.root, &state.links, Path::new(link));
            let owners = owners.iter().cloned().chain(owner).collect();
            Some((name.to_owned(), (beneath, owners)))
        });
        let links = links.collect();
        drop(state);
        OpenDirectory::new(beneath, owners, links)
    }

    /// What a link leads to now, and whose it is.
    pub(super) fn led_to(&self, path: &str) -> io::Result<LedTo> {
        let (around, name) = path.rsplit_once('/').unwrap_or(("", path));
        let directory = open::open_directory(&self.beneath(around))?;
        link_owner::led_to(&directory, name)
    }

    /// Whether a link is followed: its owner, and those of all links on the way to it, could read
    /// what it leads to. The system's administrator may lead anywhere, and so may whoever owns what
    /// the link leads to.
    pub(super) fn may_follow(
        &self,
        path: &str,
        owner: u32,
        real: &Path,
        metadata: &Metadata,
    ) -> bool {
        if self.job.link_rule == LinkRule::All {
            self.lock().owners.insert(path.to_owned(), None);
            return true;
        }
        let around = path.rsplit_once('/').map_or("", |(around, _)| around);
        let reaches = |owner: &LinkOwner| could_reach(owner, real, metadata.is_dir());
        if !self.owners(around).iter().all(|owner| reaches(owner)) {
            return false;
        }
        let restricted = restricted(owner);
        let follows = restricted.as_ref().is_none_or(|one| metadata.uid() == owner || reaches(one));
        self.lock().owners.insert(path.to_owned(), restricted);
        follows
    }

    /// Whether a link that an earlier walk followed to a directory is there, and may be followed.
    pub(super) fn is_followed_still(&self, link: &str, target: &str) -> bool {
        if std::fs::symlink_metadata(self.job.root.join(link)).is_err() {
            return false;
        }
        let target = Path::new(target);
        self.job.link_rule == LinkRule::All
            || self.led_to(link).is_ok_and(|now| {
                now.real == target && self.may_follow(link, now.owner, target, &now.metadata)
            })
    }

    /// The owners of all links on the way to a path who may not show everything by a link.
    pub(super) fn owners(&self, path: &str) -> Owners {
        if self.job.link_rule == LinkRule::All {
            return Vec::new();
        }
        let on_the_way: Vec<(String, String)> = {
            let state = self.lock();
            let ways = Path::new(path).ancestors().filter_map(Path::to_str);
            let links = ways.filter_map(|way| state.links.get_key_value(way));
            links.map(|(link, target)| (link.clone(), target.clone())).collect()
        };
        on_the_way.iter().filter_map(|(link, target)| self.owner(link, target)).collect()
    }

    /// The owner of a link that was followed, unless it may lead anywhere.
    fn owner(&self, link: &str, target: &str) -> Option<Arc<LinkOwner>> {
        if let Some(known) = self.lock().owners.get(link) {
            return known.clone();
        }
        // Followed by an earlier walk. One that leads elsewhere now says nothing of whose that was.
        let owner = match self.led_to(link) {
            Ok(now) if now.real == Path::new(target) => restricted(now.owner),
            _ => Some(Arc::new(LinkOwner { user: u32::MAX, groups: None })),
        };
        self.lock().owners.insert(link.to_owned(), owner.clone());
        owner
    }
}

/// An account of which links show only what it could read itself.
fn restricted(user: u32) -> Option<Arc<LinkOwner>> {
    let anywhere = link_owner::may_lead_anywhere(user);
    (!anywhere).then(|| Arc::new(link_owner::account(user)))
}
