//! Messages that both roles read and write.

pub(crate) mod gena;
pub(crate) mod soap;
pub(crate) mod ssdp;
