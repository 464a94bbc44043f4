//! The device listener: only what the standards need, no login; standing decides.
//!
//! Every request takes one road: who is asking (`gate`), the decision, the answer in the form
//! that this device reaches us by, and a sighting.

mod connection_limit;
mod control;
mod description;
mod gate;
mod heard;
mod media;
mod recorder;
mod reject;
mod sendfile;
mod subscribe;

use std::cell::Cell;
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
use mostra_app::Clock;
use mostra_app::compute_pool::ComputePool;
use mostra_app::devices::Devices;
use mostra_app::library::Library;
use mostra_app::network::{Network, Subscriptions};
use mostra_app::streams::Streams;
use mostra_net::{ListenError, TcpProbe, listen};

use connection_limit::ConnectionLimit;

/// What the device listener is made of. Handlers are given the parts that they use.
#[derive(Clone)]
pub struct DirectoryParts {
    /// The clock.
    pub clock: Clock,
    /// Who asks.
    pub devices: Arc<Devices>,
    /// What there is.
    pub library: Arc<Library>,
    /// Who we are.
    pub network: Arc<Network>,
    /// What is on its way.
    pub streams: Arc<Streams>,
    /// Who is told of changes.
    pub subscriptions: Arc<Subscriptions>,
    /// What takes a processor for a while.
    pub pool: Arc<ComputePool>,
}

/// A device's connection, kept by the server for as long as it is open.
pub struct DeviceConnection {
    /// Our end.
    pub local: SocketAddrV4,
    /// The device's end.
    pub peer: SocketAddrV4,
    /// What the kernel knows of it.
    pub probe: Arc<TcpProbe>,
}

impl Drop for DeviceConnection {
    fn drop(&mut self) {
        // The server drops this before it closes the socket.
        self.probe.close();
    }
}

impl DeviceConnection {
    fn of(stream: &TcpStream) -> Option<DeviceConnection> {
        let (Ok(SocketAddr::V4(local)), Ok(SocketAddr::V4(peer))) =
            (stream.local_addr(), stream.peer_addr())
        else {
            return None;
        };
        Some(DeviceConnection { local, peer, probe: Arc::new(TcpProbe::new(stream.as_raw_fd())) })
    }
}

tokio::task_local! {
    /// The connection that is handed over to the server together with its socket.
    static HANDED_OVER: Cell<Option<DeviceConnection>>;
}

fn remember(_: &TcpStream, extensions: &mut Extensions) {
    if let Ok(Some(connection)) = HANDED_OVER.try_with(Cell::take) {
        extensions.insert(connection);
    }
}

/// Bytes in the kernel's queue to one device that it does not take yet. How much is on the way to
/// one that does, the kernel decides; one that pauses holds no more than this.
const UNSENT: u32 = 256 << 10;

/// Binds the device listener on an interface's address.
///
/// # Errors
/// [`ListenError`] with the remedy when the port is taken.
pub fn bind(address: Ipv4Addr, port: u16) -> Result<TcpListener, ListenError> {
    listen("device listener", "--device-port", SocketAddr::from((address, port)), Some(UNSENT))
}

/// Serves devices on any number of listeners, which share one limit on connections.
pub struct DirectoryListener {
    parts: DirectoryParts,
    connections: Arc<ConnectionLimit>,
    most: usize,
}

impl DirectoryListener {
    /// For so many connections at once (HTTP-32).
    pub fn new(parts: DirectoryParts, most: usize) -> DirectoryListener {
        DirectoryListener { parts, connections: Arc::new(ConnectionLimit::new(most)), most }
    }

    /// Serves devices on a listener.
    ///
    /// # Errors
    /// Those of the server.
    pub fn serve(&self, listener: TcpListener) -> std::io::Result<Server> {
        let server = Server::build()
            .workers(2)
            // Those for whom there is no room are accepted as well, to be told so.
            .max_concurrent_connections(self.most + TURNED_AWAY)
            .disable_signals()
            .shutdown_timeout(1);
        let (parts, connections) = (self.parts.clone(), self.connections.clone());
        let server = server.listen("devices", listener, move || {
            let parts = parts.clone();
            let services = parts.network.services();
            let app = App::new()
                .app_data(web::Data::new(parts.clock))
                .app_data(web::Data::from(parts.devices.clone()))
                .app_data(web::Data::from(parts.library.clone()))
                .app_data(web::Data::from(parts.network.clone()))
                .app_data(web::Data::from(parts.streams.clone()))
                .app_data(web::Data::from(parts.subscriptions.clone()))
                .app_data(web::Data::from(parts.pool.clone()))
                .wrap(from_fn(gate::pass_through))
                // Some players double slashes (HTTP-8).
                .wrap(NormalizePath::new(TrailingSlash::MergeOnly))
                .configure(|config| description::routes(config, &services))
                .configure(|config| control::routes(config, &services))
                .configure(|config| subscribe::routes(config, &services))
                .configure(media::routes);
            let http = HttpService::build()
                .keep_alive(KEEP_ALIVE)
                .client_request_timeout(HEAD_TIME)
                .on_connect_ext(remember)
                .finish(map_config(app.into_factory(), |()| AppConfig::default()))
                .tcp();
            sendfile::accept(parts, connections.clone(), http)
        })?;
        Ok(server.run())
    }
}

/// How long a connection may stay without a request (SOAP-16, HTTP-36).
const KEEP_ALIVE: Duration = Duration::from_secs(60);
/// How long a request's head may take (HTTP-9).
const HEAD_TIME: Duration = Duration::from_secs(10);
/// Connections that are turned away at one time, for each of the two workers; further ones wait.
const TURNED_AWAY: usize = 256;
