//! From files to facts.
//!
//! [`list`](walk::list) lists what lies in a folder, [`probe`](probe::probe) reads what a file
//! is, and [`open`](open::open) opens a file that the catalogue located. Files are read where
//! they are and never changed.

pub mod open;
pub mod probe;
pub mod walk;

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod agreement;
#[cfg(feature = "pictures")]
pub mod art;
mod asf;
mod audio;
mod avi;
pub mod confinement;
pub mod extension;
mod external_program;
pub mod ffprobe;
mod jpeg;
pub mod link_owner;
mod matroska;
pub mod mounts;
mod mp4;
mod mpeg;
mod part_reader;
mod picture;
pub mod playlist;
mod samples;
pub mod sidecar;
pub mod subtitle;
mod tags;
pub mod test_pieces;
mod waveform;

use mostra_core::left_out::{ReadFailure, Reason};

/// An I/O error as a reason, without the path in it.
pub fn unreadable(error: &std::io::Error) -> Reason {
    Reason::Unreadable(match error.kind() {
        std::io::ErrorKind::PermissionDenied => ReadFailure::NoPermission,
        std::io::ErrorKind::NotFound => ReadFailure::Gone,
        _ => ReadFailure::System(error.to_string()),
    })
}
