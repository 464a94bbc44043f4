//! The records as files: saved, listed, checked, restored.

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use clap::Subcommand;
use mostra_api::{CheckedRecords, Folder, RecordCounts, RecordsState, SavedRecords, Setup};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::output::{Done, Output, bytes, count, sure, table, time};

#[derive(Debug, Subcommand)]
pub(crate) enum RecordsVerb {
    /// Save everything decided, proven and kept into a file, without media
    Save {
        /// The file
        file: PathBuf,
        /// Replace the file if it is there
        #[arg(long)]
        replace: bool,
    },
    /// List what is saved on the service's host
    List,
    /// Put saved records in the place of those that are here; the service restarts
    Restore {
        /// A file, or the name of one that `list` shows
        file: String,
        /// Do not ask, though something is lost
        #[arg(long)]
        yes: bool,
    },
    /// Try out saved records: restore them into an empty database, and compare
    Check {
        /// The name of one that `list` shows [default: the newest]
        name: Option<String>,
    },
    /// Remove saved records
    Remove {
        /// The name of one that `list` shows
        name: String,
    },
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: RecordsVerb,
) -> Result<(), Failure> {
    match verb {
        RecordsVerb::Save { file, replace } => save(connection, output, &file, replace).await,
        RecordsVerb::List => {
            let state: RecordsState = connection.get("/records").await?;
            output.print(&state, list)
        }
        RecordsVerb::Restore { file, yes } => restore(connection, output, &file, yes).await,
        RecordsVerb::Check { name } => {
            let name = match name {
                Some(name) => name,
                None => newest(connection).await?,
            };
            let path = format!("/records/{name}/check");
            let checked: CheckedRecords =
                connection.change(Method::POST, &path, None::<&()>).await?;
            output.print(&checked, |CheckedRecords { saved, accounts }| {
                format!(
                    "{} can be restored: every table has the rows that were saved, {} in all. {}",
                    saved.name,
                    holds(&saved.holds),
                    accounts_words(accounts)
                )
            })
        }
        RecordsVerb::Remove { name } => {
            connection.remove(&format!("/records/{name}")).await?;
            output.print(&Done { done: true }, |_| format!("{name} is removed."))
        }
    }
}

async fn newest(connection: &Connection) -> Result<String, Failure> {
    let state: RecordsState = connection.get("/records").await?;
    let newest = state.saved.into_iter().next();
    newest.map(|saved| saved.name).ok_or_else(|| {
        Failure::new("nothing is saved yet", "Save the records: mostra records save FILE")
    })
}

async fn save(
    connection: &Connection,
    output: &Output,
    file: &Path,
    replace: bool,
) -> Result<(), Failure> {
    if file.exists() && !file.is_file() {
        return Err(Failure::new(format!("{} is no file", file.display()), "Name a file."));
    }
    if file.exists() && !replace {
        return Err(Failure::new(
            format!("{} is there already", file.display()),
            "Name another file, or say --replace.",
        ));
    }
    let saved: SavedRecords = connection.change(Method::POST, "/records", None::<&()>).await?;
    connection.download(&format!("/records/{}/file", saved.name), file).await?;
    output.print(&saved, |saved| {
        format!(
            "Saved in {}: {}, {}.\nKeep it closed to others: it holds the accounts. It is on the service's host as well, as {}.",
            file.display(),
            holds(&saved.holds),
            bytes(saved.bytes),
            saved.name
        )
    })
}

fn list(state: &RecordsState) -> String {
    let mut lines = Vec::new();
    if state.saved.is_empty() {
        lines.push("Nothing is saved yet. By itself that happens each night; now: mostra records save FILE".into());
    } else {
        let rows = state.saved.iter().map(|saved| {
            let checked = match (saved.checked_ms, &saved.problem) {
                (Some(_), Some(problem)) => problem.clone(),
                (Some(at), None) => time(at),
                (None, _) => "no".into(),
            };
            vec![
                saved.name.clone(),
                time(saved.made_ms),
                because(&saved.because).into(),
                saved.house.clone(),
                format!(
                    "{}, {}",
                    count(saved.holds.files, "file"),
                    count(saved.holds.devices, "device")
                ),
                bytes(saved.bytes),
                checked,
            ]
        });
        lines.push(table(&["name", "saved", "why", "house", "holds", "size", "checked"], rows));
    }
    if let Some(doing) = &state.doing {
        lines.push(format!(
            "Under way: {doing} since {}",
            state.since_ms.map(time).unwrap_or_default()
        ));
    }
    lines.extend(state.problem.iter().map(|why| format!("! The last save failed: {why}")));
    if let Some(restored) = &state.restored {
        lines.push(match &restored.problem {
            None => format!("Restored {} at {}.", restored.name, time(restored.at_ms)),
            Some(why) => format!(
                "! {} was not restored at {}, and all is as before: {why}",
                restored.name,
                time(restored.at_ms)
            ),
        });
    }
    lines.join("\n")
}

fn because(word: &str) -> &str {
    match word {
        "nightly" => "by night",
        "asked" => "asked for",
        "before-restore" => "before a restore",
        "before-upgrade" => "before an upgrade",
        other => other,
    }
}

/// What records hold, in words.
fn holds(counts: &RecordCounts) -> String {
    format!(
        "{} with {}, {} with {}, {}",
        count(counts.folders, "folder"),
        count(counts.files, "file"),
        count(counts.devices, "device"),
        count(counts.sightings, "sighting"),
        count(counts.accounts, "account")
    )
}

/// How long the service may take to restore and start again.
const PATIENCE: Duration = Duration::from_secs(600);

async fn restore(
    connection: &Connection,
    output: &Output,
    file: &str,
    yes: bool,
) -> Result<(), Failure> {
    let state: RecordsState = connection.get("/records").await?;
    let known = state.saved.iter().find(|saved| saved.name == file).cloned();
    let saved: SavedRecords = match known {
        Some(saved) => saved,
        None => {
            connection.upload("/incoming-records", "application/x-tar", Path::new(file)).await?
        }
    };
    let now = &state.now;
    let question = format!(
        "Here are {}. They give way to those of {}, saved {}: {}. What is here is saved before. Go on?",
        holds(now),
        saved.house,
        time(saved.made_ms),
        holds(&saved.holds)
    );
    if now.folders + now.devices > 0 && !yes && !sure(&question) {
        return Err(Failure::new(
            "nothing was restored",
            "Say --yes to restore without being asked. What is here would be saved before.",
        ));
    }
    let before = state.restored.as_ref().map(|restored| restored.at_ms);
    let path = format!("/records/{}/restore", saved.name);
    let checked: CheckedRecords = connection.change(Method::POST, &path, None::<&()>).await?;
    let folders = await_restored(connection, before).await?;
    output.print(&checked, |checked| restored_words(checked, folders.as_deref()))
}

/// Waits until the service has restored, and is there again. Gives the folders, where this login
/// counts among what was restored.
async fn await_restored(
    connection: &Connection,
    before: Option<u64>,
) -> Result<Option<Vec<Folder>>, Failure> {
    let end = Instant::now() + PATIENCE;
    let mut was_away = false;
    while Instant::now() < end {
        tokio::time::sleep(Duration::from_millis(200)).await;
        match connection.get::<RecordsState>("/records").await {
            Ok(state) if state.restored.as_ref().map(|r| r.at_ms) != before => {
                let problem = state.restored.and_then(|restored| restored.problem);
                if let Some(why) = problem {
                    return Err(Failure::new(
                        format!("nothing was restored, and all is as before: {why}"),
                        "See the service's log.",
                    ));
                }
                let folders = connection.get::<Vec<Folder>>("/folders").await;
                return Ok(folders.ok());
            }
            Ok(_) => {}
            // Accounts and sessions are those that were saved.
            Err(failure) if failure.0.status == 401 => return Ok(None),
            Err(_) => was_away = true,
        }
        let _ = connection.get::<Setup>("/setup").await;
    }
    let what = if was_away { "does not answer again" } else { "did not restart" };
    Err(Failure::new(format!("the service {what}"), "See its log."))
}

/// The accounts that records bring, in words.
fn accounts_words(accounts: &[String]) -> String {
    match accounts {
        [] => "They bring no account.".into(),
        accounts => format!("They bring these accounts: {}.", accounts.join(", ")),
    }
}

fn restored_words(checked: &CheckedRecords, folders: Option<&[Folder]>) -> String {
    let CheckedRecords { saved, accounts } = checked;
    let mut lines = vec![format!(
        "The records of {}, saved {}, are restored: {}.",
        saved.house,
        time(saved.made_ms),
        holds(&saved.holds)
    )];
    match folders {
        None => lines.push(format!(
            "{} All logins ended; sign in with one of them: mostra login",
            accounts_words(accounts)
        )),
        Some(folders) if folders.iter().any(|folder| folder.away_ms.is_some()) => {}
        Some(_) => return lines.remove(0),
    }
    lines
        .push("Folders that are elsewhere now are asked for one by one: mostra folder move".into());
    lines.extend(saved.folders.iter().map(|f| format!("  {}  was at {}", f.label, f.path)));
    lines.join("\n")
}
