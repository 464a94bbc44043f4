//! Saved records: what a file of them says of itself, when they are saved by themselves, which are
//! kept.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// The form of the file that is written and read.
pub const FORMAT: u32 = 2;

/// How many are kept of those with one reason; older ones go.
pub const KEPT: usize = 7;

/// Why records were saved.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SavedBecause {
    /// It was night.
    Nightly,
    /// Somebody asked for it.
    Asked,
    /// Others were restored in their place.
    BeforeRestore,
    /// Another version of the program was installed.
    BeforeUpgrade,
}

impl SavedBecause {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            SavedBecause::Nightly => "nightly",
            SavedBecause::Asked => "asked",
            SavedBecause::BeforeRestore => "before-restore",
            SavedBecause::BeforeUpgrade => "before-upgrade",
        }
    }
}

/// What a file of saved records says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Manifest {
    /// The form of the file.
    pub format: u32,
    /// The version of the program that made it.
    pub version: String,
    /// The last change to the form of the tables that the records have.
    pub schema: String,
    /// When it was made, in Unix milliseconds.
    pub made_ms: u64,
    /// Why it was made.
    pub because: SavedBecause,
    /// The house's name.
    pub house: String,
    /// Rows of each table.
    pub counts: BTreeMap<String, u64>,
    /// The published folders: label and path.
    pub folders: Vec<(String, String)>,
    /// Bytes of the rows.
    pub bytes: u64,
    /// SHA-256 of the rows, in hexadecimal digits.
    pub sha256: String,
}

/// Why a file of saved records cannot be taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Unfit {
    /// Its form is of a later program.
    #[error("it was made by version {0}, which is later than this one")]
    Later(String),
    /// Its form is of a program of before version 0.1.0, whose dumps could have statements executed.
    #[error(
        "it is of a form that is not taken any more, as it could have the database do anything"
    )]
    Earlier,
    /// Its rows were changed or cut off.
    #[error("its records are damaged: they are not what its manifest says")]
    Damaged,
}

impl Manifest {
    /// Whether this program can take it, whose changes to the tables are `known`.
    ///
    /// # Errors
    /// [`Unfit::Later`] when a later program made it, [`Unfit::Earlier`] for the form of before.
    pub fn check(&self, known: &[String]) -> Result<(), Unfit> {
        if self.format > FORMAT || !known.contains(&self.schema) {
            return Err(Unfit::Later(self.version.clone()));
        }
        if self.format < FORMAT {
            return Err(Unfit::Earlier);
        }
        Ok(())
    }

    /// Rows of a table.
    pub fn count(&self, table: &str) -> u64 {
        self.counts.get(table).copied().unwrap_or(0)
    }
}

const HOUR: u64 = 3_600_000;
/// The hour in which records are saved by themselves.
const NIGHT: u32 = 3;

/// Whether records are to be saved by themselves: at night, or soon after the start of a machine
/// that is off at night. `saved` are the times of those that there are. All times are Unix milliseconds, but `hour`, that of the day here.
pub fn is_due(saved: impl IntoIterator<Item = u64>, started: u64, now: u64, hour: u32) -> bool {
    // What a clock that was ahead dated counts neither as the last one nor against the others.
    let last = saved.into_iter().filter(|at| *at <= now + HOUR).max();
    let age = now.saturating_sub(last.unwrap_or(started));
    let runs = now.saturating_sub(started);
    (hour == NIGHT && age > 2 * HOUR) || (age > 30 * HOUR && runs > HOUR / 6)
}

/// Bytes that must be free before records are saved, with room for what else is written.
pub fn room_needed(last_bytes: Option<u64>) -> u64 {
    const LEAST: u64 = 64 << 20;
    LEAST + last_bytes.unwrap_or(0) * 3
}

/// Of saved records, by name, reason and time, those that are to go: all but the newest of each
/// reason, so that nights do not push out what was saved before an upgrade.
pub fn outdated(mut saved: Vec<(String, SavedBecause, u64)>) -> Vec<String> {
    saved.sort_by_key(|(name, _, made)| (std::cmp::Reverse(*made), name.clone()));
    let mut kept: BTreeMap<&str, usize> = BTreeMap::new();
    let mut outdated = Vec::new();
    for (name, because, _) in &saved {
        let kept = kept.entry(because.word()).or_default();
        *kept += 1;
        if *kept > KEPT {
            outdated.push(name.clone());
        }
    }
    outdated
}

/// Whether a name is one that saved records have: no path can be made of it.
pub fn is_name(name: &str) -> bool {
    let stem = name.strip_prefix("records-").and_then(|rest| rest.strip_suffix(".tar"));
    stem.is_some_and(|stem| {
        (1..=64).contains(&stem.len())
            && stem.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-')
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    const DAY: u64 = 24 * HOUR;
    const NOON: u64 = 20_000 * DAY + 12 * HOUR;

    #[test]
    fn records_are_saved_once_a_night_and_by_day_where_there_are_no_nights() {
        // Through ten days, hour by hour: once each night.
        let mut last = None;
        let mut saves = Vec::new();
        for n in 0..240 {
            let (now, hour) = (NOON + n * HOUR, (12 + n as u32) % 24);
            if is_due(last, NOON, now, hour) {
                saves.push(hour);
                last = Some(now);
            }
        }
        assert_eq!(saves, [3; 10]);
        // On from eight to ten in the evening: each day, some time after the start.
        let mut last = Some(NOON);
        for day in 2..9 {
            let started = NOON + day * DAY + 8 * HOUR;
            assert!(!is_due(last, started, started + 60_000, 20));
            assert!(is_due(last, started, started + HOUR, 21), "{day}");
            last = Some(started + HOUR);
            assert!(!is_due(last, started, started + 2 * HOUR, 22));
            last = Some(started + HOUR - 7 * HOUR);
        }
        // Nothing is saved of a house that has just begun, and a clock that jumps stops nothing.
        assert!(!is_due(None, NOON, NOON + HOUR, 13));
        assert!(is_due(Some(NOON + 365 * DAY), NOON - 40 * HOUR, NOON, 12));
        assert!(is_due(Some(NOON), NOON, NOON + 365 * DAY, 12));
        assert!(!is_due([NOON + 365 * DAY, NOON - HOUR], NOON - 40 * HOUR, NOON, 12));
    }

    #[test]
    fn the_newest_are_kept() {
        let night = |n: u64| (format!("records-{n}.tar"), SavedBecause::Nightly, n);
        let mut all: Vec<_> = (1..=10).map(night).collect();
        all.push(("records-0.tar".into(), SavedBecause::BeforeUpgrade, 0));
        assert_eq!(outdated(all), ["records-3.tar", "records-2.tar", "records-1.tar"]);
        assert!(outdated(vec![night(1)]).is_empty());
    }

    #[test]
    fn no_path_is_a_name() {
        assert!(is_name("records-2026-11-28-033000.tar"));
        for other in [
            "records-.tar",
            "../records-a.tar",
            "records-a/b.tar",
            "records-A.tar",
            "a.tar",
            "records-..tar",
        ] {
            assert!(!is_name(other), "{other}");
        }
    }

    #[test]
    fn what_a_later_program_made_is_not_taken() {
        let known = ["m1".to_owned(), "m2".to_owned()];
        let manifest = Manifest {
            format: FORMAT,
            version: "9.0".into(),
            schema: "m1".into(),
            made_ms: 1,
            because: SavedBecause::Asked,
            house: "Pellworth Light".into(),
            counts: BTreeMap::from([("file".into(), 3)]),
            folders: vec![],
            bytes: 1,
            sha256: String::new(),
        };
        assert_eq!(manifest.check(&known), Ok(()));
        assert_eq!((manifest.count("file"), manifest.count("device")), (3, 0));
        let later = Err(Unfit::Later("9.0".into()));
        assert_eq!(Manifest { schema: "m3".into(), ..manifest.clone() }.check(&known), later);
        assert_eq!(Manifest { format: FORMAT + 1, ..manifest.clone() }.check(&known), later);
        assert_eq!(Manifest { format: FORMAT - 1, ..manifest }.check(&known), Err(Unfit::Earlier));
    }
}
