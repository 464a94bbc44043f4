//! device decisions, undo, wait, active.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use mostra_api::{ActiveDevice, Decision, Device};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::output::{Output, table, time};

/// The decisions on a device.
pub(crate) async fn decisions(
    connection: &Connection,
    output: &Output,
    device: &Device,
) -> Result<(), Failure> {
    let path = format!("/devices/{}/decisions", device.id);
    let all: Vec<Decision> = connection.get(&path).await?;
    output.print(&all, |all| {
        if all.is_empty() {
            return format!("Nobody decided on {} yet.", device.label);
        }
        let row = |decision: &Decision| {
            vec![
                time(decision.at_ms),
                decision.who.clone(),
                decision.what.clone(),
                decision.why.clone().unwrap_or_default(),
            ]
        };
        table(&["when", "who", "what", "why"], all.iter().map(row))
    })
}

/// Undoes the last decision on a device.
pub(crate) async fn undo(
    connection: &Connection,
    output: &Output,
    device: &Device,
) -> Result<(), Failure> {
    let none: Option<&()> = None;
    let path = format!("/devices/{}/undo", device.id);
    let device: Device = connection.change(Method::POST, &path, none).await?;
    output.print(&device, |d| format!("{} is {} again.", d.label, d.standing))
}

/// Prints what devices do as they do it.
pub(crate) async fn active(
    connection: &Connection,
    output: &Output,
    seconds: Option<u64>,
) -> Result<(), Failure> {
    let end = seconds.map(|seconds| Instant::now() + Duration::from_secs(seconds));
    let mut last: HashMap<u32, (u64, String)> = HashMap::new();
    loop {
        let mut active: Vec<ActiveDevice> = connection.get("/active-devices").await?;
        active.sort_by_key(|device| device.at_ms);
        for device in active {
            let now = (device.at_ms, device.what.clone());
            if last.get(&device.id) != Some(&now) {
                last.insert(device.id, now);
                output.print_line(&device, |d| {
                    format!(
                        "{}  {} ({}, number {}) {}",
                        time(d.at_ms),
                        d.label,
                        d.address,
                        d.id,
                        d.what
                    )
                })?;
            }
        }
        if end.is_some_and(|end| Instant::now() > end) {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
}

/// Waits until a device waits for a decision, and says which.
pub(crate) async fn wait(
    connection: &Connection,
    output: &Output,
    seconds: u64,
) -> Result<(), Failure> {
    let end = Instant::now() + Duration::from_secs(seconds);
    loop {
        let devices: Vec<Device> = connection.get("/devices").await?;
        if let Some(device) = devices.into_iter().find(|device| device.standing == "waiting") {
            return output.print(&device, |d| {
                format!(
                    "{} at {} waits (number {}).\nLet it in: mostra device admit {}",
                    d.label, d.address, d.id, d.id
                )
            });
        }
        if Instant::now() > end {
            return Err(Failure::new(
                format!("no device came to wait within {seconds} s"),
                "Open the source or server menu on the device; mostra device directions says where.",
            ));
        }
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
}
