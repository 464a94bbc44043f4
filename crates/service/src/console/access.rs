//! Opening the console to the house, and closing it again.

use std::net::{IpAddr, SocketAddr, TcpListener};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use actix_web::dev::ServerHandle;
use actix_web::{get, post, put, web};
use mostra_api::{Code, ConsoleAccess};
use serde::Deserialize;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::Body;
use super::guard::Place;
use super::problem::Failure;
use super::session::Caller;
use super::{Side, certificate, serve};
use crate::house::House;
use crate::random::random_word;

/// For how long a one-time code counts.
const CODE: Duration = Duration::from_secs(600);

/// The console's door to the house: closed until a person opens it.
#[derive(Default)]
pub struct ConsoleDoor {
    open: tokio::sync::Mutex<Option<Opened>>,
    code: Mutex<Option<(String, Instant)>>,
}

struct Opened {
    handles: Vec<ServerHandle>,
    addresses: Vec<String>,
    fingerprint: String,
}

impl ConsoleDoor {
    /// A new code for making one account; an earlier one counts no more.
    pub fn new_code(&self) -> String {
        let code = random_word(8);
        *self.code.lock().unwrap_or_else(PoisonError::into_inner) =
            Some((code.clone(), Instant::now()));
        code
    }

    /// Uses a code up; false if it is wrong or too old.
    pub fn use_code(&self, code: &str) -> bool {
        let mut kept = self.code.lock().unwrap_or_else(PoisonError::into_inner);
        let typed: String = code.to_lowercase().chars().filter(|c| c.is_alphanumeric()).collect();
        let fits = kept.as_ref().is_some_and(|(c, made)| *c == typed && made.elapsed() < CODE);
        if fits {
            *kept = None;
        }
        fits
    }

    /// Opens the door if the records say that it was open.
    pub async fn restore(self: &Arc<Self>, house: &Arc<House>) {
        if matches!(house.records.setting("console_open").await, Ok(Some(open)) if open == "true")
            && let Err(problem) = self.open(house).await
        {
            tracing::error!("the console stays closed to the house: {problem}");
        }
    }

    async fn open(self: &Arc<Self>, house: &Arc<House>) -> Result<(), String> {
        let mut opened = self.open.lock().await;
        if opened.is_some() {
            return Ok(());
        }
        let ips: Vec<IpAddr> = house.served().iter().map(|s| s.address.into()).collect();
        let certificate = certificate::load(&house.config.data, &ips)?;
        // All are bound before any is served: it is open at every address or at none.
        let bound = ips.into_iter().map(|ip| {
            let place = SocketAddr::new(ip, house.config.house_port);
            let listener = TcpListener::bind(place).map_err(|e| {
                super::port_trouble("console for the house", "--house-port", place, &e).to_string()
            })?;
            let place = listener.local_addr().map_err(|e| e.to_string())?;
            Ok((listener, format!("https://{place}")))
        });
        let bound = bound.collect::<Result<Vec<_>, String>>()?;
        let (mut handles, mut addresses) = (Vec::new(), Vec::new());
        for (listener, address) in bound {
            let tls = Some(certificate.tls.clone());
            match serve(house.clone(), self.clone(), listener, Side::House, tls) {
                Ok(handle) => handles.push(handle),
                Err(error) => {
                    stop(handles).await;
                    return Err(error.to_string());
                }
            }
            addresses.push(address);
        }
        tracing::info!("the console is open to the house at {}", addresses.join(", "));
        *opened = Some(Opened { handles, addresses, fingerprint: certificate.fingerprint });
        Ok(())
    }

    /// Closes the door.
    pub async fn close(&self) {
        if let Some(opened) = self.open.lock().await.take() {
            stop(opened.handles).await;
        }
    }

    async fn told(&self) -> ConsoleAccess {
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

pub fn routes(config: &mut ServiceConfig<'_>) {
    config.service(show).service(change).service(make_code);
}

/// Whether the console is to be open to the house.
#[derive(Deserialize, utoipa::ToSchema)]
#[schema(as = ConsoleWish)]
struct Wish {
    /// Whether it is.
    open: bool,
}

#[utoipa::path(
    operation_id = "getConsoleAccess",
    summary = "From where the console can be reached",
    responses((status = 200, body = mostra_api::ConsoleAccess))
)]
#[get("/console")]
async fn show(_: Caller, door: web::Data<ConsoleDoor>) -> web::Json<ConsoleAccess> {
    web::Json(door.told().await)
}

#[utoipa::path(
    operation_id = "setConsoleAccess",
    summary = "Open the console to the house, or close it",
    request_body = Wish,
    responses((status = 200, body = mostra_api::ConsoleAccess))
)]
#[put("/console")]
async fn change(
    _: Caller,
    wish: Body<Wish>,
    house: web::Data<House>,
    door: web::Data<ConsoleDoor>,
) -> Result<web::Json<ConsoleAccess>, Failure> {
    let door = door.into_inner();
    if wish.0.open {
        door.open(&house.clone().into_inner()).await.map_err(|why| {
            Failure::invalid("The console cannot be opened to the house").why(why)
        })?;
        house.records.set_setting("console_open", "true").await?;
        return Ok(web::Json(door.told().await));
    }
    house.records.set_setting("console_open", "false").await?;
    // The request may have come through the very door that closes: answer first.
    let closing = door.clone();
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
    place: web::Data<Place>,
    door: web::Data<ConsoleDoor>,
) -> Result<web::Json<Code>, Failure> {
    if place.side != Side::Loopback {
        return Err(Failure::new(
            actix_web::http::StatusCode::FORBIDDEN,
            "Codes are shown on the host only",
        )
        .next("Run `mostra house code` on the host."));
    }
    Ok(web::Json(Code { code: door.new_code(), seconds: CODE.as_secs() as u32 }))
}
