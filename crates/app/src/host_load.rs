//! How busy the host is: its processors and its disks, second by second.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use mostra_core::streaming::HISTORY;

use crate::Context;

/// Shares of busy time by second, the newest last.
#[derive(Debug, Default)]
pub struct HostLoad(Mutex<VecDeque<Sample>>);

/// What part of a second was busy, in percent.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Sample {
    /// All processors together.
    pub processor: f32,
    /// The busiest disk.
    pub disk: f32,
}

impl HostLoad {
    /// The last seconds.
    pub fn samples(&self) -> Vec<Sample> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).iter().copied().collect()
    }

    fn push(&self, sample: Sample) {
        let mut samples = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        samples.push_back(sample);
        while samples.len() > HISTORY {
            samples.pop_front();
        }
    }
}

/// Takes a sample each second until the house stops.
pub async fn run(context: Context, load: Arc<HostLoad>) {
    let mut ticker = tokio::time::interval(Duration::from_secs(1));
    let mut before = Counters::read();
    loop {
        tokio::select! {
            _ = ticker.tick() => {
                let now = Counters::read();
                load.push(now.since(&before));
                before = now;
            }
            () = context.stopping() => return,
        }
    }
}

/// The kernel's counters.
#[derive(Debug, Default)]
struct Counters {
    busy: u64,
    all: u64,
    /// Milliseconds in which each disk had something to do.
    disks: HashMap<String, u64>,
    uptime_ms: u64,
}

impl Counters {
    fn read() -> Counters {
        let file = |path| std::fs::read_to_string(path).unwrap_or_default();
        Counters::parse(&file("/proc/stat"), &file("/proc/diskstats"), &file("/proc/uptime"))
    }

    fn parse(stat: &str, disks: &str, uptime: &str) -> Counters {
        let ticks: Vec<u64> = stat
            .lines()
            .next()
            .unwrap_or_default()
            .split_whitespace()
            .skip(1)
            .take(8)
            .filter_map(|n| n.parse().ok())
            .collect();
        let all = ticks.iter().sum();
        // Idle, and waiting for a disk, are the fourth and fifth.
        let idle: u64 = ticks.iter().skip(3).take(2).sum();
        let disk = |line: &str| {
            let fields: Vec<&str> = line.split_whitespace().collect();
            let name = fields.get(2)?;
            let real = !["loop", "ram", "zram"].iter().any(|p| name.starts_with(p));
            Some(((*name).to_owned(), fields.get(12)?.parse().ok()?)).filter(|_| real)
        };
        let seconds: f64 =
            uptime.split_whitespace().next().and_then(|s| s.parse().ok()).unwrap_or(0.0);
        Counters {
            busy: all - idle,
            all,
            disks: disks.lines().filter_map(disk).collect(),
            uptime_ms: (seconds * 1000.0) as u64,
        }
    }

    fn since(&self, before: &Counters) -> Sample {
        let share = |part: u64, whole: u64| {
            if whole == 0 { 0.0 } else { (part as f32 * 100.0 / whole as f32).min(100.0) }
        };
        let passed = self.uptime_ms.saturating_sub(before.uptime_ms);
        let disk = self.disks.iter().map(|(name, now)| {
            let earlier = before.disks.get(name).unwrap_or(now);
            share(now.saturating_sub(*earlier), passed)
        });
        Sample {
            processor: share(
                self.busy.saturating_sub(before.busy),
                self.all.saturating_sub(before.all),
            ),
            disk: disk.fold(0.0, f32::max),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_are_of_the_time_that_passed() {
        let stat = |user: u64, idle: u64| format!("cpu  {user} 0 0 {idle} 0 0 0 0 0 0\ncpu0 1\n");
        let disk = |ms: u64| {
            format!("   8  0 sda 1 0 0 0 0 0 0 0 0 {ms} 0\n 7 0 loop0 1 0 0 0 0 0 0 0 0 999999 0\n")
        };
        let before = Counters::parse(&stat(100, 100), &disk(1000), "50.00 1.0");
        let now = Counters::parse(&stat(150, 250), &disk(1250), "51.00 1.0");
        assert_eq!(now.since(&before), Sample { processor: 25.0, disk: 25.0 });
        assert_eq!(before.since(&before), Sample::default());
    }
}
