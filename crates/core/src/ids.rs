//! Numbers by which things are told apart, each of a type of its own.

use std::fmt;

use serde::{Deserialize, Serialize};

macro_rules! id {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(
            Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize,
        )]
        #[serde(transparent)]
        pub struct $name(pub u32);

        impl From<$name> for i64 {
            fn from(id: $name) -> i64 {
                i64::from(id.0)
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                self.0.fmt(f)
            }
        }
    };
}

id!(/// A device's number in this house; it is not used again.
    DeviceId);
id!(/// The number of a thing found on the network, as long as the service runs.
    FoundId);
id!(/// A published folder's number; it is not used again.
    FolderId);
id!(/// A file's number; it is not used again.
    FileId);
id!(/// A stream's number, as long as the service runs.
    StreamId);
id!(/// An update id of the catalogue or a container. They go up, and round at their end (CDS-45).
    UpdateId);

impl FolderId {
    /// The folder with the test pieces, which only a device sees that is being walked through. Other
    /// numbers are counted up and never come so far.
    pub const TEST_PIECES: FolderId = FolderId(2_000_000_000);
}

impl UpdateId {
    /// So many changes later.
    pub fn plus(self, changes: u32) -> UpdateId {
        UpdateId(self.0.wrapping_add(changes))
    }

    /// How many changes another is before this one.
    pub fn since(self, earlier: UpdateId) -> u32 {
        self.0.wrapping_sub(earlier.0)
    }
}
