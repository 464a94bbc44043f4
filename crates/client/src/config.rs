//! The service's configuration, and its restart.

use std::time::Duration;

use clap::Subcommand;
use mostra_api::{ConfigChange, ConfigValue, Status};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::output::{Done, Output, count, sure, table};

#[derive(Debug, Subcommand)]
pub(crate) enum ConfigVerb {
    /// Show every value and where it came from
    Show,
    /// Change a value; it is checked first, and the configuration file stays as it is
    Set {
        /// The setting, as `config show` names it
        name: String,
        /// Its new value
        value: String,
    },
    /// Give up a value that was changed so: the configuration file's or the default counts again
    Reset {
        /// The setting
        name: String,
    },
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: ConfigVerb,
) -> Result<(), Failure> {
    let place = |name: &str| {
        let name = percent_encoding::utf8_percent_encode(name, percent_encoding::NON_ALPHANUMERIC);
        format!("/config/{name}")
    };
    let value: ConfigValue = match verb {
        ConfigVerb::Show => return show(connection, output).await,
        ConfigVerb::Set { name, value } => {
            connection.change(Method::PUT, &place(&name), Some(&ConfigChange { value })).await?
        }
        ConfigVerb::Reset { name } => {
            connection.change(Method::DELETE, &place(&name), None::<&()>).await?
        }
    };
    output.print(&value, said)
}

/// That a value changed, and when that counts.
fn said(value: &ConfigValue) -> String {
    let (name, new) = (&value.name, value.next.as_ref().unwrap_or(&value.value));
    match value.next {
        None => format!("{name} is {new:?}, from: {}.", value.source),
        Some(_) => format!(
            "{name} will be {new:?} once the service starts again: mostra house restart\nUntil then it is {:?}.",
            value.value
        ),
    }
}

async fn show(connection: &Connection, output: &Output) -> Result<(), Failure> {
    let values: Vec<ConfigValue> = connection.get("/config").await?;
    output.print(&values, |values| {
        let rows = values.iter().map(|v| {
            let next = v.next.as_ref().map(|next| format!("{} (next: {next})", v.value));
            let value = next.unwrap_or_else(|| v.value.clone());
            vec![v.name.clone(), value, v.source.clone(), v.about.clone()]
        });
        let mut text = table(&["name", "value", "from", "about"], rows);
        let problems = values.iter().filter_map(|v| v.problem.as_ref());
        text.extend(problems.map(|problem| format!("\n! {problem}")));
        if values.iter().any(|v| v.next.is_some()) {
            text.push_str(
                "\nWhat is next counts once the service starts again: mostra house restart",
            );
        }
        text
    })
}

/// How long a restart is waited for.
const PATIENCE: Duration = Duration::from_secs(60);

/// Restarts the service, and waits until it has its catalogue again.
pub(crate) async fn restart(
    connection: &Connection,
    output: &Output,
    yes: bool,
) -> Result<(), Failure> {
    let before: Status = connection.get("/status").await?;
    let plays =
        format!("{} now, and would break off. Go on?", count(before.streams.into(), "stream"));
    if before.streams > 0 && !yes && !sure(&plays) {
        return Err(Failure::new("the service goes on", "Say --yes to restart it all the same."));
    }
    let moves: Vec<ConfigValue> = connection.get("/config").await?;
    let moved = moves.iter().find(|v| v.name == "console_port").and_then(|v| v.next.clone());
    connection.act("/restart").await?;
    if let Some(port) = moved {
        return output.print(&Done { done: true }, |_| {
            format!("The service starts again. Its console is at http://127.0.0.1:{port}/ then.")
        });
    }
    let end = std::time::Instant::now() + PATIENCE;
    while std::time::Instant::now() < end {
        tokio::time::sleep(Duration::from_millis(100)).await;
        let now = connection.get::<Status>("/status").await;
        if now.is_ok_and(|now| now.started_ms != before.started_ms && now.loaded) {
            return output.print(&Done { done: true }, |_| "The service is started again.".into());
        }
    }
    Err(Failure::new(
        "the service does not answer since it was to start again",
        "Look at its log: journalctl -u mostrad, or where you started it.",
    ))
}
