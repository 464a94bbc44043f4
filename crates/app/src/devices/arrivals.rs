//! Telling a program of the household's own that a device waits.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use mostra_core::Moment;
use mostra_core::ids::DeviceId;
use mostra_core::webhook::{self, PAUSES};
use mostra_net::http::{Bounds, Client, HttpOptions, Method};
use mostra_store::StoreError;
use serde_json::json;
use tokio::sync::mpsc;

use super::Devices;
use crate::Topic;
use crate::network::Network;

const BOUNDS: Bounds =
    Bounds { connect: Duration::from_secs(3), whole: Some(Duration::from_secs(10)), silence: None };
/// Arrivals that wait to be told; those beyond are not.
const WAITING: usize = 64;
/// The setting that holds the address.
const SETTING: &str = "webhook";

/// How telling went the last time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LastTold {
    /// When.
    pub at: Moment,
    /// What went wrong; nothing if it was taken.
    pub problem: Option<String>,
}

/// Arrivals on their way to be told.
#[derive(Debug)]
pub(super) struct Arrivals {
    sender: mpsc::Sender<DeviceId>,
    /// Held by the task that tells them, and by the next one if that ends.
    receiver: tokio::sync::Mutex<mpsc::Receiver<DeviceId>>,
    last: Mutex<Option<LastTold>>,
}

impl Default for Arrivals {
    fn default() -> Arrivals {
        let (sender, receiver) = mpsc::channel(WAITING);
        Arrivals { sender, receiver: tokio::sync::Mutex::new(receiver), last: Mutex::default() }
    }
}

impl Arrivals {
    /// A device came to wait. Never waits itself.
    pub(super) fn came(&self, id: DeviceId) {
        let _ = self.sender.try_send(id);
    }
}

impl Devices {
    /// Where arrivals are told to.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer.
    pub async fn webhook(&self) -> Result<Option<String>, StoreError> {
        let text = self.context.records.setting(SETTING).await?;
        Ok(text.filter(|text| !text.is_empty()))
    }

    /// Tells arrivals to another address, or to none.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_webhook(&self, url: Option<&str>) -> Result<(), StoreError> {
        self.context.records.set_setting(SETTING, url.unwrap_or_default()).await?;
        *self.last_told_mut() = None;
        self.context.changed(Topic::House);
        Ok(())
    }

    /// How telling went the last time.
    pub fn last_told(&self) -> Option<LastTold> {
        self.last_told_mut().clone()
    }

    fn last_told_mut(&self) -> std::sync::MutexGuard<'_, Option<LastTold>> {
        self.arrivals.last.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Tells arrivals until the house stops, one after the other.
pub async fn run(devices: Arc<Devices>, network: Arc<Network>) {
    let mut receiver = devices.arrivals.receiver.lock().await;
    while let Some(id) = receiver.recv().await {
        let Ok(Some(text)) = devices.webhook().await else { continue };
        // It was checked when it was set; what the records hold is checked again.
        let Ok(url) = webhook::read(&text) else { continue };
        let Some(device) = devices.book().get(id).cloned() else { continue };
        let body = json!({
            "event": "device-waiting",
            "house": network.name(),
            "device": device.id,
            "label": device.label(),
            "address": device.address().to_string(),
            "hardware": device.hardware().map(|hardware| hardware.to_string()),
            "calls_itself": device.user_agent,
            "at_ms": crate::clock::ms(devices.context.now()),
        });
        let problem = tell(url.as_str(), &body.to_string()).await.err();
        if let Some(why) = &problem {
            // The rest of it may hold a secret.
            let host = url.host_str().unwrap_or_default();
            tracing::warn!("an arrival was not told to {host}: {why}");
        }
        *devices.last_told_mut() = Some(LastTold { at: devices.context.now(), problem });
        devices.context.changed(Topic::House);
    }
}

/// Tells it, three times at most.
async fn tell(url: &str, body: &str) -> Result<(), String> {
    let client = Client::new(&BOUNDS, &HttpOptions::default()).map_err(|e| e.to_string())?;
    let mut pauses = PAUSES.into_iter();
    loop {
        let fields = [("Content-Type", "application/json")];
        let sent = client.send(Method::POST, url, &fields, body.to_owned()).await;
        let why = match sent {
            Ok(answer) if answer.status().is_success() => return Ok(()),
            Ok(answer) => format!("it answers {}", answer.status()),
            Err(error) => error.to_string(),
        };
        let Some(pause) = pauses.next() else { return Err(why) };
        tokio::time::sleep(pause).await;
    }
}
