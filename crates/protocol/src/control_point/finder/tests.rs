use super::*;
use crate::model::identifiers::MEDIA_RENDERER;
use proptest::prelude::*;

const LINK: Link = Link {
    id: 2,
    address: Ipv4Addr::new(192, 0, 2, 21),
    prefix: 24,
    port: 7640,
    search_port: None,
};

fn at(ms: u64) -> Moment {
    Moment::from_millis(ms)
}

fn host(last: u8) -> SocketAddrV4 {
    SocketAddrV4::new(Ipv4Addr::new(192, 0, 2, last), 1900)
}

fn answer(last: u8, udn: &str, rest: &str) -> Vec<u8> {
    format!(
        "HTTP/1.1 200 OK\r\nST: {MEDIA_RENDERER}\r\nUSN: {udn}::{MEDIA_RENDERER}\r\n\
         LOCATION: http://192.0.2.{last}:8080/d.xml\r\n{rest}\r\n"
    )
    .into_bytes()
}

fn byebye(udn: &str) -> Vec<u8> {
    format!("NOTIFY * HTTP/1.1\r\nNT: {udn}\r\nNTS: ssdp:byebye\r\nUSN: {udn}\r\n\r\n").into_bytes()
}

fn finder() -> Finder {
    let mut finder = Finder::new("uuid:own", &[MEDIA_RENDERER], "Test/1");
    finder.link_up(at(0), LINK);
    finder
}

fn events(finder: &mut Finder, now: Moment) -> Vec<FoundEvent> {
    std::iter::from_fn(|| finder.poll_event(now)).collect()
}

#[test]
fn searches_follow_the_schedule_and_a_person_may_ask_between() {
    let mut finder = finder();
    let mut sent = Vec::new();
    while let Some(next) = finder.next_deadline().filter(|next| *next < at(1_000_000)) {
        while finder.poll_output(next).is_some() {
            sent.push(next.as_millis());
        }
    }
    let starts = [0, 30_000, 60_000, 120_000, 420_000, 720_000];
    let expected: Vec<u64> = starts.iter().flat_map(|start| [*start, start + 300]).collect();
    assert_eq!(sent, expected);
    assert!(finder.search(at(1_000_000)) && !finder.search(at(1_004_000)));
    assert!(finder.poll_output(at(1_000_000)).is_some() && finder.search(at(1_005_000)));
    assert_eq!(finder.last_search(), Some(at(1_005_000)));
}

#[test]
fn a_device_comes_moves_starts_anew_and_goes() {
    let mut finder = finder();
    let first = answer(7, "uuid:A", "BOOTID.UPNP.ORG: 1\r\nCACHE-CONTROL: max-age=100\r\n");
    finder.handle(at(0), 2, host(7), &first);
    let new = events(&mut finder, at(0));
    assert!(matches!(&new[..], [FoundEvent::New(found)] if found.udn == "uuid:A"), "{new:?}");
    // Said again, in other letters, it is nothing new, but counts longer.
    let again = answer(7, "UUID:a", "BOOTID.UPNP.ORG: 1\r\nCACHE-CONTROL: max-age=100\r\n");
    finder.handle(at(50_000), 2, host(7), &again);
    assert_eq!(events(&mut finder, at(149_000)), []);
    let later = answer(7, "uuid:A", "BOOTID.UPNP.ORG: 2\r\nCONFIGID.UPNP.ORG: 9\r\n");
    finder.handle(at(149_000), 2, host(7), &later);
    let changed = events(&mut finder, at(149_000));
    assert!(matches!(&changed[..], [FoundEvent::Rebooted(_), FoundEvent::Moved(_)]));
    let expired = events(&mut finder, at(149_000 + 1_800_000));
    assert!(matches!(&expired[..], [FoundEvent::Gone(_, Gone::Expired)]), "{expired:?}");
    assert_eq!(finder.found().count(), 0);
}

#[test]
fn one_that_plays_is_tried_before_it_counts_as_gone() {
    let mut finder = finder();
    for last in [7, 8] {
        let heard = answer(last, &format!("uuid:{last}"), "CACHE-CONTROL: max-age=100\r\n");
        finder.handle(at(0), 2, host(last), &heard);
    }
    events(&mut finder, at(0));
    finder.set_playing([*host(7).ip()].into());
    let over = events(&mut finder, at(100_000));
    let [FoundEvent::Doubtful(tried), FoundEvent::Gone(gone, Gone::Expired)] = &over[..] else {
        panic!("{over:?}")
    };
    assert_eq!((&*tried.udn, &*gone.udn), ("uuid:7", "uuid:8"));
    // It answers: five minutes more, and then it is tried again.
    finder.present(at(101_000), "uuid:7");
    assert_eq!(events(&mut finder, at(400_000)), []);
    let again = events(&mut finder, at(401_000));
    assert!(matches!(&again[..], [FoundEvent::Doubtful(_)]), "{again:?}");
    // Nothing came of it: it is tried once, and gone.
    let until = finder.known.values().next().unwrap().found.expires;
    assert!(until <= at(420_000) && events(&mut finder, at(402_000)).is_empty());
    let gone = events(&mut finder, until);
    assert!(matches!(&gone[..], [FoundEvent::Gone(_, Gone::Expired)]), "{gone:?}");
}

#[test]
fn only_the_device_itself_says_that_it_leaves() {
    let mut finder = finder();
    finder.handle(at(0), 2, host(7), &answer(7, "uuid:A", ""));
    events(&mut finder, at(0));
    finder.handle(at(1), 2, host(66), &byebye("uuid:A"));
    assert!(matches!(&events(&mut finder, at(1))[..], [FoundEvent::Doubtful(_)]));
    finder.present(at(1), "UUID:A");
    assert_eq!(finder.found().count(), 1);
    finder.absent("uuid:a");
    assert!(matches!(&events(&mut finder, at(2))[..], [FoundEvent::Gone(_, Gone::NoAnswer)]));
    finder.handle(at(3), 2, host(7), &answer(7, "uuid:A", ""));
    finder.handle(at(4), 2, host(7), &byebye("uuid:A"));
    assert_eq!(finder.found().count(), 0);
}

#[test]
fn what_is_not_from_where_it_says_is_not_found() {
    let mut finder = finder();
    finder.handle(at(0), 2, host(9), &answer(7, "uuid:A", ""));
    finder.handle(
        at(0),
        2,
        SocketAddrV4::new([198, 51, 100, 7].into(), 1900),
        &answer(7, "uuid:A", ""),
    );
    finder.handle(at(0), 3, host(7), &answer(7, "uuid:A", ""));
    finder.handle(at(0), 2, host(21), &answer(21, "uuid:OWN", ""));
    for location in [
        "https://192.0.2.7/d",
        "http://box.example/d",
        "http://u:p@192.0.2.7/d",
        "http://192.0.2.7:0/d",
        "file:///etc/passwd",
        "http://[::1]/d",
    ] {
        let text =
            format!("HTTP/1.1 200 OK\r\nST: a\r\nUSN: uuid:A\r\nLOCATION: {location}\r\n\r\n");
        finder.handle(at(0), 2, host(7), text.as_bytes());
    }
    assert_eq!((finder.found().count(), events(&mut finder, at(0)).len()), (0, 0));
}

#[test]
fn what_we_sent_under_a_former_udn_is_passed_over_and_another_server_under_it_is_not() {
    let mut finder = finder();
    finder.set_own_udn("uuid:new");
    let own = SocketAddrV4::new(LINK.address, 1900);
    let last = LINK.address.octets()[3];
    finder.handle(at(0), 2, own, &answer(last, "uuid:OWN", ""));
    finder.handle(at(0), 2, own, &answer(last, "uuid:new", ""));
    assert_eq!(finder.found().count(), 0);
    finder.handle(at(0), 2, host(22), &answer(22, "uuid:own", ""));
    assert_eq!(finder.found().count(), 1);
    finder.handle(at(0), 2, own, &answer(last, "uuid:beside", ""));
    assert_eq!(finder.found().count(), 2, "another stack on this host");
    let mut finder = self::finder();
    for n in 0..=FORMER_UDNS {
        finder.set_own_udn(&format!("uuid:new-{n}"));
    }
    finder.handle(at(0), 2, own, &answer(last, "uuid:new-0", ""));
    assert_eq!(finder.found().count(), 0, "among the last ones");
    finder.handle(at(0), 2, own, &answer(last, "uuid:own", ""));
    assert_eq!(finder.found().count(), 1, "no longer kept");
}

#[test]
fn many_devices_are_bounded_and_an_interface_takes_its_own_with_it() {
    let mut finder = finder();
    for n in 0..100 {
        finder.handle(at(n), 2, host(7), &answer(7, &format!("uuid:flood-{n}"), ""));
    }
    assert_eq!(finder.found().count(), OF_SOURCE, "of one source");
    for n in 0..250_u64 {
        let last = 10 + (n % 200) as u8;
        let udn = format!("uuid:{n}");
        finder.handle(at(1000 + n), 2, host(last), &answer(last, &udn, ""));
    }
    assert_eq!(finder.found().count(), DEVICES);
    finder.link_down(2);
    assert_eq!(finder.found().count(), 0);
    assert!(finder.next_deadline().is_none());
    let gone = events(&mut finder, at(2000));
    assert!(gone.iter().any(|e| matches!(e, FoundEvent::Gone(_, Gone::Room))));
}

proptest! {
    #[test]
    fn any_datagram_is_survived(
        all in proptest::collection::vec((proptest::collection::vec(any::<u8>(), 0..300), 1u8..255), 0..50)
    ) {
        let mut finder = finder();
        for (n, (data, last)) in all.iter().enumerate() {
            finder.handle(at(n as u64), 2, host(*last), data);
        }
        prop_assert!(finder.found().count() <= DEVICES);
    }
}

#[test]
fn a_search_has_every_field_that_it_must_have() {
    let mut finder = finder();
    let search = finder.poll_output(at(0)).unwrap();
    assert_eq!(search.to, SocketAddrV4::new(SSDP_GROUP, SSDP_PORT));
    let text = String::from_utf8(search.data).unwrap();
    assert!(text.starts_with("M-SEARCH * HTTP/1.1\r\n") && text.ends_with("\r\n\r\n"), "{text}");
    for field in [
        "HOST: 239.255.255.250:1900",
        "MAN: \"ssdp:discover\"",
        "MX: 2",
        &format!("ST: {MEDIA_RENDERER}"),
        "USER-AGENT: Test/1",
    ] {
        assert!(text.lines().any(|line| line == field), "{field} in {text}");
    }
}

#[test]
fn any_row_refreshes_the_whole_device_and_our_own_is_passed_over() {
    let mut finder = finder();
    finder.handle(at(0), 2, host(7), &answer(7, "uuid:A", "CACHE-CONTROL: max-age=60\r\n"));
    events(&mut finder, at(0));
    // Another of its rows, long after the first: devices that repeat only one (SCP-7).
    let row = "NOTIFY * HTTP/1.1\r\nNT: upnp:rootdevice\r\nNTS: ssdp:alive\r\n\
               USN: uuid:a::upnp:rootdevice\r\nCACHE-CONTROL: max-age=60\r\n\
               LOCATION: http://192.0.2.7:8080/d.xml\r\n\r\n";
    finder.handle(at(50_000), 2, host(7), row.as_bytes());
    assert_eq!(events(&mut finder, at(100_000)), []);
    assert!(matches!(&events(&mut finder, at(110_000))[..], [FoundEvent::Gone(_, Gone::Expired)]));
    finder.handle(at(120_000), 2, host(7), &answer(7, "UUID:Own", ""));
    assert_eq!((finder.found().count(), events(&mut finder, at(120_000))), (0, vec![]));
}

#[test]
fn answers_of_odd_form_are_read() {
    let odd = [
        // Names in any case, no blank after the colon, LF alone, no empty line at the end, no EXT.
        "HTTP/1.1 200 OK\nst:upnp:rootdevice\nusn:uuid:x::upnp:rootdevice\n\
         location:http://192.0.2.7:8080/d.xml\ncache-control:max-age = 60",
        // Fields that nobody knows, an answer to what was not asked, zeros at the end.
        "HTTP/1.1 200 OK\r\nX-Odd: 1\r\nST: urn:x:device:Other:3\r\nUSN: uuid:x\r\n\
         Location: http://192.0.2.7:8080/d.xml\r\n\r\n\0\0\0",
    ];
    for text in odd {
        let mut finder = finder();
        finder.handle(at(0), 2, host(7), text.as_bytes());
        let found = events(&mut finder, at(0));
        assert!(
            matches!(&found[..], [FoundEvent::New(new)] if new.udn == "uuid:x"),
            "{text}: {found:?}"
        );
    }
}
