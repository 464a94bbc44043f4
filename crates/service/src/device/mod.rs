//! The device listener: only what the standards need, no login; standing decides.
//!
//! Every request takes one road: who is asking ([`gate`]), the decision, the answer in the form
//! that this device reaches us by, and a sighting.

mod about;
mod control;
mod gate;
mod media;
mod parting;
mod pictures;
mod seats;
mod straight;
mod subscribe;

use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4, TcpListener};
use std::os::fd::AsRawFd;
use std::sync::Arc;
use std::time::Duration;

use actix_http::HttpService;
use actix_server::Server;
use actix_service::{IntoServiceFactory as _, map_config};
use actix_web::dev::{AppConfig, Extensions};
use actix_web::middleware::{NormalizePath, TrailingSlash, from_fn};
use actix_web::rt::net::TcpStream;
use actix_web::{App, web};

pub use seats::Seats;

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

impl Connection {
    fn of(stream: &TcpStream) -> Option<Connection> {
        let (Ok(SocketAddr::V4(local)), Ok(SocketAddr::V4(peer))) =
            (stream.local_addr(), stream.peer_addr())
        else {
            return None;
        };
        Some(Connection { local, peer, wire: Arc::new(Wire::new(stream.as_raw_fd())) })
    }
}

fn remember(stream: &TcpStream, extensions: &mut Extensions) {
    if let Some(connection) = Connection::of(stream) {
        extensions.insert(connection);
    }
}

/// Bytes in the kernel's queue to one device that it does not take yet. How much is on the way to
/// one that does, the kernel decides; one that pauses holds no more than this.
const UNSENT: u32 = 256 << 10;

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
        // Connections inherit it.
        socket.set_tcp_notsent_lowat(UNSENT)?;
        socket.set_keepalive(true)?;
        socket.bind(&place.into())?;
        socket.listen(1024)?;
        Ok(socket.into())
    };
    listen()
        .map_err(|e| crate::console::port_trouble("device listener", "--device-port", place, &e))
}

/// Serves devices on a listener.
///
/// # Errors
/// Those of the server.
pub fn serve(house: Arc<House>, listener: TcpListener) -> std::io::Result<Server> {
    let server = Server::build()
        .workers(2)
        // Those for whom there is no seat are accepted as well, to be told so.
        .max_concurrent_connections(house.config.connections + TURNED_AWAY)
        .disable_signals()
        .shutdown_timeout(1);
    let server = server.listen("devices", listener, move || {
        let data = web::Data::from(house.clone());
        let services = house.services();
        let app = App::new()
            .app_data(data)
            .app_data(web::PayloadConfig::new(256 << 10))
            .wrap(from_fn(gate::pass_through))
            // Some players double slashes (HTTP-8).
            .wrap(NormalizePath::new(TrailingSlash::MergeOnly))
            .configure(|config| about::routes(config, &services))
            .configure(|config| control::routes(config, &services))
            .configure(|config| subscribe::routes(config, &services))
            .configure(media::routes)
            .configure(pictures::routes);
        let http = HttpService::build()
            .keep_alive(KEEP_ALIVE)
            .client_request_timeout(HEAD_TIME)
            .on_connect_ext(remember)
            .finish(map_config(app.into_factory(), |()| AppConfig::default()))
            .tcp();
        straight::first(house.clone(), http)
    })?;
    Ok(server.run())
}

/// How long a connection may stay without a request (SOAP-16, HTTP-36).
const KEEP_ALIVE: Duration = Duration::from_secs(60);
/// How long a request's head may take (HTTP-9).
const HEAD_TIME: Duration = Duration::from_secs(10);
/// Connections that are turned away at one time, for each of the two workers; further ones wait.
const TURNED_AWAY: usize = 256;
