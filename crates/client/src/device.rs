//! device list, show, add, admit, refuse, forget, name, about, traits, merge, split, …

use clap::Subcommand;
use mostra_api::{
    DecisionRequest, Device, DeviceAbout, DeviceMerge, DeviceName, DeviceSplit, DeviceTraits,
    Folder, NewDevice, Sighting,
};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::device_history;
use crate::device_words::{about, granted, row, show, show_traits, sighting};
use crate::output::{Output, sure, table};
use crate::recording;

#[derive(Debug, Subcommand)]
pub(crate) enum DeviceVerb {
    /// List devices; those that wait come first
    List,
    /// Show a device with its proof, step by step
    Show {
        /// Its number, name, address or hardware address
        device: String,
    },
    /// Let devices in: a new one to everything, another to what it was let in to before
    Admit {
        /// Their numbers, names, addresses or hardware addresses
        #[arg(required = true, value_name = "DEVICE")]
        devices: Vec<String>,
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
        /// The grant of a preset, as `preset list` names it
        #[arg(long, value_name = "NAME", conflicts_with_all = ["kinds", "folders", "all_folders", "everything"])]
        preset: Option<String>,
        /// A name for it, where it is one
        #[arg(long)]
        name: Option<String>,
        /// Why, for whoever reads the history
        #[arg(long)]
        why: Option<String>,
    },
    /// Keep devices out
    Refuse {
        /// Their numbers, names, addresses or hardware addresses
        #[arg(required = true, value_name = "DEVICE")]
        devices: Vec<String>,
        /// Why, for whoever reads the history
        #[arg(long)]
        why: Option<String>,
    },
    /// Undo the last decision on a device
    Undo {
        /// Its number, name, address or hardware address
        device: String,
    },
    /// List the decisions on a device: when, who, what and why
    Decisions {
        /// Its number, name, address or hardware address
        device: String,
    },
    /// Add a device before or without its asking; it waits for your decision
    Add {
        /// Its hardware address or its address
        device: String,
        /// A name for it
        #[arg(long)]
        name: Option<String>,
    },
    /// Say what sort of device it is, where it is, and what is to be remembered; "" takes it back
    About {
        /// Its number, name, address or hardware address
        device: String,
        /// television, console, disc-player, speaker, phone, tablet, computer or streaming-stick
        #[arg(long)]
        kind: Option<String>,
        /// The room it is in
        #[arg(long)]
        room: Option<String>,
        /// A note
        #[arg(long)]
        note: Option<String>,
    },
    /// Wait until a device waits for your decision
    Wait {
        /// For how long
        #[arg(long, default_value_t = 300, value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(1..=86_400))]
        seconds: u64,
    },
    /// Where kinds of devices keep their network media and show their hardware address
    Directions {
        /// One kind, such as television
        kind: Option<String>,
    },
    /// Record what a device and this house say to each other for a while; see `recording`
    Record {
        /// Its number, name, address or hardware address
        device: String,
        /// For how many minutes
        #[arg(long, default_value_t = 10, value_parser = clap::value_parser!(u32).range(1..=120))]
        minutes: u32,
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
    /// Show which devices do something now: which of two alike is asking
    Active {
        /// End after so many seconds; without it, Ctrl-C ends it
        #[arg(long, value_name = "SECONDS")]
        seconds: Option<u64>,
    },
    /// List what a device did and was refused, the latest first
    Sightings {
        /// Its number, name, address or hardware address
        device: String,
        /// Only what failed or was refused
        #[arg(long)]
        failed: bool,
        /// Only what has to do with these: discovery, description, lists, media, events
        #[arg(long, value_delimiter = ',', value_name = "GROUPS")]
        only: Vec<String>,
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

/// What sightings have to do with.
const GROUPS: [&str; 5] = ["discovery", "description", "lists", "media", "events"];

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
        DeviceVerb::Record { device, minutes } => {
            let device = find(connection, &device).await?;
            recording::start(connection, output, &device, minutes).await
        }
        DeviceVerb::Show { device } => {
            let device = find(connection, &device).await?;
            let seen = may_see(connection, &device).await?;
            output.print(&device, |device| show(device, &seen))
        }
        DeviceVerb::Admit {
            devices,
            kinds,
            folders: wanted,
            all_folders,
            everything,
            preset,
            name,
            why,
        } => {
            if name.is_some() && devices.len() > 1 {
                return Err(Failure::new(
                    "one name is not for several devices",
                    "Name them one by one: mostra device name",
                ));
            }
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
                why,
                preset,
            };
            decide(connection, output, &devices, &request).await
        }
        DeviceVerb::Refuse { devices, why } => {
            let request = DecisionRequest {
                standing: "refused".into(),
                kinds: None,
                folders: None,
                all_folders: None,
                name: None,
                why,
                preset: None,
            };
            decide(connection, output, &devices, &request).await
        }
        DeviceVerb::Undo { device } => {
            let device = find(connection, &device).await?;
            device_history::undo(connection, output, &device).await
        }
        DeviceVerb::Decisions { device } => {
            let device = find(connection, &device).await?;
            device_history::decisions(connection, output, &device).await
        }
        DeviceVerb::Add { device, name } => {
            let is_address = device.parse::<std::net::Ipv4Addr>().is_ok();
            let (address, hardware) =
                if is_address { (Some(device), None) } else { (None, Some(device)) };
            let body = NewDevice { hardware, address, name };
            let device: Device = connection.change(Method::POST, "/devices", Some(&body)).await?;
            output.print(&device, |d| format!("{} is number {}, {}.", d.label, d.id, d.standing))
        }
        DeviceVerb::About { device, kind, room, note } => {
            let mut device = find(connection, &device).await?;
            if kind.is_some() || room.is_some() || note.is_some() {
                let path = format!("/devices/{}/about", device.id);
                let body = DeviceAbout { device_kind: kind, room, note };
                device = connection.change(Method::PUT, &path, Some(&body)).await?;
            }
            output.print(&device, |d| {
                let lines =
                    about(d).into_iter().map(|(name, value)| format!("  {name:<13} {value}"));
                [d.label.clone()].into_iter().chain(lines).collect::<Vec<_>>().join("\n")
            })
        }
        DeviceVerb::Wait { seconds } => device_history::wait(connection, output, seconds).await,
        DeviceVerb::Directions { kind } => {
            crate::words::directions(connection, output, kind.as_deref()).await
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
        DeviceVerb::Active { seconds } => device_history::active(connection, output, seconds).await,
        DeviceVerb::Sightings { device, failed, only } => {
            let device = find(connection, &device).await?;
            let path = format!("/devices/{}/sightings", device.id);
            let mut all: Vec<Sighting> = connection.get(&path).await?;
            if let Some(unknown) = only.iter().find(|word| !GROUPS.contains(&word.as_str())) {
                return Err(Failure::new(
                    format!("{unknown:?} is no group of sightings"),
                    &format!("They are {}.", GROUPS.join(", ")),
                ));
            }
            all.retain(|sighting| !failed || sighting.failed);
            all.retain(|sighting| only.is_empty() || only.contains(&sighting.group));
            output.print(&all, |all| match (all.is_empty(), failed) {
                _ if all.is_empty() && !only.is_empty() => {
                    format!("Nothing of {} has to do with {}.", device.label, only.join(", "))
                }
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

/// Decides on devices, all of which must be known before anything is decided. One is printed as an
/// object, several as an array.
async fn decide(
    connection: &Connection,
    output: &Output,
    wanted: &[String],
    request: &DecisionRequest,
) -> Result<(), Failure> {
    let mut found = Vec::new();
    for device in wanted {
        found.push(find(connection, device).await?);
    }
    let mut decided = Vec::new();
    let mut lines = Vec::new();
    for device in found {
        let path = format!("/devices/{}/decision", device.id);
        let device: Device = connection.change(Method::PUT, &path, Some(request)).await?;
        let seen = may_see(connection, &device).await?;
        lines.push(match device.standing.as_str() {
            "admitted" => format!("{} may now see {seen}.", device.label),
            _ => format!("{} is {}.", device.label, device.standing),
        });
        decided.push(device);
    }
    match decided.as_slice() {
        [one] => output.print(one, |_| lines.join("\n")),
        all => output.print(&all, |_| lines.join("\n")),
    }
}

/// Its grant in words, with the labels of its folders.
async fn may_see(connection: &Connection, device: &Device) -> Result<String, Failure> {
    let folders: Vec<Folder> = match &device.folders {
        Some(_) => connection.get("/folders").await?,
        None => Vec::new(),
    };
    Ok(granted(device, &folders))
}

pub(crate) async fn find(connection: &Connection, wanted: &str) -> Result<Device, Failure> {
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
