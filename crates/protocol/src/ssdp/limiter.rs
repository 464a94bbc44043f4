//! How many searches are answered: per source and in all (SSDP-40).

use std::collections::HashMap;
use std::net::Ipv4Addr;
use std::time::Duration;

use crate::Moment;

/// A token bucket.
#[derive(Debug, Clone, Copy)]
struct Bucket {
    tokens: f64,
    filled: Moment,
}

impl Bucket {
    fn take(&mut self, now: Moment, cost: f64, rate: f64, burst: f64) -> bool {
        let passed = now.saturating_sub(self.filled).as_secs_f64();
        self.tokens = (self.tokens + passed * rate).min(burst);
        self.filled = now;
        if self.tokens < cost {
            return false;
        }
        self.tokens -= cost;
        true
    }
}

/// Limits searches per source and answers in all.
#[derive(Debug)]
pub(super) struct Limiter {
    per_source: HashMap<Ipv4Addr, Bucket>,
    all: Bucket,
    /// What was dropped so far.
    pub dropped: u64,
}

/// Searches a second from one source, and its burst.
const SOURCE: (f64, f64) = (10.0, 30.0);
/// Answers a second in all, and their burst.
const ALL: (f64, f64) = (200.0, 200.0);
/// Sources remembered at once.
const SOURCES: usize = 4096;

impl Limiter {
    pub fn new(now: Moment) -> Self {
        let all = Bucket { tokens: ALL.1, filled: now };
        Limiter { per_source: HashMap::new(), all, dropped: 0 }
    }

    /// Whether a search from this source may cause this many answers now.
    pub fn admit(&mut self, now: Moment, source: Ipv4Addr, answers: usize) -> bool {
        if self.per_source.len() >= SOURCES {
            self.per_source.retain(|_, b| now.saturating_sub(b.filled) < Duration::from_secs(10));
            if self.per_source.len() >= SOURCES {
                self.dropped += 1;
                return false;
            }
        }
        let bucket =
            self.per_source.entry(source).or_insert(Bucket { tokens: SOURCE.1, filled: now });
        let admitted = bucket.take(now, 1.0, SOURCE.0, SOURCE.1)
            && self.all.take(now, answers as f64, ALL.0, ALL.1);
        if !admitted {
            self.dropped += 1;
        }
        admitted
    }
}
