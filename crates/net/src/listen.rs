//! Listening on a TCP port, with a word for what stands in the way.

use std::io;
use std::net::{SocketAddr, TcpListener};
use std::sync::{Mutex, PoisonError};

use listenfd::ListenFd;
use socket2::{Domain, Protocol, SockRef, Socket, Type};

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

/// Listening sockets that were given and are not in use yet.
static GIVEN: Mutex<Vec<TcpListener>> = Mutex::new(Vec::new());

/// Takes the listening sockets that whoever started this program gave it: systemd, or the service itself
/// before it started again. So nobody else can have their ports in between. To be called once, before
/// there is another thread.
pub fn take_given() {
    let mut all = ListenFd::from_env();
    let mut given = GIVEN.lock().unwrap_or_else(PoisonError::into_inner);
    for number in 0..all.len() {
        let Ok(Some(listener)) = all.take_tcp_listener(number) else { continue };
        // None of the programs that are started may have it.
        if SockRef::from(&listener).set_cloexec(true).is_ok() {
            given.push(listener);
        }
    }
}

/// Closes those that nobody took: they are of places that are not used any more.
pub fn drop_given() {
    GIVEN.lock().unwrap_or_else(PoisonError::into_inner).clear();
}

fn given(place: SocketAddr) -> Option<Socket> {
    let mut given = GIVEN.lock().unwrap_or_else(PoisonError::into_inner);
    let at = given.iter().position(|one| one.local_addr().is_ok_and(|address| address == place))?;
    Some(given.swap_remove(at).into())
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
        let given = given(place);
        let is_new = given.is_none();
        let new = || Socket::new(Domain::for_address(place), Type::STREAM, Some(Protocol::TCP));
        let socket = given.map_or_else(new, Ok)?;
        socket.set_reuse_address(true)?;
        // Connections inherit both.
        if let Some(unsent) = unsent {
            socket.set_tcp_notsent_lowat(unsent)?;
        }
        socket.set_keepalive(true)?;
        if is_new {
            socket.bind(&place.into())?;
        }
        socket.listen(1024)?;
        Ok(socket.into())
    };
    open().map_err(|source| ListenError { what, flag, place, source })
}
