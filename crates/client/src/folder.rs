//! folder add, list, show, remove, rescan.

use std::io::IsTerminal;
use std::time::Duration;

use clap::Subcommand;
use indicatif::{ProgressBar, ProgressStyle};
use mostra_api::{
    Excluded, Folder, FollowedLinks, LeftOutList, LinkChoice, NewFolder, Rescan, Scan, ScanReports,
    ScanState, Status,
};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::moved::Move;
use crate::output::{Output, count, say, sure, table, time};

#[derive(Debug, Subcommand)]
pub(crate) enum FolderVerb {
    /// Publish a folder where it is; nothing is moved or changed
    Add {
        /// The folder
        path: String,
        /// Its label in the menus [default: the folder's name]
        #[arg(long)]
        label: Option<String>,
        /// The kinds it holds
        #[arg(long, value_delimiter = ',', default_value = "video,music,picture")]
        kinds: Vec<String>,
        /// Which links that lead out of it are followed: readable, for those that the administrator
        /// made, or whoever owns what they lead to, or whose owner could read it; or all
        #[arg(long, value_name = "RULE", default_value = "readable")]
        links: LinkRule,
        /// Do not wait for the scan
        #[arg(long)]
        no_wait: bool,
    },
    /// List published folders
    List,
    /// Show a folder and what its last scan left out
    Show {
        /// Its number or label
        folder: String,
    },
    /// Stop publishing a folder; its files stay
    Remove {
        /// Its number or label
        folder: String,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// Show what the last scans added, changed and missed
    Scans {
        /// Its number or label
        folder: String,
    },
    /// End a scan that runs; what it found stays, and the next one goes on
    Stop {
        /// Its number or label
        folder: String,
    },
    /// Leave sub-folders out, such as samples; or show which are
    LeaveOut(LeaveOut),
    /// Set which links that lead out of a folder are followed; or show it
    Links {
        /// Its number or label
        folder: String,
        /// readable: those that the administrator made, or whoever owns what they lead to, or whose
        /// owner could read it; all: every link
        rule: Option<LinkRule>,
        /// Do not wait for the scan
        #[arg(long)]
        no_wait: bool,
    },
    /// Say where a folder is now, as on another machine: ids, proof and places to go on from stay
    Move(Move),
    /// Look for new, changed and vanished files
    Rescan {
        /// Its number or label
        folder: String,
        /// Only this directory in it
        #[arg(long, value_name = "PATH")]
        path: Option<String>,
        /// Take the drives as they are now: what was on one that is not mounted counts as gone
        #[arg(long)]
        as_it_is: bool,
        /// Do not wait for the scan
        #[arg(long)]
        no_wait: bool,
    },
}

/// Which links that lead out of a folder are followed.
#[derive(Debug, Clone, Copy, clap::ValueEnum)]
pub(crate) enum LinkRule {
    Readable,
    All,
}

/// A folder with what its last scan left out.
#[derive(Debug, serde::Serialize)]
struct ShownFolder {
    folder: Folder,
    left_out: LeftOutList,
}

/// What is done to sub-folders.
#[derive(Debug, clap::Args)]
pub(crate) struct LeaveOut {
    /// Its number or label
    folder: String,
    /// Sub-folders, by path below the folder; all others are taken in again
    paths: Vec<String>,
    /// Take all sub-folders in again
    #[arg(long, conflicts_with = "paths")]
    none: bool,
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: FolderVerb,
) -> Result<(), Failure> {
    match verb {
        FolderVerb::Add { path, label, kinds, links, no_wait } => {
            let path =
                std::path::absolute(&path).map_or(path, |p| p.to_string_lossy().into_owned());
            let links = Some(followed(links));
            let new = NewFolder { path, label, kinds: Some(kinds), links };
            let folder: Folder = connection.change(Method::POST, "/folders", Some(&new)).await?;
            finish(connection, output, folder, no_wait, "Published").await
        }
        FolderVerb::List => {
            let folders: Vec<Folder> = connection.get("/folders").await?;
            output.print(&folders, |folders| {
                if folders.is_empty() {
                    return "Nothing is published yet. Begin with: mostra folder add PATH".into();
                }
                table(
                    &["no", "label", "kinds", "items", "left out", "scan", "path"],
                    folders.iter().map(row),
                )
            })
        }
        FolderVerb::Show { folder } => {
            let folder = find(connection, &folder).await?;
            let left: LeftOutList =
                connection.get(&format!("/folders/{}/left-out", folder.id)).await?;
            let shown = ShownFolder { folder, left_out: left };
            output.print(&shown, |shown| show(&shown.folder, &shown.left_out))
        }
        FolderVerb::Remove { folder, yes } => {
            let folder = find(connection, &folder).await?;
            if !yes
                && !sure(&format!(
                    "Stop publishing {:?}? Its files stay where they are.",
                    folder.label
                ))
            {
                return Err(Failure::new(
                    "nothing was removed",
                    "Say --yes to remove without being asked.",
                ));
            }
            connection.remove(&format!("/folders/{}", folder.id)).await?;
            output.print(&folder, |f| {
                format!("{} is published no more. Its files are untouched in {}.", f.label, f.path)
            })
        }
        FolderVerb::Scans { folder } => {
            let folder = find(connection, &folder).await?;
            let path = format!("/folders/{}/scans", folder.id);
            let reports: ScanReports = connection.get(&path).await?;
            output.print(&reports, |reports| scans(&folder, reports))
        }
        FolderVerb::Stop { folder } => {
            let folder = find(connection, &folder).await?;
            connection.remove(&format!("/folders/{}/scan", folder.id)).await?;
            output.print(&folder, |f| {
                format!("The scan of {} ends. Go on with: mostra folder rescan {}", f.label, f.id)
            })
        }
        FolderVerb::LeaveOut(LeaveOut { folder, paths, none }) => {
            let mut folder = find(connection, &folder).await?;
            if none || !paths.is_empty() {
                let path = format!("/folders/{}/excluded", folder.id);
                let wish = Excluded { paths };
                folder = connection.change(Method::PUT, &path, Some(&wish)).await?;
            }
            output.print(&folder, |f| match f.excluded.is_empty() {
                true => format!("Nothing in {} is left out on purpose.", f.label),
                false => format!("Left out of {}:\n  {}", f.label, f.excluded.join("\n  ")),
            })
        }
        FolderVerb::Links { folder, rule, no_wait } => {
            let folder = find(connection, &folder).await?;
            let Some(rule) = rule else {
                return output.print(&folder, |f| match f.links {
                    FollowedLinks::Readable => format!(
                        "Of the links that lead out of {}, those are followed that the administrator \
                         made, or whoever owns what they lead to, or whose owner could read it.",
                        f.label
                    ),
                    FollowedLinks::All => {
                        format!("All links that lead out of {} are followed.", f.label)
                    }
                });
            };
            let path = format!("/folders/{}/links", folder.id);
            let wish = LinkChoice { links: followed(rule) };
            let folder: Folder = connection.change(Method::PUT, &path, Some(&wish)).await?;
            finish(connection, output, folder, no_wait, "Scanned").await
        }
        FolderVerb::Move(wish) => crate::moved::run(connection, output, wish).await,
        FolderVerb::Rescan { folder, path: place, as_it_is, no_wait } => {
            let folder = find(connection, &folder).await?;
            let path = format!("/folders/{}/rescan", folder.id);
            let wish = Rescan { path: place, as_it_is: as_it_is.then_some(true) };
            let folder: Folder = connection.change(Method::POST, &path, Some(&wish)).await?;
            finish(connection, output, folder, no_wait, "Scanned").await
        }
    }
}

fn followed(rule: LinkRule) -> FollowedLinks {
    match rule {
        LinkRule::Readable => FollowedLinks::Readable,
        LinkRule::All => FollowedLinks::All,
    }
}

/// The folders, once the catalogue is loaded: just after a start there are none yet.
pub(crate) async fn loaded(connection: &Connection) -> Result<Vec<Folder>, Failure> {
    let end = std::time::Instant::now() + Duration::from_secs(60);
    loop {
        let status: Status = connection.get("/status").await?;
        if status.loaded || std::time::Instant::now() > end {
            return connection.get("/folders").await;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

/// The folder of that number, label or path.
pub(crate) async fn find(connection: &Connection, wanted: &str) -> Result<Folder, Failure> {
    let folders = loaded(connection).await?;
    let fits = |f: &Folder| f.id.to_string() == wanted || f.label == wanted || f.path == wanted;
    let mut found: Vec<Folder> = folders.into_iter().filter(fits).collect();
    match found.len() {
        1 => Ok(found.remove(0)),
        0 => {
            Err(Failure::new(format!("no folder is called {wanted:?}"), "See: mostra folder list"))
        }
        _ => Err(Failure::new(
            format!("several folders are called {wanted:?}"),
            "Use the number from: mostra folder list",
        )),
    }
}

fn items(folder: &Folder) -> u64 {
    u64::from(folder.items.video) + u64::from(folder.items.music) + u64::from(folder.items.picture)
}

fn scan_words(folder: &Folder) -> String {
    if let Some(since) = folder.away_ms {
        return format!("away since {}", time(since));
    }
    match (&folder.scan, folder.scanned_ms) {
        (Some(Scan { state: ScanState::Running, done, to_do, .. }), _) => {
            format!("{done} of {}", done + to_do)
        }
        (Some(Scan { problem, .. }), _) => {
            format!("failed: {}", problem.as_deref().unwrap_or("unknown"))
        }
        (None, Some(at)) => time(at),
        (None, None) => "not yet".into(),
    }
}

fn row(folder: &Folder) -> Vec<String> {
    vec![
        folder.id.to_string(),
        folder.label.clone(),
        kind_words(&folder.kinds),
        items(folder).to_string(),
        folder.left_out.to_string(),
        scan_words(folder),
        folder.path.clone(),
    ]
}

fn scans(folder: &Folder, reports: &ScanReports) -> String {
    if reports.reports.is_empty() {
        return format!("{}: no scan yet", folder.label);
    }
    let mut lines = vec![folder.label.clone()];
    for report in &reports.reports {
        lines.push(format!(
            "  {}  ({})  {} added, {} changed, {} gone",
            time(report.ended_ms),
            why(&report.why),
            report.added,
            report.changed,
            report.gone
        ));
        for file in report.files.iter().take(20) {
            lines.push(format!("    {:<8} {}", file.what, file.path));
        }
        if report.files.len() > 20 {
            lines.push(format!(
                "    … and {} more; all of them with --json",
                report.files.len() - 20
            ));
        }
    }
    lines.join("\n")
}

/// What started a scan.
fn why(word: &str) -> &str {
    match word {
        "first" => "published",
        "start" => "the service started",
        "asked" => "asked for",
        "poll" => "looked through",
        "change" => "a change was noticed",
        "many" => "more changed at once than could be told",
        "back" => "the folder came back",
        "link" => "a drive behind a link went or came",
        "stations" => "other stations are allowed",
        other => other,
    }
}

fn kind_words(kinds: &[String]) -> String {
    let words: Vec<&str> = kinds.iter().map(|kind| crate::device_words::kind_word(kind)).collect();
    words.join(", ")
}

fn show(folder: &Folder, left: &LeftOutList) -> String {
    let mut lines = vec![
        format!("{}  ({})", folder.label, folder.path),
        format!("  kinds      {}", kind_words(&folder.kinds)),
        format!(
            "  items      {}, {}, {}",
            count(folder.items.video.into(), "film"),
            count(folder.items.music.into(), "track"),
            count(folder.items.picture.into(), "picture"),
        ),
        format!(
            "  on disk    {}, {}, {}, {}",
            count(left.found.video.into(), "film"),
            count(left.found.music.into(), "track"),
            count(left.found.picture.into(), "picture"),
            count(left.other.into(), "other file"),
        ),
        format!("  last scan  {}", scan_words(folder)),
        format!("  next scan  {}", folder.next_scan),
        format!("  left out   {}", left.files.len()),
    ];
    for file in &left.files {
        lines.push(format!("    {}  ({})", file.path, file.reason));
        lines.extend(file.remedy.as_ref().map(|r| format!("      {r}")));
    }
    lines.join("\n")
}

/// Waits for the scan, showing progress on a terminal.
pub(crate) async fn finish(
    connection: &Connection,
    output: &Output,
    folder: Folder,
    no_wait: bool,
    done: &str,
) -> Result<(), Failure> {
    let path = format!("/folders/{}", folder.id);
    let mut folder = folder;
    let mut told = std::time::Instant::now();
    let bar = (!output.json && !no_wait && std::io::stderr().is_terminal()).then(|| {
        let style = ProgressStyle::with_template("{spinner} {bar:30} {pos} of {len}  {msg}");
        ProgressBar::new(0).with_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()))
    });
    loop {
        if no_wait {
            break;
        }
        folder = connection.get(&path).await?;
        let Some(scan) = folder.scan.as_ref().filter(|s| s.state == ScanState::Running) else {
            break;
        };
        if bar.is_none() && !output.json && told.elapsed() >= Duration::from_secs(2) {
            told = std::time::Instant::now();
            say(&format!(
                "{} of {} files looked at, {} left out",
                scan.done,
                scan.done + scan.to_do,
                scan.left_out
            ));
        }
        if let Some(bar) = &bar {
            bar.set_length(scan.done + scan.to_do);
            bar.set_position(scan.done);
            let left = scan
                .remaining_ms
                .map(|ms| format!(", {} s left", ms.div_ceil(1000)))
                .unwrap_or_default();
            bar.set_message(format!("{:.0}/s{left}, {} left out", scan.rate, scan.left_out));
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    if let Some(bar) = bar {
        bar.finish_and_clear();
    }
    if let Some(problem) = folder.scan.as_ref().and_then(|s| s.problem.clone()) {
        return Err(Failure::new(
            format!("the scan of {:?} failed: {problem}", folder.label),
            "Try: mostra folder rescan",
        ));
    }
    output.print(&folder, |folder| {
        if no_wait {
            return format!("{done} {}; the scan goes on. See: mostra folder list", folder.label);
        }
        let mut text = format!("{done} {}: {}", folder.label, count(items(folder), "item"));
        if folder.left_out > 0 {
            text +=
                &format!(", {} left out. Why: mostra folder show {}", folder.left_out, folder.id);
        }
        text
    })
}
