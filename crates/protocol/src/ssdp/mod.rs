//! Discovery (UDA §1): a server announces itself and answers searches.

mod announcer;
mod limiter;
mod message;
mod written;

pub use announcer::{Announcer, Datagram, Heard, Identity, Link, LinkId, Tuning};
pub use message::{Message, Search, compose_search, parse};
