//! Whether somebody could read a file or directory, by its mode and its access control list: a link
//! that leads out of a folder is followed where its owner could read what it leads to.

use std::collections::BTreeSet;

/// Which links that lead out of a folder are followed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum LinkRule {
    /// Those that the system's administrator made, or whoever owns what they lead to, or whose
    /// owner could read it.
    #[default]
    Readable,
    /// All.
    All,
}

impl LinkRule {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            LinkRule::Readable => "readable",
            LinkRule::All => "all",
        }
    }

    /// The rule of a word.
    pub fn from_word(word: &str) -> Option<LinkRule> {
        [LinkRule::Readable, LinkRule::All].into_iter().find(|rule| rule.word() == word)
    }
}

/// An account of the system.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkOwner {
    /// Its number.
    pub user: u32,
    /// The numbers of its groups; `None` where the system does not tell.
    pub groups: Option<BTreeSet<u32>>,
}

/// What the system says of the rights to a file or directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccessRights {
    /// Who owns it.
    pub user: u32,
    /// The group it belongs to.
    pub group: u32,
    /// Its mode.
    pub mode: u32,
    /// Its access control list, where it has one.
    pub acl: Option<Acl>,
}

/// To read a file.
pub const READ: u32 = 4;
/// To go through a directory.
pub const SEARCH: u32 = 1;

/// An access control list of POSIX 1003.1e, draft 17, as Linux keeps it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Acl {
    users: Vec<(u32, u32)>,
    groups: Vec<(u32, u32)>,
    owning_group: u32,
    mask: u32,
}

impl Acl {
    /// Reads the value of `system.posix_acl_access`; `None` for one that does not read.
    pub fn parse(bytes: &[u8]) -> Option<Acl> {
        let (version, entries) = bytes.split_at_checked(4)?;
        if version != 2_u32.to_le_bytes() || entries.len() % 8 != 0 {
            return None;
        }
        let mut acl = Acl { users: Vec::new(), groups: Vec::new(), owning_group: 0, mask: 7 };
        for entry in entries.chunks_exact(8) {
            let short = |at: usize| u32::from(u16::from_le_bytes([entry[at], entry[at + 1]]));
            let (tag, rights) = (short(0), short(2) & 7);
            let id = u32::from_le_bytes([entry[4], entry[5], entry[6], entry[7]]);
            match tag {
                // The owner and others, as the mode says them.
                0x01 | 0x20 => {}
                0x02 => acl.users.push((id, rights)),
                0x04 => acl.owning_group = rights,
                0x08 => acl.groups.push((id, rights)),
                0x10 => acl.mask = rights,
                _ => return None,
            }
        }
        Some(acl)
    }
}

impl AccessRights {
    /// Whether these let somebody do all of `wanted`. Where the groups of somebody are not known, it
    /// holds only if it does whatever they are.
    pub fn let_do(&self, owner: &LinkOwner, wanted: u32) -> bool {
        let has = |rights: u32| rights & wanted == wanted;
        if owner.user == self.user {
            return has(self.mode >> 6);
        }
        let mask = self.acl.as_ref().map_or(7, |acl| acl.mask);
        let named = self.acl.as_ref().and_then(|acl| {
            acl.users.iter().find(|(user, _)| *user == owner.user).map(|(_, rights)| rights)
        });
        if let Some(rights) = named {
            return has(rights & mask);
        }
        // With a list the mode's group bits are its mask.
        let owning = self.acl.as_ref().map_or(self.mode >> 3, |acl| acl.owning_group);
        let listed = self.acl.iter().flat_map(|acl| acl.groups.iter().copied());
        let mut groups = std::iter::once((self.group, owning)).chain(listed);
        let others = has(self.mode);
        match &owner.groups {
            None => others && groups.all(|(_, rights)| has(rights & mask)),
            Some(of) => {
                let mut among = groups.filter(|(group, _)| of.contains(group)).peekable();
                match among.peek() {
                    Some(_) => among.any(|(_, rights)| has(rights & mask)),
                    None => others,
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn owner(user: u32, groups: &[u32]) -> LinkOwner {
        LinkOwner { user, groups: Some(groups.iter().copied().collect()) }
    }

    fn rights(user: u32, group: u32, mode: u32) -> AccessRights {
        AccessRights { user, group, mode, acl: None }
    }

    #[test]
    fn the_first_class_that_fits_decides() {
        let closed = rights(10, 20, 0o750);
        assert!(closed.let_do(&owner(10, &[]), READ | SEARCH));
        assert!(closed.let_do(&owner(11, &[20]), READ | SEARCH));
        assert!(!closed.let_do(&owner(11, &[21]), READ));
        // Whom the mode shuts out by name gets nothing from what it lets others do.
        assert!(!rights(10, 20, 0o077).let_do(&owner(10, &[20]), READ));
        assert!(!rights(10, 20, 0o707).let_do(&owner(11, &[20]), READ));
        assert!(!rights(10, 20, 0o744).let_do(&owner(11, &[]), SEARCH));
    }

    #[test]
    fn unknown_groups_are_let_in_only_where_all_are() {
        let unknown = LinkOwner { user: 11, groups: None };
        assert!(rights(10, 20, 0o755).let_do(&unknown, READ | SEARCH));
        assert!(!rights(10, 20, 0o705).let_do(&unknown, READ));
        assert!(!rights(10, 20, 0o750).let_do(&unknown, READ));
    }

    /// A list of entries: tag, rights, id.
    fn list(entries: &[(u16, u16, u32)]) -> Vec<u8> {
        let mut bytes = 2_u32.to_le_bytes().to_vec();
        for (tag, rights, id) in entries {
            bytes.extend(tag.to_le_bytes());
            bytes.extend(rights.to_le_bytes());
            bytes.extend(id.to_le_bytes());
        }
        bytes
    }

    #[test]
    fn an_access_control_list_names_users_and_groups_within_its_mask() {
        const NOBODY: u32 = u32::MAX;
        let entries = [
            (0x01, 7, NOBODY),
            (0x02, 5, 11),
            (0x02, 0, 12),
            (0x04, 0, NOBODY),
            (0x08, 7, 30),
            (0x10, 5, NOBODY),
            (0x20, 5, NOBODY),
        ];
        let acl = Acl::parse(&list(&entries));
        assert!(acl.is_some());
        let rights = AccessRights { user: 10, group: 20, mode: 0o755, acl };
        assert!(rights.let_do(&owner(11, &[]), READ | SEARCH));
        assert!(!rights.let_do(&owner(12, &[30]), READ), "named, with nothing");
        assert!(!rights.let_do(&owner(13, &[20]), READ), "the group has nothing");
        assert!(rights.let_do(&owner(13, &[20, 30]), READ), "another group has");
        assert!(!rights.let_do(&owner(13, &[30]), 2), "beyond the mask");
        assert!(rights.let_do(&owner(14, &[]), READ), "others");
        assert!(!rights.let_do(&LinkOwner { user: 14, groups: None }, READ));
    }

    #[test]
    fn a_list_that_does_not_read_is_none() {
        assert_eq!(Acl::parse(b""), None);
        assert_eq!(Acl::parse(&3_u32.to_le_bytes()), None);
        assert_eq!(Acl::parse(&list(&[(0x40, 7, 0)])), None);
        let whole = list(&[(0x01, 7, 0)]);
        assert_eq!(Acl::parse(&whole[..whole.len() - 1]), None);
    }
}
