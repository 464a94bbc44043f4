//! What routers let in to this host from outside.

use super::{Check, NetworkFacts, Outcome};

/// A port of a router that leads to this host from outside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PortMapping {
    /// `TCP` or `UDP`.
    pub protocol: String,
    /// The port outside.
    pub external: u16,
    /// The port here.
    pub internal: u16,
    /// What it is said to be for.
    pub description: String,
}

/// A router that was asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RouterFacts {
    /// What it is called.
    pub label: String,
    /// Its mappings that lead to this host; nothing where it does not tell.
    pub mappings: Option<Vec<PortMapping>>,
}

pub(super) fn check(facts: &NetworkFacts) -> Check {
    let why = "What a router lets in from outside, the whole world can ask.";
    let check = Check::new("router", "From outside", why);
    if facts.routers.is_empty() {
        return check
            .ok("No router of this network speaks UPnP, so none can be asked to let anybody in.");
    }
    let ours = |mapping: &&PortMapping| {
        mapping.internal == facts.device_port || mapping.internal == facts.console_port
    };
    let mut to_us = Vec::new();
    let mut to_others = Vec::new();
    let mut silent = Vec::new();
    for router in &facts.routers {
        let Some(mappings) = &router.mappings else {
            silent.push(router.label.as_str());
            continue;
        };
        for mapping in mappings {
            let words = format!(
                "{} {} of {} leads to port {} here ({})",
                mapping.protocol,
                mapping.external,
                router.label,
                mapping.internal,
                mapping.description
            );
            if ours(&mapping) { to_us.push(words) } else { to_others.push(words) }
        }
    }
    if !to_us.is_empty() {
        return check
            .outcome(Outcome::Stops, format!("{}.", to_us.join("; ")))
            .remedy("Remove that in the router's settings: this house is for its own network.");
    }
    if !to_others.is_empty() {
        return check
            .outcome(Outcome::Attention, format!("{}.", to_others.join("; ")))
            .remedy("That is not for this house. If nobody needs it, remove it in the router.");
    }
    if !silent.is_empty() {
        return check
            .outcome(Outcome::Unknown, format!("{} does not tell.", silent.join(", ")))
            .remedy("Look at the port mappings in its settings.");
    }
    check.ok("Nothing from outside leads to this computer.")
}
