//! Listening on a TCP port, with a word for what stands in the way.

use std::io;
use std::net::{SocketAddr, TcpListener};

use socket2::{Domain, Protocol, Socket, Type};

/// Why a port cannot be used.
#[derive(Debug, thiserror::Error)]
#[error("the {what} cannot use {place}: {source}")]
pub struct ListenError {
    /// What was to listen.
    what: &'static str,
    /// The flag that sets the port.
    flag: &'static str,
    place: SocketAddr,
    source: io::Error,
}

impl ListenError {
    /// What a person can do about it.
    pub fn remedy(&self) -> String {
        let flag = self.flag;
        match self.source.kind() {
            io::ErrorKind::AddrInUse => format!(
                "Another program, or another mostrad, has that port. `ss -ltnp 'sport = :{}'` names it; or choose another with {flag}.",
                self.place.port()
            ),
            io::ErrorKind::PermissionDenied => {
                format!("Choose a port of 1024 or above with {flag}.")
            }
            _ => format!("Check the address, or choose another port with {flag}."),
        }
    }
}

/// Listens at a place. `what` is to listen there, on a port that `flag` sets. Of what is unsent,
/// the kernel keeps at most `unsent` bytes for each connection, if that is given.
///
/// # Errors
/// [`ListenError`] when the port is taken or forbidden.
pub fn listen(
    what: &'static str,
    flag: &'static str,
    place: SocketAddr,
    unsent: Option<u32>,
) -> Result<TcpListener, ListenError> {
    let open = || -> io::Result<TcpListener> {
        let socket = Socket::new(Domain::for_address(place), Type::STREAM, Some(Protocol::TCP))?;
        socket.set_reuse_address(true)?;
        // Connections inherit both.
        if let Some(unsent) = unsent {
            socket.set_tcp_notsent_lowat(unsent)?;
        }
        socket.set_keepalive(true)?;
        socket.bind(&place.into())?;
        socket.listen(1024)?;
        Ok(socket.into())
    };
    open().map_err(|source| ListenError { what, flag, place, source })
}
