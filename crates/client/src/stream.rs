//! stream list, watch, end.

use std::io::IsTerminal;
use std::time::Duration;

use clap::Subcommand;
use mostra_api::{ConsolePlaying, HostLoad, Stream, StreamList};

use crate::connection::{Connection, Failure};
use crate::output::{Output, bytes, duration, redraw, table, time};

#[derive(Debug, Subcommand)]
pub(crate) enum StreamVerb {
    /// List the streams that run
    List,
    /// Watch them, with plots of the last minute, until Ctrl-C
    Watch {
        /// Seconds between two looks
        #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u64).range(1..=60))]
        every: u64,
    },
    /// End a stream; its file is kept from the device for a minute
    End {
        /// Its number
        number: u32,
    },
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: StreamVerb,
) -> Result<(), Failure> {
    match verb {
        StreamVerb::List => {
            let all: StreamList = connection.get("/streams").await?;
            let console = all.console;
            output.print(&all.streams, |streams| {
                let line = |playing: &ConsolePlaying| {
                    format!(
                        "In the console {} plays {} since {}.",
                        playing.account,
                        playing.title,
                        time(playing.since_ms).split_off(11)
                    )
                };
                let console = console.iter().map(line);
                std::iter::once(list(streams)).chain(console).collect::<Vec<_>>().join("\n")
            })
        }
        StreamVerb::Watch { every } => watch(connection, output, Duration::from_secs(every)).await,
        StreamVerb::End { number } => {
            let all: StreamList = connection.get("/streams").await?;
            let stream = all.streams.into_iter().find(|s| s.id == number).ok_or_else(|| {
                Failure::new(
                    format!("no stream has the number {number}"),
                    "It may have ended by itself; see: mostra stream list",
                )
            })?;
            connection.remove(&format!("/streams/{number}")).await?;
            output.print(&stream, |s| {
                format!("{} no longer receives {}; it may ask again in a minute.", s.label, s.title)
            })
        }
    }
}

fn list(streams: &[Stream]) -> String {
    if streams.is_empty() {
        return "No device is watching.".into();
    }
    let heading = ["no", "device", "item", "since", "position", "now", "on average", "in all"];
    let row = |s: &Stream| {
        vec![
            s.id.to_string(),
            s.label.clone(),
            s.title.clone(),
            time(s.since_ms).split_off(11),
            position(s),
            if s.paused { "paused".into() } else { rate(s.rate) },
            rate(s.average),
            bytes(s.delivered),
        ]
    };
    table(&heading, streams.iter().map(row))
}

/// How far into the item, by bytes; what plays at an even rate is there by time as well.
fn position(stream: &Stream) -> String {
    // A broadcast has no end, and so no place in it.
    if stream.size == 0 {
        return "live".into();
    }
    let share = stream.position as f64 / stream.size.max(1) as f64;
    match stream.duration_ms {
        Some(ms) => format!("{} of {}", duration((share * ms as f64) as u64), duration(ms)),
        None => format!("{:.0} %", share * 100.0),
    }
}

fn rate(bytes_a_second: u64) -> String {
    format!("{}/s", bytes(bytes_a_second))
}

/// Columns of a plot: one a second.
const WIDTH: usize = 60;

async fn watch(connection: &Connection, output: &Output, every: Duration) -> Result<(), Failure> {
    // Without a terminal there is nothing to draw on again: one look.
    let live = std::io::stdout().is_terminal() && !output.json;
    loop {
        let all: StreamList = connection.get("/streams").await?;
        if !live {
            return output.print(&all, picture);
        }
        redraw(&picture(&all));
        tokio::time::sleep(every).await;
    }
}

fn picture(all: &StreamList) -> String {
    let mut lines = vec![match all.streams.len() {
        0 => "No device is watching.".to_owned(),
        1 => "One stream runs.".to_owned(),
        n => format!("{n} streams run."),
    }];
    for s in &all.streams {
        let now = if s.paused { "paused".to_owned() } else { rate(s.rate) };
        lines.push(String::new());
        lines.push(format!("{}  {} \u{2192} {}", s.id, s.title, s.label));
        lines.push(format!(
            "   {}   now {now}, on average {}, {} in all",
            position(s),
            rate(s.average),
            bytes(s.delivered)
        ));
        let most = s.history.iter().copied().max().unwrap_or(0).max(1);
        let shares = s.history.iter().map(|n| *n as f64 / most as f64);
        lines.push(format!("   {} {}", plot(shares.collect()), rate(most)));
    }
    lines.push(String::new());
    lines.push(draw_host(&all.host));
    lines.join("\n")
}

/// How busy the host is.
pub(crate) async fn host(connection: &Connection, output: &Output) -> Result<(), Failure> {
    let load: HostLoad = connection.get("/host").await?;
    output.print(&load, draw_host)
}

fn draw_host(HostLoad { processor, disk }: &HostLoad) -> String {
    let mut lines = Vec::new();
    for (name, values) in [("processors", processor), ("busiest disk", disk)] {
        let now = values.last().copied().unwrap_or(0.0);
        let shares = values.iter().map(|v| f64::from(*v) / 100.0).collect();
        lines.push(format!("{name:<13}{now:>4.0} %"));
        lines.push(format!("   {} 100 %", plot(shares)));
    }
    lines.join("\n")
}

/// The last seconds as a row of bars; each share is of the whole height.
fn plot(shares: Vec<f64>) -> String {
    const BARS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let from = shares.len().saturating_sub(WIDTH);
    let bar = |share: &f64| {
        let height = (share.clamp(0.0, 1.0) * 8.0).ceil() as usize;
        BARS[height.min(8)]
    };
    let drawn: String = shares[from..].iter().map(bar).collect();
    format!("{drawn:>WIDTH$}")
}
