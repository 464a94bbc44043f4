//! device list, show, admit, refuse, forget, name, traits, merge, split.

use clap::Subcommand;
use mostra_api::{
    DecisionRequest, Device, DeviceMerge, DeviceName, DeviceSplit, DeviceTraits, Folder, ProofStep,
    Sighting,
};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::output::{Output, bytes, sure, table, time};

#[derive(Debug, Subcommand)]
pub(crate) enum DeviceVerb {
    /// List devices; those that wait come first
    List,
    /// Show a device with its proof, step by step
    Show {
        /// Its number, name, address or hardware address
        device: String,
    },
    /// Let a device in: a new one to everything, another to what it was let in to before
    Admit {
        /// Its number, name, address or hardware address
        device: String,
        /// The kinds it may see: films, music, pictures [default: as before]
        #[arg(long, value_delimiter = ',')]
        kinds: Vec<String>,
        /// The folders it may see, by number or label [default: as before]
        #[arg(long, value_delimiter = ',')]
        folders: Vec<String>,
        /// All folders, including future ones
        #[arg(long, conflicts_with = "folders")]
        all_folders: bool,
        /// All kinds in all folders
        #[arg(long, conflicts_with_all = ["kinds", "folders"])]
        everything: bool,
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
    /// Put two records together that are of one device, for example of its cable and of its radio
    Merge {
        /// The record that stays, with its name and decision: number, name, address or hardware address
        device: String,
        /// The record whose endpoints, proof and streams go to it
        other: String,
    },
    /// Make a device of its own of one endpoint; undoes a merge
    Split {
        /// Its number, name, address or hardware address
        device: String,
        /// The address or hardware address, as `device show` lists it
        endpoint: String,
    },
    /// List what a device did and was refused, the latest first
    Sightings {
        /// Its number, name, address or hardware address
        device: String,
        /// Only what failed or was refused
        #[arg(long)]
        failed: bool,
    },
    /// Show or set what is done differently for a device
    Traits {
        /// Its number, name, address or hardware address
        device: String,
        /// What to set, as page-objects=100 or mimes={"audio/flac":"audio/x-flac"}; see docs/traits.md
        #[arg(value_name = "NAME=VALUE")]
        set: Vec<String>,
        /// Names to leave to the rules again
        #[arg(long, value_delimiter = ',', value_name = "NAMES")]
        clear: Vec<String>,
    },
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: DeviceVerb,
) -> Result<(), Failure> {
    match verb {
        DeviceVerb::List => {
            let devices: Vec<Device> = connection.get("/devices").await?;
            let folders: Vec<Folder> = connection.get("/folders").await?;
            output.print(&devices, |devices| {
                if devices.is_empty() {
                    return "No device has asked yet. Open the source or server menu on a television.".into();
                }
                let heading =
                    ["no", "device", "standing", "may see", "address", "proof", "last seen"];
                table(&heading, devices.iter().map(|device| row(device, &folders)))
            })
        }
        DeviceVerb::Show { device } => {
            let device = find(connection, &device).await?;
            let seen = may_see(connection, &device).await?;
            output.print(&device, |device| show(device, &seen))
        }
        DeviceVerb::Admit { device, kinds, folders: wanted, all_folders, everything, name } => {
            let mut folders = Vec::new();
            for folder in &wanted {
                folders.push(crate::folder::find(connection, folder).await?.id);
            }
            let request = DecisionRequest {
                standing: "admitted".into(),
                kinds: match everything {
                    true => Some(["video", "music", "picture"].map(String::from).to_vec()),
                    false => Some(kinds).filter(|kinds| !kinds.is_empty()),
                },
                folders: (!wanted.is_empty()).then_some(folders),
                all_folders: (everything || all_folders).then_some(true),
                name,
            };
            decide(connection, output, &device, &request).await
        }
        DeviceVerb::Refuse { device } => {
            let request = DecisionRequest {
                standing: "refused".into(),
                kinds: None,
                folders: None,
                all_folders: None,
                name: None,
            };
            decide(connection, output, &device, &request).await
        }
        DeviceVerb::Forget { device, yes } => {
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
        DeviceVerb::Name { device, name } => {
            let device = find(connection, &device).await?;
            let path = format!("/devices/{}/name", device.id);
            let device: Device =
                connection.change(Method::PUT, &path, Some(&DeviceName { name })).await?;
            output.print(&device, |d| format!("The device at {} is now {}.", d.address, d.label))
        }
        DeviceVerb::Merge { device, other } => {
            let device = find(connection, &device).await?;
            let other = find(connection, &other).await?;
            let path = format!("/devices/{}/merge", device.id);
            let body = DeviceMerge { other: other.id };
            let device: Device = connection.change(Method::POST, &path, Some(&body)).await?;
            output.print(&device, |d| {
                let stands = &d.standing;
                format!("{} and {} are one device now, {stands}.", d.label, other.label)
            })
        }
        DeviceVerb::Split { device, endpoint } => {
            let device = find(connection, &device).await?;
            let path = format!("/devices/{}/split", device.id);
            let body = DeviceSplit { endpoint };
            let apart: Device = connection.change(Method::POST, &path, Some(&body)).await?;
            output.print(&apart, |d| {
                let from = &device.label;
                format!("Number {} at {} is apart from {from}, {}.", d.id, d.address, d.standing)
            })
        }
        DeviceVerb::Sightings { device, failed } => {
            let device = find(connection, &device).await?;
            let path = format!("/devices/{}/sightings", device.id);
            let mut all: Vec<Sighting> = connection.get(&path).await?;
            all.retain(|sighting| !failed || sighting.failed);
            output.print(&all, |all| match (all.is_empty(), failed) {
                (true, true) => format!("Nothing failed for {}.", device.label),
                (true, false) => format!("Nothing of {} is kept yet.", device.label),
                _ => table(&["last", "times", "what", "endpoint"], all.iter().map(sighting)),
            })
        }
        DeviceVerb::Traits { device, set, clear } => {
            let mut device = find(connection, &device).await?;
            if !set.is_empty() || !clear.is_empty() {
                let mut traits = device.traits_set;
                for name in &clear {
                    if traits.remove(name).is_none() {
                        return Err(Failure::new(
                            format!("{name:?} is not set for {}", device.label),
                            "Only what was set can be cleared; what rules say is in DATA/traits.toml.",
                        ));
                    }
                }
                for assignment in &set {
                    let (name, value) = read_trait(assignment)?;
                    traits.insert(name, value);
                }
                let path = format!("/devices/{}/traits", device.id);
                device =
                    connection.change(Method::PUT, &path, Some(&DeviceTraits { traits })).await?;
            }
            output.print(&device, show_traits)
        }
    }
}

/// A name and a value: JSON where it reads as such, else a word.
fn read_trait(assignment: &str) -> Result<(String, serde_json::Value), Failure> {
    let (name, value) = assignment.split_once('=').ok_or_else(|| {
        Failure::new(
            format!("{assignment:?} is not NAME=VALUE"),
            "For example: mostra device traits 3 page-objects=100",
        )
    })?;
    let word = || serde_json::Value::String(value.to_owned());
    Ok((name.trim().to_owned(), serde_json::from_str(value).unwrap_or_else(|_| word())))
}

fn show_traits(device: &Device) -> String {
    if device.traits.is_empty() {
        return format!("Nothing is done differently for {}.", device.label);
    }
    let mut lines = vec![format!("Done differently for {}", device.label)];
    for (name, value) in &device.traits {
        let by = if device.traits_set.contains_key(name) { "set by you" } else { "by a rule" };
        // A table of ids is long; how many there are says enough here.
        let value = match value {
            serde_json::Value::Object(map) if map.len() > 4 => format!("{} entries", map.len()),
            serde_json::Value::String(text) => text.clone(),
            other => other.to_string(),
        };
        lines.push(format!("  {name:<16} {value}  ({by})"));
    }
    if !device.rules.is_empty() {
        lines.push(format!("Rules that it matched: {}", device.rules.join(", ")));
    }
    lines.join("\n")
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
    let seen = may_see(connection, &device).await?;
    output.print(&device, |d| match d.standing.as_str() {
        "admitted" => format!("{} may now see {seen}.", d.label),
        _ => format!("{} is {}.", d.label, d.standing),
    })
}

/// Its grant in words, with the labels of its folders.
async fn may_see(connection: &Connection, device: &Device) -> Result<String, Failure> {
    let folders: Vec<Folder> = match &device.folders {
        Some(_) => connection.get("/folders").await?,
        None => Vec::new(),
    };
    Ok(granted(device, &folders))
}

/// What an admitted device may see, in the words of the console.
fn granted(device: &Device, folders: &[Folder]) -> String {
    let words: Vec<&str> = device.kinds.iter().map(|kind| kind_word(kind)).collect();
    let kinds = if words.len() == 3 { "everything".into() } else { words.join(", ") };
    let Some(numbers) = &device.folders else { return kinds };
    let labels: Vec<&str> =
        folders.iter().filter(|f| numbers.contains(&f.id)).map(|f| f.label.as_str()).collect();
    match labels.len() {
        0 => "nothing: its folders are no longer published".into(),
        _ => format!("{kinds} in {}", labels.join(", ")),
    }
}

/// A kind as the screens say it.
pub(crate) fn kind_word(kind: &str) -> &str {
    match kind {
        "video" => "films",
        "picture" => "pictures",
        other => other,
    }
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

fn row(device: &Device, folders: &[Folder]) -> Vec<String> {
    let seen = match device.standing.as_str() {
        "admitted" => granted(device, folders),
        _ => "nothing".into(),
    };
    let last =
        device.proof.iter().rfind(|s| s.confirmed).map_or("nothing yet", |s| s.step.as_str());
    vec![
        device.id.to_string(),
        device.label.clone(),
        device.standing.clone(),
        seen,
        device.address.clone(),
        last.to_owned(),
        time(device.last_seen_ms),
    ]
}

fn sighting(sighting: &Sighting) -> Vec<String> {
    let mark = if sighting.failed { "! " } else { "" };
    vec![
        time(sighting.last_ms),
        sighting.times.to_string(),
        format!("{mark}{}", sighting.what),
        sighting.endpoint.clone(),
    ]
}

fn show(device: &Device, seen: &str) -> String {
    let mut lines = vec![format!("{}, {}", device.label, device.standing)];
    let mut line = |name: &str, value: String| lines.push(format!("  {name:<13} {value}"));
    line("number", device.id.to_string());
    line("address", device.address.clone());
    line("hardware", device.hardware.clone().unwrap_or_else(|| "address unknown".into()));
    if device.endpoints.len() > 1 {
        for endpoint in &device.endpoints {
            let hardware = endpoint.hardware.as_deref().unwrap_or("no hardware address known");
            let seen = time(endpoint.last_seen_ms);
            line("endpoint", format!("{}, {hardware}, last seen {seen}", endpoint.address));
        }
    }
    for udn in &device.udns {
        line("udn", udn.clone());
    }
    line("calls itself", device.user_agent.clone().unwrap_or_else(|| "nothing".into()));
    if device.standing == "admitted" {
        line("may see", seen.to_owned());
    }
    line("first seen", time(device.first_seen_ms));
    line("last seen", time(device.last_seen_ms));
    if !device.traits.is_empty() {
        let names: Vec<&str> = device.traits.keys().map(String::as_str).collect();
        line("differently", names.join(", "));
    }
    if let Some(denied) = &device.denied {
        let why = if device.standing == "refused" { "it is refused" } else { "it waits" };
        line("in vain", format!("{} {}, and got nothing: {why}", denied.what, time(denied.at_ms)));
    }
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
