//! Simulated LAN: the announcer among lossy links, duplicates, delays and hostile datagrams,
//! for simulated hours, from a seed.
// A test that cannot go on has failed: that is what unwrap says.
#![allow(clippy::unwrap_used)]

mod alone;

use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::time::Duration;

use mostra_protocol::Moment;
use mostra_protocol::control_point::{Message, compose_search, parse_datagram};
use mostra_protocol::model::identifiers::MEDIA_SERVER;
use mostra_protocol::model::service::OwnService;
use mostra_protocol::server::{Announcer, Datagram, DatagramEvent, Identity, Link, Tuning};

const SERVER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 21);
const START: Moment = Moment::from_secs(1_767_225_600);

fn identity() -> Identity {
    Identity {
        udn: "uuid:6f1c2f0e-5b7d-4d0a-9a3e-2b8c41d7e901".into(),
        server: "Linux/6.1 UPnP/1.0 Mostra/0.1".into(),
        description_path: "/about/device.xml".into(),
        boot_id: 7,
        config_id: 4021,
        services: OwnService::ALL.to_vec(),
    }
}

fn link() -> Link {
    Link { id: 1, address: SERVER, prefix: 24, port: 7640, search_port: None }
}

fn player(last: u8) -> SocketAddrV4 {
    SocketAddrV4::new(Ipv4Addr::new(192, 0, 2, last), 50_000)
}

/// Carries datagrams in simulated time.
struct Lan {
    machine: Announcer,
    now: Moment,
    random: fastrand::Rng,
    loss: f64,
    /// What arrived at the group or at a player, with its time of arrival.
    arrived: Vec<(Moment, Datagram)>,
}

impl Lan {
    fn new(seed: u64, loss: f64) -> Lan {
        let mut machine = Announcer::new(identity(), Tuning::default(), seed, START);
        machine.link_up(START, link());
        Lan { machine, now: START, random: fastrand::Rng::with_seed(seed), loss, arrived: vec![] }
    }

    fn send(&mut self, from: SocketAddrV4, multicast: bool, data: &[u8]) -> Option<DatagramEvent> {
        self.machine.handle(self.now, 1, from, multicast, data)
    }

    /// Lets simulated time pass, delivering what the machine sends.
    fn run(&mut self, time: Duration) {
        let end = self.now + time;
        loop {
            while let Some(datagram) = self.machine.poll_output(self.now) {
                if self.random.f64() >= self.loss {
                    let delay = Duration::from_millis(self.random.u64(0..300));
                    self.arrived.push((self.now + delay, datagram.clone()));
                    if self.random.f64() < 0.1 {
                        self.arrived.push((self.now + delay * 2, datagram));
                    }
                }
            }
            match self.machine.next_deadline() {
                Some(at) if at <= end => self.now = at.max(self.now),
                _ => break,
            }
        }
        self.now = end;
    }

    fn answers(&self, to: SocketAddrV4) -> Vec<(Moment, String)> {
        let to_player = self.arrived.iter().filter(|(_, d)| d.to == to);
        to_player.map(|(at, d)| (*at, String::from_utf8(d.data.clone()).unwrap())).collect()
    }

    fn notifications(&self, kind: &str) -> Vec<String> {
        let texts = self.arrived.iter().map(|(_, d)| String::from_utf8(d.data.clone()).unwrap());
        texts.filter(|t| t.contains(&format!("NTS: {kind}\r\n"))).collect()
    }
}

fn lossless(seed: u64) -> Lan {
    let mut machine = Announcer::new(identity(), Tuning::default(), seed, START);
    machine.link_up(START, link());
    Lan { machine, now: START, random: fastrand::Rng::with_seed(seed), loss: -1.0, arrived: vec![] }
}

#[test]
fn ssdp_alive_set_is_3_2d_k() {
    let mut lan = lossless(1);
    while let Some(deadline) =
        lan.machine.next_deadline().filter(|d| *d < START + Duration::from_secs(5))
    {
        lan.now = deadline;
        while let Some(datagram) = lan.machine.poll_output(deadline) {
            lan.arrived.push((deadline, datagram));
        }
    }
    let mut rows = BTreeMap::new();
    for text in lan.notifications("ssdp:alive") {
        let Some(Message::Notify { target, about, .. }) = parse_datagram(text.as_bytes()) else {
            panic!("{text}")
        };
        assert_eq!(about.location.as_deref(), Some("http://192.0.2.21:7640/about/device.xml"));
        assert!(
            text.len() < 1400
                && text.contains("BOOTID.UPNP.ORG: 7")
                && text.contains("CONFIGID.UPNP.ORG: 4021")
        );
        *rows.entry((target, about.usn)).or_insert(0) += 1;
    }
    assert_eq!(rows.len(), 6, "{rows:?}");
    assert!(rows.values().all(|n| *n == 2), "the set twice: {rows:?}");
    assert_eq!(lan.notifications("ssdp:byebye").len(), 6, "an unclean stop is cleared up first");
}

#[test]
fn announcements_go_on_for_hours_below_half_of_max_age() {
    for seed in 0..20 {
        let mut lan = lossless(seed);
        lan.run(Duration::from_secs(6 * 3600));
        let mut times: Vec<Moment> = lan
            .arrived
            .iter()
            .filter(|(_, d)| String::from_utf8_lossy(&d.data).contains("NTS: ssdp:alive"))
            .map(|(at, _)| *at)
            .collect();
        times.sort();
        let longest = times.windows(2).map(|w| w[1] - w[0]).max().unwrap();
        assert!(longest < Duration::from_secs(900), "{longest:?}");
        assert!(times.len() > 6 * 3600 / 360 * 6, "{}", times.len());
    }
}

#[test]
fn a_player_that_repeats_its_search_finds_us_despite_loss() {
    for seed in 0..50 {
        let mut lan = Lan::new(seed, 0.2);
        let search = compose_search(MEDIA_SERVER, 2, "ExampleOS/1.0");
        for _ in 0..6 {
            if lan.random.f64() >= 0.2 {
                lan.send(player(60), true, &search);
            }
            lan.run(Duration::from_secs(3));
        }
        let answers = lan.answers(player(60));
        assert!(!answers.is_empty(), "seed {seed}");
        assert!(
            answers[0].1.contains(&format!("ST: {MEDIA_SERVER}\r\n"))
                && answers[0].1.contains("\r\nEXT:\r\n")
        );
    }
}

#[test]
fn answers_come_within_mx_and_only_once() {
    for seed in 0..50 {
        let mut lan = lossless(seed);
        lan.run(Duration::from_secs(5));
        lan.arrived.clear();
        let asked = lan.now;
        for _ in 0..3 {
            lan.send(player(60), true, &compose_search("upnp:rootdevice", 1, "x"));
        }
        let mut sent = vec![];
        while let Some(at) =
            lan.machine.next_deadline().filter(|at| *at < asked + Duration::from_secs(3))
        {
            while let Some(datagram) = lan.machine.poll_output(at) {
                sent.push((at, datagram));
            }
        }
        assert_eq!(sent.len(), 1, "the repeated search adds nothing");
        assert!(sent[0].0 <= asked + Duration::from_millis(800));
    }
}

#[test]
fn search_targets_are_matched_as_the_standard_says() {
    let mut lan = lossless(3);
    lan.run(Duration::from_secs(5));
    for (n, (target, expected)) in [
        ("ssdp:all", 6),
        ("upnp:rootdevice", 1),
        ("UUID:6F1C2F0E-5b7d-4d0a-9a3e-2b8c41d7e901", 1),
        (MEDIA_SERVER, 1),
        ("urn:schemas-upnp-org:device:MediaServer:2", 0),
        ("urn:schemas-upnp-org:device:MediaRenderer:1", 0),
        ("urn:schemas-upnp-org:service:ContentDirectory:1", 1),
        ("uuid:other", 0),
    ]
    .into_iter()
    .enumerate()
    {
        let to = player(100 + n as u8);
        lan.send(to, true, &compose_search(target, 1, "x"));
        lan.random = fastrand::Rng::with_seed(0);
        lan.run(Duration::from_secs(2));
        let mut answers: Vec<String> = lan.answers(to).into_iter().map(|a| a.1).collect();
        answers.sort();
        answers.dedup();
        assert_eq!(answers.len(), expected, "{target}");
    }
}

#[test]
fn a_multicast_search_without_mx_is_dropped_and_a_unicast_one_answered() {
    let mut lan = lossless(4);
    lan.run(Duration::from_secs(5));
    let search = b"M-SEARCH * HTTP/1.1\r\nMAN: \"ssdp:discover\"\r\nST: ssdp:all\r\n\r\n";
    lan.send(player(60), true, search);
    lan.run(Duration::from_secs(5));
    assert_eq!(lan.answers(player(60)).len(), 0);
    lan.send(player(60), false, search);
    lan.run(Duration::from_secs(1));
    assert!(lan.answers(player(60)).len() >= 6);
}

#[test]
fn search_from_foreign_subnet_is_silent() {
    let mut lan = lossless(5);
    lan.run(Duration::from_secs(5));
    lan.arrived.clear();
    let search = compose_search("ssdp:all", 1, "x");
    for from in
        ["198.51.100.7:5000", "192.0.2.9:0", "0.0.0.0:5000", "239.1.2.3:5000", "255.255.255.255:9"]
    {
        assert_eq!(lan.send(from.parse().unwrap(), true, &search), None, "{from}");
    }
    lan.run(Duration::from_secs(5));
    assert_eq!(lan.arrived.len(), 0);
}

#[test]
fn floods_are_limited_per_source_and_in_all() {
    let mut lan = lossless(6);
    lan.run(Duration::from_secs(5));
    lan.arrived.clear();
    let search = compose_search("upnp:rootdevice", 1, "x");
    // One source with many ports, and fifty quiet ones.
    let mut answered = 0;
    for port in 0..1000u16 {
        let from = SocketAddrV4::new(Ipv4Addr::new(192, 0, 2, 66), 10_000 + port);
        if let Some(DatagramEvent::Search { answered: true, .. }) = lan.send(from, true, &search) {
            answered += 1;
        }
    }
    assert_eq!(answered, 30, "the burst of one source");
    for last in 100..150 {
        assert!(matches!(
            lan.send(player(last), true, &search),
            Some(DatagramEvent::Search { answered: true, .. })
        ));
    }
    assert!(lan.machine.dropped() >= 970);
}

#[test]
fn a_search_from_where_no_host_can_be_is_silent() {
    let mut lan = lossless(5);
    lan.run(Duration::from_secs(5));
    lan.arrived.clear();
    let search = compose_search("ssdp:all", 1, "x");
    let at = |address: [u8; 4], port: u16| SocketAddrV4::new(Ipv4Addr::from(address), port);
    for from in [
        at([192, 0, 2, 255], 50_000),
        at([192, 0, 2, 0], 50_000),
        at([255, 255, 255, 255], 50_000),
        at([0, 0, 0, 0], 50_000),
        at([239, 255, 255, 250], 50_000),
        at([192, 0, 3, 60], 50_000),
        at([192, 0, 2, 60], 0),
        // Our own sockets.
        at([192, 0, 2, 21], 1900),
        at([192, 0, 2, 21], 7640),
    ] {
        for multicast in [true, false] {
            lan.send(from, multicast, &search);
        }
    }
    lan.run(Duration::from_secs(10));
    assert!(lan.arrived.is_empty(), "{:?}", lan.arrived);
}

#[test]
fn a_search_for_what_we_lack_uses_up_nothing() {
    let mut lan = lossless(4);
    lan.run(Duration::from_secs(5));
    let answered = |heard| matches!(heard, Some(DatagramEvent::Search { answered: true, .. }));
    for _ in 0..100 {
        let other = compose_search("urn:schemas-upnp-org:device:MediaRenderer:1", 1, "x");
        assert!(!answered(lan.send(player(60), true, &other)));
    }
    assert_eq!(lan.machine.dropped(), 0);
    assert!(answered(lan.send(player(60), true, &compose_search("upnp:rootdevice", 1, "x"))));
}

#[test]
fn announcements_come_again_within_half_the_time_that_they_are_valid() {
    for (max_age, shortest, longest) in [(60, 20, 30), (900, 240, 360), (1800, 240, 360)] {
        let period = Tuning::valid_for(max_age).period;
        let seconds = Duration::from_secs;
        assert_eq!(period, (seconds(shortest), seconds(longest)), "{max_age}");
    }
}

#[test]
fn a_long_version_is_neither_answered_nor_echoed() {
    let mut lan = lossless(3);
    lan.run(Duration::from_secs(5));
    lan.arrived.clear();
    let zeros = "0".repeat(2000);
    for (n, version) in
        [&format!("{zeros}1"), "01", "", "0", "x", "99999999999999"].into_iter().enumerate()
    {
        for name in
            [MEDIA_SERVER.trim_end_matches(":1"), "urn:schemas-upnp-org:service:ContentDirectory"]
        {
            let search = compose_search(&format!("{name}:{version}"), 1, "x");
            lan.send(player(60 + n as u8), true, &search);
        }
    }
    lan.send(
        player(90),
        true,
        &compose_search("urn:schemas-upnp-org:service:ContentDirectory", 1, "x"),
    );
    lan.run(Duration::from_secs(5));
    assert!(lan.arrived.is_empty(), "{:?}", lan.arrived.len());
    // A plain one is, and the version asked for comes back (SSDP-35).
    lan.send(player(91), true, &compose_search(MEDIA_SERVER, 1, "x"));
    lan.run(Duration::from_secs(5));
    let answers = lan.answers(player(91));
    assert!(!answers.is_empty() && answers.iter().all(|(_, text)| text.len() <= 1400));
}

#[test]
fn hostile_datagrams_change_nothing() {
    for seed in 0..20 {
        let mut lan = lossless(seed);
        lan.run(Duration::from_secs(5));
        lan.arrived.clear();
        let mut random = fastrand::Rng::with_seed(seed);
        let real = compose_search("ssdp:all", 1, "x");
        let began = lan.now;
        for n in 0..2000_u16 {
            let mut data =
                if random.bool() { real.clone() } else { vec![0; random.usize(0..3000)] };
            // Half of what looks like a search is one.
            for _ in 0..if random.bool() { 0 } else { random.usize(1..20) } {
                if !data.is_empty() {
                    let at = random.usize(0..data.len());
                    data[at] = random.u8(..);
                }
            }
            // From a port of its own, so that no search is taken for one said again.
            let from = SocketAddrV4::new(*player(random.u8(60..70)).ip(), 40_000 + n);
            lan.send(from, random.bool(), &data);
            lan.run(Duration::from_millis(1));
        }
        lan.run(Duration::from_secs(10));
        // Some five hundred searches for eight answers each would be four thousand; what may go
        // out in a second is bounded, and what waits for it as well.
        let sent: BTreeMap<u64, usize> =
            lan.arrived.iter().fold(BTreeMap::new(), |mut all, (at, _)| {
                *all.entry((*at - began).as_secs()).or_default() += 1;
                all
            });
        let most = sent.values().max().copied().unwrap_or_default();
        assert!((50..=260).contains(&most), "a tenth comes twice here: {sent:?}");
        assert!(lan.machine.dropped() > 0);
        assert!(lan.arrived.iter().all(|(_, datagram)| datagram.data.len() <= 1400));
        assert!(matches!(
            lan.send(player(99), true, &real),
            Some(DatagramEvent::Search { answered: true, .. })
        ));
    }
}

#[test]
fn stopping_says_byebye_twice_within_a_second_and_nothing_after() {
    let mut lan = lossless(7);
    lan.run(Duration::from_secs(5));
    lan.arrived.clear();
    lan.machine.stop(lan.now);
    let mut last = lan.now;
    while let Some(at) = lan.machine.next_deadline() {
        last = at;
        while let Some(datagram) = lan.machine.poll_output(at) {
            lan.arrived.push((at, datagram));
        }
    }
    assert!(last <= lan.now + Duration::from_secs(1));
    assert_eq!(lan.notifications("ssdp:byebye").len(), 12);
    let text = &lan.notifications("ssdp:byebye")[0];
    assert!(
        !text.contains("LOCATION") && !text.contains("CACHE-CONTROL") && text.contains("BOOTID")
    );
    lan.send(player(60), true, &compose_search("ssdp:all", 1, "x"));
    lan.run(Duration::from_secs(3600));
    assert_eq!(lan.answers(player(60)).len(), 0);
}

#[test]
fn a_new_name_leaves_as_the_old_and_comes_back_as_the_new() {
    let mut lan = lossless(8);
    lan.run(Duration::from_secs(5));
    lan.arrived.clear();
    let renamed = Identity { config_id: 9, boot_id: 8, ..identity() };
    lan.machine.change_identity(lan.now, renamed);
    lan.run(Duration::from_secs(5));
    assert!(lan.notifications("ssdp:byebye").iter().all(|t| t.contains("BOOTID.UPNP.ORG: 7")));
    let alive = lan.notifications("ssdp:alive");
    assert!(
        alive.len() >= 12
            && alive
                .iter()
                .all(|t| t.contains("BOOTID.UPNP.ORG: 8") && t.contains("CONFIGID.UPNP.ORG: 9"))
    );
}

#[test]
fn our_own_announcements_are_not_sightings() {
    let mut lan = lossless(9);
    let notify = b"NOTIFY * HTTP/1.1\r\nNT: upnp:rootdevice\r\nNTS: ssdp:alive\r\nUSN: uuid:6f1c2f0e-5b7d-4d0a-9a3e-2b8c41d7e901::upnp:rootdevice\r\n\r\n";
    assert_eq!(lan.send(player(21), true, notify), None);
    let other = b"NOTIFY * HTTP/1.1\r\nNT: upnp:rootdevice\r\nNTS: ssdp:byebye\r\nUSN: uuid:tv::upnp:rootdevice\r\n\r\n";
    assert!(matches!(
        lan.send(player(60), true, other),
        Some(DatagramEvent::Announcement { leaving: true })
    ));
}
