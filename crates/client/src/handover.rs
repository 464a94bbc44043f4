//! handover write: what the household keeps.

use std::path::{Path, PathBuf};

use clap::Subcommand;
use mostra_api::{Handover, HandoverDevice};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::output::{Output, bytes};

#[derive(Debug, Subcommand)]
pub(crate) enum HandoverVerb {
    /// Write the hand-over as a page that prints on A4, and remember it: the next one says what changed
    Write {
        /// Where to; a file that is there is replaced
        #[arg(default_value = "hand-over.html")]
        file: PathBuf,
        /// The devices as a table of comma-separated values instead
        #[arg(long)]
        csv: bool,
        /// Do not remember it
        #[arg(long)]
        draft: bool,
    },
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: HandoverVerb,
) -> Result<(), Failure> {
    let HandoverVerb::Write { file, csv, draft } = verb;
    let written: Handover = connection.get("/handover").await?;
    if output.json {
        output.print(&written, |_| String::new())?;
    } else if csv {
        save(&file, &table(&written)?)?;
        output.print(&written, |_| format!("{} is written.", file.display()))?;
    } else {
        let length = connection.download("/handover/page", &file).await?;
        output.print(&written, |written| {
            let open = written.devices.iter().filter(|device| !is_good(device)).count();
            let left = match open {
                0 => "Every device is confirmed.".to_owned(),
                1 => "One device is not confirmed.".to_owned(),
                open => format!("{open} devices are not confirmed."),
            };
            format!("{} is written, {}. {left}", file.display(), bytes(length))
        })?;
    }
    if !draft {
        let none: Option<&()> = None;
        let _: Handover = connection.change(Method::POST, "/handover", none).await?;
    }
    Ok(())
}

fn is_good(device: &HandoverDevice) -> bool {
    matches!(device.verdict.as_deref(), Some("confirmed" | "kept-out"))
        && device.due_again.is_empty()
}

fn save(file: &Path, text: &[u8]) -> Result<(), Failure> {
    std::fs::write(file, text).map_err(|error| {
        Failure::new(format!("{} is not written: {error}", file.display()), "Name another file.")
    })
}

/// The devices as a table.
fn table(written: &Handover) -> Result<Vec<u8>, Failure> {
    let failed = |error: csv::Error| Failure::new(error.to_string(), "");
    let mut rows = csv::Writer::from_writer(Vec::new());
    let heading =
        ["device", "room", "address", "standing", "may see", "proven", "comes to", "due again"];
    rows.write_record(heading).map_err(failed)?;
    for device in &written.devices {
        let proven: Vec<&str> =
            device.proof.iter().filter(|s| s.confirmed).map(|s| s.step.as_str()).collect();
        let row = [
            device.label.as_str(),
            device.room.as_deref().unwrap_or_default(),
            &device.address,
            &device.standing,
            &device.may_see,
            &proven.join(", "),
            &device.verdict_text,
            &device.due_again.join(", "),
        ];
        // A program that opens tables takes what begins so for a formula.
        let safe = row.map(|cell| match cell.starts_with(['=', '+', '-', '@']) {
            true => format!("'{cell}"),
            false => cell.to_owned(),
        });
        rows.write_record(safe).map_err(failed)?;
    }
    rows.into_inner().map_err(|error| Failure::new(error.to_string(), ""))
}
