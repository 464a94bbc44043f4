//! Tables for people, JSON for programs.

use comfy_table::presets::NOTHING;
use comfy_table::{ContentArrangement, Table};
use serde::Serialize;

use crate::connection::Failure;

/// How to print.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Output {
    /// JSON instead of text.
    pub json: bool,
}

impl Output {
    /// Prints a value as JSON, or else what `text` makes of it.
    pub(crate) fn print<T: Serialize>(
        &self,
        value: &T,
        text: impl FnOnce(&T) -> String,
    ) -> Result<(), Failure> {
        let shown = if self.json {
            serde_json::to_string_pretty(value).map_err(|e| Failure::new(e.to_string(), ""))?
        } else {
            text(value)
        };
        use std::io::Write;
        // A reader that went away early, such as `head`, has what it wanted.
        let _ = writeln!(std::io::stdout(), "{}", shown.trim_end());
        Ok(())
    }

    /// Prints a line of what goes on, as one line of JSON or what `text` makes of it. A reader that
    /// went away ends the program: nobody looks any more.
    pub(crate) fn print_line<T: Serialize>(
        &self,
        value: &T,
        text: impl FnOnce(&T) -> String,
    ) -> Result<(), Failure> {
        let shown = if self.json {
            serde_json::to_string(value).map_err(|e| Failure::new(e.to_string(), ""))?
        } else {
            text(value)
        };
        use std::io::Write;
        let mut out = std::io::stdout();
        if writeln!(out, "{shown}").and_then(|()| out.flush()).is_err() {
            std::process::exit(0);
        }
        Ok(())
    }
}

/// What is printed as JSON of something that was done and leaves nothing to show.
#[derive(Debug, Serialize)]
pub(crate) struct Done {
    /// Always true; failures are printed otherwise.
    pub done: bool,
}

/// A table with a heading; columns fit the terminal.
pub(crate) fn table(heading: &[&str], rows: impl IntoIterator<Item = Vec<String>>) -> String {
    let mut table = Table::new();
    table.load_preset(NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_header(heading.iter().map(|h| h.to_uppercase()));
    for row in rows {
        table.add_row(row);
    }
    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }
    table.lines().map(|l| l.trim_end().to_owned()).collect::<Vec<_>>().join("\n")
}

/// `1 item`, `2 items`.
pub(crate) fn count(n: u64, word: &str) -> String {
    if n == 1 { format!("1 {word}") } else { format!("{n} {word}s") }
}

/// A moment in local time.
pub(crate) fn time(ms: u64) -> String {
    let stamp =
        jiff::Timestamp::from_millisecond(i64::try_from(ms).unwrap_or(0)).unwrap_or_default();
    stamp.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S").to_string()
}

/// Bytes for people, by thousands.
pub(crate) fn bytes(n: u64) -> String {
    match n {
        0..1_000 => format!("{n} B"),
        1_000..1_000_000 => format!("{:.1} kB", n as f64 / 1e3),
        1_000_000..1_000_000_000 => format!("{:.1} MB", n as f64 / 1e6),
        _ => format!("{:.1} GB", n as f64 / 1e9),
    }
}

/// A duration as `h:mm:ss` or `m:ss`.
pub(crate) fn duration(ms: u64) -> String {
    let s = ms / 1000;
    if s >= 3600 {
        format!("{}:{:02}:{:02}", s / 3600, s / 60 % 60, s % 60)
    } else {
        format!("{}:{:02}", s / 60, s % 60)
    }
}

/// Asks a question to be answered with y; without a terminal the answer is no.
pub(crate) fn sure(question: &str) -> bool {
    use std::io::{IsTerminal, Write};
    if !std::io::stdin().is_terminal() {
        return false;
    }
    eprint!("{question} [y/N] ");
    let _ = std::io::stderr().flush();
    let mut answer = String::new();
    std::io::stdin().read_line(&mut answer).is_ok() && matches!(answer.trim(), "y" | "Y" | "yes")
}
