//! Folders that are at another path now, as on another machine.

use std::io::IsTerminal as _;

use mostra_api::{Folder, FolderMove};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::folder::{find, finish, loaded};
use crate::output::{Output, prompt};

/// Where a folder is now.
#[derive(Debug, clap::Args)]
pub(crate) struct Move {
    /// Its number or label [default: each one that is away is asked for]
    #[arg(requires = "path")]
    folder: Option<String>,
    /// Where it is now
    path: Option<String>,
    /// Take the path though most of what is recorded is not there; that counts as gone then
    #[arg(long)]
    anyway: bool,
    /// Do not wait for the scan
    #[arg(long)]
    no_wait: bool,
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    wish: Move,
) -> Result<(), Failure> {
    let Move { folder, path, anyway, no_wait } = wish;
    if let (Some(folder), Some(path)) = (folder, path) {
        let folder = find(connection, &folder).await?;
        let folder = to(connection, &folder, &path, anyway).await?;
        return finish(connection, output, folder, no_wait, "Moved").await;
    }
    let folders = loaded(connection).await?;
    let away: Vec<Folder> = folders.into_iter().filter(|f| f.away_ms.is_some()).collect();
    if away.is_empty() || !std::io::stdin().is_terminal() {
        let labels: Vec<&str> = away.iter().map(|f| f.label.as_str()).collect();
        return match labels.is_empty() {
            true => {
                Err(Failure::new("no folder is away", "Name one: mostra folder move LABEL PATH"))
            }
            false => Err(Failure::new(
                format!("these are away: {}", labels.join(", ")),
                "Name each: mostra folder move LABEL PATH",
            )),
        };
    }
    let mut moved = Vec::new();
    for folder in away {
        loop {
            let (label, path) = (&folder.label, &folder.path);
            prompt(&format!("{label} was at {path}. Where is it now? (Enter leaves it) "));
            let mut line = String::new();
            let read = std::io::stdin().read_line(&mut line);
            read.map_err(|error| Failure::new(format!("no answer can be read: {error}"), ""))?;
            if line.trim().is_empty() {
                break;
            }
            match to(connection, &folder, line.trim(), anyway).await {
                Ok(folder) => {
                    moved.push(folder);
                    break;
                }
                Err(failure) => drop(failure.report(false)),
            }
        }
    }
    output.print(&moved, |moved| {
        let lines =
            moved.iter().map(|f| format!("{} is at {} now; it is scanned.", f.label, f.path));
        lines.collect::<Vec<_>>().join("\n")
    })
}

async fn to(
    connection: &Connection,
    folder: &Folder,
    path: &str,
    anyway: bool,
) -> Result<Folder, Failure> {
    let path =
        std::path::absolute(path).map_or(path.to_owned(), |p| p.to_string_lossy().into_owned());
    let wish = FolderMove { path, anyway };
    connection.change(Method::PUT, &format!("/folders/{}/path", folder.id), Some(&wish)).await
}
