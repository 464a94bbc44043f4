//! device record, and recording list, show, save, stop, remove.

use std::path::PathBuf;

use clap::Subcommand;
use mostra_api::{Conversation, ConversationEntry, Device, NewRecording, Recording};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::device;
use crate::output::{Done, Output, bytes, table, time};

#[derive(Debug, Subcommand)]
pub(crate) enum RecordingVerb {
    /// End a recording before its time
    Stop {
        /// The device's number, name, address or hardware address
        device: String,
    },
    /// List the recordings of a device, the latest first
    List {
        /// Its number, name, address or hardware address
        device: String,
    },
    /// Show what was said, in order
    Show {
        /// The device's number, name, address or hardware address
        device: String,
        /// The recording, as `recording list` names it [default: the latest]
        name: Option<String>,
        /// Datagrams, requests and answers as they were sent
        #[arg(long)]
        raw: bool,
    },
    /// Save a recording as a file: one JSON value a line
    Save {
        /// The device's number, name, address or hardware address
        device: String,
        /// Where to
        file: PathBuf,
        /// The recording, as `recording list` names it [default: the latest]
        name: Option<String>,
    },
    /// Remove a recording
    Remove {
        /// The device's number, name, address or hardware address
        device: String,
        /// The recording, as `recording list` names it
        name: String,
    },
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: RecordingVerb,
) -> Result<(), Failure> {
    match verb {
        RecordingVerb::Stop { device } => {
            let device = device::find(connection, &device).await?;
            let none: Option<&()> = None;
            let path = format!("/devices/{}/recording", device.id);
            let all: Vec<Recording> = connection.change(Method::DELETE, &path, none).await?;
            output.print(&all, |_| format!("Stopped. See: mostra recording show {}", device.id))
        }
        RecordingVerb::List { device } => {
            let device = device::find(connection, &device).await?;
            let all = list(connection, &device).await?;
            output.print(&all, |all| listed(&device, all))
        }
        RecordingVerb::Show { device, name, raw } => {
            let device = device::find(connection, &device).await?;
            let name = chosen(connection, &device, name).await?;
            show(connection, output, &device, &name, raw).await
        }
        RecordingVerb::Save { device, file, name } => {
            let device = device::find(connection, &device).await?;
            let name = chosen(connection, &device, name).await?;
            let path = format!("/devices/{}/recordings/{name}/file", device.id);
            let length = connection.download(&path, &file).await?;
            output.print(&Done { done: true }, |_| {
                format!("{} saved, {}.", file.display(), bytes(length))
            })
        }
        RecordingVerb::Remove { device, name } => {
            let device = device::find(connection, &device).await?;
            let path = format!("/devices/{}/recordings/{name}", device.id);
            connection.remove(&path).await?;
            output.print(&Done { done: true }, |_| format!("{name} is removed."))
        }
    }
}

/// Begins to record the conversation of a device.
pub(crate) async fn start(
    connection: &Connection,
    output: &Output,
    device: &Device,
    minutes: u32,
) -> Result<(), Failure> {
    let path = format!("/devices/{}/recordings", device.id);
    let body = NewRecording { minutes };
    let recording: Recording = connection.change(Method::POST, &path, Some(&body)).await?;
    output.print(&recording, |recording| {
        let until = recording.until_ms.map(time).unwrap_or_default();
        format!(
            "What {} and this house say to each other is recorded until {until}.\n\
             See: mostra recording show {}",
            device.label, device.id
        )
    })
}

async fn list(connection: &Connection, device: &Device) -> Result<Vec<Recording>, Failure> {
    connection.get(&format!("/devices/{}/recordings", device.id)).await
}

fn listed(device: &Device, all: &[Recording]) -> String {
    if all.is_empty() {
        return format!(
            "Nothing of {} is recorded. Begin: mostra device record {}",
            device.label, device.id
        );
    }
    let row = |recording: &Recording| {
        let until = recording.until_ms.map(|until| format!("until {}", time(until)));
        vec![
            recording.name.clone(),
            time(recording.from_ms),
            until.unwrap_or_else(|| "ended".into()),
            bytes(recording.bytes),
        ]
    };
    table(&["name", "begun", "goes on", "size"], all.iter().map(row))
}

async fn chosen(
    connection: &Connection,
    device: &Device,
    name: Option<String>,
) -> Result<String, Failure> {
    if let Some(name) = name {
        return Ok(name);
    }
    let latest = list(connection, device).await?.into_iter().next();
    latest.map(|recording| recording.name).ok_or_else(|| {
        Failure::new(
            format!("nothing of {} is recorded", device.label),
            &format!("Begin: mostra device record {}", device.id),
        )
    })
}

async fn show(
    connection: &Connection,
    output: &Output,
    device: &Device,
    name: &str,
    raw: bool,
) -> Result<(), Failure> {
    let mut whole: Option<Conversation> = None;
    loop {
        let skip = whole.as_ref().map_or(0, |known| known.entries.len());
        let path = format!("/devices/{}/recordings/{name}?skip={skip}", device.id);
        let page: Conversation = connection.get(&path).await?;
        let more = page.more && !page.entries.is_empty();
        match &mut whole {
            None => whole = Some(page),
            Some(known) => known.entries.extend(page.entries),
        }
        if !more {
            break;
        }
    }
    let Some(mut whole) = whole else { return Ok(()) };
    whole.more = false;
    output.print(&whole, |conversation| {
        let mut lines = vec![format!(
            "{} and {}, from {}",
            conversation.device,
            conversation.server,
            time(conversation.from_ms)
        )];
        if conversation.entries.is_empty() {
            lines.push("Nothing was said yet.".into());
        }
        lines.extend(conversation.entries.iter().map(|entry| line(entry, raw)));
        lines.join("\n")
    })
}

fn line(entry: &ConversationEntry, raw: bool) -> String {
    // Within a conversation the thousandths tell what came of what.
    let when = entry.at_ms.map(|ms| format!("{}.{:03}", time(ms), ms % 1000)).unwrap_or_default();
    let arrow = if entry.by_device { "→" } else { "←" };
    let answer = entry.answered.as_ref().map(|answer| format!("  ·  {answer}")).unwrap_or_default();
    let mark = if entry.failed { "✗ " } else { "" };
    let mut text = format!("{when}  {arrow} {mark}{}{answer}", entry.said);
    if raw {
        for part in [Some(&entry.raw), entry.raw_answer.as_ref()].into_iter().flatten() {
            let inset: String = part.trim_end().lines().map(|l| format!("    {l}\n")).collect();
            text += &format!("\n{inset}");
        }
    }
    text
}
