//! DIDL-Lite (requirements 5.2, 5.3): writing what the directory offers, reading what a player
//! was given.

mod reader;
mod writer;

pub use reader::{ReadObject, read};
pub use writer::{
    DocumentWriter, Head, HeadNode, ObjectWriter, ResourceElement, Url, VendorElement,
};

/// Bytes of UTF-8 that a title may have (CDS-16).
pub const TITLE_BYTES: usize = 200;
/// Bytes of UTF-8 that any other text may have (CDS-16).
pub const TEXT_BYTES: usize = 1000;
