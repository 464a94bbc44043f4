//! What stands in the way of devices finding, listing and playing: facts of the host and the network in,
//! checks out.

mod firewall;
mod folders;
mod host;
mod network;
mod router;

pub use firewall::{
    Condition, FilterChain, FilterRule, FilterVerdict, Firewall, Packet, Protocol, Ruling,
};
pub use folders::{FolderFacts, FolderTrouble};
pub use host::{DatabaseFacts, FfmpegFacts, HostFacts, SleepFacts};
pub use network::{DeviceFacts, InterfaceFacts, LinkKind, NetworkFacts, SsdpUser};
pub use router::{PortMapping, RouterFacts};

/// How a check came out, the worst last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Outcome {
    /// As it should be.
    Ok,
    /// It could not be looked at.
    Unknown,
    /// It can give trouble.
    Attention,
    /// With this, devices do not find, list or play.
    Stops,
}

impl Outcome {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Outcome::Ok => "ok",
            Outcome::Unknown => "unknown",
            Outcome::Attention => "attention",
            Outcome::Stops => "stops you",
        }
    }
}

/// One thing that was looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Check {
    /// What it is, the same from run to run: `firewall`, `folder:3`.
    pub id: String,
    /// What it is, for people.
    pub title: String,
    /// How it came out.
    pub outcome: Outcome,
    /// What was measured.
    pub measured: String,
    /// Why it matters.
    pub why: &'static str,
    /// What to do, in words.
    pub remedy: Option<String>,
    /// A command that does it, to copy.
    pub command: Option<String>,
}

impl Check {
    fn new(id: impl Into<String>, title: impl Into<String>, why: &'static str) -> Check {
        Check {
            id: id.into(),
            title: title.into(),
            outcome: Outcome::Ok,
            measured: String::new(),
            why,
            remedy: None,
            command: None,
        }
    }

    fn ok(mut self, measured: impl Into<String>) -> Check {
        self.measured = measured.into();
        self
    }

    fn outcome(mut self, outcome: Outcome, measured: impl Into<String>) -> Check {
        self.outcome = outcome;
        self.measured = measured.into();
        self
    }

    fn remedy(mut self, remedy: impl Into<String>) -> Check {
        self.remedy = Some(remedy.into());
        self
    }

    fn command(mut self, command: impl Into<String>) -> Check {
        self.command = Some(command.into());
        self
    }
}

/// What is known of the host and the network at one time.
#[derive(Debug, Clone, Default)]
pub struct HostSnapshot {
    /// The network side.
    pub network: NetworkFacts,
    /// The host's firewall; `None` where its rules may not be read.
    pub firewall: Option<Firewall>,
    /// The published folders.
    pub folders: Vec<FolderFacts>,
    /// The host.
    pub host: HostFacts,
}

/// All checks, in the order of the road that a device takes to the house.
pub fn checks(snapshot: &HostSnapshot) -> Vec<Check> {
    let mut all = network::checks(&snapshot.network);
    let at = all.iter().position(|check| check.id == "link").unwrap_or(all.len());
    all.insert(at, firewall::check(snapshot.firewall.as_ref(), &snapshot.network));
    all.extend(folders::checks(&snapshot.folders));
    all.extend(host::checks(&snapshot.host, &snapshot.network));
    all
}

/// The worst of all outcomes.
pub fn worst(checks: &[Check]) -> Outcome {
    checks.iter().map(|check| check.outcome).max().unwrap_or(Outcome::Ok)
}

/// Bytes for people, by thousands.
fn bytes(n: u64) -> String {
    match n {
        0..1_000_000 => format!("{:.0} kB", n as f64 / 1e3),
        1_000_000..1_000_000_000 => format!("{:.0} MB", n as f64 / 1e6),
        1_000_000_000..1_000_000_000_000 => format!("{:.1} GB", n as f64 / 1e9),
        _ => format!("{:.1} TB", n as f64 / 1e12),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_worst_outcome_is_told_and_checks_are_told_apart() {
        let checks = checks(&HostSnapshot::default());
        assert_eq!(worst(&checks), Outcome::Stops, "a host without any interface");
        let mut ids: Vec<&str> = checks.iter().map(|check| check.id.as_str()).collect();
        ids.sort_unstable();
        ids.dedup();
        assert_eq!(ids.len(), checks.len());
        for check in &checks {
            assert!(!check.measured.is_empty() && !check.why.is_empty(), "{}", check.id);
            let fine = matches!(check.outcome, Outcome::Ok);
            assert!(fine || check.remedy.is_some(), "{} has no remedy", check.id);
        }
        assert_eq!(worst(&[]), Outcome::Ok);
    }
}
