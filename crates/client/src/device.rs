//! device list, show, admit, refuse, forget, name.

use clap::Subcommand;
use mostra_api::{DecisionRequest, Device, DeviceName, ProofStep};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::output::{Output, bytes, sure, table, time};

#[derive(Debug, Subcommand)]
pub enum Verb {
    /// List devices; those that wait come first
    List,
    /// Show a device with its proof, step by step
    Show {
        /// Its number, name, address or hardware address
        device: String,
    },
    /// Let a device in
    Admit {
        /// Its number, name, address or hardware address
        device: String,
        /// The kinds it may see
        #[arg(long, value_delimiter = ',', default_value = "video,music,picture")]
        kinds: Vec<String>,
        /// A name for it
        #[arg(long)]
        name: Option<String>,
    },
    /// Keep a device out
    Refuse {
        /// Its number, name, address or hardware address
        device: String,
    },
    /// Forget a device and its proof; it is met anew when it comes back
    Forget {
        /// Its number, name, address or hardware address
        device: String,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// Give a device a name
    Name {
        /// Its number, name, address or hardware address
        device: String,
        /// The name
        name: String,
    },
}

pub async fn run(connection: &Connection, output: &Output, verb: Verb) -> Result<(), Failure> {
    match verb {
        Verb::List => {
            let devices: Vec<Device> = connection.get("/devices").await?;
            output.print(&devices, |devices| {
                if devices.is_empty() {
                    return "No device has asked yet. Open the source or server menu on a television.".into();
                }
                table(&["no", "device", "standing", "address", "proof", "last seen"], devices.iter().map(row))
            })
        }
        Verb::Show { device } => {
            let device = find(connection, &device).await?;
            output.print(&device, show)
        }
        Verb::Admit { device, kinds, name } => {
            let request = DecisionRequest { standing: "admitted".into(), kinds: Some(kinds), name };
            decide(connection, output, &device, &request).await
        }
        Verb::Refuse { device } => {
            let request = DecisionRequest { standing: "refused".into(), kinds: None, name: None };
            decide(connection, output, &device, &request).await
        }
        Verb::Forget { device, yes } => {
            let device = find(connection, &device).await?;
            if !yes && !sure(&format!("Forget {} and its proof?", device.label)) {
                return Err(Failure::new(
                    "nothing was forgotten",
                    "Say --yes to forget without being asked.",
                ));
            }
            connection.remove(&format!("/devices/{}", device.id)).await?;
            output.print(&device, |d| format!("{} is forgotten.", d.label))
        }
        Verb::Name { device, name } => {
            let device = find(connection, &device).await?;
            let path = format!("/devices/{}/name", device.id);
            let device: Device =
                connection.change(Method::PUT, &path, Some(&DeviceName { name })).await?;
            output.print(&device, |d| format!("The device at {} is now {}.", d.address, d.label))
        }
    }
}

async fn decide(
    connection: &Connection,
    output: &Output,
    device: &str,
    request: &DecisionRequest,
) -> Result<(), Failure> {
    let device = find(connection, device).await?;
    let path = format!("/devices/{}/decision", device.id);
    let device: Device = connection.change(Method::PUT, &path, Some(request)).await?;
    output.print(&device, |d| match d.standing.as_str() {
        "admitted" => format!("{} is admitted to {}.", d.label, d.kinds.join(", ")),
        _ => format!("{} is {}.", d.label, d.standing),
    })
}

async fn find(connection: &Connection, wanted: &str) -> Result<Device, Failure> {
    let devices: Vec<Device> = connection.get("/devices").await?;
    let fits = |d: &Device| {
        d.id.to_string() == wanted
            || d.label == wanted
            || d.address == wanted
            || d.hardware.as_deref() == Some(wanted)
    };
    let mut found: Vec<Device> = devices.into_iter().filter(fits).collect();
    match found.len() {
        1 => Ok(found.remove(0)),
        0 => Err(Failure::new(
            format!("no device is known as {wanted:?}"),
            "See: mostra device list",
        )),
        _ => Err(Failure::new(
            format!("several devices are known as {wanted:?}"),
            "Use the number from: mostra device list",
        )),
    }
}

fn row(device: &Device) -> Vec<String> {
    let last =
        device.proof.iter().rfind(|s| s.confirmed).map_or("nothing yet", |s| s.step.as_str());
    vec![
        device.id.to_string(),
        device.label.clone(),
        device.standing.clone(),
        device.address.clone(),
        last.to_owned(),
        time(device.last_seen_ms),
    ]
}

fn show(device: &Device) -> String {
    let mut lines = vec![format!("{}, {}", device.label, device.standing)];
    let mut line = |name: &str, value: String| lines.push(format!("  {name:<13} {value}"));
    line("number", device.id.to_string());
    line("address", device.address.clone());
    line("hardware", device.hardware.clone().unwrap_or_else(|| "not known to the system".into()));
    line("calls itself", device.user_agent.clone().unwrap_or_else(|| "nothing".into()));
    if device.standing == "admitted" {
        line("may see", device.kinds.join(", "));
    }
    line("first seen", time(device.first_seen_ms));
    line("last seen", time(device.last_seen_ms));
    lines.push("Proof".into());
    lines.extend(device.proof.iter().map(step));
    lines.join("\n")
}

fn step(step: &ProofStep) -> String {
    let Some(at) = step.at_ms.filter(|_| step.confirmed) else {
        return format!("  ○ {:<13} not yet", step.step);
    };
    let mut text =
        format!("  ✓ {:<13} {}  {}", step.step, time(at), step.what.as_deref().unwrap_or_default());
    if let Some(item) = &step.item {
        text += &format!(" · {item}");
    }
    if let Some(n) = step.bytes {
        text += &format!(" · {} acknowledged", bytes(n));
    }
    text
}
