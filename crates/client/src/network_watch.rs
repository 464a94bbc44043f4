//! network watch: what comes and goes, and the state variables of a service.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use mostra_api::{NetworkThing, NetworkView, ToldVariable, WatchedState};

use crate::connection::{Connection, Failure};
use crate::network::{is_media, presence, standing};
use crate::network_call::service_path;
use crate::output::{Output, say, time};

/// How often it is looked.
const LOOK: Duration = Duration::from_millis(500);

/// Prints what comes, goes and changes, until the time is over or it is interrupted.
pub(crate) async fn things(
    connection: &Connection,
    output: &Output,
    all: bool,
    seconds: Option<u64>,
) -> Result<(), Failure> {
    let end = seconds.map(|seconds| Instant::now() + Duration::from_secs(seconds));
    let mut known: Option<BTreeMap<String, NetworkThing>> = None;
    loop {
        let view: NetworkView = connection.get("/network").await?;
        let things = view.things.into_iter().filter(|thing| all || is_media(thing));
        let now: BTreeMap<String, NetworkThing> =
            things.map(|thing| (thing.key.clone(), thing)).collect();
        let empty = BTreeMap::new();
        let before = known.as_ref().unwrap_or(&empty);
        for (key, thing) in &now {
            if let Some(what) = change(before.get(key), thing, known.is_none()) {
                output
                    .print_line(thing, |thing| format!("{}  {}: {what}", stamp(), thing.label))?;
            }
        }
        for (_, thing) in before.iter().filter(|(key, _)| !now.contains_key(*key)) {
            output.print_line(thing, |t| format!("{}  {}: forgotten", stamp(), t.label))?;
        }
        if known.is_none() && now.is_empty() && !output.json {
            output
                .print_line(&(), |()| "Nothing is there yet. What comes is shown here.".into())?;
        }
        known = Some(now);
        if !wait(end).await {
            return Ok(());
        }
    }
}

/// What is new of a thing, in words.
fn change(before: Option<&NetworkThing>, now: &NetworkThing, first: bool) -> Option<String> {
    let there = |thing: &NetworkThing| match thing.presence.as_str() {
        "here" => "there".to_owned(),
        "away" => match &thing.away_why {
            Some(why) => format!("away: {why}"),
            None => format!("away {}", presence(thing)),
        },
        _ => String::new(),
    };
    let state = |thing: &NetworkThing| {
        let parts = [thing.roles.join(", "), there(thing), thing.address.clone(), standing(thing)];
        parts.into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join(" · ")
    };
    match before {
        None if first => Some(state(now)),
        None => Some(format!("new · {}", state(now))),
        Some(before) if before.label != now.label => {
            Some(format!("was {} · {}", before.label, state(now)))
        }
        Some(before) => (state(before) != state(now)).then(|| state(now)),
    }
}

/// Prints the state variables of a service, and each that changes.
pub(crate) async fn state(
    connection: &Connection,
    output: &Output,
    thing: &NetworkThing,
    service: &str,
    seconds: Option<u64>,
) -> Result<(), Failure> {
    let end = seconds.map(|seconds| Instant::now() + Duration::from_secs(seconds));
    let path = format!("{}/state", service_path(thing, service)?);
    let mut told: BTreeMap<(String, Option<String>), u64> = BTreeMap::new();
    let mut said = String::new();
    loop {
        let state: WatchedState = connection.get(&path).await?;
        let mut changed: Vec<&ToldVariable> = state
            .variables
            .iter()
            .filter(|v| told.get(&(v.name.clone(), v.channel.clone())) != Some(&v.told_ms))
            .collect();
        changed.sort_by_key(|variable| variable.told_ms);
        for variable in changed {
            output.print_line(variable, line)?;
            told.insert((variable.name.clone(), variable.channel.clone()), variable.told_ms);
        }
        let trouble = trouble(&state);
        if trouble != said {
            if !trouble.is_empty() {
                say(&trouble);
            }
            said = trouble;
        }
        if !wait(end).await {
            return Ok(());
        }
    }
}

fn line(variable: &ToldVariable) -> String {
    let channel = variable.channel.as_ref().map(|c| format!(" ({c})")).unwrap_or_default();
    let value = variable.value.replace('\n', " ");
    format!("{}  {}{channel} = {value}", time(variable.told_ms), variable.name)
}

/// What stands in the way of events, in words; empty where nothing does.
fn trouble(state: &WatchedState) -> String {
    match (&*state.subscription, &state.problem) {
        ("failed", Some(why)) => {
            format!("It cannot be subscribed at: {why}. It is tried again from time to time.")
        }
        ("silent", _) => {
            "It grants the subscription, and its events do not arrive. Does a firewall on this \
             computer hold them back?"
                .to_owned()
        }
        _ if state.missed > 0 => format!("Events were missed, {} times.", state.missed),
        _ => String::new(),
    }
}

/// Waits until it is to be looked again; gives whether it is.
async fn wait(end: Option<Instant>) -> bool {
    if end.is_some_and(|end| Instant::now() + LOOK > end) {
        return false;
    }
    tokio::time::sleep(LOOK).await;
    true
}

fn stamp() -> String {
    time(u64::try_from(jiff::Timestamp::now().as_millisecond()).unwrap_or_default())
}
