//! From bytes that a device acknowledged to *started* and *skipped ahead*.
//!
//! Probes are not playing: a HEAD, the first bytes, a header before the media data, an index
//! behind it, and the last quarter read on its own confirm nothing.

use crate::Kind;
use crate::facts::Facts;
use crate::proof::Step;
use crate::resource::{Resource, Source};
use serde::{Deserialize, Serialize};

/// Share of the media data that counts as playing, if that is less than ten seconds.
const SHARE: f64 = 0.2;
/// Seconds of playing time that count, if that is less than the share.
const SECONDS: f64 = 10.0;
/// A start beyond this part of the media data is a look at the tail, not a start.
const TAIL: f64 = 0.75;

/// What it takes to play a file: where its media data lie, and how much of them counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Layout {
    /// The kind.
    pub kind: Kind,
    /// The first byte of the media data, and the first behind them.
    pub span: (u64, u64),
    /// Contiguous media bytes that a step needs.
    pub needed: u64,
}

impl Layout {
    /// That of a file with these facts.
    pub fn of(facts: &Facts) -> Layout {
        let (kind, size) = (facts.kind, facts.size);
        // A picture counts only as a whole, with its header.
        let span = if kind == Kind::Picture { (0, size) } else { facts.media_span() };
        let needed = Layout::needed_of(kind, span.1 - span.0, facts.duration_ms);
        Layout { kind, span, needed }
    }

    /// That of a resource made of such a file.
    pub fn of_resource(facts: &Facts, resource: &Resource) -> Layout {
        match (&resource.source, resource.length.known()) {
            (Source::Samples(_), Some(length)) => {
                let kind = facts.kind;
                let needed = Layout::needed_of(kind, length, facts.duration_ms);
                Layout { kind, span: (0, length), needed }
            }
            _ => Layout::of(facts),
        }
    }

    /// Media bytes in a row that count as playing, of so many that play for so long. A picture counts
    /// only as a whole.
    pub fn needed_of(kind: Kind, length: u64, duration_ms: Option<u64>) -> u64 {
        let length = length as f64;
        let needed = match (kind, duration_ms) {
            (Kind::Picture, _) => length,
            (_, Some(ms)) if ms > 0 => {
                (length * SECONDS / (ms as f64 / 1000.0)).min(length * SHARE)
            }
            _ => length * SHARE,
        };
        (needed as u64).max(1)
    }
}

/// What one device has taken of one item.
#[derive(Debug, Clone, PartialEq)]
pub struct Playback {
    layout: Layout,
    /// Runs of media data taken, disjoint, in order.
    runs: Vec<(u64, u64)>,
    /// The run that proved the start.
    started: Option<(u64, u64)>,
    skipped: bool,
}

/// A step that was just confirmed, with the bytes that confirm it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ConfirmedStep {
    /// *Started* or *skipped ahead*.
    pub step: Step,
    /// Contiguous media bytes acknowledged.
    pub bytes: u64,
}

impl Playback {
    /// Nothing taken yet of a file.
    pub fn new(layout: Layout) -> Playback {
        Playback { layout, runs: Vec::new(), started: None, skipped: false }
    }

    /// The file.
    pub fn layout(&self) -> Layout {
        self.layout
    }

    /// All that was taken: the run of the start first, the others in order. Fed to a new playback
    /// in this order it comes to the same.
    pub fn taken(&self) -> Vec<(u64, u64)> {
        let first = self.first();
        let others = self.runs.iter().copied().filter(|run| Some(*run) != first);
        first.into_iter().chain(others).collect()
    }

    /// The run that proved the start, as it has grown since.
    fn first(&self) -> Option<(u64, u64)> {
        let (start, _) = self.started?;
        self.runs.iter().find(|(a, b)| (*a..*b).contains(&start)).copied()
    }

    /// The device acknowledged the bytes `from` to `to` (excluded) of the file. Gives the steps
    /// that this confirms.
    pub fn deliver(&mut self, from: u64, to: u64) -> Vec<ConfirmedStep> {
        let Layout { kind, span, needed } = self.layout;
        let run = (from.max(span.0), to.min(span.1));
        if run.0 >= run.1 {
            return Vec::new();
        }
        self.merge(run);
        let mut confirmed = Vec::new();
        let long = |(a, b): &&(u64, u64)| b - a >= needed;
        if self.started.is_none() {
            let tail = span.0 + ((span.1 - span.0) as f64 * TAIL) as u64;
            self.started = self.runs.iter().filter(long).find(|(a, _)| *a < tail).copied();
            confirmed.extend(
                self.started.map(|(a, b)| ConfirmedStep { step: Step::Started, bytes: b - a }),
            );
        }
        // What continues the first run is no skip, and a picture has none.
        if let Some((_, end)) = self.first().filter(|_| !self.skipped && kind != Kind::Picture)
            && let Some((a, b)) = self.runs.iter().filter(long).find(|(a, _)| *a > end)
        {
            confirmed.push(ConfirmedStep { step: Step::SkippedAhead, bytes: b - a });
            self.skipped = true;
        }
        confirmed
    }

    fn merge(&mut self, mut run: (u64, u64)) {
        self.runs.retain(|(a, b)| {
            let apart = *b < run.0 || *a > run.1;
            if !apart {
                run = (run.0.min(*a), run.1.max(*b));
            }
            apart
        });
        let at = self.runs.partition_point(|(a, _)| *a < run.0);
        self.runs.insert(at, run);
        // Bounded, whatever a device does: the shortest run is given up.
        if self.runs.len() > 64
            && let Some(shortest) =
                (0..self.runs.len()).min_by_key(|i| self.runs[*i].1 - self.runs[*i].0)
        {
            self.runs.remove(shortest);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::format::Format;
    use proptest::prelude::*;

    /// A film of 100 s and 1 MB of media data between a header of 1000 bytes and an index.
    fn film() -> Playback {
        Playback::new(Layout::of(&Facts {
            duration_ms: Some(100_000),
            media: Some((1_000, 1_001_000)),
            ..Facts::bare(Kind::Video, Format::Mp4, 1_050_000, 0)
        }))
    }

    fn step(confirmed: Vec<ConfirmedStep>) -> Option<Step> {
        assert!(confirmed.len() < 2, "{confirmed:?}");
        confirmed.first().map(|c| c.step)
    }

    #[test]
    fn a_prober_confirms_nothing() {
        let mut film = film();
        assert_eq!(film.layout().needed, 100_000);
        for (from, to) in
            [(0, 2), (0, 65_536), (1_001_000, 1_050_000), (1_000_000, 1_050_000), (0, 1_000)]
        {
            assert_eq!(film.deliver(from, to), []);
        }
    }

    #[test]
    fn a_reader_of_the_tail_only_confirms_nothing() {
        assert_eq!(film().deliver(760_000, 1_050_000), []);
    }

    #[test]
    fn playing_on_in_pieces_starts_and_a_later_place_skips() {
        let mut film = film();
        assert_eq!(film.deliver(0, 60_000), []);
        assert_eq!(step(film.deliver(60_000, 101_000)), Some(Step::Started));
        assert_eq!(film.deliver(101_000, 400_000), [], "going on is no skip");
        assert_eq!(film.deliver(600_000, 650_000), [], "not as much again yet");
        assert_eq!(step(film.deliver(650_000, 700_000)), Some(Step::SkippedAhead));
        assert_eq!(film.deliver(800_000, 1_000_000), [], "once");
    }

    #[test]
    fn reading_all_of_it_in_order_never_skips() {
        let mut film = film();
        let steps: Vec<_> =
            (0..105).flat_map(|n| film.deliver(n * 10_000, (n + 1) * 10_000)).collect();
        assert_eq!(steps.len(), 1);
    }

    #[test]
    fn just_enough_counts_from_just_before_the_tail_and_in_any_order() {
        let mut exact = film();
        assert_eq!(exact.deliver(1_000, 100_999), []);
        let started = ConfirmedStep { step: Step::Started, bytes: 100_000 };
        assert_eq!(exact.deliver(100_999, 101_000), [started]);
        assert_eq!(exact.deliver(500_000, 599_999), []);
        let skipped = ConfirmedStep { step: Step::SkippedAhead, bytes: 100_000 };
        assert_eq!(exact.deliver(599_999, 600_000), [skipped]);
        // Three quarters of the media data end at 751,000.
        assert_eq!(film().deliver(751_000, 1_000_000), []);
        assert_eq!(step(film().deliver(750_999, 1_000_000)), Some(Step::Started));
        let mut backwards = film();
        assert_eq!(backwards.deliver(60_000, 101_000), []);
        assert_eq!(backwards.deliver(1_000, 60_000), [started]);
    }

    #[test]
    fn of_too_many_runs_the_shortest_is_given_up() {
        let mut film = film();
        for n in 1..=64 {
            film.deliver(n * 10_000, n * 10_000 + if n == 40 { 10 } else { 20 });
        }
        assert_eq!(film.runs.len(), 64);
        film.deliver(800_000, 800_020);
        assert_eq!(film.runs.len(), 64);
        assert!(film.runs.iter().all(|(a, _)| *a != 400_000), "{:?}", film.runs);
    }

    #[test]
    fn what_was_taken_comes_to_the_same_again() {
        let mut first = film();
        for (from, to) in [(500_000, 510_000), (700_000, 900_000), (300_000, 310_000)] {
            first.deliver(from, to);
        }
        let mut again = film();
        for (from, to) in first.taken() {
            again.deliver(from, to);
        }
        assert_eq!(again, first);
        assert!(film().taken().is_empty());
    }

    #[test]
    fn what_was_taken_ahead_before_the_start_counts_with_the_start() {
        let mut film = film();
        assert_eq!(film.deliver(760_000, 900_000), []);
        let steps = film.deliver(0, 150_000).into_iter().map(|c| c.step);
        assert_eq!(steps.collect::<Vec<_>>(), [Step::Started, Step::SkippedAhead]);
    }

    #[test]
    fn going_back_is_no_skip_ahead() {
        let mut film = film();
        assert_eq!(step(film.deliver(500_000, 700_000)), Some(Step::Started));
        assert_eq!(film.deliver(1_000, 300_000), []);
    }

    #[test]
    fn a_picture_counts_as_a_whole() {
        let facts = Facts::bare(Kind::Picture, Format::Jpeg, 5_000, 0);
        let mut picture = Playback::new(Layout::of(&facts));
        assert_eq!(picture.deliver(0, 4_999), []);
        assert_eq!(step(picture.deliver(4_999, 5_000)), Some(Step::Started));
        assert_eq!(picture.deliver(0, 5_000), []);
    }

    proptest! {
        #[test]
        fn nothing_is_confirmed_by_less_than_is_needed(
            reads in proptest::collection::vec((0u64..1_050_000, 1u64..3_000), 0..30)
        ) {
            // 30 reads of at most 3,000 bytes hold less than the 100,000 needed.
            let mut film = film();
            for (from, length) in reads {
                prop_assert_eq!(film.deliver(from, from + length), []);
            }
        }

        #[test]
        fn runs_stay_disjoint_and_bounded(
            reads in proptest::collection::vec((0u64..1_050_000, 1u64..20_000), 0..300)
        ) {
            let mut film = film();
            for (from, length) in reads {
                film.deliver(from, from + length);
                prop_assert!(film.runs.len() <= 64);
                prop_assert!(film.runs.windows(2).all(|w| w[0].1 < w[1].0));
            }
        }
    }
}
