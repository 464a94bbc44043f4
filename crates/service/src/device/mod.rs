//! The device listener: only what the standards need, no login; standing decides.
//!
//! Every request takes one road: who is asking ([`gate`]), the decision, the answer in the form
//! that this device reaches us by, and a sighting.

mod about;
mod control;
mod gate;
mod media;
mod pictures;
mod subscribe;

use std::any::Any;
use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4, TcpListener};
use std::os::fd::AsRawFd;
use std::sync::Arc;
use std::time::Duration;

use actix_web::dev::{Extensions, Server};
use actix_web::middleware::from_fn;
use actix_web::{App, HttpServer, web};

use crate::house::House;
use crate::trouble::Trouble;
use crate::wire_reading::Wire;

/// A device's connection, kept by the server for as long as it is open.
pub struct Connection {
    /// Our end.
    pub local: SocketAddrV4,
    /// The device's end.
    pub peer: SocketAddrV4,
    /// What the kernel knows of it.
    pub wire: Arc<Wire>,
}

impl Drop for Connection {
    fn drop(&mut self) {
        // The server drops this before it closes the socket.
        self.wire.close();
    }
}

fn remember(connection: &dyn Any, extensions: &mut Extensions) {
    let Some(stream) = connection.downcast_ref::<actix_web::rt::net::TcpStream>() else { return };
    if let (Ok(SocketAddr::V4(local)), Ok(SocketAddr::V4(peer))) =
        (stream.local_addr(), stream.peer_addr())
    {
        let wire = Arc::new(Wire::new(stream.as_raw_fd()));
        extensions.insert(Connection { local, peer, wire });
    }
}

/// Bytes in the kernel's queue to one device; bounded so that what is queued and what is
/// acknowledged stay close together.
const SEND_BUFFER: usize = 512 << 10;

/// Binds the device listener on an interface's address.
///
/// # Errors
/// [`Trouble`] with the remedy when the port is taken.
pub fn bind(address: Ipv4Addr, port: u16) -> Result<TcpListener, Trouble> {
    let place = SocketAddr::from((address, port));
    let listen = || -> std::io::Result<TcpListener> {
        use socket2::{Domain, Protocol, Socket, Type};
        let socket = Socket::new(Domain::IPV4, Type::STREAM, Some(Protocol::TCP))?;
        socket.set_reuse_address(true)?;
        socket.set_send_buffer_size(SEND_BUFFER)?;
        socket.set_keepalive(true)?;
        socket.bind(&place.into())?;
        socket.listen(1024)?;
        Ok(socket.into())
    };
    listen()
        .map_err(|e| crate::console::port_trouble("device listener", "--device-port", place, &e))
}

/// Serves devices on these listeners.
///
/// # Errors
/// Those of the server.
pub fn serve(house: Arc<House>, listeners: Vec<TcpListener>) -> std::io::Result<Server> {
    let house = web::Data::from(house);
    let mut server = HttpServer::new(move || {
        App::new()
            .app_data(house.clone())
            .app_data(web::PayloadConfig::new(256 << 10))
            .wrap(from_fn(gate::pass_through))
            .configure(about::routes)
            .configure(control::routes)
            .configure(subscribe::routes)
            .configure(media::routes)
            .configure(pictures::routes)
    })
    .workers(2)
    .on_connect(remember)
    .keep_alive(Duration::from_secs(60))
    .client_request_timeout(Duration::from_secs(10))
    .max_connections(1024)
    .disable_signals()
    .shutdown_timeout(1);
    for listener in listeners {
        server = server.listen(listener)?;
    }
    Ok(server.run())
}
