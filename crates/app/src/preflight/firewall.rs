//! The packet filter of this host.

use std::path::Path;

use mostra_core::preflight::Firewall;

use super::nft;
use super::program::output;

/// Bytes of a rule set.
pub(super) const MOST: usize = 4 << 20;

/// The filter's rules; `None` where this service may not read them.
pub(super) async fn look() -> Option<Firewall> {
    let loaded = std::fs::read_to_string("/proc/modules").unwrap_or_default();
    let built_in = || {
        let version = std::fs::read_to_string("/proc/sys/kernel/osrelease").unwrap_or_default();
        std::fs::read_to_string(format!("/lib/modules/{}/modules.builtin", version.trim())).ok()
    };
    match output("nft", &["-j", "list", "ruleset"], MOST).await {
        Some(text) => given(&text),
        None => cannot_filter(&loaded, built_in().as_deref()).then(Firewall::default),
    }
}

/// Whether a kernel has nothing that filters: its modules come with the first rule. `loaded` and
/// `built_in` are its lists of modules; where there is none, nothing is certain.
fn cannot_filter(loaded: &str, built_in: Option<&str>) -> bool {
    let filters =
        |list: &str| ["nf_tables", "ip_tables"].iter().any(|module| list.contains(module));
    !loaded.is_empty() && !filters(loaded) && built_in.is_some_and(|list| !filters(list))
}

/// Rules that somebody who may read them gives.
pub(super) fn given(text: &str) -> Option<Firewall> {
    let loaded = std::fs::read_to_string("/proc/modules").unwrap_or_default();
    let older = loaded.lines().any(|line| line.starts_with("iptable_filter "));
    nft::read(text, manager()).map(|read| Firewall { older, ..read })
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

#[cfg(test)]
mod tests {
    use super::cannot_filter;

    #[test]
    fn only_a_kernel_whose_modules_are_known_is_said_to_filter_nothing() {
        let built_in = "kernel/fs/ext4/ext4.ko\n";
        assert!(cannot_filter("ext4 1 0\n", Some(built_in)));
        assert!(!cannot_filter("ext4 1 0\nnf_tables 2 0\n", Some(built_in)));
        assert!(!cannot_filter("ext4 1 0\nip_tables 2 0\n", Some(built_in)));
        assert!(!cannot_filter("ext4 1 0\n", Some("kernel/net/netfilter/nf_tables.ko\n")));
        assert!(!cannot_filter("ext4 1 0\n", None));
        assert!(!cannot_filter("", Some(built_in)));
    }
}
