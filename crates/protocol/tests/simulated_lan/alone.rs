//! What the announcer sends where nothing disturbs it.

use super::*;

/// What the machine sends until some time from now, with its times, undisturbed.
fn sent(machine: &mut Announcer, from: Moment, time: Duration) -> Vec<(Moment, Datagram)> {
    let mut all = Vec::new();
    while let Some(at) = machine.next_deadline().filter(|at| *at <= from + time) {
        while let Some(datagram) = machine.poll_output(at.max(from)) {
            all.push((at, datagram));
        }
    }
    all
}

fn text(datagram: &Datagram) -> String {
    String::from_utf8(datagram.data.clone()).unwrap()
}

#[test]
fn a_start_is_at_most_three_sets_and_each_is_spaced() {
    for seed in 0..50 {
        let mut machine = Announcer::new(identity(), Tuning::default(), seed, START);
        machine.link_up(START, link());
        let all = sent(&mut machine, START, Duration::from_secs(5));
        let alive: Vec<Moment> =
            all.iter().filter(|(_, d)| text(d).contains("ssdp:alive")).map(|(at, _)| *at).collect();
        assert_eq!(alive.len(), 12, "the set twice (SSDP-17)");
        for set in alive.chunks(6) {
            assert!(set[5] - set[0] < Duration::from_secs(1));
            for pair in set.windows(2) {
                let gap = (pair[1] - pair[0]).as_millis();
                assert!((10..=30).contains(&gap), "{gap} ms (SSDP-19)");
            }
        }
        let apart = alive[6] - alive[0];
        assert!(apart >= Duration::from_millis(200) && apart <= Duration::from_millis(500));
        let byebye = all.iter().filter(|(_, d)| text(d).contains("ssdp:byebye")).map(|(at, _)| *at);
        let pause = alive[0] - byebye.min().unwrap();
        assert!(pause >= Duration::from_millis(200) && pause <= Duration::from_millis(600));
    }
}

#[test]
fn an_address_that_changes_is_left_and_announced_anew_everywhere() {
    let other = Link {
        id: 2,
        address: Ipv4Addr::new(198, 51, 100, 1),
        prefix: 24,
        port: 7640,
        search_port: None,
    };
    let mut machine = Announcer::new(identity(), Tuning::default(), 8, START);
    machine.link_up(START, link());
    machine.link_up(START, other);
    sent(&mut machine, START, Duration::from_secs(5));
    let now = START + Duration::from_secs(100);
    let moved = Link { address: Ipv4Addr::new(192, 0, 2, 99), ..link() };
    machine.link_moved(now, moved, Identity { boot_id: 8, ..identity() });
    let all = sent(&mut machine, now, Duration::from_secs(5));
    for (id, address) in [(1, "192.0.2.99"), (2, "198.51.100.1")] {
        let here: Vec<(Moment, String)> =
            all.iter().filter(|(_, d)| d.link == id).map(|(at, d)| (*at, text(d))).collect();
        let first = |kind: &str| here.iter().position(|(_, t)| t.contains(kind)).unwrap();
        assert!(first("ssdp:byebye") < first("ssdp:alive"), "byebye first");
        let (at, alive) = &here[first("ssdp:alive")];
        assert!(*at - now < Duration::from_secs(1), "{:?}", *at - now);
        for (_, text) in here.iter().filter(|(_, t)| t.contains("ssdp:alive")) {
            assert!(text.contains("BOOTID.UPNP.ORG: 8"), "{text}");
            assert!(text.contains(&format!("LOCATION: http://{address}:7640/")), "{text}");
        }
        assert!(here.iter().any(|(_, t)| t.contains("byebye") && t.contains("BOOTID.UPNP.ORG: 7")));
        assert!(alive.contains(address));
    }
}

#[test]
fn a_link_that_goes_away_stops_nothing_but_itself() {
    let other = Link {
        id: 2,
        address: Ipv4Addr::new(198, 51, 100, 1),
        prefix: 24,
        port: 7640,
        search_port: None,
    };
    let mut machine = Announcer::new(identity(), Tuning::default(), 9, START);
    machine.link_up(START, link());
    machine.link_up(START, other);
    machine.handle(START, 1, player(60), true, &compose_search("ssdp:all", 5, "x"));
    machine.link_down(1);
    let all = sent(&mut machine, START, Duration::from_secs(3600));
    assert!(all.iter().all(|(_, d)| d.link == 2), "nothing more there (SSDP-27)");
    assert!(all.iter().filter(|(_, d)| text(d).contains("ssdp:alive")).count() > 60);
    assert!(all.iter().all(|(_, d)| !text(d).contains("BOOTID.UPNP.ORG: 8")), "BOOTID stays");
}

#[test]
fn notifications_and_answers_are_answered_with_nothing() {
    let mut lan = lossless(10);
    lan.run(Duration::from_secs(5));
    lan.arrived.clear();
    for data in [
        "NOTIFY * HTTP/1.1\r\nNT: upnp:rootdevice\r\nNTS: ssdp:alive\r\nUSN: uuid:x\r\n\r\n",
        "HTTP/1.1 200 OK\r\nST: ssdp:all\r\nUSN: uuid:x\r\n\r\n",
    ] {
        lan.send(player(60), true, data.as_bytes());
        lan.send(player(60), false, data.as_bytes());
    }
    lan.run(Duration::from_secs(60));
    assert!(lan.arrived.is_empty(), "{:?}", lan.arrived);
}

#[test]
fn another_under_our_udn_is_told_and_our_own_echo_is_not() {
    let mut lan = lossless(11);
    lan.run(Duration::from_secs(5));
    let own = lan.notifications("ssdp:alive")[0].clone();
    let heard = |lan: &mut Lan, from: [u8; 4]| {
        lan.send(SocketAddrV4::new(from.into(), 1900), true, own.as_bytes())
    };
    assert_eq!(heard(&mut lan, [192, 0, 2, 21]), None);
    let twin = DatagramEvent::SameServer { source: [192, 0, 2, 22].into() };
    assert_eq!(heard(&mut lan, [192, 0, 2, 22]), Some(twin));
}

#[test]
fn two_thousand_searches_a_second_get_at_most_two_hundred_answers() {
    let mut machine = Announcer::new(identity(), Tuning::default(), 12, START);
    machine.link_up(START, Link { prefix: 16, ..link() });
    sent(&mut machine, START, Duration::from_secs(5));
    let begin = START + Duration::from_secs(60);
    let mut answers: BTreeMap<SocketAddrV4, Vec<Duration>> = BTreeMap::new();
    let mut take = |machine: &mut Announcer, now: Moment| {
        while let Some(datagram) = machine.poll_output(now) {
            answers.entry(datagram.to).or_default().push(now - begin);
        }
    };
    // A hundred sources, each twenty times a second, for thirty seconds.
    for n in 0..60_000u32 {
        let now = begin + Duration::from_micros(u64::from(n) * 500);
        let source = Ipv4Addr::from(u32::from(Ipv4Addr::new(192, 0, 77, 0)) + n % 100);
        let from = SocketAddrV4::new(source, 40_000 + (n / 100 % 20_000) as u16);
        machine.handle(now, 1, from, true, &compose_search(MEDIA_SERVER, 1, "x"));
        take(&mut machine, now);
    }
    for (at, _) in sent(&mut machine, begin, Duration::from_secs(35)) {
        assert!(at <= begin + Duration::from_millis(30_800), "within MX");
    }
    let times: Vec<Duration> = answers.values().flatten().copied().collect();
    // Whatever second is looked at.
    for tenth in 0..320u64 {
        let from = Duration::from_millis(tenth * 100 + 37);
        let within = times.iter().filter(|t| **t >= from && **t < from + Duration::from_secs(1));
        let count = within.count();
        assert!(count <= 200, "{count} from {from:?}");
        assert!(count >= 100 || !(10..290).contains(&tenth), "{count} from {from:?}");
    }
    // Shared fairly: nobody gets much more than another.
    let mut by_source: BTreeMap<Ipv4Addr, usize> = BTreeMap::new();
    for (to, times) in &answers {
        *by_source.entry(*to.ip()).or_default() += times.len();
    }
    assert_eq!(by_source.len(), 100, "everybody gets some");
    let (least, most) = (by_source.values().min().unwrap(), by_source.values().max().unwrap());
    assert!(most <= &(least * 3), "{least} to {most}");
}
