//! How many searches are answered: per source and in all (SSDP-40).

use std::collections::{BTreeMap, HashMap};
use std::net::Ipv4Addr;
use std::time::Duration;

use crate::Moment;

/// A token bucket.
#[derive(Debug, Clone, Copy)]
struct Bucket {
    tokens: f64,
    filled: Moment,
    /// When it was last taken from.
    taken: Option<Moment>,
}

impl Bucket {
    fn refill(&mut self, now: Moment, (rate, burst): (f64, f64)) {
        let passed = now.since(self.filled).as_secs_f64();
        self.tokens = (self.tokens + passed * rate).min(burst);
        self.filled = now;
    }

    fn take(&mut self, now: Moment) -> bool {
        if self.tokens < 1.0 {
            return false;
        }
        self.tokens -= 1.0;
        self.taken = Some(now);
        true
    }
}

/// Limits searches per source and answers in all.
#[derive(Debug)]
pub(super) struct Limiter {
    per_source: HashMap<Ipv4Addr, Bucket>,
    /// Answers that go out in each tenth of a second, from now on.
    planned: BTreeMap<u64, u32>,
    /// How many sources searched lately, and when that was counted.
    searching: (Moment, usize),
    /// What was dropped so far.
    pub dropped: u64,
}

/// Limits announcements of others, by source and in all (SSDP-40).
#[derive(Debug)]
pub(super) struct NoticeLimiter {
    per_source: HashMap<Ipv4Addr, Bucket>,
    all: Bucket,
    /// What was dropped so far.
    pub dropped: u64,
}

/// Announcements a second from one source and its burst: a set is up to some twenty, sent three
/// times; and from all of them.
const NOTICES: (f64, f64) = (10.0, 90.0);
const ALL_NOTICES: (f64, f64) = (100.0, 600.0);

impl NoticeLimiter {
    pub(super) fn new(now: Moment) -> Self {
        let all = Bucket { tokens: ALL_NOTICES.1, filled: now, taken: None };
        NoticeLimiter { per_source: HashMap::new(), all, dropped: 0 }
    }

    /// Whether an announcement from this source is looked at.
    pub(super) fn admit(&mut self, now: Moment, source: Ipv4Addr) -> bool {
        if self.per_source.len() >= SOURCES {
            self.per_source.retain(|_, b| now.since(b.filled) < Duration::from_secs(10));
        }
        self.all.refill(now, ALL_NOTICES);
        let known = self.per_source.contains_key(&source);
        let bucket = Bucket { tokens: NOTICES.1, filled: now, taken: None };
        let admitted = (known || self.per_source.len() < SOURCES) && {
            let bucket = self.per_source.entry(source).or_insert(bucket);
            bucket.refill(now, NOTICES);
            // What one source has used up costs the others nothing.
            bucket.tokens >= 1.0 && self.all.take(now) && bucket.take(now)
        };
        self.dropped += u64::from(!admitted);
        admitted
    }
}

/// Searches a second from one source, and its burst.
const SOURCE: (f64, f64) = (10.0, 30.0);
/// Answers in a tenth of a second. Whatever second is looked at touches eleven tenths, so that
/// it holds at most 198.
const TENTH: u32 = 18;
/// Searches a second that many sources share, a little below what can be answered.
const SHARED: f64 = 180.0;
/// Sources remembered at once.
const SOURCES: usize = 4096;

impl Limiter {
    pub(super) fn new(now: Moment) -> Self {
        Limiter {
            per_source: HashMap::new(),
            planned: BTreeMap::new(),
            searching: (now, 0),
            dropped: 0,
        }
    }

    /// Whether an answer may go out at a time; then it is counted there.
    pub(super) fn plan(&mut self, now: Moment, at: Moment) -> bool {
        self.planned = self.planned.split_off(&(now.as_millis() / 100));
        let planned = self.planned.entry(at.as_millis() / 100).or_insert(0);
        let free = *planned < TENTH;
        *planned += u32::from(free);
        free
    }

    /// Whether a search from this source is answered.
    pub(super) fn admit(&mut self, now: Moment, source: Ipv4Addr) -> bool {
        if self.per_source.len() >= SOURCES {
            self.per_source.retain(|_, b| now.since(b.filled) < Duration::from_secs(10));
            if self.per_source.len() >= SOURCES {
                self.dropped += 1;
                return false;
            }
        }
        // Among many, each has its share and waits for its turn.
        if now.since(self.searching.0) >= Duration::from_millis(100) {
            let recent = |b: &&Bucket| now.since(b.filled) < Duration::from_secs(2);
            self.searching = (now, self.per_source.values().filter(recent).count());
        }
        let turn = Duration::from_secs_f64(self.searching.1 as f64 / SHARED);
        let bucket = self.per_source.entry(source).or_insert(Bucket {
            tokens: SOURCE.1,
            filled: now,
            taken: None,
        });
        bucket.refill(now, SOURCE);
        let crowded = turn > Duration::from_millis(50);
        if crowded && bucket.taken.is_some_and(|taken| now.since(taken) < turn) {
            self.dropped += 1;
            return false;
        }
        let admitted = bucket.take(now);
        if !admitted {
            self.dropped += 1;
        }
        admitted
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn announcements_are_bounded_by_source_and_in_all() {
        let mut limiter = NoticeLimiter::new(Moment::EPOCH);
        let now = Moment::from_secs(1);
        let one = Ipv4Addr::new(10, 0, 0, 1);
        assert_eq!((0..500).filter(|_| limiter.admit(now, one)).count(), 90);
        let others =
            (0..10_000_u32).filter(|n| limiter.admit(now, Ipv4Addr::from(0x0a01_0000 + n)));
        assert_eq!(others.count(), 510, "what is left of the burst of all");
        assert!(limiter.per_source.len() <= SOURCES);
        assert!(limiter.admit(now + Duration::from_secs(1), one), "a second later");
        assert_eq!(limiter.dropped, 410 + 9490);
    }
    fn source(n: usize) -> Ipv4Addr {
        Ipv4Addr::from(0x0a02_0000 + n as u32)
    }

    fn at(ms: u64) -> Moment {
        Moment::from_millis(ms)
    }

    #[test]
    fn one_source_has_its_burst_and_then_ten_a_second() {
        let mut limiter = Limiter::new(at(0));
        let admitted = |limiter: &mut Limiter, ms| {
            (0..100).filter(|_| limiter.admit(at(ms), source(1))).count()
        };
        assert_eq!(admitted(&mut limiter, 0), 30);
        assert_eq!(admitted(&mut limiter, 500), 5);
        assert_eq!(admitted(&mut limiter, 60_000), 30, "never more than the burst");
        assert_eq!(limiter.dropped, 70 + 95 + 70);
    }

    #[test]
    fn among_many_each_waits_for_its_turn() {
        let mut few = Limiter::new(at(0));
        assert!((0..9).all(|n| few.admit(at(0), source(n))) && few.admit(at(200), source(1)));
        // 400 sources share 180 answers a second: each has one in 2.2 s.
        let mut many = Limiter::new(at(0));
        assert!((0..400).all(|n| many.admit(at(0), source(n))));
        assert!(!many.admit(at(200), source(1)) && !many.admit(at(1900), source(1)));
        assert_eq!(many.dropped, 2);
        assert!(many.admit(at(2300), source(1)), "the others have not searched since");
    }

    #[test]
    fn a_tenth_of_a_second_holds_eighteen_answers_and_what_is_past_is_forgotten() {
        let mut limiter = Limiter::new(at(0));
        for tenth in [0, 100, 200] {
            let planned = (0..50).filter(|n| limiter.plan(at(0), at(tenth + n % 100))).count();
            assert_eq!(planned as u32, TENTH, "{tenth}");
        }
        assert_eq!(limiter.planned.len(), 3);
        assert!(limiter.plan(at(10_000), at(10_050)));
        assert_eq!(limiter.planned.len(), 1);
    }

    #[test]
    fn with_too_many_sources_those_known_are_served_and_the_silent_make_room() {
        let mut searches = Limiter::new(at(0));
        let mut notices = NoticeLimiter::new(at(0));
        for n in 0..SOURCES {
            assert!(searches.admit(at(0), source(n)));
            notices.admit(at(0), source(n));
        }
        let new = source(SOURCES);
        assert!(!searches.admit(at(5000), new) && !notices.admit(at(5000), new));
        assert_eq!(searches.dropped, 1);
        assert!(notices.admit(at(5000), source(3)));
        // Ten seconds without a word, and their places are free again.
        assert!(searches.admit(at(10_000), new) && notices.admit(at(10_000), new));
        assert!(searches.per_source.len() < 10 && notices.per_source.len() < 10);
    }
}
