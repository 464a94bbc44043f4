//! A control point: what it finds, reads, calls and subscribes to.

mod address_url;
mod device_tree;
mod finder;
mod last_change;
pub mod protocol_info;
mod subscriber;

pub use device_tree::{
    ReadDescription, ReadDevice, ReadIcon, ReadService, read as read_description, resolve,
};
pub use finder::{Finder, FoundDevice, FoundEvent, Gone};
pub use last_change::{VariableChange, read_last_change};
pub use subscriber::{Ask, Notice, Notification, Subscriber, SubscriptionRequest};

pub use crate::messages::gena::{read_granted, read_properties};
pub use crate::messages::soap::{
    Answer, CallError, read_answer, read_answer_with, write_call, write_named_call,
};
pub use crate::messages::ssdp::{
    About, MSearch, Message, NotifyKind, compose_search, parse as parse_datagram,
};
pub use crate::server::{Datagram, Link, LinkId};
