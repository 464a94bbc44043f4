//! The published folders and the drives that they are on.

use super::{Check, Outcome, bytes};

/// Why a folder gives nothing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FolderTrouble {
    /// Its drive is not there or does not answer.
    Away,
    /// The service may not read it: the directory that stops it, and the command that opens it.
    NotReadable {
        /// The directory.
        stops: String,
        /// The command.
        command: Option<String>,
    },
}

/// A published folder.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FolderFacts {
    /// Its number.
    pub number: u32,
    /// Its label.
    pub label: String,
    /// Where it is.
    pub path: String,
    /// Items in it.
    pub items: u64,
    /// Why it gives nothing.
    pub trouble: Option<FolderTrouble>,
    /// Why its last scan failed, if it did.
    pub failed: Option<String>,
    /// Paths below it that cannot be read now, and whose items are hidden.
    pub hidden: Vec<String>,
    /// The file system it is on, as the system calls it: `ext4`, `nfs4`.
    pub file_system: Option<String>,
    /// Bytes free there.
    pub free: Option<u64>,
    /// Bytes a second at which a large file was read from the drive; nothing where none was.
    pub read_speed: Option<u64>,
}

/// Paths named in a sentence.
const NAMED: usize = 3;
/// What several films at once need.
const FAST_ENOUGH: u64 = 20_000_000;

pub(super) fn checks(folders: &[FolderFacts]) -> Vec<Check> {
    let why = "What the service cannot read, no device can play.";
    if folders.is_empty() {
        return vec![
            Check::new("folders", "Folders", why)
                .outcome(Outcome::Attention, "No folder is published.")
                .remedy("Publish one: its films, music and pictures then appear on devices.")
                .command("mostra folder add /path/to/films"),
        ];
    }
    folders.iter().map(|folder| check(folder, why)).collect()
}

/// File systems that are read over the network.
const REMOTE: [&str; 6] = ["nfs", "nfs4", "cifs", "smb3", "fuse.sshfs", "9p"];

fn check(folder: &FolderFacts, why: &'static str) -> Check {
    let check =
        Check::new(format!("folder:{}", folder.number), format!("Folder {}", folder.label), why);
    match &folder.trouble {
        Some(FolderTrouble::Away) => {
            return check
                .outcome(
                    Outcome::Stops,
                    format!(
                        "{} is away: {} is not there, or its drive does not answer. What is in it \
                         is hidden.",
                        folder.label, folder.path
                    ),
                )
                .remedy(
                    "Plug the drive in, or look at its cable and power. It comes back by itself.",
                );
        }
        Some(FolderTrouble::NotReadable { stops, command }) => {
            let check = check
                .outcome(
                    Outcome::Stops,
                    format!("{} cannot be read: the service may not read {stops}.", folder.label),
                )
                .remedy("Open that directory to the service's group.");
            return match command {
                Some(command) => check.command(command.clone()),
                None => check,
            };
        }
        None => {}
    }
    if let Some(why) = &folder.failed {
        return check
            .outcome(
                Outcome::Attention,
                format!(
                    "{}: the last scan failed, so what is shown may not be what is on disk: {why}.",
                    folder.label
                ),
            )
            .remedy("It is tried again by itself, as soon as it can succeed.");
    }
    if !folder.hidden.is_empty() {
        let named: Vec<&str> = folder.hidden.iter().take(NAMED).map(String::as_str).collect();
        let more = match folder.hidden.len().saturating_sub(NAMED) {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        return check
            .outcome(
                Outcome::Attention,
                format!(
                    "{}: {}{more} cannot be read or is not there, and is hidden. Nothing of it is \
                     forgotten.",
                    folder.label,
                    named.join(", ")
                ),
            )
            .remedy("Its page says why. What is gone for good is forgotten so:")
            .command(format!("mostra folder rescan {} --as-it-is", folder.number));
    }
    let mut words = vec![match folder.items {
        1 => "1 item".to_owned(),
        n => format!("{n} items"),
    }];
    let remote = folder.file_system.as_deref().is_some_and(|kind| REMOTE.contains(&kind));
    if let Some(kind) = &folder.file_system {
        words.push(format!("on {kind}{}", if remote { ", over the network" } else { "" }));
    }
    words.extend(folder.free.map(|free| format!("{} free", bytes(free))));
    words.extend(folder.read_speed.map(|speed| format!("read at {}/s", bytes(speed))));
    let measured = format!("{}.", words.join(", "));
    // Where it stands alone it says which folder it is of.
    let named = format!("{}: {measured}", folder.label);
    if folder.items == 0 {
        return check
            .outcome(Outcome::Attention, named)
            .remedy("Nothing in it can be shown. Its page says what was left out and why.")
            .command(format!("mostra folder show {}", folder.number));
    }
    match folder.read_speed {
        Some(speed) if speed < FAST_ENOUGH => check.outcome(Outcome::Attention, named).remedy(
            "That is little for several films at once. Is the drive behind a slow cable, or busy with \
             something else?",
        ),
        _ => check.ok(measured),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder() -> FolderFacts {
        FolderFacts {
            number: 3,
            label: "Films".into(),
            path: "/f".into(),
            items: 7,
            ..FolderFacts::default()
        }
    }

    #[test]
    fn what_hides_a_folder_is_named_with_what_to_do() {
        let of = |change: fn(&mut FolderFacts)| {
            let mut facts = folder();
            change(&mut facts);
            checks(&[facts]).remove(0)
        };
        let fine = of(|f| {
            f.file_system = Some("nfs4".into());
            f.free = Some(5_000_000_000);
            f.read_speed = Some(90_000_000);
        });
        assert_eq!((fine.id.as_str(), fine.outcome), ("folder:3", Outcome::Ok));
        assert_eq!(
            fine.measured,
            "7 items, on nfs4, over the network, 5.0 GB free, read at 90 MB/s."
        );
        assert_eq!(of(|f| f.trouble = Some(FolderTrouble::Away)).outcome, Outcome::Stops);
        let closed = of(|f| {
            let command = Some("sudo setfacl -m g:mostra-media:rx /f".into());
            f.trouble = Some(FolderTrouble::NotReadable { stops: "/f".into(), command });
        });
        assert!(closed.outcome == Outcome::Stops && closed.command.is_some());
        assert_eq!(of(|f| f.read_speed = Some(3_000_000)).outcome, Outcome::Attention);
        assert_eq!(of(|f| f.items = 0).outcome, Outcome::Attention);
        assert_eq!(checks(&[]).remove(0).outcome, Outcome::Attention);
    }
}
