//! preflight: what stands in the way.

use std::process::{Command, ExitCode, Stdio};

use mostra_api::{Preflight, PreflightCheck};

use crate::connection::{Connection, Failure};
use crate::output::Output;

/// Exit code when something stops the house from being found, listed or played.
const STOPPED: u8 = 3;

/// What is to be looked at.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Look<'a> {
    /// Nothing: what was looked at last is shown.
    pub last: bool,
    /// A file with the rules of the firewall, `-` for standard input.
    pub firewall: Option<&'a str>,
}

/// Looks at everything, or shows what was looked at last; gives the exit code.
pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    look: Look<'_>,
    all: bool,
) -> Result<ExitCode, Failure> {
    let preflight: Preflight = match look {
        Look { last: true, .. } => connection.get("/preflight").await?,
        Look { firewall: Some(file), .. } => {
            connection.send_text("/preflight", given(file)?).await?
        }
        // The service may not read the rules of the firewall; whoever runs this may.
        _ => connection.send_text("/preflight", rules().unwrap_or_default()).await?,
    };
    output.print(&preflight, |preflight| in_words(preflight, all))?;
    Ok(match preflight.worst.as_str() {
        "stops you" => ExitCode::from(STOPPED),
        _ => ExitCode::SUCCESS,
    })
}

/// The rules in a file.
fn given(file: &str) -> Result<String, Failure> {
    let read = match file {
        "-" => std::io::read_to_string(std::io::stdin()),
        file => std::fs::read_to_string(file),
    };
    read.map_err(|error| {
        Failure::new(
            format!("{file} cannot be read: {error}"),
            "For example: sudo nft -j list ruleset | mostra preflight --firewall -",
        )
    })
}

/// The rules of this host's firewall, where they may be read.
fn rules() -> Option<String> {
    let printed = Command::new("nft")
        .args(["-j", "list", "ruleset"])
        .stdin(Stdio::null())
        .stderr(Stdio::null())
        .output()
        .ok()?;
    printed.status.success().then(|| String::from_utf8_lossy(&printed.stdout).into_owned())
}

fn in_words(preflight: &Preflight, all: bool) -> String {
    let mut lines = vec![match preflight.worst.as_str() {
        "stops you" => "Something stops devices.".to_owned(),
        "attention" => "Devices can find, list and play; something needs attention.".to_owned(),
        "unknown" => "Nothing is wrong as far as it could be looked at.".to_owned(),
        _ => "Everything is as it should be.".to_owned(),
    }];
    for check in &preflight.checks {
        let mark = match check.outcome.as_str() {
            "ok" => "✓",
            "unknown" => "?",
            "attention" => "!",
            _ => "✗",
        };
        lines.push(format!("{mark} {}: {}", check.title, check.measured));
        lines.extend(more(check, all));
    }
    lines.join("\n")
}

/// Why it matters and what to do, where there is something to do or all is wanted.
fn more(check: &PreflightCheck, all: bool) -> Vec<String> {
    let mut lines = Vec::new();
    if check.outcome == "ok" && !all {
        return lines;
    }
    if all || check.outcome != "unknown" {
        lines.push(format!("    {}", check.why));
    }
    lines.extend(check.remedy.iter().map(|remedy| format!("    → {remedy}")));
    let commands = check.command.iter().flat_map(|command| command.lines());
    lines.extend(commands.map(|command| format!("      {command}")));
    lines
}
