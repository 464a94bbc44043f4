//! What was asked of the service, how it went, and what went wrong.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// Failures kept in words; all are counted.
const KEPT: usize = 40;

#[derive(Default, Clone, Copy)]
struct Tally {
    asked: u64,
    failed: u64,
    slowest: Duration,
}

#[derive(Default)]
struct Pages {
    tallies: BTreeMap<&'static str, Tally>,
    failures: Vec<String>,
}

/// Kept by all who take part.
pub(super) struct Ledger {
    began: Instant,
    pages: Mutex<Pages>,
}

impl Ledger {
    pub(super) fn begin() -> Ledger {
        Ledger { began: Instant::now(), pages: Mutex::default() }
    }

    fn pages(&self) -> MutexGuard<'_, Pages> {
        self.pages.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Since the beginning.
    pub(super) fn now(&self) -> Duration {
        self.began.elapsed()
    }

    /// Does something and notes how it went.
    pub(super) fn note(
        &self,
        deed: &'static str,
        who: &str,
        work: impl FnOnce() -> Result<(), String>,
    ) {
        let began = Instant::now();
        let outcome = work();
        let (at, took) = (self.now(), began.elapsed());
        let mut pages = self.pages();
        let tally = pages.tallies.entry(deed).or_default();
        tally.asked += 1;
        tally.slowest = tally.slowest.max(took);
        if let Err(why) = outcome {
            tally.failed += 1;
            if pages.failures.len() < KEPT {
                pages.failures.push(format!("{:.1} s, {who}, {deed}: {why}", at.as_secs_f64()));
            }
        }
    }

    /// The table of deeds, the failures, and how many there were.
    pub(super) fn close(&self) -> (String, u64) {
        let pages = self.pages();
        let mut report =
            String::from("| what | asked | failed | slowest |\n| --- | --- | --- | --- |\n");
        for (deed, tally) in &pages.tallies {
            let slowest = tally.slowest.as_secs_f64();
            let _ = writeln!(
                report,
                "| {deed} | {} | {} | {slowest:.2} s |",
                tally.asked, tally.failed
            );
        }
        for failure in &pages.failures {
            let _ = writeln!(report, "\nFAILED at {failure}");
        }
        (report, pages.tallies.values().map(|t| t.failed).sum())
    }
}
