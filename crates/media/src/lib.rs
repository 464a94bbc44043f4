//! From files to facts.
//!
//! [`list`](walk::list) lists what lies in a folder, [`probe`](probe::probe) reads what a file
//! is, and [`open`](open::open) opens a file that the catalogue located. Files are read where
//! they are and never changed.

pub mod open;
pub mod probe;
pub mod walk;

pub mod art;
mod audio;
pub mod extension;
pub mod ffprobe;
mod jpeg;
mod matroska;
pub mod mounts;
mod mp4;
mod outside;
mod part_reader;
mod picture;
pub mod playlist;
pub mod sidecar;
pub mod subtitle;
mod tags;

use std::fmt;

/// Why a file is not published.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reason {
    /// Neither its contents nor its extension are of a kind we publish.
    NotMedia,
    /// A media format that cannot be read.
    Unknown(&'static str),
    /// A file that is offered with another one.
    Beside(&'static str),
    /// A playlist; it becomes a container.
    Playlist,
    /// It is still being written.
    Growing,
    /// A link that leads nowhere now.
    Nowhere,
    /// A link that leads around in a circle, or to what is listed already.
    Twice,
    /// A link to where no media are kept.
    Forbidden,
    /// Where the service keeps its own things.
    Own,
    /// The drive or network share behind it does not answer.
    Silent,
    /// Another drive than before is mounted there, or none.
    Away,
    /// Deeper than the standard allows.
    Deep,
    /// Of a kind that its folder does not hold.
    OtherKind(mostra_core::Kind),
    /// No bytes.
    Empty,
    /// The format's own structure is damaged or cut off.
    Broken(&'static str),
    /// The file cannot be read.
    Unreadable(String),
    /// The name is not valid UTF-8.
    Name,
    /// Neither a file nor a directory.
    Special,
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Reason::NotMedia => f.write_str("not a film, sound or picture"),
            Reason::Unknown(format) => write!(f, "{format} cannot be read"),
            Reason::Beside(what) => f.write_str(what),
            Reason::Playlist => f.write_str("a playlist"),
            Reason::Growing => f.write_str("it is still being written; it comes when complete"),
            Reason::Nowhere => f.write_str("a link that leads nowhere now"),
            Reason::Twice => f.write_str("a link to what this folder lists already"),
            Reason::Forbidden => f.write_str("a link into the system's own or hidden folders"),
            Reason::Own => f.write_str("the service's own directory"),
            Reason::Silent => f.write_str("its drive or network share does not answer"),
            Reason::Away => f.write_str(
                "another drive than before is mounted there, or none; what was published from \
                 there is kept",
            ),
            Reason::Deep => {
                write!(f, "more than {} folders deep, which no player reaches", walk::DEPTH)
            }
            Reason::OtherKind(kind) => {
                write!(f, "{}: the folder is not set to hold that kind", kind.word())
            }
            Reason::Empty => f.write_str("the file is empty"),
            Reason::Broken(what) => write!(f, "damaged: {what}"),
            Reason::Unreadable(why) => write!(f, "cannot be read: {why}"),
            Reason::Name => f.write_str("its name is not valid text (UTF-8); rename it"),
            Reason::Special => f.write_str("a special file"),
        }
    }
}

/// An I/O error as a reason, without the path in it.
pub fn unreadable(error: &std::io::Error) -> Reason {
    Reason::Unreadable(match error.kind() {
        std::io::ErrorKind::PermissionDenied => "no permission for the service's user".into(),
        std::io::ErrorKind::NotFound => "it has gone".into(),
        _ => error.to_string(),
    })
}
