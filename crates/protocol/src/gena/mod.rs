//! Eventing (UDA §4): subscriptions, and when an event goes out.

mod message;
mod publisher;

pub use message::{Asked, callbacks, read_properties, read_timeout, write_properties};
pub use publisher::{Delivery, Granted, Outcome, Publisher, Refusal, Subscriber};
