//! house export and house apply.

use std::path::{Path, PathBuf};

use mostra_api::AppliedHouse;
use serde::Serialize;

use crate::connection::{Connection, Failure};
use crate::output::{Done, Output};

/// The document, as it is printed for programs.
#[derive(Debug, Serialize)]
struct Exported {
    toml: String,
}

pub(crate) async fn export(
    connection: &Connection,
    output: &Output,
    file: Option<PathBuf>,
) -> Result<(), Failure> {
    let toml = connection.text("/house/file").await?;
    let Some(file) = file else {
        return output.print(&Exported { toml }, |exported| exported.toml.clone());
    };
    std::fs::write(&file, toml).map_err(|error| {
        Failure::new(format!("{} is not written: {error}", file.display()), "Name another file.")
    })?;
    output.print(&Done { done: true }, |_| format!("{} is written.", file.display()))
}

pub(crate) async fn apply(
    connection: &Connection,
    output: &Output,
    file: &Path,
    plan: bool,
) -> Result<(), Failure> {
    let text = std::fs::read_to_string(file).map_err(|error| {
        Failure::new(
            format!("{} cannot be read: {error}", file.display()),
            "`mostra house export FILE` writes one.",
        )
    })?;
    let came: AppliedHouse =
        connection.send_text(&format!("/house/file?plan={plan}"), text).await?;
    output.print(&came, in_words)?;
    match came.failed.is_empty() {
        true => Ok(()),
        false => Err(Failure::new("not all of it could be changed", "The rest is changed.")),
    }
}

fn in_words(came: &AppliedHouse) -> String {
    if came.changes.is_empty() {
        return "Nothing changes: the house is as the file says.".into();
    }
    let mut lines = vec![match came.applied {
        true => "Changed:".to_owned(),
        false => "Would change:".to_owned(),
    }];
    for change in &came.changes {
        let before = change.before.as_ref().map(|before| format!("{before} → "));
        lines.push(format!("  {}: {}{}", change.what, before.unwrap_or_default(), change.after));
    }
    for failed in &came.failed {
        lines.push(format!("  ✗ {}: {}", failed.what, failed.why));
    }
    lines.join("\n")
}
