//! walkthrough start, status, watch, say, finish, earlier, run.

use std::process::ExitCode;
use std::time::{Duration, Instant};

use clap::{Subcommand, ValueEnum};
use mostra_api::{
    Answer, Cause, EarlierWalkthrough, Taking, TestPieces, Walkthrough, WalkthroughList,
    WalkthroughStep,
};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::output::{Output, count, table, time};
use crate::{device, walkthrough_run};

/// How often it is looked.
const LOOK: Duration = Duration::from_millis(300);

#[derive(Debug, Subcommand)]
pub(crate) enum WalkthroughVerb {
    /// Begin to walk a device through, or go on with the walkthrough that runs
    Start {
        /// Its number, name, address or hardware address
        device: String,
    },
    /// Show how a walkthrough stands; without a device, all of them in short
    Status {
        /// Its number, name, address or hardware address
        device: Option<String>,
    },
    /// Show each step as it is done, until all are or it is interrupted
    Watch {
        /// Its number, name, address or hardware address
        device: String,
        /// End after so many seconds
        #[arg(long)]
        seconds: Option<u64>,
    },
    /// Say what only a person can judge
    Say {
        /// Its number, name, address or hardware address
        device: String,
        /// The question, as `walkthrough status` names it
        question: String,
        /// The answer
        answer: Said,
    },
    /// Finish a walkthrough; the device does not see the test pieces any more
    Finish {
        /// Its number, name, address or hardware address
        device: String,
    },
    /// List the walkthroughs of a device, the latest first
    Earlier {
        /// Its number, name, address or hardware address
        device: String,
    },
    /// Have the stand-ins that are on do all that a walkthrough asks for, and see what comes of it;
    /// exit code 1 unless each comes to what it should
    Run {
        /// Those of all devices that are let in or refused
        #[arg(long, required_unless_present = "device")]
        all: bool,
        /// Only this one: its number, name, address or hardware address
        #[arg(conflicts_with = "all")]
        device: Option<String>,
    },
}

/// What a person says.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Said {
    /// Yes
    Yes,
    /// No
    No,
    /// Take back what was said
    Nothing,
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: WalkthroughVerb,
) -> Result<ExitCode, Failure> {
    let none: Option<&()> = None;
    match verb {
        WalkthroughVerb::Start { device } => {
            let device = device::find(connection, &device).await?;
            let path = format!("/devices/{}/walkthrough", device.id);
            let now: Walkthrough = connection.change(Method::POST, &path, none).await?;
            output.print(&now, |now| {
                format!(
                    "{}\nSee each step come: mostra walkthrough watch {}",
                    whole(now),
                    device.id
                )
            })?;
        }
        WalkthroughVerb::Status { device: None } => {
            let all: WalkthroughList = connection.get("/walkthroughs").await?;
            output.print(&all, listed)?;
        }
        WalkthroughVerb::Status { device: Some(device) } => {
            let device = device::find(connection, &device).await?;
            output.print(&look(connection, device.id).await?, whole)?;
        }
        WalkthroughVerb::Watch { device, seconds } => {
            let device = device::find(connection, &device).await?;
            return watch(connection, output, device.id, seconds).await;
        }
        WalkthroughVerb::Say { device, question, answer } => {
            let device = device::find(connection, &device).await?;
            let said = match answer {
                Said::Yes => Some(true),
                Said::No => Some(false),
                Said::Nothing => None,
            };
            let path = format!("/devices/{}/walkthrough/answers", device.id);
            let body = Answer { question, said };
            let now: Walkthrough = connection.change(Method::PUT, &path, Some(&body)).await?;
            output.print(&now, whole)?;
        }
        WalkthroughVerb::Finish { device } => {
            let device = device::find(connection, &device).await?;
            let path = format!("/devices/{}/walkthrough", device.id);
            let now: Walkthrough = connection.change(Method::DELETE, &path, none).await?;
            output.print(&now, whole)?;
        }
        WalkthroughVerb::Earlier { device } => {
            let device = device::find(connection, &device).await?;
            let path = format!("/devices/{}/walkthroughs", device.id);
            let all: Vec<EarlierWalkthrough> = connection.get(&path).await?;
            output.print(&all, |all| earlier(&device.label, all))?;
        }
        WalkthroughVerb::Run { all: _, device } => {
            let only = match device {
                Some(device) => Some(device::find(connection, &device).await?.id),
                None => None,
            };
            return walkthrough_run::run(connection, output, only).await;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// The walkthrough of a device as it stands.
pub(crate) async fn look(connection: &Connection, device: u32) -> Result<Walkthrough, Failure> {
    connection.get(&format!("/devices/{device}/walkthrough")).await
}

/// Whether nothing more is to be done.
pub(crate) fn is_over(now: &Walkthrough) -> bool {
    ["confirmed", "kept-out"].contains(&now.summary.verdict.as_str())
}

async fn watch(
    connection: &Connection,
    output: &Output,
    device: u32,
    seconds: Option<u64>,
) -> Result<ExitCode, Failure> {
    let end = seconds.map(|seconds| Instant::now() + Duration::from_secs(seconds));
    let mut shown: Vec<String> = Vec::new();
    loop {
        let now = look(connection, device).await?;
        for step in &now.steps {
            let mut lines = match (step.state.as_str(), &step.cause) {
                ("done", _) => vec![in_words(step)],
                (_, Some(_)) => vec![in_words(step)],
                _ => Vec::new(),
            };
            lines.retain(|line| !shown.contains(line));
            for line in lines {
                output.print_line(step, |_| line.clone())?;
                shown.push(line);
            }
        }
        if is_over(&now) {
            output.print_line(&now.summary, |summary| summary.verdict_text.clone())?;
            return Ok(ExitCode::SUCCESS);
        }
        if now.summary.finished_ms.is_some() || end.is_some_and(|end| Instant::now() > end) {
            output.print_line(&now.summary, |summary| summary.verdict_text.clone())?;
            return Ok(ExitCode::FAILURE);
        }
        tokio::time::sleep(LOOK).await;
    }
}

fn name(step: &WalkthroughStep) -> String {
    match &step.kind {
        Some(kind) => format!("{} {kind}", step.step),
        None => step.step.clone(),
    }
}

fn why(cause: &Cause) -> String {
    format!("    ! {}\n    → {}", cause.seen, cause.remedy)
}

/// A step in a line, and more where it is open.
fn in_words(step: &WalkthroughStep) -> String {
    let mark = match step.state.as_str() {
        "done" => "✓",
        "open" => "○",
        _ => "·",
    };
    let mut line = format!("{mark} {:<20}", name(step));
    if step.state == "not-possible-yet" {
        return line + "comes with controlling renderers";
    }
    if let Some(evidence) = &step.evidence {
        let at = step.at_ms.map(time).unwrap_or_default();
        line += &format!("{at}  {evidence}");
        line.extend(step.item.iter().map(|item| format!(" ({item})")));
    }
    if let (Some(given), Some(expected)) = (step.given, step.expected)
        && (step.state == "done" || given > 0)
    {
        line += &format!(", {given} of {expected} titles");
    }
    let mut line = line.trim_end().to_owned();
    if let Some(press) = &step.press {
        line += &format!("\n    {press}");
    }
    if let Some(cause) = &step.cause {
        line += &format!("\n{}", why(cause));
    }
    line
}

fn megabits(bits: u64) -> String {
    format!("{:.1} Mbit/s", bits as f64 / 1e6)
}

fn taken(taking: &Taking) -> String {
    let need = taking.need.map(|need| format!(" of {} needed", megabits(need)));
    let stalls = match taking.stalls {
        0 => String::new(),
        stalls => format!(", {} without anything", count(stalls.into(), "second")),
    };
    format!("  {}: {}{}{stalls}", taking.title, megabits(taking.rate), need.unwrap_or_default())
}

pub(crate) fn pieces(pieces: &TestPieces) -> Option<String> {
    if let Some(problem) = &pieces.problem {
        return Some(problem.clone());
    }
    let making = pieces.making.as_ref()?;
    Some(format!("Test pieces: {} of {} are made, now {making}.", pieces.made, pieces.of))
}

fn whole(now: &Walkthrough) -> String {
    let summary = &now.summary;
    let when = match summary.finished_ms {
        Some(ms) => format!("finished {}", time(ms)),
        None => format!("running since {}", time(summary.started_ms)),
    };
    let mut lines = vec![format!("{}: walkthrough {}, {when}", summary.label, summary.number)];
    if !summary.due_again.is_empty() {
        let what = summary.due_again.join(", ");
        lines.push(format!("Due again: since it began this changed: {what}."));
    }
    lines.extend(now.steps.iter().map(in_words));
    lines.extend(now.remarks.iter().map(why));
    if !now.takings.is_empty() {
        lines.push("Taken:".into());
        lines.extend(now.takings.iter().map(taken));
    }
    for question in &now.questions {
        let said = match question.said {
            Some(true) => "yes, says a person".to_owned(),
            Some(false) => "no, says a person".to_owned(),
            None => format!("mostra walkthrough say {} {} yes", summary.device, question.question),
        };
        lines.push(format!("? {}  {said}", question.asked));
    }
    lines.extend(pieces(&now.test_pieces));
    lines.push(format!("{} of {} done. {}", summary.done, summary.steps, summary.verdict_text));
    lines.join("\n")
}

fn listed(all: &WalkthroughList) -> String {
    if all.walkthroughs.is_empty() {
        return "No device has been walked through. Begin: mostra walkthrough start DEVICE".into();
    }
    let row = |one: &mostra_api::WalkthroughSummary| {
        let when = match one.finished_ms {
            Some(ms) => format!("finished {}", time(ms)),
            None => "running".into(),
        };
        let due = match one.due_again.is_empty() {
            true => String::new(),
            false => format!(" Due again: {} changed.", one.due_again.join(", ")),
        };
        vec![
            one.label.clone(),
            when,
            format!("{} of {}", one.done, one.steps),
            format!("{}{due}", one.verdict_text),
        ]
    };
    let rows = table(&["device", "when", "steps", "comes to"], all.walkthroughs.iter().map(row));
    let pieces = pieces(&all.test_pieces).map(|line| format!("\n{line}")).unwrap_or_default();
    rows + &pieces
}

fn earlier(label: &str, all: &[EarlierWalkthrough]) -> String {
    if all.is_empty() {
        return format!("{label} has not been walked through.");
    }
    let row = |one: &EarlierWalkthrough| {
        let finding = one.finding.as_ref().map(|cause| cause.seen.clone());
        vec![
            one.number.to_string(),
            time(one.started_ms),
            one.finished_ms.map_or("running".into(), time),
            count(one.done.len() as u64, "step"),
            finding.unwrap_or_default(),
        ]
    };
    table(&["number", "began", "finished", "done", "found"], all.iter().map(row))
}
