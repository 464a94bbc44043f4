//! The packet filter of this host.

use std::path::Path;

use mostra_core::preflight::Firewall;

use super::nft;
use super::program::output;

/// Bytes of a rule set.
pub(super) const MOST: usize = 4 << 20;

/// The filter's rules; `None` where this service may not read them.
pub(super) async fn look() -> Option<Firewall> {
    // Modules that filter are loaded with the first rule.
    let modules = std::fs::read_to_string("/proc/modules").unwrap_or_default();
    let filters = |line: &str| line.starts_with("nf_tables ") || line.starts_with("ip_tables ");
    match output("nft", &["-j", "list", "ruleset"], MOST).await {
        Some(text) => nft::read(&text, manager()),
        None if !modules.is_empty() && !modules.lines().any(filters) => Some(Firewall::default()),
        None => None,
    }
}

/// Rules that somebody who may read them gives.
pub(super) fn given(text: &str) -> Option<Firewall> {
    nft::read(text, manager())
}

/// The program that manages the rules, where one is switched on.
fn manager() -> Option<String> {
    let ufw = std::fs::read_to_string("/etc/ufw/ufw.conf").unwrap_or_default();
    let on = ufw.lines().any(|line| line.trim().eq_ignore_ascii_case("ENABLED=yes"));
    let found = match () {
        () if on => "ufw",
        () if Path::new("/run/firewalld").exists() => "firewalld",
        () if Path::new("/etc/iptables/rules.v4").exists() => "iptables",
        () => return None,
    };
    Some(found.to_owned())
}
