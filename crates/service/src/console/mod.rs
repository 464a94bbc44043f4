//! The console listener: API, console, login. Loopback until a person opens it to the house.

mod access;
mod accounts;
mod assets;
mod body;
mod catalogue;
mod certificate;
mod devices;
mod folders;
mod guard;
mod house;
mod live;
mod media;
mod openapi;
mod password;
mod places;
mod problem;
mod session;
mod streams;

use std::net::{SocketAddr, TcpListener};
use std::sync::Arc;
use std::time::Duration;

use actix_service::ServiceFactory;
use actix_web::dev::ServerHandle;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::middleware::from_fn;
use actix_web::{App, HttpServer, web};

use utoipa_actix_web::AppExt as _;

use crate::house::House;
use crate::trouble::Trouble;

pub use access::ConsoleDoor;
pub use accounts::is_account_name;
pub use openapi::document as openapi_document;
pub use password::{check as check_password, hash_now};

/// Whether a listener serves loopback, or the house by TLS.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// This host only.
    Loopback,
    /// The house's network.
    House,
}

/// What a taken or forbidden port means, with the remedy.
pub fn port_trouble(what: &str, flag: &str, place: SocketAddr, error: &std::io::Error) -> Trouble {
    let remedy = match error.kind() {
        std::io::ErrorKind::AddrInUse => format!(
            "Another program, or another mostrad, has that port. `ss -ltnp 'sport = :{}'` names it; or choose another with {flag}.",
            place.port()
        ),
        std::io::ErrorKind::PermissionDenied => {
            format!("Choose a port of 1024 or above with {flag}.")
        }
        _ => format!("Check the address, or choose another port with {flag}."),
    };
    Trouble::new(format!("the {what} cannot use {place}: {error}"), &remedy)
}

/// Binds the console on loopback.
///
/// # Errors
/// [`Trouble`] with the remedy when the port is taken.
pub fn bind(port: u16) -> Result<TcpListener, Trouble> {
    let place = SocketAddr::from(([127, 0, 0, 1], port));
    TcpListener::bind(place).map_err(|e| port_trouble("console", "--console-port", place, &e))
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
        .configure(access::routes)
        .configure(folders::routes)
        .configure(catalogue::routes)
        .configure(devices::routes)
        .configure(streams::routes)
        .configure(live::routes)
        .configure(media::routes)
        .route("/openapi.json", web::get().to(openapi::serve))
        .default_service(web::to(openapi::not_served))
}

/// Serves the console on a listener until the handle stops it.
///
/// # Errors
/// Those of the server.
pub fn serve(
    house: Arc<House>,
    door: Arc<ConsoleDoor>,
    listener: TcpListener,
    side: Side,
    tls: Option<rustls::ServerConfig>,
) -> std::io::Result<ServerHandle> {
    let place = listener.local_addr()?;
    let (house, door) = (web::Data::from(house), web::Data::from(door));
    let limits = web::Data::new(password::Attempts::default());
    let server = HttpServer::new(move || {
        App::new()
            .app_data(house.clone())
            .app_data(door.clone())
            .app_data(limits.clone())
            .app_data(web::Data::new(guard::Place { side, address: place }))
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
    .max_connections(256)
    .disable_signals()
    .shutdown_timeout(1);
    let server = match tls {
        Some(tls) => server.listen_rustls_0_23(listener, tls)?,
        None => server.listen(listener)?,
    };
    let server = server.run();
    let handle = server.handle();
    tokio::spawn(server);
    Ok(handle)
}
