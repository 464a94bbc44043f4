//! The host's packet filter, as far as it is understood: whether what devices send is let in.

use std::net::Ipv4Addr;

use ipnet::Ipv4Net;

use super::{Check, NetworkFacts, Outcome};

/// A packet that a device sends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Packet<'a> {
    /// The interface by which it comes.
    pub interface: &'a str,
    /// Who sends it.
    pub source: Ipv4Addr,
    /// Where to.
    pub destination: Ipv4Addr,
    /// TCP or UDP.
    pub protocol: Protocol,
    /// The port it is for.
    pub port: u16,
}

/// A protocol that has ports.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Protocol {
    /// TCP.
    Tcp,
    /// UDP.
    Udp,
}

impl Protocol {
    fn word(self) -> &'static str {
        match self {
            Protocol::Tcp => "tcp",
            Protocol::Udp => "udp",
        }
    }
}

/// What a rule asks of a packet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Condition {
    /// It comes by one of these interfaces; a name that ends in `*` stands for all that begin so.
    Interface(Vec<String>),
    /// Its protocol is one of these, by name.
    ProtocolIs(Vec<String>),
    /// It comes from one of these networks.
    From(Vec<(Ipv4Addr, u8)>),
    /// It goes to one of these networks.
    To(Vec<(Ipv4Addr, u8)>),
    /// Its port here is in one of these ranges, for a protocol.
    Port(Protocol, Vec<(u16, u16)>),
    /// Its connection is in one of these states.
    State(Vec<String>),
    /// The opposite of another.
    Not(Box<Condition>),
    /// Something that is not understood here.
    Other,
}

/// What becomes of a packet that fits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FilterVerdict {
    /// It is let in.
    Accept,
    /// It is dropped or refused.
    Drop,
    /// Another chain decides, and this one goes on where that does not.
    Jump(String),
    /// Another chain decides instead of this one.
    GoTo(String),
    /// The chain that called goes on.
    Return,
    /// The next rule decides: it only counted or logged.
    Continue,
}

/// A rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FilterRule {
    /// All of which must fit.
    pub conditions: Vec<Condition>,
    /// What then happens.
    pub verdict: FilterVerdict,
}

/// A chain of rules.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FilterChain {
    /// Its table.
    pub table: String,
    /// Its name.
    pub name: String,
    /// Its place among those that every packet to this host passes; `None` of one that only others call.
    pub input: Option<i32>,
    /// Whether what no rule decides is let in.
    pub accepts: bool,
    /// Its rules.
    pub rules: Vec<FilterRule>,
}

/// A packet filter.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Firewall {
    /// The program that manages it, where one is known: `ufw`, `firewalld`.
    pub manager: Option<String>,
    /// Its chains.
    pub chains: Vec<FilterChain>,
    /// Whether the older packet filter (`ip_tables`) filters as well, whose rules are not read here.
    pub older: bool,
}

/// What becomes of a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ruling {
    /// It is let in.
    Accepted,
    /// It is not.
    Dropped,
    /// It depends on something that is not understood here.
    Unknown,
}

/// Chains that call each other, at most: the kernel allows no more.
const DEPTH: usize = 16;
/// Rules followed for one packet; of more nothing is said.
const FOLLOWED: usize = 100_000;

/// What can become of a packet in a chain, as far as its rules are understood.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct Possible {
    accepted: bool,
    dropped: bool,
    /// The chain leaves it to whoever called it, or to its policy.
    left: bool,
}

impl Possible {
    const ANYTHING: Possible = Possible { accepted: true, dropped: true, left: true };

    fn or(self, other: Possible) -> Possible {
        Possible {
            accepted: self.accepted || other.accepted,
            dropped: self.dropped || other.dropped,
            left: self.left || other.left,
        }
    }
}

impl Firewall {
    /// What becomes of a packet that begins a conversation.
    pub fn rule_on(&self, packet: &Packet<'_>) -> Ruling {
        let rulings = self.input().map(|chain| self.ruling_of(chain, packet));
        let other = if self.older { Ruling::Unknown } else { Ruling::Accepted };
        // Each chain that every packet passes must let it in.
        rulings.fold(other, |all, one| match (all, one) {
            (Ruling::Dropped, _) | (_, Ruling::Dropped) => Ruling::Dropped,
            (Ruling::Unknown, _) | (_, Ruling::Unknown) => Ruling::Unknown,
            (Ruling::Accepted, Ruling::Accepted) => Ruling::Accepted,
        })
    }

    /// The chains that every packet to this host passes.
    fn input(&self) -> impl Iterator<Item = &FilterChain> {
        self.chains.iter().filter(|chain| chain.input.is_some())
    }

    /// What becomes of a packet in a chain that every packet passes.
    fn ruling_of(&self, chain: &FilterChain, packet: &Packet<'_>) -> Ruling {
        let possible = self.follow(chain, packet, DEPTH, &mut 0);
        let accepted = possible.accepted || possible.left && chain.accepts;
        let dropped = possible.dropped || possible.left && !chain.accepts;
        match (accepted, dropped) {
            (true, false) => Ruling::Accepted,
            (false, true) => Ruling::Dropped,
            _ => Ruling::Unknown,
        }
    }

    /// Follows the rules of a chain in order.
    fn follow(
        &self,
        chain: &FilterChain,
        packet: &Packet<'_>,
        depth: usize,
        followed: &mut usize,
    ) -> Possible {
        let mut possible = Possible::default();
        for rule in &chain.rules {
            *followed += 1;
            if *followed > FOLLOWED {
                return Possible::ANYTHING;
            }
            // One condition that does not fit for certain settles it; else one that is not understood.
            let mut certain = true;
            let mut fits = true;
            for condition in &rule.conditions {
                match condition.fits(packet) {
                    Some(fit) => fits &= fit,
                    None => certain = false,
                }
            }
            if !fits {
                continue;
            }
            let (outcome, ends) = match &rule.verdict {
                FilterVerdict::Accept => (Possible { accepted: true, ..Possible::default() }, true),
                FilterVerdict::Drop => (Possible { dropped: true, ..Possible::default() }, true),
                FilterVerdict::Return => (Possible { left: true, ..Possible::default() }, true),
                FilterVerdict::Continue => continue,
                FilterVerdict::GoTo(name) => {
                    (self.called(chain, name, packet, depth, followed), true)
                }
                FilterVerdict::Jump(name) => {
                    let outcome = self.called(chain, name, packet, depth, followed);
                    // What that chain leaves, the next rule decides.
                    (Possible { left: false, ..outcome }, !outcome.left)
                }
            };
            possible = possible.or(outcome);
            if ends && certain {
                return possible;
            }
        }
        possible.or(Possible { left: true, ..Possible::default() })
    }

    /// What another chain of the same table makes of a packet.
    fn called(
        &self,
        chain: &FilterChain,
        name: &str,
        packet: &Packet<'_>,
        depth: usize,
        followed: &mut usize,
    ) -> Possible {
        let same = |c: &&FilterChain| c.table == chain.table && c.name == name;
        match (self.chains.iter().find(same), depth.checked_sub(1)) {
            (Some(next), Some(depth)) => self.follow(next, packet, depth, followed),
            _ => Possible::ANYTHING,
        }
    }
}

impl Condition {
    /// Whether it fits; `None` where that is not known.
    fn fits(&self, packet: &Packet<'_>) -> Option<bool> {
        let holds = |networks: &[(Ipv4Addr, u8)], address: Ipv4Addr| {
            networks.iter().any(|(network, prefix)| {
                Ipv4Net::new(*network, *prefix).is_ok_and(|network| network.contains(&address))
            })
        };
        Some(match self {
            Condition::Interface(names) => names.iter().any(|name| match name.strip_suffix('*') {
                Some(start) => packet.interface.starts_with(start),
                None => name == packet.interface,
            }),
            Condition::ProtocolIs(names) => names.iter().any(|n| n == packet.protocol.word()),
            Condition::From(networks) => holds(networks, packet.source),
            Condition::To(networks) => holds(networks, packet.destination),
            Condition::Port(protocol, ranges) => {
                *protocol == packet.protocol
                    && ranges.iter().any(|(from, to)| (*from..=*to).contains(&packet.port))
            }
            Condition::State(states) => states.iter().any(|state| state == "new"),
            Condition::Not(condition) => match &**condition {
                // A rule on ports of one protocol says nothing of packets of another.
                Condition::Port(protocol, _) if *protocol != packet.protocol => false,
                condition => !condition.fits(packet)?,
            },
            Condition::Other => return None,
        })
    }
}

const GROUP: Ipv4Addr = Ipv4Addr::new(239, 255, 255, 250);
/// The port of discovery.
const DISCOVERY: u16 = 1900;

/// The command that lets devices of a network in through a chain.
fn opening(
    manager: Option<&str>,
    chain: &FilterChain,
    (network, interface): (&str, &str),
    (protocol, port): (Protocol, u16),
) -> String {
    let protocol = protocol.word();
    match manager {
        Some("ufw") => format!("sudo ufw allow from {network} to any port {port} proto {protocol}"),
        Some("firewalld") => format!(
            "sudo firewall-cmd --permanent --add-port={port}/{protocol} && sudo firewall-cmd --reload"
        ),
        Some("iptables") => format!(
            "sudo iptables -I INPUT -i {interface} -s {network} -p {protocol} --dport {port} -j ACCEPT"
        ),
        _ => format!(
            "sudo nft insert rule {} {} iifname {interface} ip saddr {network} {protocol} dport {port} \
             accept",
            chain.table, chain.name
        ),
    }
}

pub(super) fn check(firewall: Option<&Firewall>, facts: &NetworkFacts) -> Check {
    let why = "The firewall of this computer must let devices in to the port of discovery and to that of \
               the house; of all else it may stay closed.";
    let check = Check::new("firewall", "Firewall of this computer", why);
    let ports = format!("UDP {DISCOVERY} and TCP {}", facts.device_port);
    let Some(firewall) = firewall else {
        return check
            .outcome(Outcome::Unknown, "This service may not read its rules.")
            .remedy(format!(
                "Hand them in as root reads them, or see by yourself that {ports} are open to the home \
                 network."
            ))
            .command("sudo nft -j list ruleset | mostra preflight --firewall -");
    };
    let (mut closed, mut doubtful, mut commands) = (Vec::new(), Vec::new(), Vec::new());
    for interface in &facts.interfaces {
        let Some(address) = interface.address.filter(|address| !address.is_loopback()) else {
            continue;
        };
        // Somebody else of the same network.
        let source = Ipv4Addr::from(u32::from(address) ^ 1);
        for (protocol, port, destination) in
            [(Protocol::Udp, DISCOVERY, GROUP), (Protocol::Tcp, facts.device_port, address)]
        {
            let name = interface.name.as_str();
            let packet = Packet { interface: name, source, destination, protocol, port };
            match firewall.rule_on(&packet) {
                Ruling::Accepted => {}
                Ruling::Dropped => {
                    closed.push((name, protocol, port));
                    let network = Ipv4Net::new(address, interface.prefix).map(|net| net.trunc());
                    let network = network.map_or_else(|_| address.to_string(), |n| n.to_string());
                    let drops = |chain: &&FilterChain| {
                        firewall.ruling_of(chain, &packet) == Ruling::Dropped
                    };
                    let manager = firewall.manager.as_deref();
                    commands.extend(
                        firewall.input().filter(drops).map(|chain| {
                            opening(manager, chain, (&network, name), (protocol, port))
                        }),
                    );
                }
                Ruling::Unknown => doubtful.push((name, protocol, port)),
            }
        }
    }
    let words = |these: &[(&str, Protocol, u16)]| {
        let one = |(name, protocol, port): &(&str, Protocol, u16)| {
            format!("{} {port} on {name}", protocol.word().to_uppercase())
        };
        these.iter().map(one).collect::<Vec<_>>().join(", ")
    };
    if !closed.is_empty() {
        // A manager of rules needs each command once, however many chains there are.
        commands.dedup();
        return check
            .outcome(Outcome::Stops, format!("It keeps devices out of {}.", words(&closed)))
            .remedy("Open exactly these to the home network.")
            .command(commands.join("\n"));
    }
    if !doubtful.is_empty() && firewall.older {
        return check
            .outcome(
                Outcome::Unknown,
                "Rules of the older packet filter (ip_tables) are loaded, which are not read here.",
            )
            .remedy(format!(
                "See that {ports} are open to the home network, or open the house's page on a phone: that \
                 shows whether it is let in."
            ))
            .command("sudo iptables-legacy -S INPUT");
    }
    if !doubtful.is_empty() {
        return check
            .outcome(
                Outcome::Unknown,
                format!(
                    "Its rules for {} depend on what is not understood here.",
                    words(&doubtful)
                ),
            )
            .remedy("Open the house's page on a phone: that shows whether it is let in.");
    }
    check.ok(match firewall.chains.iter().any(|chain| chain.input.is_some()) {
        true => format!("It lets devices in to {ports}."),
        false => "It has no rules.".to_owned(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::preflight::InterfaceFacts;

    const OURS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 5);

    fn packet(protocol: Protocol, port: u16) -> Packet<'static> {
        let source = Ipv4Addr::new(192, 0, 2, 9);
        Packet { interface: "lan0", source, destination: OURS, protocol, port }
    }

    fn rule(conditions: Vec<Condition>, verdict: FilterVerdict) -> FilterRule {
        FilterRule { conditions, verdict }
    }

    fn chain(name: &str, input: Option<i32>, accepts: bool, rules: Vec<FilterRule>) -> FilterChain {
        FilterChain { table: "filter".into(), name: name.into(), input, accepts, rules }
    }

    fn firewall(chains: Vec<FilterChain>) -> Firewall {
        Firewall { manager: None, chains, older: false }
    }

    fn on(chains: Vec<FilterChain>) -> Ruling {
        firewall(chains).rule_on(&packet(Protocol::Tcp, 7640))
    }

    #[test]
    fn rules_are_followed_in_order_and_into_other_chains() {
        let port = |from, to| Condition::Port(Protocol::Tcp, vec![(from, to)]);
        assert_eq!(on(vec![]), Ruling::Accepted);
        assert_eq!(on(vec![chain("input", Some(0), false, vec![])]), Ruling::Dropped);
        let open = rule(vec![port(7640, 7640)], FilterVerdict::Accept);
        assert_eq!(on(vec![chain("input", Some(0), false, vec![open.clone()])]), Ruling::Accepted);
        let state = rule(vec![Condition::State(vec!["established".into()])], FilterVerdict::Accept);
        assert_eq!(on(vec![chain("input", Some(0), false, vec![state])]), Ruling::Dropped);
        // Another chain decides, and leaves what it does not decide to this one.
        let jump = rule(vec![], FilterVerdict::Jump("lan".into()));
        let lan = chain("lan", None, true, vec![open.clone()]);
        let input = chain("input", Some(0), false, vec![jump.clone()]);
        assert_eq!(on(vec![input.clone(), lan]), Ruling::Accepted);
        let empty =
            chain("lan", None, true, vec![rule(vec![], FilterVerdict::Return), open.clone()]);
        assert_eq!(on(vec![input, empty]), Ruling::Dropped);
        // Every chain that packets pass must let it in, in their order.
        let first =
            chain("first", Some(-10), true, vec![rule(vec![port(1, 9000)], FilterVerdict::Drop)]);
        let second = chain("second", Some(0), true, vec![open]);
        assert_eq!(on(vec![second, first]), Ruling::Dropped);
        // One that calls itself ends, and nothing is said of it.
        let around =
            chain("input", Some(0), false, vec![rule(vec![], FilterVerdict::Jump("input".into()))]);
        assert_eq!(on(vec![around]), Ruling::Unknown);
    }

    #[test]
    fn long_and_deep_rule_sets_are_followed_within_bounds() {
        // Many rules that are not understood, and one at the end that is.
        let mut rules = vec![rule(vec![Condition::Other], FilterVerdict::Accept); 20_000];
        assert_eq!(on(vec![chain("input", Some(0), true, rules.clone())]), Ruling::Accepted);
        rules.push(rule(vec![], FilterVerdict::Drop));
        assert_eq!(on(vec![chain("input", Some(0), true, rules)]), Ruling::Unknown);
        // Each calls the next many times: more than anybody can follow.
        let calls =
            |number: u32| vec![rule(vec![], FilterVerdict::Jump(format!("c{number}"))); 200];
        let mut chains = vec![chain("input", Some(0), false, calls(1))];
        chains.extend((1..15).map(|n| chain(&format!("c{n}"), None, true, calls(n + 1))));
        chains.push(chain("c15", None, true, vec![]));
        assert_eq!(on(chains), Ruling::Unknown);
        // A prefix that is none holds nobody.
        let none = rule(vec![Condition::From(vec![(OURS, 40)])], FilterVerdict::Accept);
        assert_eq!(on(vec![chain("input", Some(0), false, vec![none])]), Ruling::Dropped);
    }

    #[test]
    fn what_is_not_understood_is_told_unless_it_comes_out_the_same() {
        let other = |verdict| rule(vec![Condition::Other], verdict);
        let all = rule(vec![], FilterVerdict::Accept);
        assert_eq!(
            on(vec![chain("i", Some(0), false, vec![other(FilterVerdict::Accept)])]),
            Ruling::Unknown
        );
        assert_eq!(
            on(vec![chain("i", Some(0), false, vec![other(FilterVerdict::Drop)])]),
            Ruling::Dropped
        );
        let both = vec![other(FilterVerdict::Drop), all.clone()];
        assert_eq!(on(vec![chain("i", Some(0), false, both)]), Ruling::Unknown);
        let same = vec![other(FilterVerdict::Accept), all];
        assert_eq!(on(vec![chain("i", Some(0), false, same)]), Ruling::Accepted);
        // One that for certain does not fit is passed over, whatever else it asks.
        let elsewhere = rule(
            vec![Condition::Other, Condition::Interface(vec!["wan*".into()])],
            FilterVerdict::Drop,
        );
        assert_eq!(on(vec![chain("i", Some(0), true, vec![elsewhere])]), Ruling::Accepted);
    }

    #[test]
    fn conditions_fit_as_they_say() {
        let fits = |condition: Condition| condition.fits(&packet(Protocol::Udp, 1900));
        let network = |a, prefix| vec![(Ipv4Addr::new(192, 0, a, 0), prefix)];
        assert_eq!(fits(Condition::From(network(2, 24))), Some(true));
        assert_eq!(fits(Condition::From(network(3, 24))), Some(false));
        assert_eq!(fits(Condition::From(network(3, 0))), Some(true));
        assert_eq!(fits(Condition::To(vec![(OURS, 32)])), Some(true));
        assert_eq!(fits(Condition::Interface(vec!["lan*".into()])), Some(true));
        assert_eq!(fits(Condition::ProtocolIs(vec!["udp".into()])), Some(true));
        assert_eq!(fits(Condition::Port(Protocol::Tcp, vec![(1900, 1900)])), Some(false));
        let not = Condition::Not(Box::new(Condition::From(network(2, 24))));
        assert_eq!(fits(not), Some(false));
        assert_eq!(fits(Condition::Not(Box::new(Condition::Other))), None);
        let port = |protocol| Box::new(Condition::Port(protocol, vec![(80, 80)]));
        assert_eq!(fits(Condition::Not(port(Protocol::Udp))), Some(true));
        assert_eq!(fits(Condition::Not(port(Protocol::Tcp))), Some(false));
    }

    #[test]
    fn what_is_closed_is_named_with_the_command_that_opens_it() {
        let interface = InterfaceFacts {
            name: "lan0".into(),
            address: Some(OURS),
            prefix: 24,
            ..InterfaceFacts::default()
        };
        let facts = NetworkFacts {
            device_port: 7640,
            interfaces: vec![interface],
            ..NetworkFacts::default()
        };
        let open =
            rule(vec![Condition::Port(Protocol::Udp, vec![(1900, 1900)])], FilterVerdict::Accept);
        let mut closed = firewall(vec![chain("input", Some(0), false, vec![open])]);
        let told = check(Some(&closed), &facts);
        assert_eq!(told.outcome, Outcome::Stops);
        assert_eq!(told.measured, "It keeps devices out of TCP 7640 on lan0.");
        let command = told.command.unwrap();
        let opens = "sudo nft insert rule filter input iifname lan0 ip saddr 192.0.2.0/24 tcp dport 7640 accept";
        assert_eq!(command, opens);
        closed.manager = Some("ufw".into());
        let command = check(Some(&closed), &facts).command.unwrap();
        assert_eq!(command, "sudo ufw allow from 192.0.2.0/24 to any port 7640 proto tcp");
        // Rules that cannot be seen beside those make nothing certain but what is closed already.
        closed.older = true;
        assert_eq!(check(Some(&closed), &facts).outcome, Outcome::Stops);
        let older = check(Some(&Firewall { older: true, ..Firewall::default() }), &facts);
        assert_eq!(older.outcome, Outcome::Unknown);
        assert!(older.measured.contains("ip_tables"), "{}", older.measured);
        assert_eq!(check(None, &facts).outcome, Outcome::Unknown);
        assert_eq!(check(Some(&Firewall::default()), &facts).outcome, Outcome::Ok);
    }
}
