//! The network: interfaces, ports, multicast, other servers, routers, and devices that are lost.

use std::net::Ipv4Addr;

use super::router::{self, RouterFacts};
use super::{Check, Outcome};

/// What an interface is made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum LinkKind {
    /// A cable.
    #[default]
    Wired,
    /// A radio, with its signal in dBm where that is known.
    Wireless(Option<i32>),
    /// This computer alone.
    Loopback,
    /// A bridge, a tunnel or the like.
    Virtual,
}

/// An interface that the house is served on.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct InterfaceFacts {
    /// Its name.
    pub name: String,
    /// Our address on it.
    pub address: Option<Ipv4Addr>,
    /// Bits of its subnet's prefix.
    pub prefix: u8,
    /// Further addresses of it, on which the house is not served.
    pub others: Vec<Ipv4Addr>,
    /// What it is made of.
    pub kind: LinkKind,
    /// Its speed in Mbit/s, where the system tells.
    pub speed: Option<u32>,
    /// Whether its address is a lease, where the system tells.
    pub by_lease: Option<bool>,
    /// Whether the device listener answers at its address.
    pub answers: bool,
    /// Whether our own search came back by multicast; nothing where none went out yet.
    pub multicast_heard: Option<bool>,
    /// Why discovery does not work there.
    pub problem: Option<String>,
}

/// A program that uses the port of discovery as well.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SsdpUser {
    /// Its name, where the system tells.
    pub program: Option<String>,
}

/// A device, as it matters here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceFacts {
    /// What it is called.
    pub label: String,
    /// Whether it asked by address and was never heard by multicast.
    pub only_by_address: bool,
    /// Whether it is switched on and answers nothing any more.
    pub stopped_answering: bool,
}

/// What is known of the network.
#[derive(Debug, Clone, Default)]
pub struct NetworkFacts {
    /// The house's name.
    pub name: String,
    /// Whether the house is switched off.
    pub off: bool,
    /// The device listener's port.
    pub device_port: u16,
    /// The console's port on this host.
    pub console_port: u16,
    /// The interfaces that are served.
    pub interfaces: Vec<InterfaceFacts>,
    /// Why the system's interfaces could not be served, by name, of those that are not in the list.
    pub problems: Vec<(String, String)>,
    /// Other programs at UDP 1900; `None` where the system does not tell.
    pub ssdp_users: Option<Vec<SsdpUser>>,
    /// Addresses of other servers with our UDN.
    pub same_udn: Vec<Ipv4Addr>,
    /// Addresses of other servers with our name.
    pub same_name: Vec<Ipv4Addr>,
    /// Devices that were lost.
    pub devices: Vec<DeviceFacts>,
    /// Routers.
    pub routers: Vec<RouterFacts>,
    /// The other machine that reached the house last: its address, and the address by which it did.
    pub reached_by: Option<(Ipv4Addr, Ipv4Addr)>,
}

const FOUND: &str =
    "Devices find the house by datagrams and then read its description from this port.";

pub(super) fn checks(facts: &NetworkFacts) -> Vec<Check> {
    let mut all = vec![listeners(facts), ssdp_port(facts), multicast(facts)];
    all.extend([
        link(facts),
        addresses(facts),
        duplicates(facts),
        lost(facts),
        router::check(facts),
    ]);
    all.push(reached(facts));
    all
}

fn listeners(facts: &NetworkFacts) -> Check {
    let check = Check::new("listener", "Devices reach the house", FOUND);
    if facts.off {
        return check
            .outcome(Outcome::Attention, "The house is switched off.")
            .remedy("Switch it on; devices find it within seconds.")
            .command("mostra house on");
    }
    let places = |wanted: bool| -> Vec<String> {
        let these = facts.interfaces.iter().filter(|interface| interface.answers == wanted);
        these
            .filter_map(|i| Some(format!("{}:{} ({})", i.address?, facts.device_port, i.name)))
            .collect()
    };
    let (reached, silent) = (places(true), places(false));
    if facts.interfaces.is_empty() {
        return check
            .outcome(Outcome::Stops, "No interface has an address of a home network.")
            .remedy("Connect the network. The house is served there by itself, as soon as there is one.");
    }
    if !silent.is_empty() {
        let outcome = if reached.is_empty() { Outcome::Stops } else { Outcome::Attention };
        return check
            .outcome(outcome, format!("Nothing answers at {}.", silent.join(", ")))
            .remedy(format!(
                "Another program may have taken port {}. Stop it, or give the house another port.",
                facts.device_port
            ))
            .command(format!("sudo ss -ltnp 'sport = :{}'", facts.device_port));
    }
    check.ok(format!("It answers at {}.", reached.join(", ")))
}

fn ssdp_port(facts: &NetworkFacts) -> Check {
    let why = "Searches of devices come to UDP port 1900, which several programs can share.";
    let check = Check::new("discovery-port", "UDP port 1900", why);
    let own = facts.interfaces.iter().filter_map(|i| Some((&i.name, i.problem.as_ref()?)));
    let own = own.map(|(name, why)| format!("{name}: {why}"));
    let others = facts.problems.iter().map(|(name, why)| format!("{name}: {why}"));
    let problems: Vec<String> = own.chain(others).collect();
    if !problems.is_empty() {
        return check
            .outcome(
                Outcome::Stops,
                format!("Searches of devices are not heard. {}", problems.join("; ")),
            )
            .remedy("Find the program that holds the port for itself alone, and stop it.")
            .command("sudo ss -lunp 'sport = :1900'");
    }
    match facts.ssdp_users.as_deref() {
        None => check
            .outcome(Outcome::Unknown, "The system does not tell who uses it.")
            .remedy("Nothing is wrong as far as this shows; ask the system who uses the port."),
        Some([]) => check.ok("This house alone uses it."),
        Some(users) => {
            let names: Vec<String> = users.iter().filter_map(|user| user.program.clone()).collect();
            let who = match (names.as_slice(), users.len()) {
                ([], 1) => "another program".to_owned(),
                ([], n) => format!("{n} other programs"),
                (names, _) => names.join(", "),
            };
            check.ok(format!("This house shares it with {who}, which works."))
        }
    }
}

fn multicast(facts: &NetworkFacts) -> Check {
    let why =
        "Devices search by multicast. What does not leave this host and come back finds nobody.";
    let check = Check::new("multicast", "Multicast", why);
    let named = |wanted: Option<bool>| -> Vec<&str> {
        let these = facts.interfaces.iter().filter(|i| i.multicast_heard == wanted);
        these.map(|i| i.name.as_str()).collect()
    };
    let (heard, lost) = (named(Some(true)), named(Some(false)));
    if facts.off || facts.interfaces.is_empty() {
        return check
            .outcome(Outcome::Unknown, "The house is not in any network now.")
            .remedy("Look again when it is.");
    }
    if !lost.is_empty() {
        return check
            .outcome(Outcome::Stops, format!("Our own search did not come back on {}.", lost.join(", ")))
            .remedy(
                "A firewall on this computer may hold UDP port 1900 back; see there. On a bridge of \
                 virtual machines, switch multicast snooping off.",
            );
    }
    if heard.is_empty() {
        return check
            .outcome(Outcome::Unknown, "No search went out yet.")
            .remedy("Search now.")
            .command("mostra network search");
    }
    check.ok(format!("Our own search comes back on {}.", heard.join(", ")))
}

/// What a wireless link should have: below it films stutter.
const WEAK: i32 = -70;

fn link(facts: &NetworkFacts) -> Check {
    let why = "A film needs 5 to 40 Mbit/s without a pause, and 4K films more; by radio twice, to the \
               router and to the television.";
    let check = Check::new("link", "Cable or radio", why);
    let mut words = Vec::new();
    let mut trouble = None;
    for interface in &facts.interfaces {
        let speed = interface.speed.map(|speed| format!(", {speed} Mbit/s")).unwrap_or_default();
        let name = &interface.name;
        words.push(match interface.kind {
            LinkKind::Loopback => format!("{name} is this computer alone"),
            LinkKind::Virtual => format!("{name} is virtual{speed}"),
            LinkKind::Wired => {
                if interface.speed.is_some_and(|speed| speed <= 10) {
                    trouble = Some(format!(
                        "{name} runs at 10 Mbit/s: look at its cable and the port it is plugged into."
                    ));
                }
                format!("{name} is a cable{speed}")
            }
            LinkKind::Wireless(signal) => {
                let signal_words =
                    signal.map(|dbm| format!(", signal {dbm} dBm")).unwrap_or_default();
                trouble = Some(match signal.filter(|dbm| *dbm < WEAK) {
                    Some(_) => format!(
                        "The signal of {name} is weak. Move this computer or the router, or use a cable."
                    ),
                    None => format!("{name} is a radio. A cable is steadier for the host of films."),
                });
                format!("{name} is a radio{speed}{signal_words}")
            }
        });
    }
    if words.is_empty() {
        return check
            .outcome(Outcome::Unknown, "There is no interface to look at.")
            .remedy("Connect the network.");
    }
    let measured = format!("{}.", words.join("; "));
    match trouble {
        Some(remedy) => check.outcome(Outcome::Attention, measured).remedy(remedy),
        None => check.ok(measured),
    }
}

fn addresses(facts: &NetworkFacts) -> Check {
    let why = "Players remember the address that they read. When it changes they find the house again, \
               after a while.";
    let check = Check::new("address", "Addresses", why);
    let mut words = Vec::new();
    let (mut lease, mut several) = (false, false);
    for interface in &facts.interfaces {
        let Some(address) = interface.address else { continue };
        let how = match interface.by_lease {
            Some(true) => " by lease",
            Some(false) => ", fixed",
            None => "",
        };
        lease |= interface.by_lease == Some(true);
        several |= !interface.others.is_empty();
        let others: Vec<String> = interface.others.iter().map(Ipv4Addr::to_string).collect();
        let besides = match others.as_slice() {
            [] => String::new(),
            others => format!(" (besides {})", others.join(", ")),
        };
        words.push(format!("{address} on {}{how}{besides}", interface.name));
    }
    if words.is_empty() {
        return check.outcome(Outcome::Unknown, "There is none.").remedy("Connect the network.");
    }
    let measured = format!("{}.", words.join("; "));
    match (lease, several) {
        (_, true) => check.outcome(Outcome::Attention, measured).remedy(
            "Devices are told one address of each interface. If theirs is another network, name it: \
             `interfaces` in the settings.",
        ),
        (true, false) => check.ok(format!(
            "{measured} Have the router keep that address for this computer, so that it stays."
        )),
        (false, false) => check.ok(measured),
    }
}

fn duplicates(facts: &NetworkFacts) -> Check {
    let why = "Devices take two servers with one UDN for one, and people two with one name.";
    let check = Check::new("other-servers", "Other servers", why);
    let list =
        |all: &[Ipv4Addr]| all.iter().map(Ipv4Addr::to_string).collect::<Vec<_>>().join(", ");
    let named = (!facts.same_name.is_empty()).then(|| {
        format!(
            "Another server, at {}, has the same name, {:?}.",
            list(&facts.same_name),
            facts.name
        )
    });
    if !facts.same_udn.is_empty() {
        let also = named.map(|words| format!(" {words}")).unwrap_or_default();
        let same =
            format!("Another server, at {}, has this one's UDN.{also}", list(&facts.same_udn));
        return check
            .outcome(Outcome::Stops, same)
            .remedy("Was this data directory copied? Make this one a new server.")
            .command("mostra house renew");
    }
    if let Some(named) = named {
        return check
            .outcome(Outcome::Attention, named)
            .remedy("Give this one another name.")
            .command("mostra house name NAME");
    }
    check.ok("No other has this one's name or UDN.")
}

fn lost(facts: &NetworkFacts) -> Check {
    let why = "A device that never hears multicast finds the house only by luck, and forgets it.";
    let check = Check::new("lost-devices", "Devices that are hard to reach", why);
    let named = |fits: &dyn Fn(&DeviceFacts) -> bool| -> Vec<&str> {
        facts.devices.iter().filter(|d| fits(d)).map(|d| d.label.as_str()).collect()
    };
    let unheard = named(&|device| device.only_by_address);
    let silent = named(&|device| device.stopped_answering);
    let mut words = Vec::new();
    if !unheard.is_empty() {
        words.push(format!("{} asked by address and never searched.", unheard.join(", ")));
    }
    if !silent.is_empty() {
        words
            .push(format!("{} is in the network and answers nothing any more.", silent.join(", ")));
    }
    if words.is_empty() {
        return check.ok("None.");
    }
    check.outcome(Outcome::Attention, words.join(" ")).remedy(
        "The router may keep multicast from the radio, or devices from each other: look for \
         “IGMP snooping”, “client isolation” or “guest network” in its settings.",
    )
}

fn reached(facts: &NetworkFacts) -> Check {
    let why = "Only another machine can show that the way from outside this computer is open.";
    let check = Check::new("reached", "From another machine", why);
    if let Some((who, place)) = facts.reached_by {
        return check.ok(format!("{who} reached the house at {place}."));
    }
    let page = facts.interfaces.iter().find_map(|interface| interface.address);
    let page = page.map_or_else(|| "HOST".to_owned(), |address| address.to_string());
    check.outcome(Outcome::Unknown, "No other machine reached the house yet.").remedy(format!(
        "Open http://{page}:{} on a phone in the same network: the page says that it reached the \
             house, and this check turns to ok.",
        facts.device_port
    ))
}

#[cfg(test)]
mod tests {
    use super::super::router::PortMapping;
    use super::*;

    const OURS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 5);

    fn wired() -> InterfaceFacts {
        InterfaceFacts {
            name: "lan0".into(),
            address: Some(OURS),
            speed: Some(1000),
            by_lease: Some(true),
            answers: true,
            multicast_heard: Some(true),
            ..InterfaceFacts::default()
        }
    }

    fn sound() -> NetworkFacts {
        NetworkFacts {
            name: "Pellworth".into(),
            device_port: 7640,
            console_port: 7641,
            interfaces: vec![wired()],
            ssdp_users: Some(vec![]),
            reached_by: Some((Ipv4Addr::new(192, 0, 2, 9), OURS)),
            ..NetworkFacts::default()
        }
    }

    fn outcome_of(facts: &NetworkFacts, id: &str) -> (Outcome, String) {
        let check = checks(facts).into_iter().find(|check| check.id == id).unwrap();
        (check.outcome, check.measured)
    }

    #[test]
    fn a_sound_network_is_ok() {
        for check in checks(&sound()) {
            assert_eq!(check.outcome, Outcome::Ok, "{}: {}", check.id, check.measured);
        }
    }

    /// A change of a sound network, and how one check then comes out.
    type Case = (&'static str, Outcome, fn(&mut NetworkFacts));

    #[test]
    fn each_trouble_is_told_by_its_check_and_no_other_stops() {
        let cases: [Case; 16] = [
            ("listener", Outcome::Stops, |f| f.interfaces[0].answers = false),
            ("listener", Outcome::Stops, |f| f.interfaces.clear()),
            ("listener", Outcome::Attention, |f| f.off = true),
            ("discovery-port", Outcome::Stops, |f| f.interfaces[0].problem = Some("in use".into())),
            ("discovery-port", Outcome::Stops, |f| {
                f.problems.push(("lan1".into(), "in use".into()))
            }),
            ("discovery-port", Outcome::Unknown, |f| f.ssdp_users = None),
            ("multicast", Outcome::Stops, |f| f.interfaces[0].multicast_heard = Some(false)),
            ("multicast", Outcome::Unknown, |f| f.interfaces[0].multicast_heard = None),
            ("link", Outcome::Attention, |f| f.interfaces[0].kind = LinkKind::Wireless(Some(-80))),
            ("link", Outcome::Attention, |f| f.interfaces[0].speed = Some(10)),
            ("address", Outcome::Attention, |f| f.interfaces[0].others.push(OURS)),
            ("other-servers", Outcome::Stops, |f| f.same_udn.push(OURS)),
            ("other-servers", Outcome::Attention, |f| f.same_name.push(OURS)),
            ("lost-devices", Outcome::Attention, |f| {
                let label = "Loft".into();
                f.devices.push(DeviceFacts {
                    label,
                    only_by_address: true,
                    stopped_answering: false,
                });
            }),
            ("router", Outcome::Stops, |f| {
                let mappings = vec![PortMapping {
                    protocol: "TCP".into(),
                    external: 80,
                    internal: 7640,
                    description: "x".into(),
                }];
                f.routers.push(RouterFacts { label: "Router".into(), mappings: Some(mappings) });
            }),
            ("reached", Outcome::Unknown, |f| f.reached_by = None),
        ];
        for (id, expected, change) in cases {
            let mut facts = sound();
            change(&mut facts);
            let (outcome, measured) = outcome_of(&facts, id);
            assert_eq!(outcome, expected, "{id}: {measured}");
            if !facts.interfaces.is_empty() {
                let others = checks(&facts).into_iter().filter(|check| check.id != id);
                assert!(others.clone().all(|check| check.outcome != Outcome::Stops), "{id}");
            }
        }
    }

    #[test]
    fn who_shares_the_port_and_who_is_open_to_the_world_is_named() {
        let mut facts = sound();
        facts.ssdp_users = Some(vec![SsdpUser { program: Some("browser".into()) }]);
        assert!(outcome_of(&facts, "discovery-port").1.contains("browser"));
        facts.routers.push(RouterFacts { label: "Router".into(), mappings: None });
        assert_eq!(outcome_of(&facts, "router").0, Outcome::Unknown);
        facts.routers[0].mappings = Some(vec![]);
        assert_eq!(outcome_of(&facts, "router").0, Outcome::Ok);
    }
}
