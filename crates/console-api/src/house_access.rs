//! The console on the house's network: its listeners, which follow the host's addresses, and its
//! certificate.

use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::time::Duration;

use actix_web::dev::ServerHandle;
use mostra_api::ConsoleAccess;
use mostra_app::clock::ms;
use mostra_app::{Clock, settings};
use mostra_net::{ServedInterface, listen};

use super::certificate::{Certificate, CertificateError};
use super::{ConsoleParts, serve};

/// How often the host's addresses and the certificate are looked at.
const LOOK: Duration = Duration::from_secs(2);

/// Whether the console can be reached from the house: not until a person opens it.
pub struct HouseAccess {
    /// Port of the console for the house.
    port: u16,
    open: tokio::sync::Mutex<Option<OpenConsole>>,
}

/// Why the console was not opened to the house.
#[derive(Debug, thiserror::Error)]
pub(crate) enum OpenError {
    /// The host's addresses are not known.
    #[error("the host's interfaces cannot be listed: {0}")]
    Unlisted(std::io::Error),
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
    certificate: Certificate,
    listeners: BTreeMap<Ipv4Addr, OpenedListener>,
}

struct OpenedListener {
    handle: ServerHandle,
    place: SocketAddr,
}

impl OpenedListener {
    fn url(&self) -> String {
        format!("https://{}", self.place)
    }
}

impl HouseAccess {
    /// Closed; opened, the console is on this port of the interfaces that are served.
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

    pub(crate) async fn open(&self, parts: &ConsoleParts) -> Result<(), OpenError> {
        let mut opened = self.open.lock().await;
        if opened.is_some() {
            return Ok(());
        }
        let addresses = addresses(parts).map_err(OpenError::Unlisted)?;
        let certificate = Certificate::load(parts.library.data(), &addresses, now())?;
        // All are bound before any is served: it is open at every address or at none.
        let bound = addresses.into_iter().map(|address| Ok((address, self.bind(address)?)));
        let bound = bound.collect::<Result<Vec<_>, OpenError>>()?;
        let mut listeners = BTreeMap::new();
        for (address, listener) in bound {
            match begin(parts, listener, &certificate) {
                Ok(listener) => listeners.insert(address, listener),
                Err(error) => {
                    stop(listeners.into_values()).await;
                    return Err(error);
                }
            };
        }
        let open = OpenConsole { certificate, listeners };
        tracing::info!("the console is open to the house at {}", open.urls().join(", "));
        open.tell(parts);
        *opened = Some(open);
        Ok(())
    }

    fn bind(&self, address: Ipv4Addr) -> Result<std::net::TcpListener, mostra_net::ListenError> {
        let place = SocketAddr::from((address, self.port));
        listen("console for the house", "--house-port", place, None)
    }

    /// Follows the host's addresses while the console is open, and makes its certificate anew when
    /// that is due. Never ends.
    pub async fn follow(&self, parts: &ConsoleParts) {
        let mut look = tokio::time::interval(LOOK);
        look.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut failing = BTreeMap::new();
        loop {
            look.tick().await;
            let mut opened = self.open.lock().await;
            let (Some(open), Ok(addresses)) = (opened.as_mut(), addresses(parts)) else { continue };
            match open.certificate.renew_if_due(&addresses, now()) {
                Ok(false) => {}
                Ok(true) => {
                    let fingerprint = &open.certificate.facts().fingerprint;
                    tracing::warn!(
                        "the console has a new certificate, of which browsers warn once; its SHA-256 is {fingerprint}"
                    );
                    open.tell(parts);
                }
                Err(error) => note(&mut failing, Ipv4Addr::UNSPECIFIED, error.to_string()),
            }
            let gone = open.listeners.extract_if(.., |address, _| !addresses.contains(address));
            let gone: Vec<OpenedListener> = gone.map(|(_, listener)| listener).collect();
            let mut changed = !gone.is_empty();
            stop(gone).await;
            for address in addresses {
                if open.listeners.contains_key(&address) {
                    continue;
                }
                let bound = self.bind(address).map_err(OpenError::from);
                match bound.and_then(|listener| begin(parts, listener, &open.certificate)) {
                    Ok(listener) => {
                        tracing::info!("the console is open to the house at {}", listener.url());
                        open.listeners.insert(address, listener);
                        failing.remove(&address);
                        changed = true;
                    }
                    Err(error) => note(&mut failing, address, error.to_string()),
                }
            }
            if changed {
                open.tell(parts);
            }
        }
    }

    /// Closes the console to the house.
    pub async fn close(&self, parts: &ConsoleParts) {
        // Held until all has ended: who opens it again needs the same ports.
        let mut open = self.open.lock().await;
        if let Some(opened) = open.take() {
            parts.network.console.set_house(None);
            stop(opened.listeners.into_values()).await;
        }
    }

    pub(crate) async fn to_api(&self) -> ConsoleAccess {
        match &*self.open.lock().await {
            None => ConsoleAccess::default(),
            Some(opened) => {
                let facts = opened.certificate.facts();
                ConsoleAccess {
                    open: true,
                    addresses: opened.urls(),
                    fingerprint: Some(facts.fingerprint.clone()),
                    certificate_ends_ms: Some(facts.ends.unsigned_abs() * 1000),
                }
            }
        }
    }
}

impl OpenConsole {
    fn urls(&self) -> Vec<String> {
        self.listeners.values().map(OpenedListener::url).collect()
    }

    /// Tells whoever leads people to the console where it is.
    fn tell(&self, parts: &ConsoleParts) {
        let port = self.listeners.values().next().map(|listener| listener.place.port());
        parts.network.console.set_house(port);
        parts.context.changed(mostra_app::Topic::House);
    }
}

/// The host's addresses, whether or not the house is on.
fn addresses(parts: &ConsoleParts) -> std::io::Result<Vec<Ipv4Addr>> {
    let present = ServedInterface::present(&parts.network.wanted())?;
    Ok(present.into_iter().map(|interface| interface.address).collect())
}

/// Unix seconds.
fn now() -> i64 {
    i64::try_from(ms(Clock::wall()) / 1000).unwrap_or_default()
}

/// Says once what goes wrong at an address.
fn note(failing: &mut BTreeMap<Ipv4Addr, String>, address: Ipv4Addr, why: String) {
    if failing.get(&address) != Some(&why) {
        tracing::warn!("the console for the house: {why}");
        failing.insert(address, why);
    }
}

fn begin(
    parts: &ConsoleParts,
    listener: std::net::TcpListener,
    certificate: &Certificate,
) -> Result<OpenedListener, OpenError> {
    let place = listener.local_addr()?;
    let handle =
        serve(parts, super::ConsoleListener::House(listener, Box::new(certificate.tls()?)))?;
    Ok(OpenedListener { handle, place })
}

/// Stops listeners; dropping their handles would not.
async fn stop(listeners: impl IntoIterator<Item = OpenedListener>) {
    for listener in listeners {
        listener.handle.stop(false).await;
    }
}
