//! network list, search, show, watch, call.

use std::time::{Duration, Instant};

use clap::Subcommand;
use mostra_api::{FoundThing, NetworkSearch, NetworkThing, NetworkView};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::device_words::{able, plays};
use crate::network_call::{self, AnswerStyle, WantedCall};
use crate::network_watch;
use crate::output::{Output, table, time};

#[derive(Debug, Subcommand)]
pub(crate) enum NetworkVerb {
    /// List what was found on the network and who asked this house
    List {
        /// Routers and other things that have nothing to do with media as well
        #[arg(long)]
        all: bool,
    },
    /// Search now, wait for the answers, and list what is there
    Search {
        /// Routers and other things that have nothing to do with media as well
        #[arg(long)]
        all: bool,
    },
    /// Show all that is known of one thing, or what one of its services can do
    Show {
        /// Its key, name, address or hardware address
        thing: String,
        /// A service, such as RenderingControl
        service: Option<String>,
    },
    /// Show what comes and goes, or the state variables of a service as they change
    Watch {
        /// The key, name, address or hardware address of a thing
        #[arg(requires = "service")]
        thing: Option<String>,
        /// A service of it, such as RenderingControl
        service: Option<String>,
        /// Routers and other things that have nothing to do with media as well
        #[arg(long, conflicts_with = "thing")]
        all: bool,
        /// End after so many seconds; without it, Ctrl-C ends it
        #[arg(long, value_name = "SECONDS")]
        seconds: Option<u64>,
    },
    /// Call an action of a thing's service, and show the answer
    Call {
        /// The thing's key, name, address or hardware address
        thing: String,
        /// The service, such as RenderingControl
        service: String,
        /// The action, such as GetVolume
        action: String,
        /// Its arguments, such as InstanceID=0 Channel=Master
        #[arg(value_name = "NAME=VALUE")]
        arguments: Vec<String>,
        /// Call it without asking, even if it changes something
        #[arg(long)]
        yes: bool,
        /// Show what was sent and received as it is
        #[arg(long, conflicts_with = "curl")]
        raw: bool,
        /// Show the call as a line for a shell
        #[arg(long)]
        curl: bool,
    },
}

/// How long answers to a search are waited for.
const ANSWERS: Duration = Duration::from_secs(15);

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: NetworkVerb,
) -> Result<(), Failure> {
    match verb {
        NetworkVerb::List { all } => {
            let view: NetworkView = connection.get("/network").await?;
            output.print(&view, |view| list(view, all))
        }
        NetworkVerb::Search { all } => {
            let none: Option<&()> = None;
            let _: NetworkSearch = connection.change(Method::POST, "/network/search", none).await?;
            let end = Instant::now() + ANSWERS;
            let view = loop {
                tokio::time::sleep(Duration::from_millis(300)).await;
                let view: NetworkView = connection.get("/network").await?;
                if !view.search.running || Instant::now() > end {
                    break view;
                }
            };
            output.print(&view, |view| list(view, all))
        }
        NetworkVerb::Show { thing, service: None } => {
            let thing = find(connection, &thing).await?;
            output.print(&thing, show)
        }
        NetworkVerb::Show { thing, service: Some(service) } => {
            let thing = find(connection, &thing).await?;
            network_call::actions(connection, output, &thing, &service).await
        }
        NetworkVerb::Watch { thing: Some(thing), service: Some(service), seconds, .. } => {
            let thing = find(connection, &thing).await?;
            network_watch::state(connection, output, &thing, &service, seconds).await
        }
        NetworkVerb::Watch { all, seconds, .. } => {
            network_watch::things(connection, output, all, seconds).await
        }
        NetworkVerb::Call { thing, service, action, arguments, yes, raw, curl } => {
            let thing = find(connection, &thing).await?;
            let look = match (raw, curl) {
                (true, _) => AnswerStyle::Raw,
                (_, true) => AnswerStyle::Curl,
                _ => AnswerStyle::Plain,
            };
            let wanted =
                WantedCall { service: &service, action: &action, arguments: &arguments, yes };
            network_call::call(connection, output, &thing, wanted, look).await
        }
    }
}

async fn find(connection: &Connection, wanted: &str) -> Result<NetworkThing, Failure> {
    let view: NetworkView = connection.get("/network").await?;
    let fits = |thing: &NetworkThing| {
        thing.key == wanted
            || thing.label == wanted
            || thing.address == wanted
            || thing.hardware.as_deref() == Some(wanted)
            || thing.found.iter().any(|found| found.udns.iter().any(|udn| udn == wanted))
    };
    let mut found: Vec<NetworkThing> = view.things.into_iter().filter(fits).collect();
    match found.len() {
        1 => Ok(found.remove(0)),
        0 => Err(Failure::new(
            format!("nothing on the network is known as {wanted:?}"),
            "See: mostra network list --all",
        )),
        _ => Err(Failure::new(
            format!("several things are known as {wanted:?}"),
            "Use the key from: mostra network list --all",
        )),
    }
}

/// Whether it has to do with media.
pub(crate) fn is_media(thing: &NetworkThing) -> bool {
    thing.roles.iter().any(|role| matches!(role.as_str(), "renderer" | "server" | "player"))
}

fn list(view: &NetworkView, all: bool) -> String {
    let (shown, apart): (Vec<_>, Vec<_>) =
        view.things.iter().partition(|thing| all || is_media(thing));
    let mut parts = vec![match (view.search.last_ms, view.search.running) {
        (None, _) => "Nothing was searched for yet.".to_owned(),
        (Some(at), true) => format!("Searching since {}.", time(at)),
        (Some(at), false) => format!("Last search: {}.", time(at)),
    }];
    if shown.is_empty() {
        parts.push("Nothing that has to do with media was found. Is it switched on, and in the same network?".into());
    } else {
        let heading = ["key", "name", "what", "address", "there", "standing"];
        parts.push(table(&heading, shown.iter().map(|thing| row(thing))));
    }
    if !apart.is_empty() {
        let word = if apart.len() == 1 { "thing is" } else { "things are" };
        parts.push(format!("{} other {word} shown with --all.", apart.len()));
    }
    for outsider in view.outsiders.iter().take(10) {
        parts.push(format!(
            "{} ({}, {} times).",
            outsider.what,
            time(outsider.last_ms),
            outsider.times
        ));
    }
    parts.join("\n")
}

fn row(thing: &NetworkThing) -> Vec<String> {
    vec![
        thing.key.clone(),
        thing.label.clone(),
        thing.roles.join(", "),
        if thing.this_computer { "this computer".into() } else { thing.address.clone() },
        presence(thing),
        standing(thing),
    ]
}

pub(crate) fn presence(thing: &NetworkThing) -> String {
    match (thing.presence.as_str(), thing.away_since_ms) {
        ("here", _) => "yes".into(),
        ("away", Some(since)) => format!("no, since {}", time(since)),
        _ => format!("last {}", time(thing.last_ms)),
    }
}

pub(crate) fn standing(thing: &NetworkThing) -> String {
    match thing.devices.as_slice() {
        [] => "has not asked".into(),
        devices => devices.iter().map(|d| d.standing.as_str()).collect::<Vec<_>>().join(", "),
    }
}

fn show(thing: &NetworkThing) -> String {
    let mut lines = vec![format!("{} ({})", thing.label, thing.roles.join(", "))];
    let mut line = |name: &str, value: String| lines.push(format!("  {name:<14} {value}"));
    line("key", thing.key.clone());
    line("address", thing.address.clone());
    if let Some(hardware) = &thing.hardware {
        line("hardware", hardware.clone());
    }
    let there = match (&*thing.presence, &thing.away_why) {
        ("away", Some(why)) => format!("{}: {why}", presence(thing)),
        _ => presence(thing),
    };
    line("there", there);
    line("found", time(thing.first_ms));
    line("last heard", time(thing.last_ms));
    match thing.devices.as_slice() {
        [] => line("standing", "none: it has not asked this house for anything".into()),
        devices => {
            for device in devices {
                line(
                    "standing",
                    format!("{} (device {}, {})", device.standing, device.id, device.label),
                );
            }
        }
    }
    for found in &thing.found {
        lines.push(String::new());
        lines.extend(describe(found));
    }
    lines.join("\n")
}

fn describe(found: &FoundThing) -> Vec<String> {
    let mut lines =
        vec![format!("{} at {}", found.name.as_deref().unwrap_or("Unnamed"), found.location)];
    let mut line = |name: &str, value: &str| lines.push(format!("  {name:<14} {value}"));
    for (name, value) in [
        ("maker", &found.maker),
        ("model", &found.model),
        ("version", &found.version),
        ("type", &found.device_type),
        ("software", &found.server),
        ("own page", &found.presentation),
        ("problem", &found.problem),
    ] {
        if let Some(value) = value {
            line(name, value);
        }
    }
    for udn in &found.udns {
        line("UDN", udn);
    }
    if let Some(answers) = found.directory_answers {
        line("directory", if answers { "answers" } else { "does not answer" });
    }
    if let Some(can) = &found.abilities {
        line("can", &able(can));
        line("plays", &plays(can));
    }
    for service in &found.services {
        line("service", &service.kind);
    }
    lines
}
