//! Tables for people, JSON for programs.

use std::io::Write as _;

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
            let pretty = serde_json::to_string_pretty(value);
            for_terminal_as_json(&pretty.map_err(|e| Failure::new(e.to_string(), ""))?)
        } else {
            for_terminal(&text(value))
        };
        // A reader that went away early, such as `head`, has what it wanted.
        let _ = writeln!(std::io::stdout(), "{}", shown.trim_end());
        Ok(())
    }

    /// Prints what was drawn with the terminal's own codes, or the value as JSON. Nothing that comes
    /// from outside may be in it.
    pub(crate) fn print_drawn<T: Serialize>(
        &self,
        value: &T,
        drawn: impl FnOnce(&T) -> String,
    ) -> Result<(), Failure> {
        if self.json {
            return self.print(value, |_| String::new());
        }
        let _ = writeln!(std::io::stdout(), "{}", drawn(value).trim_end());
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
            let line = serde_json::to_string(value);
            for_terminal_as_json(&line.map_err(|e| Failure::new(e.to_string(), ""))?)
        } else {
            for_terminal(&text(value))
        };
        let mut out = std::io::stdout();
        if writeln!(out, "{shown}").and_then(|()| out.flush()).is_err() {
            std::process::exit(0);
        }
        Ok(())
    }
}

/// Text as a terminal may be given it, whoever it came from: what would move the cursor, colour, or
/// reorder what is read is shown as a mark of its own. Lines and tabs stay.
pub(crate) fn for_terminal(text: &str) -> String {
    text.chars().map(|c| if is_for_terminal(c) { c } else { '\u{fffd}' }).collect()
}

/// The same of JSON, in which such characters have a spelling of their own.
fn for_terminal_as_json(json: &str) -> String {
    let mut shown = String::with_capacity(json.len());
    for c in json.chars() {
        match is_for_terminal(c) {
            true => shown.push(c),
            false => shown.push_str(&format!("\\u{:04x}", u32::from(c))),
        }
    }
    shown
}

fn is_for_terminal(c: char) -> bool {
    // What turns the direction of text: Unicode's bidirectional controls.
    let turns = matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    matches!(c, '\n' | '\t') || !c.is_control() && !turns
}

/// Says a line beside what is printed.
pub(crate) fn say(text: &str) {
    let _ = writeln!(std::io::stderr(), "{}", for_terminal(text));
}

/// Says what is to be answered, without ending the line.
pub(crate) fn prompt(text: &str) {
    let mut out = std::io::stderr();
    let _ = write!(out, "{}", for_terminal(text)).and_then(|()| out.flush());
}

/// Shows one screen in the place of the one before, on a terminal: from the top, each line cleared
/// behind its end, and what is left below.
pub(crate) fn redraw(text: &str) {
    let drawn = for_terminal(text).replace('\n', "\x1b[K\n");
    let mut screen = std::io::stdout();
    let _ = write!(screen, "\x1b[H{drawn}\x1b[K\n\x1b[J").and_then(|()| screen.flush());
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
    use std::io::IsTerminal as _;
    if !std::io::stdin().is_terminal() {
        return false;
    }
    prompt(&format!("{question} [y/N] "));
    let mut answer = String::new();
    std::io::stdin().read_line(&mut answer).is_ok() && matches!(answer.trim(), "y" | "Y" | "yes")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_comes_from_outside_moves_no_cursor_and_turns_no_text() {
        let hostile = "uuid:\u{1b}]52;c;YQ==\u{7}\u{9b}2J\r\u{202e}txt\tend\nnext";
        assert_eq!(
            for_terminal(hostile),
            "uuid:\u{fffd}]52;c;YQ==\u{fffd}\u{fffd}2J\u{fffd}\u{fffd}txt\tend\nnext"
        );
        let json = for_terminal_as_json(&serde_json::to_string(hostile).unwrap());
        assert!(json.chars().all(is_for_terminal), "{json}");
        assert_eq!(serde_json::from_str::<String>(&json).unwrap(), hostile);
        assert_eq!(for_terminal("Lämpen · 灯台 ✓"), "Lämpen · 灯台 ✓");
    }
}
