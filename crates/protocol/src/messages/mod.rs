//! Messages that both roles read and write.

pub mod gena;
pub mod soap;
pub mod ssdp;
