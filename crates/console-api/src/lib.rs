//! The console listener: API, console, login. Loopback until a person opens it to the house.

mod access;
mod accounts;
mod apply_house;
mod assets;
mod body;
mod catalogue;
mod certificate;
mod configuration;
mod device_view;
mod devices;
mod exposure;
mod folders;
mod guard;
mod handover;
mod handover_page;
mod host_socket;
mod house;
mod house_access;
mod house_file;
mod live;
mod media;
mod network;
mod network_calls;
mod openapi;
mod preflight;
mod presets;
mod problem;
mod recordings;
mod records;
mod seen_by;
mod session;
mod source_share;
mod streams;
mod support;
mod walkthroughs;
mod webhook;
mod words;

use std::net::{SocketAddr, TcpListener};
use std::os::unix::net::UnixListener;
use std::sync::Arc;
use std::time::Duration;

use actix_service::ServiceFactory;
use actix_web::dev::{ServerHandle, ServiceRequest, ServiceResponse};
use actix_web::middleware::from_fn;
use actix_web::{App, HttpServer, web};
use mostra_app::Context;
use mostra_app::accounts::Accounts;
use mostra_app::compute_pool::ComputePool;
use mostra_app::devices::Devices;
use mostra_app::host_load::HostLoad;
use mostra_app::library::Library;
use mostra_app::network::Network;
use mostra_app::preflight::PreflightChecks;
use mostra_app::saved_records::RecordFiles;
use mostra_app::streams::Streams;
use mostra_app::walkthroughs::Walkthroughs;
use mostra_net::{ListenError, listen};
use utoipa_actix_web::AppExt as _;

use source_share::SourceShare;

pub use configuration::{ConfigError, Configuration};
pub use host_socket::{SocketError, bind_socket};
pub use house_access::HouseAccess;
pub use openapi::document as openapi_document;

/// What the console listener is made of. Handlers are given the parts that they use.
#[derive(Clone)]
pub struct ConsoleParts {
    /// The clock, the records, and what changes.
    pub context: Context,
    /// Who may sign in.
    pub accounts: Arc<Accounts>,
    /// Devices.
    pub devices: Arc<Devices>,
    /// Folders and catalogue.
    pub library: Arc<Library>,
    /// Who the house is.
    pub network: Arc<Network>,
    /// What is on its way.
    pub streams: Arc<Streams>,
    /// How busy the host is.
    pub host_load: Arc<HostLoad>,
    /// What takes a processor for a while.
    pub pool: Arc<ComputePool>,
    /// The configuration, to be shown and changed.
    pub config: Arc<dyn Configuration>,
    /// The records as files.
    pub saved: Arc<RecordFiles>,
    /// Whether the console can be reached from the house.
    pub access: Arc<HouseAccess>,
    /// What stands in the way of devices.
    pub preflight: Arc<PreflightChecks>,
    /// Walking devices through.
    pub walkthroughs: Arc<Walkthroughs>,
}

/// Whether a listener serves loopback, or the house by TLS.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// This host only.
    Loopback,
    /// The house's network.
    House,
    /// People on this host, by a socket.
    Host,
}

/// Binds the console on loopback.
///
/// # Errors
/// [`ListenError`] with the remedy when the port is taken.
pub fn bind(port: u16) -> Result<TcpListener, ListenError> {
    listen("console", "--console-port", SocketAddr::from(([127, 0, 0, 1], port)), None)
}

/// The API, with what describes it.
fn api() -> utoipa_actix_web::scope::Scope<
    impl ServiceFactory<
        ServiceRequest,
        Config = (),
        Response = ServiceResponse,
        Error = actix_web::Error,
        InitError = (),
    >,
> {
    utoipa_actix_web::scope("/api/v1")
        .configure(session::routes)
        .configure(accounts::routes)
        .configure(house::routes)
        .configure(configuration::routes)
        .configure(recordings::routes)
        .configure(records::routes)
        .configure(access::routes)
        .configure(folders::routes)
        .configure(catalogue::routes)
        .configure(devices::routes)
        .configure(network::routes)
        .configure(network_calls::routes)
        .configure(streams::routes)
        .configure(live::routes)
        .configure(words::routes)
        .configure(webhook::routes)
        .configure(seen_by::routes)
        .configure(preflight::routes)
        .configure(walkthroughs::routes)
        .configure(handover::routes)
        .configure(support::routes)
        .configure(house_file::routes)
        .configure(presets::routes)
        .configure(exposure::routes)
        .configure(media::routes)
        .route("/openapi.json", web::get().to(openapi::serve))
        .default_service(web::to(openapi::not_served))
}

/// Where the console listens.
pub enum ConsoleListener {
    /// On loopback, for browsers on this host.
    Loopback(TcpListener),
    /// In the house, by TLS.
    House(TcpListener, Box<rustls::ServerConfig>),
    /// By a socket, for people on this host.
    Host(UnixListener),
}

/// Connections at once, and of those the ones that one source may have.
const CONNECTIONS: usize = 256;
const OF_ONE_SOURCE: usize = 64;

/// Serves the console on a listener until the handle stops it.
///
/// # Errors
/// Those of the server.
pub fn serve(parts: &ConsoleParts, listener: ConsoleListener) -> std::io::Result<ServerHandle> {
    let (side, place) = match &listener {
        ConsoleListener::Loopback(listener) => (Side::Loopback, listener.local_addr()?),
        ConsoleListener::House(listener, _) => (Side::House, listener.local_addr()?),
        // It has no address, and none of its answers names one.
        ConsoleListener::Host(_) => (Side::Host, SocketAddr::from(([127, 0, 0, 1], 0))),
    };
    let parts = parts.clone();
    let sources = SourceShare::new(OF_ONE_SOURCE);
    let server = HttpServer::new(move || {
        let parts = parts.clone();
        App::new()
            .app_data(web::Data::new(parts.clone()))
            .app_data(web::Data::new(parts.context))
            .app_data(web::Data::from(parts.accounts))
            .app_data(web::Data::from(parts.devices))
            .app_data(web::Data::from(parts.library))
            .app_data(web::Data::from(parts.network))
            .app_data(web::Data::from(parts.streams))
            .app_data(web::Data::from(parts.host_load))
            .app_data(web::Data::from(parts.pool))
            .app_data(web::Data::from(parts.config))
            .app_data(web::Data::from(parts.saved))
            .app_data(web::Data::from(parts.preflight))
            .app_data(web::Data::from(parts.access))
            .app_data(web::Data::from(parts.walkthroughs))
            .app_data(web::Data::new(guard::ListenerAddress { side, address: place }))
            .app_data(web::PathConfig::default().error_handler(problem::unreadable_path))
            .app_data(web::QueryConfig::default().error_handler(problem::unreadable_query))
            .wrap(from_fn(guard::check))
            .into_utoipa_app()
            .service(api())
            .into_app()
            .default_service(web::get().to(assets::serve))
    })
    .workers(1)
    .keep_alive(Duration::from_secs(60))
    .client_request_timeout(Duration::from_secs(10))
    .max_connections(CONNECTIONS)
    .on_connect(move |stream, data| {
        host_socket::note_peer(stream, data);
        // On loopback all have one address.
        if side == Side::House {
            sources.note(stream, data);
        }
    })
    .disable_signals()
    .shutdown_timeout(1);
    let server = match listener {
        ConsoleListener::Loopback(listener) => server.listen(listener)?,
        ConsoleListener::House(listener, tls) => server.listen_rustls_0_23(listener, *tls)?,
        ConsoleListener::Host(listener) => server.listen_uds(listener)?,
    };
    let server = server.run();
    let handle = server.handle();
    tokio::spawn(server);
    Ok(handle)
}
