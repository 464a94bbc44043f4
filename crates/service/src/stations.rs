//! Passing stations on: the service connects, within the limits that the person set, and each
//! listener gets what comes from now on.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use actix_web::http::header;
use actix_web::{HttpResponse, HttpResponseBuilder};
use futures_util::StreamExt as _;
use mostra_core::interleaved::Interleaved;
use mostra_core::station::{Address, Allowed};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use crate::transfers::Transfer;

/// Listeners at a time.
const LISTENERS: usize = 32;
/// Redirections that are followed.
const HOPS: usize = 5;
const CONNECT: Duration = Duration::from_secs(5);
/// A station that sends nothing for this long has ended.
const SILENCE: Duration = Duration::from_secs(20);

/// A listener, from the first byte to the last.
struct Passing {
    _place: OwnedSemaphorePermit,
    transfer: Option<Arc<Transfer>>,
}

impl Drop for Passing {
    fn drop(&mut self) {
        if let Some(transfer) = &self.transfer {
            transfer.drop_rest();
        }
    }
}

/// Why a station is not heard.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotHeard {
    /// The person did not allow it.
    #[error("its host is not allowed")]
    Forbidden,
    /// Too many listen.
    #[error("too many listen already")]
    Busy,
    /// It does not answer, or with something else than sound.
    #[error("the station {0}")]
    Silent(String),
}

/// Passes stations on.
#[derive(Debug)]
pub struct Stations(Arc<Semaphore>);

impl Default for Stations {
    fn default() -> Stations {
        Stations(Arc::new(Semaphore::new(LISTENERS)))
    }
}

impl Stations {
    /// Connects to a station and writes what it sends into an answer; `begin` has it watched from
    /// then on. Where nobody was told its type before (`listed`), it is what the station says.
    ///
    /// # Errors
    /// [`NotHeard`], before anything of the answer is written.
    pub async fn pass_on(
        &self,
        address: &str,
        allowed: &Allowed,
        listed: Option<&str>,
        mut answer: HttpResponseBuilder,
        begin: impl FnOnce() -> Option<Arc<Transfer>>,
    ) -> Result<HttpResponse, NotHeard> {
        let place = self.0.clone().try_acquire_owned().map_err(|_| NotHeard::Busy)?;
        let mut address = Address::parse(address).ok_or(NotHeard::Forbidden)?;
        for _ in 0..HOPS {
            let heard = connect(&address, allowed).await?;
            let status = heard.status();
            if status.is_redirection() {
                let location = heard.headers().get("location").and_then(|l| l.to_str().ok());
                let next = location.and_then(|location| address.follow(location));
                address = next.ok_or_else(|| NotHeard::Silent("leads nowhere".into()))?;
                continue;
            }
            if !status.is_success() {
                return Err(NotHeard::Silent(format!("answers {}", status.as_u16())));
            }
            let kind = heard.headers().get("content-type").and_then(|k| k.to_str().ok());
            let kind = kind.unwrap_or("audio/mpeg").to_ascii_lowercase();
            if !kind.starts_with("audio/") && !kind.starts_with("application/ogg") {
                return Err(NotHeard::Silent("sends something else than sound".into()));
            }
            // Never asked for, yet some send them.
            let every = heard.headers().get("icy-metaint").and_then(|n| n.to_str().ok());
            let mut texts = every.and_then(Interleaved::every);
            let passing = Passing { _place: place, transfer: begin() };
            let pieces = heard.bytes_stream().map(move |piece| {
                let _listening = &passing;
                let piece = piece.map_err(std::io::Error::other)?;
                Ok::<_, std::io::Error>(match &mut texts {
                    Some(texts) => texts.sound(&piece).into(),
                    None => piece,
                })
            });
            answer.insert_header((header::CONTENT_TYPE, listed.unwrap_or(&kind)));
            return Ok(answer.streaming(pieces));
        }
        Err(NotHeard::Silent("leads around in a circle".into()))
    }
}

/// Connects to one address, of which each machine is looked at before it is spoken to.
async fn connect(address: &Address, allowed: &Allowed) -> Result<reqwest::Response, NotHeard> {
    if !allowed.covers(address) {
        return Err(NotHeard::Forbidden);
    }
    let silent = |why: &str| NotHeard::Silent(why.to_owned());
    let machines: Vec<IpAddr> = match address.host.parse() {
        Ok(machine) => vec![machine],
        Err(_) => {
            let found = tokio::net::lookup_host((address.host.as_str(), address.port));
            let found = tokio::time::timeout(CONNECT, found).await;
            let found = found.map_err(|_| silent("is not found"))?;
            found.map_err(|_| silent("is not found"))?.map(|a| a.ip()).collect()
        }
    };
    let machine = machines.into_iter().find(|machine| allowed.may_reach(address, *machine));
    let machine = SocketAddr::new(machine.ok_or(NotHeard::Forbidden)?, address.port);
    // The name is looked up once, here: a second look could say something else (SEC-12).
    let client = reqwest::Client::builder()
        .resolve(&address.host, machine)
        .redirect(reqwest::redirect::Policy::none())
        .no_proxy()
        .connect_timeout(CONNECT)
        .read_timeout(SILENCE)
        .user_agent(crate::house::server_field())
        .build()
        .map_err(|_| silent("cannot be asked"))?;
    client
        .get(address.written())
        .send()
        .await
        .map_err(|error| silent(if error.is_connect() { "does not answer" } else { "broke off" }))
}
