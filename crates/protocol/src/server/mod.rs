//! A media server: what it announces, answers and publishes.

mod announcer;
pub mod conditions;
pub mod connection_manager;
pub mod content_directory;
pub mod description;
mod limiter;
mod publisher;
pub mod range;
pub mod registrar;
mod written;

pub use announcer::{Announcer, Datagram, DatagramEvent, Identity, Link, LinkId, Tuning};
pub use publisher::{DeliveryOutcome, EventDelivery, Granted, Publisher, Receiver, Refusal};

pub use crate::messages::gena::{Asked, AskedError, callbacks, read_timeout, write_properties};
pub use crate::messages::soap::{Call, Fault, Value, read_call, write_answer};
