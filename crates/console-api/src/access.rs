//! Opening the console to the house, and closing it again.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use actix_web::dev::ServerHandle;
use actix_web::{get, post, put, web};
use mostra_api::{Code, ConsoleAccess};
use mostra_app::accounts::{Accounts, CODE};
use mostra_app::settings;
use mostra_net::listen;
use serde::Deserialize;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::JsonBody;
use super::certificate::CertificateError;
use super::guard::ListenerAddress;
use super::problem::ApiFailure;
use super::session::Caller;
use super::{ConsoleParts, Side, certificate, serve};

/// Whether the console can be reached from the house: not until a person opens it.
#[derive(Default)]
pub struct HouseAccess {
    /// Port of the console for the house.
    port: u16,
    open: tokio::sync::Mutex<Option<OpenConsole>>,
}

/// Why the console was not opened to the house.
#[derive(Debug, thiserror::Error)]
pub(crate) enum OpenError {
    /// There is no certificate to serve with.
    #[error(transparent)]
    Certificate(#[from] CertificateError),
    /// Its port cannot be used.
    #[error("{0}\n  {remedy}", remedy = .0.remedy())]
    Port(#[from] mostra_net::ListenError),
    /// It cannot be served.
    #[error("it cannot be served: {0}")]
    Served(#[from] std::io::Error),
}

struct OpenConsole {
    handles: Vec<ServerHandle>,
    addresses: Vec<String>,
    fingerprint: String,
}

impl HouseAccess {
    /// Closed; opened, the console is on this port.
    pub fn new(port: u16) -> HouseAccess {
        HouseAccess { port, open: tokio::sync::Mutex::default() }
    }

    /// Opens the console if the records say that it was open.
    pub async fn restore(&self, parts: &ConsoleParts) {
        if settings::console_is_open(&parts.context).await
            && let Err(problem) = self.open(parts).await
        {
            tracing::error!("the console stays closed to the house: {problem}");
        }
    }

    async fn open(&self, parts: &ConsoleParts) -> Result<(), OpenError> {
        let mut opened = self.open.lock().await;
        if opened.is_some() {
            return Ok(());
        }
        let ips: Vec<IpAddr> = parts.network.served().iter().map(|s| s.address.into()).collect();
        let certificate = certificate::load(parts.library.data(), &ips)?;
        // All are bound before any is served: it is open at every address or at none.
        let bound = ips.into_iter().map(|ip| {
            let place = SocketAddr::new(ip, self.port);
            let listener = listen("console for the house", "--house-port", place, None)?;
            let place = listener.local_addr()?;
            Ok((listener, format!("https://{place}")))
        });
        let bound = bound.collect::<Result<Vec<_>, OpenError>>()?;
        let (mut handles, mut addresses) = (Vec::new(), Vec::new());
        for (listener, address) in bound {
            let tls = Some(certificate.tls.clone());
            match serve(parts, listener, Side::House, tls) {
                Ok(handle) => handles.push(handle),
                Err(error) => {
                    stop(handles).await;
                    return Err(error.into());
                }
            }
            addresses.push(address);
        }
        tracing::info!("the console is open to the house at {}", addresses.join(", "));
        *opened = Some(OpenConsole { handles, addresses, fingerprint: certificate.fingerprint });
        Ok(())
    }

    /// Closes the console to the house.
    pub async fn close(&self) {
        if let Some(opened) = self.open.lock().await.take() {
            stop(opened.handles).await;
        }
    }

    async fn to_api(&self) -> ConsoleAccess {
        match &*self.open.lock().await {
            None => ConsoleAccess { open: false, addresses: vec![], fingerprint: None },
            Some(opened) => ConsoleAccess {
                open: true,
                addresses: opened.addresses.clone(),
                fingerprint: Some(opened.fingerprint.clone()),
            },
        }
    }
}

/// Stops listeners; dropping their handles would not.
async fn stop(handles: Vec<ServerHandle>) {
    for handle in handles {
        handle.stop(false).await;
    }
}

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(show).service(change).service(make_code);
}

/// Whether the console is to be open to the house.
#[derive(Deserialize, utoipa::ToSchema)]
#[schema(as = ConsoleWish)]
struct AccessChange {
    /// Whether it is.
    open: bool,
}

#[utoipa::path(
    operation_id = "getConsoleAccess",
    summary = "From where the console can be reached",
    responses((status = 200, body = mostra_api::ConsoleAccess))
)]
#[get("/console")]
async fn show(_: Caller, access: web::Data<HouseAccess>) -> web::Json<ConsoleAccess> {
    web::Json(access.to_api().await)
}

#[utoipa::path(
    operation_id = "setConsoleAccess",
    summary = "Open the console to the house, or close it",
    request_body = AccessChange,
    responses((status = 200, body = mostra_api::ConsoleAccess))
)]
#[put("/console")]
async fn change(
    _: Caller,
    wish: JsonBody<AccessChange>,
    parts: web::Data<ConsoleParts>,
    access: web::Data<HouseAccess>,
) -> Result<web::Json<ConsoleAccess>, ApiFailure> {
    let access = access.into_inner();
    if wish.0.open {
        access.open(&parts).await.map_err(|why| {
            ApiFailure::invalid("The console cannot be opened to the house").why(why.to_string())
        })?;
        settings::set_console_open(&parts.context, true).await?;
        return Ok(web::Json(access.to_api().await));
    }
    settings::set_console_open(&parts.context, false).await?;
    // The request may have come through the very listener that closes: answer first.
    let closing = access.clone();
    tokio::spawn(async move {
        tokio::time::sleep(Duration::from_millis(200)).await;
        closing.close().await;
    });
    Ok(web::Json(ConsoleAccess { open: false, addresses: vec![], fingerprint: None }))
}

/// A one-time code; only somebody on the host gets one.
#[utoipa::path(
    operation_id = "newCode",
    summary = "A one-time code for making an account",
    responses((status = 200, body = mostra_api::Code))
)]
#[post("/console/code")]
async fn make_code(
    _: Caller,
    place: web::Data<ListenerAddress>,
    accounts: web::Data<Accounts>,
) -> Result<web::Json<Code>, ApiFailure> {
    if place.side != Side::Loopback {
        return Err(ApiFailure::new(
            actix_web::http::StatusCode::FORBIDDEN,
            "Codes are shown on the host only",
        )
        .next("Run `mostra console code` on the host."));
    }
    Ok(web::Json(Code { code: accounts.new_code(), seconds: CODE.as_secs() as u32 }))
}
