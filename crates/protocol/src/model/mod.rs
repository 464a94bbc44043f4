//! What both roles share: identifiers, services and their actions, documents and values.

pub mod charset;
pub mod conversation;
pub mod didl;
pub mod dlna;
pub mod identifiers;
pub mod npt;
pub mod object_filter;
pub mod property;
pub mod search;
pub mod service;
pub mod sort;
pub mod subnet;
pub mod text;
pub mod xml;
pub mod xml_writer;
