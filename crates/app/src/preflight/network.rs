//! The network side of this host.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::path::Path;
use std::time::Duration;

use mostra_core::found::{Role, Thing, ThingPresence};
use mostra_core::ids::FoundId;
use mostra_core::preflight::{
    DeviceFacts, InterfaceFacts, LinkKind, NetworkFacts, PortMapping, RouterFacts, SsdpUser,
};
use mostra_core::proof::{Evidence, Step};
use mostra_net::ServedInterface;
use mostra_protocol::Moment;
use mostra_protocol::control_point::Gone;
use mostra_protocol::model::text::{NAME, tame};
use serde_json::Value;

use super::program::output;
use crate::devices::Devices;
use crate::network::{Network, Sameness};

/// How long our own listener may take to answer.
const ANSWER: Duration = Duration::from_secs(1);
/// How long our own search may take to come back.
const BACK: Duration = Duration::from_secs(3);
/// How long a device must be known before it says something that it never searched.
const KNOWN: Duration = Duration::from_secs(600);
/// Mappings read of a router, routers asked, and how long that may take.
const MAPPINGS: u32 = 64;
const ROUTERS: usize = 4;
const ROUTER: Duration = Duration::from_secs(20);

/// What is known of the network. Where it is not to be the whole of it, what takes longer stands as it
/// was `before`: what routers say, and who uses the port of discovery.
pub(super) async fn look(
    network: &Network,
    devices: &Devices,
    console_port: u16,
    before: &NetworkFacts,
    whole: bool,
) -> NetworkFacts {
    let now = network.now();
    let served = network.served();
    let port = network.device_port();
    let mut problems: HashMap<String, String> = network.problems();
    let addresses = addresses().await;
    let mut interfaces = Vec::new();
    for interface in served.iter() {
        let answers = answers(SocketAddr::from((interface.address, port))).await;
        let (others, by_lease) = of_interface(&addresses, interface);
        interfaces.push(InterfaceFacts {
            name: interface.name.clone(),
            address: Some(interface.address),
            prefix: interface.prefix,
            others,
            kind: kind_of(&interface.name),
            speed: speed_of(&interface.name),
            by_lease,
            answers,
            multicast_heard: multicast_heard(network, interface, now),
            problem: problems.remove(&interface.name),
        });
    }
    let (same_udn, same_name) = duplicates(network);
    let routers = if whole { routers(network).await } else { before.routers.clone() };
    NetworkFacts {
        name: network.name(),
        off: network.off().is_some(),
        device_port: port,
        console_port,
        interfaces,
        problems: problems.into_iter().collect(),
        ssdp_users: match whole {
            true => tokio::task::spawn_blocking(ssdp_users).await.ok().flatten(),
            false => before.ssdp_users.clone(),
        },
        same_udn,
        same_name,
        devices: lost_devices(network, devices, now),
        routers,
        reached_by: network.reached_by(),
    }
}

/// Puts into the facts what is known without looking.
pub(super) fn bring_up_to_date(network: &Network, facts: &mut NetworkFacts) {
    let now = network.now();
    let served = network.served();
    let mut problems: HashMap<String, String> = network.problems();
    let here = |facts: &InterfaceFacts| {
        served.iter().any(|s| s.name == facts.name && Some(s.address) == facts.address)
    };
    facts.interfaces.retain(here);
    for interface in served.iter() {
        let known = facts.interfaces.iter().position(|i| i.address == Some(interface.address));
        let at = known.unwrap_or_else(|| {
            facts.interfaces.push(InterfaceFacts {
                name: interface.name.clone(),
                address: Some(interface.address),
                prefix: interface.prefix,
                kind: kind_of(&interface.name),
                // Its listener was bound before it counts as served.
                answers: true,
                ..InterfaceFacts::default()
            });
            facts.interfaces.len() - 1
        });
        let known = &mut facts.interfaces[at];
        known.multicast_heard = multicast_heard(network, interface, now);
        known.problem = problems.remove(&interface.name);
    }
    facts.problems = problems.into_iter().collect();
    facts.name = network.name();
    facts.off = network.off().is_some();
    facts.reached_by = network.reached_by();
    (facts.same_udn, facts.same_name) = duplicates(network);
}

/// Addresses of other servers with our UDN, and with our name.
fn duplicates(network: &Network) -> (Vec<Ipv4Addr>, Vec<Ipv4Addr>) {
    let all = network.duplicate_servers();
    let with = |same: Sameness| {
        all.iter().filter(move |(_, s)| *s == same).map(|(address, _)| *address).collect()
    };
    (with(Sameness::Udn), with(Sameness::Name))
}

async fn answers(place: SocketAddr) -> bool {
    let connect = tokio::net::TcpStream::connect(place);
    matches!(tokio::time::timeout(ANSWER, connect).await, Ok(Ok(_)))
}

fn multicast_heard(network: &Network, interface: &ServedInterface, now: Moment) -> Option<bool> {
    let searched = network.found.last_search()?;
    match network.own_search_heard(interface.index) {
        Some(heard) if heard >= searched => Some(true),
        _ if now.since(searched) < BACK => None,
        _ => Some(false),
    }
}

/// The addresses of the system, as `ip` tells them; nothing where it is not there.
async fn addresses() -> Value {
    let text = output("ip", &["-j", "-4", "addr", "show"], 1 << 20).await;
    text.and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default()
}

/// Further addresses of an interface, and whether ours is a lease.
fn of_interface(all: &Value, interface: &ServedInterface) -> (Vec<Ipv4Addr>, Option<bool>) {
    let this = all.as_array().into_iter().flatten().find(|i| i["ifname"] == *interface.name);
    let given = this.and_then(|this| this["addr_info"].as_array()).cloned().unwrap_or_default();
    let mut others = Vec::new();
    let mut by_lease = None;
    for one in &given {
        let address = one["local"].as_str().and_then(|text| text.parse::<Ipv4Addr>().ok());
        let Some(address) = address else { continue };
        if address == interface.address {
            by_lease = Some(one["dynamic"].as_bool().unwrap_or(false));
        } else if !address.is_loopback() && !address.is_link_local() {
            others.push(address);
        }
    }
    (others, by_lease.filter(|_| !interface.address.is_loopback()))
}

fn kind_of(name: &str) -> LinkKind {
    let place = Path::new("/sys/class/net").join(name);
    let kind = std::fs::read_to_string(place.join("type")).unwrap_or_default();
    if kind.trim() == "772" {
        LinkKind::Loopback
    } else if place.join("wireless").exists() || place.join("phy80211").exists() {
        LinkKind::Wireless(signal(name))
    } else if place.join("device").exists() {
        LinkKind::Wired
    } else {
        LinkKind::Virtual
    }
}

/// The signal of a radio in dBm.
fn signal(name: &str) -> Option<i32> {
    let text = std::fs::read_to_string("/proc/net/wireless").ok()?;
    let line = text.lines().find(|line| line.trim_start().starts_with(&format!("{name}:")))?;
    let level = line.split_whitespace().nth(3)?.trim_end_matches('.');
    level.parse().ok()
}

fn speed_of(name: &str) -> Option<u32> {
    let text = std::fs::read_to_string(format!("/sys/class/net/{name}/speed")).ok()?;
    // Of what has none the system says -1.
    text.trim().parse::<u32>().ok().filter(|speed| *speed > 0)
}

/// Other programs at the port of discovery; `None` where the system does not tell.
fn ssdp_users() -> Option<Vec<SsdpUser>> {
    let table = std::fs::read_to_string("/proc/net/udp").ok()?;
    let sockets: Vec<&str> = table
        .lines()
        .skip(1)
        .filter_map(|line| {
            let fields: Vec<&str> = line.split_whitespace().collect();
            let at_port = fields.get(1)?.ends_with(":076C");
            at_port.then(|| fields.get(9).copied())?
        })
        .collect();
    let mut owners: HashMap<String, u32> = HashMap::new();
    for process in std::fs::read_dir("/proc").ok()?.flatten() {
        let Some(id) = process.file_name().to_str().and_then(|name| name.parse().ok()) else {
            continue;
        };
        let open = std::fs::read_dir(process.path().join("fd")).into_iter().flatten().flatten();
        for descriptor in open {
            let Ok(to) = std::fs::read_link(descriptor.path()) else { continue };
            let to = to.to_string_lossy();
            let inode = to.strip_prefix("socket:[").and_then(|rest| rest.strip_suffix(']'));
            if let Some(inode) = inode.filter(|inode| sockets.contains(inode)) {
                owners.insert(inode.to_owned(), id);
            }
        }
    }
    let others = sockets.iter().filter(|inode| owners.get(**inode) != Some(&std::process::id()));
    let mut users: Vec<SsdpUser> = others
        .map(|inode| SsdpUser {
            program: owners.get(*inode).and_then(|id| {
                let name = std::fs::read_to_string(format!("/proc/{id}/comm")).ok()?;
                Some(name.trim().to_owned())
            }),
        })
        .collect();
    users.sort_by(|one, other| one.program.cmp(&other.program));
    users.dedup();
    Some(users)
}

/// Devices that multicast does not reach, and things that stopped answering while they are switched on.
fn lost_devices(network: &Network, devices: &Devices, now: Moment) -> Vec<DeviceFacts> {
    let mut lost: Vec<DeviceFacts> = Vec::new();
    for device in devices.book().iter() {
        let ladder = &device.proof.ladder;
        let seen = ladder.proof(Step::Seen).map(|proof| &proof.evidence);
        let by_address = matches!(seen, Some(Evidence::Connected))
            && ladder.proof(Step::Read).is_some()
            && now.since(device.first_seen) > KNOWN;
        if by_address && device.stands().is_some() && !device.address().is_loopback() {
            lost.push(DeviceFacts {
                label: device.label(),
                only_by_address: true,
                stopped_answering: false,
            });
        }
    }
    let silent: Vec<(Ipv4Addr, String)> = {
        let book = network.found.book();
        let gone = |thing: &&Thing| {
            matches!(thing.presence, ThingPresence::Away { why: Gone::NoAnswer, .. })
        };
        book.things().filter(gone).map(|thing| (thing.address, thing.label())).collect()
    };
    for (address, label) in silent {
        // The system still finds its hardware address: it is switched on.
        if devices.hardware(address).is_some() {
            lost.push(DeviceFacts { label, only_by_address: false, stopped_answering: true });
        }
    }
    lost
}

/// What routers let in to this host from outside.
async fn routers(network: &Network) -> Vec<RouterFacts> {
    let found: Vec<(FoundId, String, Option<usize>)> = {
        let book = network.found.book();
        let routers = book.things().filter(|thing| thing.roles().contains(&Role::Router));
        routers
            .filter_map(|thing| {
                let described = thing.described()?;
                let forwards = |kind: String| {
                    kind.contains(":WANIPConnection:") || kind.contains(":WANPPPConnection:")
                };
                let mut services = described.services.iter();
                let number = services.position(|service| forwards(service.kind.to_string()));
                Some((thing.id, described.name.clone(), number))
            })
            .take(ROUTERS)
            .collect()
    };
    let mut all = Vec::new();
    for (id, label, number) in found {
        let asked = async {
            match number {
                Some(number) => mappings(network, id, number).await,
                None => None,
            }
        };
        let mappings = tokio::time::timeout(ROUTER, asked).await.ok().flatten();
        all.push(RouterFacts { label, mappings });
    }
    all
}

/// The mappings of a router that lead here; `None` where it does not answer.
async fn mappings(network: &Network, id: FoundId, number: usize) -> Option<Vec<PortMapping>> {
    let ours: Vec<IpAddr> =
        network.served().iter().map(|served| IpAddr::V4(served.address)).collect();
    let mut all = Vec::new();
    for index in 0..MAPPINGS {
        let argument = [("NewPortMappingIndex".to_owned(), index.to_string())];
        let action = "GetGenericPortMappingEntry";
        let record = network.call_action(id, number, action, &argument, false).await.ok()?;
        // Past the last one it answers with an error.
        let Ok(outputs) = record.outcome else { break };
        let output = |name: &str| {
            outputs
                .iter()
                .find(|(known, _)| known == name)
                .map(|(_, value)| tame(value.trim(), NAME).into_owned())
        };
        let client: Option<IpAddr> = output("NewInternalClient").and_then(|text| text.parse().ok());
        if client.is_none_or(|client| !ours.contains(&client)) {
            continue;
        }
        let port = |name: &str| output(name).and_then(|text| text.parse().ok());
        all.push(PortMapping {
            protocol: output("NewProtocol").unwrap_or_default(),
            external: port("NewExternalPort").unwrap_or_default(),
            internal: port("NewInternalPort").unwrap_or_default(),
            description: output("NewPortMappingDescription").unwrap_or_default(),
        });
    }
    Some(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn leases_and_further_addresses_are_read() {
        let told = serde_json::json!([{"ifname": "lan0", "addr_info": [
            {"local": "192.0.2.5", "dynamic": true}, {"local": "192.0.2.77"}, {"local": "169.254.1.1"}]}]);
        let interface = ServedInterface {
            name: "lan0".into(),
            index: 2,
            address: Ipv4Addr::new(192, 0, 2, 5),
            prefix: 24,
        };
        let further = vec![Ipv4Addr::new(192, 0, 2, 77)];
        assert_eq!(of_interface(&told, &interface), (further, Some(true)));
        assert_eq!(of_interface(&Value::Null, &interface), (vec![], None));
    }
}
