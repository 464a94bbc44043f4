//! Servers and control points on one simulated network that loses and doubles datagrams, hours of
//! it from a seed: what one side says, the other comes to know.
// A test that cannot go on has failed: that is what unwrap says.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::time::Duration;

use mostra_protocol::Moment;
use mostra_protocol::control_point::{Ask, Finder, FoundEvent, Notice, Notification, Subscriber};
use mostra_protocol::model::identifiers::MEDIA_SERVER;
use mostra_protocol::model::service::OwnService;
use mostra_protocol::server::{
    Announcer, Datagram, DeliveryOutcome, Identity, Link, Publisher, Receiver, Tuning, read_timeout,
};

const SERVER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 21);
const PLAYER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 60);
const UDN: &str = "uuid:6f1c2f0e-5b7d-4d0a-9a3e-2b8c41d7e901";

fn identity(boot_id: u32) -> Identity {
    Identity {
        udn: UDN.into(),
        server: "Linux/6.1 UPnP/1.0 Mostra/0.1".into(),
        description_path: "/about/device.xml".into(),
        boot_id,
        config_id: 4021,
        services: OwnService::ALL.to_vec(),
    }
}

fn link(address: Ipv4Addr) -> Link {
    Link { id: 1, address, prefix: 24, port: 7640, search_port: None }
}

/// A server that announces and a player that searches.
struct Network {
    now: Moment,
    random: fastrand::Rng,
    /// Of a hundred datagrams, so many are lost, and as many come twice.
    lost: u8,
    announcer: Announcer,
    finder: Finder,
    events: Vec<FoundEvent>,
}

impl Network {
    fn new(seed: u64, lost: u8) -> Network {
        let now = Moment::from_secs(1_767_225_600);
        let mut announcer = Announcer::new(identity(1), Tuning::default(), seed, now);
        announcer.link_up(now, link(SERVER));
        let mut finder = Finder::new("uuid:player", &[MEDIA_SERVER], "Test/1");
        finder.link_up(now, link(PLAYER));
        let random = fastrand::Rng::with_seed(seed);
        Network { now, random, lost, announcer, finder, events: Vec::new() }
    }

    /// How often a datagram arrives.
    fn arrivals(&mut self) -> usize {
        match self.random.u8(0..100) {
            n if n < self.lost => 0,
            n if n < 2 * self.lost => 2,
            _ => 1,
        }
    }

    fn run(&mut self, time: Duration) {
        let end = self.now + time;
        while self.now < end {
            let now = self.now;
            while let Some(Datagram { to, data, .. }) = self.announcer.poll_output(now) {
                for _ in 0..self.arrivals() {
                    if to.ip().is_multicast() || *to.ip() == PLAYER {
                        self.finder.handle(now, 1, SocketAddrV4::new(SERVER, 1900), &data);
                    }
                }
            }
            while let Some(Datagram { data, .. }) = self.finder.poll_output(now) {
                for _ in 0..self.arrivals() {
                    let from = SocketAddrV4::new(PLAYER, 50_000);
                    self.announcer.handle(now, 1, from, true, &data);
                }
            }
            while let Some(event) = self.finder.poll_event(now) {
                self.events.push(event);
            }
            let deadlines = [self.announcer.next_deadline(), self.finder.next_deadline()];
            let next = deadlines.into_iter().flatten().min().unwrap_or(end);
            self.now = next.max(now + Duration::from_millis(1)).min(end);
        }
    }

    fn knows(&self) -> bool {
        self.finder.found().any(|found| found.udn == UDN)
    }
}

#[test]
fn a_server_is_found_known_and_missed_on_a_bad_network() {
    for seed in 0..50 {
        let mut network = Network::new(seed, 20);
        network.run(Duration::from_secs(5));
        assert!(network.knows(), "found within seconds, seed {seed}");
        // The byebye with which a server begins may come after its first answer.
        network.events.clear();
        network.run(Duration::from_secs(6 * 3600));
        assert!(network.knows(), "and known for hours, seed {seed}");
        let gone = network.events.iter().filter(|e| matches!(e, FoundEvent::Gone(..))).count();
        assert_eq!(gone, 0, "without a break, seed {seed}");
        let location = network.finder.found().next().unwrap().location.clone();
        assert_eq!(location, "http://192.0.2.21:7640/about/device.xml");
        network.announcer.stop(network.now);
        network.run(Duration::from_secs(1900));
        assert!(!network.knows(), "and missed when it has gone, seed {seed}");
    }
}

#[test]
fn a_server_that_starts_anew_is_noticed() {
    let mut network = Network::new(7, 0);
    network.run(Duration::from_secs(60));
    // It goes without a word and comes back.
    network.announcer = Announcer::new(identity(2), Tuning::default(), 8, network.now);
    network.announcer.link_up(network.now, link(SERVER));
    network.events.clear();
    network.run(Duration::from_secs(60));
    let noticed = |event: &FoundEvent| {
        // Its byebye at the start takes it out, or else its boot id says so.
        matches!(event, FoundEvent::Rebooted(_) | FoundEvent::New(_))
    };
    assert!(network.events.iter().any(noticed), "{:?}", network.events);
    assert_eq!(network.finder.found().next().unwrap().boot_id, Some(2));
}

/// A publisher of one number and a subscriber, between which events and requests may be lost.
#[test]
fn a_subscriber_comes_to_know_the_last_value_however_much_is_lost() {
    for seed in 0..100_u64 {
        let mut random = fastrand::Rng::with_seed(seed);
        let mut publisher = Publisher::new();
        let mut subscriber = Subscriber::default();
        let mut now = Moment::from_secs(1);
        let url = "http://192.0.2.21:7640/event/content".to_owned();
        subscriber.add(now, 1, SERVER, url, "/ev/1".into());
        let (mut value, mut sids) = (0_u32, 0_u32);
        let mut known: BTreeMap<String, String> = BTreeMap::new();
        let (end, quiet) = (now + Duration::from_secs(7200), now + Duration::from_secs(3600));
        while now < end {
            let bad = now < quiet;
            let mut lost = || bad && random.u8(0..100) < 30;
            // A lost event is not sent again (GENA-15): the next one tells of the gap, and so there
            // is one more once the network is good.
            let last = now == quiet + Duration::from_secs(900);
            if last || bad && value < now.as_secs() as u32 / 60 {
                value += 1;
                let variables = [("SystemUpdateID", value.to_string())];
                publisher.change(OwnService::ContentDirectory, PLAYER, &variables);
            }
            while let Some(request) = subscriber.poll_output(now) {
                match request.ask {
                    _ if lost() => subscriber.failed(now, 1),
                    Ask::Subscribe { path, timeout } => {
                        sids += 1;
                        let callbacks = vec![(SocketAddrV4::new(PLAYER, 50_871), path)];
                        let receiver = Receiver { source: PLAYER, callbacks, admitted: true };
                        let asked = format!("Second-{}", timeout.as_secs());
                        let granted = publisher.subscribe(
                            now,
                            format!("uuid:{sids}"),
                            OwnService::ContentDirectory,
                            receiver,
                            read_timeout(Some(&asked)),
                            vec![("SystemUpdateID", value.to_string())],
                        );
                        let granted = granted.unwrap();
                        subscriber.granted(now, 1, &granted.sid, Some(granted.timeout));
                    }
                    Ask::Renew { sid, timeout } => {
                        match publisher.renew(now, &sid, PLAYER, timeout) {
                            Ok(granted) => {
                                subscriber.granted(now, 1, &granted.sid, Some(granted.timeout));
                            }
                            Err(_) => subscriber.failed(now, 1),
                        }
                    }
                    Ask::Unsubscribe { .. } => unreachable!("nobody ends it"),
                }
            }
            while let Some(delivery) = publisher.poll_output(now) {
                if lost() {
                    publisher.delivered(&delivery.sid, DeliveryOutcome::Failed);
                    continue;
                }
                let notification = Notification {
                    path: "/ev/1",
                    source: SERVER,
                    nt: Some("upnp:event"),
                    nts: Some("upnp:propchange"),
                    sid: Some(&delivery.sid),
                    seq: Some(delivery.seq),
                };
                let status = subscriber.notify(now, notification, delivery.variables);
                let outcome = match status {
                    200 => DeliveryOutcome::Done,
                    412 => DeliveryOutcome::Gone,
                    _ => DeliveryOutcome::Failed,
                };
                publisher.delivered(&delivery.sid, outcome);
            }
            while let Some(notice) = subscriber.poll_notice(now) {
                match notice {
                    Notice::Event { variables, .. } => known.extend(variables),
                    // Asked for, as the event did not come.
                    Notice::Missed { .. } | Notice::Silent { .. } => {
                        known.insert("SystemUpdateID".into(), value.to_string());
                    }
                }
            }
            now += Duration::from_millis(500);
        }
        assert_eq!(known.get("SystemUpdateID"), Some(&value.to_string()), "seed {seed}");
        assert!(value > 50 && publisher.len() <= 2, "seed {seed}: {}", publisher.len());
    }
}
