//! Passing stations on: the service connects, within the limits that the person set, and each
//! listener gets what comes from now on.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use futures_util::{Stream, StreamExt as _, stream};
use mostra_core::icy_metadata::IcyMetadata;
use mostra_core::station::{Address, Allowed};
use mostra_net::http::{Bounds, Client, HttpOptions, Method, RequestError, Response};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc};

use crate::network::server_field;

/// Listeners at a time.
const LISTENERS: usize = 32;
/// Redirections that are followed.
const HOPS: usize = 5;
/// What of a station is kept for a listener that is slow for a moment: so many pieces of so many bytes.
const KEPT_PIECES: usize = 16;
const PIECE: usize = 16 << 10;
/// How long a listener may take nothing while as much is kept for it.
const BEHIND: Duration = Duration::from_secs(20);
/// A station that sends nothing for this long has ended.
const BOUNDS: Bounds =
    Bounds { connect: Duration::from_secs(5), whole: None, silence: Some(Duration::from_secs(20)) };

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

/// A station that is heard.
pub struct Broadcast {
    /// Its type as the station says.
    pub mime: String,
    answer: Response,
    every: Option<IcyMetadata>,
    place: OwnedSemaphorePermit,
}

impl Broadcast {
    /// What it sends from now on; `listening` is dropped with the last of it. A listener that falls
    /// behind by more than is kept for it, and stays so, hears no more (HTTP-30).
    pub fn sound<T: Send + 'static>(self, listening: T) -> impl Stream<Item = io::Result<Bytes>> {
        let Broadcast { answer, mut every, place, .. } = self;
        let (sender, pieces) = mpsc::channel(KEPT_PIECES);
        tokio::spawn(async move {
            let mut sent = answer.bytes_stream();
            loop {
                let piece = tokio::select! {
                    piece = sent.next() => piece,
                    () = sender.closed() => return,
                };
                let Some(piece) = piece else { return };
                let sound: io::Result<Bytes> = piece.map_err(io::Error::other).map(|piece| {
                    every.as_mut().map_or(piece.clone(), |every| every.sound(&piece).into())
                });
                let failed = sound.is_err();
                if !in_time(&sender, sound).await || failed {
                    return;
                }
            }
        });
        stream::unfold((pieces, place, listening), |(mut pieces, place, listening)| async move {
            let piece = pieces.recv().await?;
            Some((piece, (pieces, place, listening)))
        })
    }
}

/// Hands a listener what a station sent, in small pieces; false for one that falls behind.
async fn in_time(sender: &mpsc::Sender<io::Result<Bytes>>, sound: io::Result<Bytes>) -> bool {
    let mut rest = match sound {
        Ok(sound) => sound,
        Err(error) => return sender.send(Err(error)).await.is_ok(),
    };
    while !rest.is_empty() {
        let piece = rest.split_to(rest.len().min(PIECE));
        match tokio::time::timeout(BEHIND, sender.send(Ok(piece))).await {
            Ok(Ok(())) => {}
            _ => return false,
        }
    }
    true
}

impl Stations {
    /// Connects to a station.
    ///
    /// # Errors
    /// [`NotHeard`] when there is nothing to hear.
    pub async fn hear(&self, address: &str, allowed: &Allowed) -> Result<Broadcast, NotHeard> {
        let place = self.0.clone().try_acquire_owned().map_err(|_| NotHeard::Busy)?;
        let mut address = Address::parse(address).ok_or(NotHeard::Forbidden)?;
        for _ in 0..HOPS {
            let answer = connect(&address, allowed).await?;
            let field = |name: &str| answer.headers().get(name).and_then(|v| v.to_str().ok());
            let status = answer.status();
            if status.is_redirection() {
                let next = field("location").and_then(|location| address.follow(location));
                address = next.ok_or_else(|| NotHeard::Silent("leads nowhere".into()))?;
                continue;
            }
            if !status.is_success() {
                return Err(NotHeard::Silent(format!("answers {}", status.as_u16())));
            }
            let mime = field("content-type").unwrap_or("audio/mpeg").to_ascii_lowercase();
            if !mime.starts_with("audio/") && !mime.starts_with("application/ogg") {
                return Err(NotHeard::Silent("sends something else than sound".into()));
            }
            // Never asked for, yet some send them.
            let every = field("icy-metaint").and_then(IcyMetadata::every);
            return Ok(Broadcast { mime, answer, every, place });
        }
        Err(NotHeard::Silent("leads around in a circle".into()))
    }
}

/// Connects to one address, of which each machine is looked at before it is spoken to.
async fn connect(address: &Address, allowed: &Allowed) -> Result<Response, NotHeard> {
    if !allowed.covers(address) {
        return Err(NotHeard::Forbidden);
    }
    let silent = |why: &str| NotHeard::Silent(why.to_owned());
    let machines: Vec<IpAddr> = match address.host().parse() {
        Ok(machine) => vec![machine],
        Err(_) => {
            let found = tokio::net::lookup_host((address.host(), address.port()));
            let found = tokio::time::timeout(BOUNDS.connect, found).await;
            let found = found.map_err(|_| silent("is not found"))?;
            found.map_err(|_| silent("is not found"))?.map(|a| a.ip()).collect()
        }
    };
    let machine = machines.into_iter().find(|machine| allowed.may_reach(address, *machine));
    let machine = SocketAddr::new(machine.ok_or(NotHeard::Forbidden)?, address.port());
    let options = HttpOptions {
        user_agent: Some(server_field()),
        // The name is looked up once, here: a second look could say something else (SEC-12).
        resolved: Some((address.host(), machine)),
        ..HttpOptions::default()
    };
    let client = Client::new(&BOUNDS, &options).map_err(|_| silent("cannot be asked"))?;
    let sent = client.send(Method::GET, &address.written(), &[], Bytes::new()).await;
    sent.map_err(|error| match error {
        RequestError::Unreachable(_) => silent("does not answer"),
        _ => silent("broke off"),
    })
}
