//! Why something in a folder is not published, and what a person can do about it.

use std::borrow::Cow;
use std::fmt;

use serde::{Deserialize, Serialize};

use crate::Kind;

/// Directories deeper than this below a folder are not entered: CDS-5 allows 32 steps to the
/// root.
pub const DEPTH: usize = 28;

/// Why a file cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ReadFailure {
    /// The service's user may not.
    NoPermission,
    /// It has gone.
    Gone,
    /// What the system says.
    System(String),
}

/// Why something is not published. Kept as it is, so that a later version can say it better.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// Neither its contents nor its extension are of a format that is published.
    NotMedia,
    /// Ogg with neither Vorbis nor Opus in it.
    OtherOgg,
    /// Subtitles, offered with the film beside them.
    Captions,
    /// A cover, shown with what lies beside it.
    Cover,
    /// A playlist; it becomes a container.
    Playlist,
    /// It is still being written.
    Growing,
    /// A link that leads nowhere now.
    DeadLink,
    /// A link that leads around in a circle, or to what is listed already.
    ListedAlready,
    /// A link into another published folder, of which that one's grant decides; its label.
    OtherFolder(String),
    /// A link that leads out of the folder, or something behind one, that the link's owner could not
    /// read.
    LinkOwner,
    /// A link to where no media are kept.
    Forbidden,
    /// Where the service keeps its own things.
    Own,
    /// The drive or network share behind it does not answer.
    NoAnswer,
    /// Another drive than before is mounted there, or none.
    OtherDrive,
    /// Deeper than the standard allows.
    TooDeep,
    /// Of a kind that its folder does not hold.
    OtherKind(Kind),
    /// No bytes.
    Empty,
    /// The format's own structure is damaged or cut off.
    Damaged(Cow<'static, str>),
    /// The file cannot be read.
    Unreadable(ReadFailure),
    /// The name is not valid UTF-8.
    Name,
    /// Neither a file nor a directory.
    Special,
    /// A playlist of more bytes than one may have.
    PlaylistTooLarge,
    /// A list of pieces of one stream (RFC 8216).
    StreamingManifest,
    /// A playlist that does not read.
    PlaylistDamaged(Cow<'static, str>),
    /// A playlist of which some entries are not shown.
    PlaylistEntries {
        /// Entries that are not published.
        missing: usize,
        /// Hosts of stations that are not allowed.
        hosts: Vec<String>,
    },
    /// In the words of an earlier version.
    Words(String),
}

impl Reason {
    /// Damage, in a few words.
    pub const fn damaged(what: &'static str) -> Reason {
        Reason::Damaged(Cow::Borrowed(what))
    }

    /// What a person can do about it.
    pub fn remedy(&self) -> Option<&'static str> {
        Some(match self {
            Reason::Unreadable(ReadFailure::NoPermission) => {
                "Open it to the service's group: sudo chgrp GROUP PATH && sudo chmod g+r PATH, with g+rx for a folder. The group is mostra-media, where Mostra is installed as a package."
            }
            Reason::Name => "Give the file a plain name.",
            Reason::Damaged(_) => "Replace it by a whole copy, or delete it.",
            Reason::Empty => "Copy it again, or delete it.",
            Reason::OtherKind(_) => "Publish its folder with that kind as well.",
            Reason::LinkOwner => {
                "Have the link made by the administrator (sudo ln -s), or open what it leads to to the link's owner. Or have all links of this folder followed: mostra folder links FOLDER all"
            }
            Reason::DeadLink => "Plug in its drive, or delete the link.",
            Reason::OtherDrive => {
                "Mount its drive again; it comes back with all that is known of it. When the drives are meant to be as they are now, take them so under Folders, or: mostra folder rescan FOLDER --as-it-is"
            }
            Reason::NoAnswer => "See to the drive or network share; it comes back by itself.",
            Reason::TooDeep => "Move it further up.",
            Reason::PlaylistEntries { hosts, .. } if !hosts.is_empty() => {
                "Allow the host under Settings, or: mostra house stations --allow HOST"
            }
            Reason::PlaylistEntries { .. }
            | Reason::PlaylistTooLarge
            | Reason::StreamingManifest
            | Reason::PlaylistDamaged(_) => "Correct the list, or publish the files that it names.",
            Reason::NotMedia => {
                "If it should play, check it: it is damaged, or of a format that is not known. Otherwise nothing need be done."
            }
            Reason::OtherOgg => "Convert it to Vorbis or Opus.",
            Reason::Captions
            | Reason::Cover
            | Reason::Playlist
            | Reason::Growing
            | Reason::ListedAlready
            | Reason::OtherFolder(_)
            | Reason::Forbidden
            | Reason::Own
            | Reason::Unreadable(ReadFailure::Gone | ReadFailure::System(_))
            | Reason::Special
            | Reason::Words(_) => return None,
        })
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Reason::NotMedia => "not a film, track or picture that Mostra can read",
            Reason::OtherOgg => "Ogg without Vorbis or Opus cannot be read",
            Reason::Captions => "subtitles; they are offered with the film beside them",
            Reason::Cover => "a cover; it is shown with what lies beside it",
            Reason::Playlist => "a playlist",
            Reason::Growing => "it is still being written; it comes when complete",
            Reason::DeadLink => "a link that leads nowhere now",
            Reason::ListedAlready => "a link to what this folder lists already",
            Reason::OtherFolder(label) => {
                return write!(
                    f,
                    "a link into {label}, which is published itself: whoever may see that folder finds it there"
                );
            }
            Reason::LinkOwner => "a link, or behind one, whose owner may not read it",
            Reason::Forbidden => "a link into the system's own or hidden folders",
            Reason::Own => "the service's own directory",
            Reason::NoAnswer => "its drive or network share does not answer",
            Reason::OtherDrive => {
                "another drive than before is mounted there, or none; what was published from \
                 there is kept"
            }
            Reason::TooDeep => {
                return write!(f, "more than {DEPTH} folders deep, which no player reaches");
            }
            Reason::OtherKind(kind) => {
                return write!(f, "{}: the folder is not set to hold that kind", kind.word());
            }
            Reason::Empty => "the file is empty",
            Reason::Damaged(what) => return write!(f, "damaged: {what}"),
            Reason::Unreadable(ReadFailure::NoPermission) => {
                "cannot be read: no permission for the service's user"
            }
            Reason::Unreadable(ReadFailure::Gone) => "cannot be read: it has gone",
            Reason::Unreadable(ReadFailure::System(why)) => {
                return write!(f, "cannot be read: {why}");
            }
            Reason::Name => "its name is not valid text (UTF-8); rename it",
            Reason::Special => "a special file",
            Reason::PlaylistTooLarge => "playlist: a playlist of more than 4 MiB",
            Reason::StreamingManifest => "playlist: a streaming manifest, not a playlist",
            Reason::PlaylistDamaged(what) => return write!(f, "playlist: damaged: {what}"),
            Reason::PlaylistEntries { missing, hosts } => {
                f.write_str("playlist: ")?;
                if *missing > 0 {
                    write!(f, "{missing} of its entries are not published")?;
                }
                if *missing > 0 && !hosts.is_empty() {
                    f.write_str(", ")?;
                }
                if !hosts.is_empty() {
                    let hosts = hosts.join(", ");
                    write!(f, "stations at hosts that are not allowed ({hosts})")?;
                }
                return Ok(());
            }
            Reason::Words(words) => words,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reasons_are_kept_as_codes_and_read_back() {
        let all = [
            (Reason::NotMedia, r#""not-media""#),
            (Reason::OtherKind(Kind::Music), r#"{"other-kind":"music"}"#),
            (Reason::damaged("no index"), r#"{"damaged":"no index"}"#),
            (Reason::Unreadable(ReadFailure::NoPermission), r#"{"unreadable":"no-permission"}"#),
            (
                Reason::PlaylistEntries { missing: 2, hosts: vec!["radio.example".into()] },
                r#"{"playlist-entries":{"missing":2,"hosts":["radio.example"]}}"#,
            ),
            (Reason::Words("odd".into()), r#"{"words":"odd"}"#),
        ];
        for (reason, code) in all {
            assert_eq!(serde_json::to_string(&reason).unwrap(), code);
            assert_eq!(serde_json::from_str::<Reason>(code).unwrap(), reason);
        }
    }

    #[test]
    fn a_host_that_is_not_allowed_has_another_remedy_than_a_missing_file() {
        let entries = |missing, hosts: &[&str]| {
            let hosts = hosts.iter().map(|host| (*host).to_owned()).collect();
            Reason::PlaylistEntries { missing, hosts }
        };
        let both = entries(2, &["a.example", "b.example"]);
        assert_eq!(
            both.to_string(),
            "playlist: 2 of its entries are not published, \
             stations at hosts that are not allowed (a.example, b.example)"
        );
        assert!(both.remedy().unwrap().contains("Allow the host"));
        assert!(entries(2, &[]).remedy().unwrap().contains("Correct the list"));
        assert!(Reason::NotMedia.remedy().unwrap().contains("check it"));
        assert_eq!(Reason::Cover.remedy(), None);
    }
}
