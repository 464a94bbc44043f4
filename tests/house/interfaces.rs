//! Interfaces that come, go and change their address; several of them; lossy wires between.

use std::io::{Read, Write};
use std::net::{Ipv4Addr, SocketAddrV4, TcpStream, UdpSocket};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use mostra_tests::raw::{between, exchange, soap, unescaped};
use mostra_tests::relay::{Relay, Weather, finish_checksums};
use mostra_tests::wires::{GROUP, Namespace, ear, hear, ip};
use mostra_tests::{House, Running, in_a_house, in_a_house_timed, long_sound, until};

/// A namespace at the other end of `lan0`, and a listener in it.
fn wired(word: &str) -> (Namespace, UdpSocket) {
    let place = Namespace::new(word);
    ip(&format!("link add lan0 type veth peer name far0 netns {}", place.name()));
    ip("addr add 10.77.0.1/24 dev lan0");
    ip("link set lan0 up");
    place.ip("addr add 10.77.0.14/24 dev far0");
    place.ip("link set far0 up");
    let ear = ear(&place, "10.77.0.14".parse().unwrap());
    (place, ear)
}

/// The time to live of the next datagram.
fn ttl(ear: &UdpSocket) -> u8 {
    use nix::sys::socket::{ControlMessageOwned, MsgFlags, recvmsg, setsockopt, sockopt};
    setsockopt(ear, sockopt::Ipv4RecvTtl, &true).unwrap();
    until(10, "a datagram with its time to live", || {
        let mut bytes = [0; 2048];
        let mut parts = [std::io::IoSliceMut::new(&mut bytes)];
        let mut space = nix::cmsg_space!(i32);
        let socket = std::os::fd::AsRawFd::as_raw_fd(ear);
        let got = recvmsg::<()>(socket, &mut parts, Some(&mut space), MsgFlags::empty()).ok()?;
        got.cmsgs().unwrap().find_map(|message| match message {
            ControlMessageOwned::Ipv4Ttl(ttl) => u8::try_from(ttl).ok(),
            _ => None,
        })
    })
}

/// What was sent so far is not waited for.
fn drain(ear: &UdpSocket) {
    while ear.recv_from(&mut [0; 2048]).is_ok() {}
}

fn alive_at(address: &str) -> impl Fn(&str) -> bool {
    let location = format!("LOCATION: http://{address}:7640/");
    move |text| text.contains("NTS: ssdp:alive") && text.contains(&location)
}

fn number(text: &str, field: &str) -> u64 {
    let line = text.lines().find(|l| l.starts_with(field)).unwrap_or_else(|| panic!("{text}"));
    line.split_once(':').unwrap().1.trim().parse().unwrap()
}

fn serve(house: &House, interfaces: &str) -> Running {
    house.begin_with(&["--interfaces", interfaces])
}

#[test]
fn each_interface_announces_its_own_address_and_changes_are_followed() {
    in_a_house_timed(|house| {
        let (left, right) = (Namespace::new("left"), Namespace::new("right"));
        for (n, (place, near)) in [(&left, "lan0"), (&right, "lan1")].into_iter().enumerate() {
            ip(&format!("link add {near} type veth peer name far0 netns {}", place.name()));
            ip(&format!("addr add 10.77.{n}.1/24 dev {near}"));
            ip(&format!("link set {near} up"));
            place.ip(&format!("addr add 10.77.{n}.14/24 dev far0"));
            place.ip("link set far0 up");
        }
        let ears =
            [ear(&left, "10.77.0.14".parse().unwrap()), ear(&right, "10.77.1.14".parse().unwrap())];
        // Another stack on this host shares the port with ours (SSDP-1), and hears it as well.
        let beside = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::DGRAM, None);
        let beside = beside.unwrap();
        beside.set_reuse_address(true).unwrap();
        beside.bind(&SocketAddrV4::new(Ipv4Addr::UNSPECIFIED, 1900).into()).unwrap();
        beside.join_multicast_v4(&GROUP, &"10.77.0.1".parse().unwrap()).unwrap();
        let beside: UdpSocket = beside.into();
        beside.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
        let _service = serve(&house, "auto");
        hear(&beside, 10, "alive beside", |t| t.contains("NTS: ssdp:alive"));
        let mut boots = Vec::new();
        for (n, ear) in ears.iter().enumerate() {
            let (alive, _) = hear(ear, 10, "alive", |t| t.contains("NTS: ssdp:alive"));
            assert!(alive_at(&format!("10.77.{n}.1"))(&alive), "its own LOCATION: {alive}");
            // Whoever hears it can fetch it at once (SSDP-20).
            let url = format!("http://10.77.{n}.1:7640/about/device.xml");
            assert_eq!([&left, &right][n].get(&url), "200");
            assert_eq!(ttl(ear), 2, "(SSDP-5)");
            boots.push(number(&alive, "BOOTID.UPNP.ORG"));
        }
        assert_eq!(boots[0], boots[1], "the same on all interfaces");

        // An address changes: byebye, then alive there with a greater BOOTID, and on the other
        // interface as well (SSDP-25), all within 5 s.
        ip("addr del 10.77.0.1/24 dev lan0");
        ip("addr add 10.77.0.9/24 dev lan0");
        let (_, leaving) = hear(&ears[0], 10, "byebye", |t| t.contains("ssdp:byebye"));
        let (alive, coming) = hear(&ears[0], 10, "alive", alive_at("10.77.0.9"));
        assert!(leaving + coming < Duration::from_secs(5), "{leaving:?} {coming:?}");
        let boot = number(&alive, "BOOTID.UPNP.ORG");
        assert!(boot > boots[0]);
        let again = |t: &str| alive_at("10.77.1.1")(t) && number(t, "BOOTID.UPNP.ORG") == boot;
        hear(&ears[1], 5, "alive on the other", again);
        assert_eq!(left.get("http://10.77.0.9:7640/about/device.xml"), "200");

        // One goes away: the other stays as it is.
        ip("link set lan1 down");
        until(5, "the link to be gone", || {
            (house.json(&["status"])["interfaces"].as_array().unwrap().len() == 1).then_some(())
        });
        assert_eq!(left.get("http://10.77.0.9:7640/about/device.xml"), "200");
        // And comes back.
        drain(&ears[1]);
        ip("link set lan1 up");
        let (_, took) = hear(&ears[1], 10, "alive", alive_at("10.77.1.1"));
        assert!(took < Duration::from_secs(5), "{took:?}");
        assert_eq!(right.get("http://10.77.1.1:7640/about/device.xml"), "200");

        // A new one comes.
        let third = Namespace::new("third");
        ip(&format!("link add lan2 type veth peer name far0 netns {}", third.name()));
        third.ip("addr add 10.77.2.14/24 dev far0");
        third.ip("link set far0 up");
        let third_ear = ear(&third, "10.77.2.14".parse().unwrap());
        ip("addr add 10.77.2.1/24 dev lan2");
        ip("link set lan2 up");
        let (_, took) = hear(&third_ear, 10, "alive", alive_at("10.77.2.1"));
        assert!(took < Duration::from_secs(5), "{took:?}");

        // A source that is not of the interface's subnet is refused (SEC-3).
        third.ip("addr add 10.99.0.14/24 dev far0");
        third.ip("route add 10.77.2.0/24 dev far0 src 10.99.0.14 metric 1");
        third.ip("route del 10.77.2.0/24 src 10.77.2.14");
        ip("route add 10.99.0.0/24 dev lan2");
        assert_eq!(third.get("http://10.77.2.1:7640/about/device.xml"), "403");

        // A person has it announced, and has it appear as a new server.
        let udn = |t: &str| t.lines().find(|l| l.starts_with("USN:")).unwrap()[10..46].to_owned();
        drain(&ears[0]);
        house.mostra(&["house", "announce"]);
        let (alive, took) = hear(&ears[0], 5, "alive", alive_at("10.77.0.9"));
        assert!(took < Duration::from_secs(2), "{took:?}");
        let before = udn(&alive);
        house.mostra(&["house", "renew", "--yes"]);
        let new = |t: &str| alive_at("10.77.0.9")(t) && udn(t) != before;
        hear(&ears[0], 10, "another UDN", new);
    });
}

#[test]
fn a_server_under_the_same_udn_or_name_is_noticed_and_told() {
    in_a_house_timed(|house| {
        let (place, ear) = wired("twin");
        let _service = serve(&house, "lan0");
        let (alive, _) = hear(&ear, 10, "alive", alive_at("10.77.0.1"));
        let attention = || house.json(&["status"])["attention"].to_string();
        assert!(!attention().contains("Another server"));
        let copied = alive.replace("10.77.0.1:7640", "10.77.0.14:7640");
        place.inside(move || {
            let socket = UdpSocket::bind("10.77.0.14:0").unwrap();
            socket.set_multicast_ttl_v4(2).unwrap();
            socket.send_to(copied.as_bytes(), (GROUP, 1900)).unwrap();
        });
        until(5, "it to be told", || attention().contains("at 10.77.0.14").then_some(()));

        // Another, with a UDN of its own, under our name.
        place.ip("addr add 10.77.0.15/24 dev far0");
        let description = "<root xmlns=\"urn:schemas-upnp-org:device-1-0\"><device>\
                           <friendlyName>Mostra</friendlyName><UDN>uuid:1</UDN></device></root>";
        let answer = format!(
            "HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n{description}",
            description.len()
        );
        let namesake = "NOTIFY * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nNTS: ssdp:alive\r\n\
                        NT: urn:schemas-upnp-org:device:MediaServer:1\r\n\
                        USN: uuid:1::urn:schemas-upnp-org:device:MediaServer:1\r\n\
                        CACHE-CONTROL: max-age=1800\r\n\
                        LOCATION: http://10.77.0.15:8000/d.xml\r\n\r\n";
        place.inside(move || {
            let listener = std::net::TcpListener::bind("10.77.0.15:8000").unwrap();
            let socket = UdpSocket::bind("10.77.0.15:0").unwrap();
            socket.set_multicast_ttl_v4(2).unwrap();
            socket.send_to(namesake.as_bytes(), (GROUP, 1900)).unwrap();
            let (mut stream, _) = listener.accept().unwrap();
            let _ = stream.read(&mut [0; 2048]).unwrap();
            stream.write_all(answer.as_bytes()).unwrap();
        });
        until(5, "that to be told", || attention().contains("the same name").then_some(()));
        house.mostra(&["house", "renew", "--yes"]);
        assert!(!attention().contains("Another server"), "{}", attention());
    });
}

#[test]
fn players_find_the_house_over_a_wire_that_loses_doubles_and_delays() {
    in_a_house(|house| {
        let place = Namespace::new("far");
        // Two wires, and between their inner ends a relay that carries frames badly.
        ip("link add lan0 type veth peer name end0");
        ip(&format!("link add end1 type veth peer name far0 netns {}", place.name()));
        ip("addr add 10.77.0.1/24 dev lan0");
        place.ip("addr add 10.77.0.14/24 dev far0");
        place.ip("link set far0 up");
        for link in ["lan0", "end0", "end1"] {
            ip(&format!("link set {link} up"));
        }
        finish_checksums("lan0");
        place.inside(|| finish_checksums("far0"));
        let relay = Relay::between("end0", "end1", Weather { seed: 7, ..Weather::BAD });
        let ear = ear(&place, "10.77.0.14".parse().unwrap());
        let _service = serve(&house, "lan0");
        hear(&ear, 20, "alive", alive_at("10.77.0.1"));
        // A player that repeats its search, as the standard has it, finds the house.
        let found = place.inside(|| {
            let socket = UdpSocket::bind("10.77.0.14:0").unwrap();
            socket.set_read_timeout(Some(Duration::from_millis(1500))).unwrap();
            socket.set_multicast_ttl_v4(2).unwrap();
            let search = "M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\n\
                          MAN: \"ssdp:discover\"\r\nMX: 1\r\n\
                          ST: urn:schemas-upnp-org:device:MediaServer:1\r\n\r\n";
            (0..8).any(|_| {
                socket.send_to(search.as_bytes(), (GROUP, 1900)).unwrap();
                let mut buffer = [0; 2048];
                socket.recv_from(&mut buffer).is_ok_and(|(length, _)| {
                    String::from_utf8_lossy(&buffer[..length]).starts_with("HTTP/1.1 200 OK")
                })
            })
        });
        assert!(found, "an answer in one of eight searches");
        // And everything else works over it, if slowly.
        until(30, "the description", || {
            (place.get("http://10.77.0.1:7640/about/device.xml") == "200").then_some(())
        });
        let [carried, lost, doubled] = relay.counts();
        assert!(carried > 20 && lost > 0 && doubled > 0, "{carried} {lost} {doubled}");
    });
}

#[test]
fn with_the_port_in_other_hands_the_house_is_served_and_announced() {
    in_a_house(|house| {
        let (place, ear) = wired("held");
        // Somebody who does not share.
        let holder = UdpSocket::bind("0.0.0.0:1900").unwrap();
        let _service = serve(&house, "lan0");
        let (alive, _) = hear(&ear, 10, "alive", alive_at("10.77.0.1"));
        assert_eq!(place.get("http://10.77.0.1:7640/about/device.xml"), "200");
        // Who asks at the port that is announced gets an answer (SSDP-6).
        let port = number(&alive, "SEARCHPORT.UPNP.ORG");
        assert!((49_152..=65_535).contains(&port), "{port}");
        let answered = place.inside(move || {
            let socket = UdpSocket::bind("10.77.0.14:0").unwrap();
            socket.set_read_timeout(Some(Duration::from_secs(2))).unwrap();
            let search = "M-SEARCH * HTTP/1.1\r\nHOST: 10.77.0.1:1900\r\n\
                          MAN: \"ssdp:discover\"\r\nST: upnp:rootdevice\r\n\r\n";
            socket.send_to(search.as_bytes(), ("10.77.0.1", port as u16)).unwrap();
            let mut buffer = [0; 2048];
            let length = socket.recv(&mut buffer).unwrap();
            String::from_utf8_lossy(&buffer[..length]).into_owned()
        });
        assert!(answered.starts_with("HTTP/1.1 200 OK\r\n"), "{answered}");
        let status = house.json(&["status"]);
        let problem = status["interfaces"][0]["discovery_problem"].as_str().unwrap_or_default();
        assert!(problem.contains("searches are not heard"), "{status}");
        assert!(status["attention"].to_string().contains("lan0"), "{status}");
        // It is tried again once the port is free.
        drop(holder);
        until(40, "searches to be heard", || {
            let status = house.json(&["status"]);
            status["interfaces"][0]["discovery_problem"].is_null().then_some(())
        });
    });
}

/// Searches from a namespace by the group; gives the answers, each with where it came from.
fn search_from(place: &Namespace, address: &str) -> Vec<(String, String)> {
    let from: Ipv4Addr = address.parse().unwrap();
    place.inside(move || {
        let socket = UdpSocket::bind((from, 0)).unwrap();
        socket.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
        socket2::SockRef::from(&socket).set_multicast_if_v4(&from).unwrap();
        let search = b"M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\n\
            MAN: \"ssdp:discover\"\r\nMX: 1\r\nST: upnp:rootdevice\r\n\r\n";
        let mut answers = Vec::new();
        let begin = std::time::Instant::now();
        for n in 0..15 {
            if n % 5 == 0 {
                socket.send_to(search, "239.255.255.250:1900").unwrap();
            }
            let mut buffer = [0; 2048];
            if let Ok((length, by)) = socket.recv_from(&mut buffer) {
                answers.push((
                    String::from_utf8_lossy(&buffer[..length]).into_owned(),
                    by.to_string(),
                ));
            }
        }
        assert!(begin.elapsed() < Duration::from_secs(10));
        answers
    })
}

#[test]
fn a_search_is_answered_by_the_address_of_its_interface_and_on_no_other() {
    in_a_house(|house| {
        let places = ["left", "right", "off"].map(Namespace::new);
        for (n, place) in places.iter().enumerate() {
            ip(&format!("link add lan{n} type veth peer name far0 netns {}", place.name()));
            ip(&format!("addr add 10.77.{n}.1/24 dev lan{n}"));
            ip(&format!("link set lan{n} up"));
            place.ip(&format!("addr add 10.77.{n}.14/24 dev far0"));
            place.ip("link set far0 up");
            place.ip("route add 239.0.0.0/8 dev far0");
        }
        let deaf = ear(&places[2], "10.77.2.14".parse().unwrap());
        let _service = serve(&house, "lan0,lan1");
        for (n, place) in places.iter().enumerate().take(2) {
            let answers = search_from(place, &format!("10.77.{n}.14"));
            assert!(!answers.is_empty(), "interface {n}");
            let location = format!("LOCATION: http://10.77.{n}.1:7640/");
            for (answer, by) in &answers {
                assert!(answer.contains(&location), "{answer} (SSDP-37)");
                assert_eq!(by, &format!("10.77.{n}.1:1900"), "by that interface as well");
            }
        }
        // One that is not enabled: no search is heard, nothing is announced, nothing answers.
        assert!(search_from(&places[2], "10.77.2.14").is_empty(), "(SSDP-3)");
        house.mostra(&["house", "announce"]);
        house.mostra(&["house", "name", "Elsewhere"]);
        let again = search_from(&places[0], "10.77.0.14");
        assert!(!again.is_empty(), "what was announced meanwhile has gone out");
        while let Ok((_, from)) = deaf.recv_from(&mut [0; 2048]) {
            assert_eq!(from.ip().to_string(), "10.77.2.14", "only its own searches");
        }
        assert_eq!(places[2].get("http://10.77.2.1:7640/about/device.xml"), "000");
        assert!(house.json(&["device", "list"]).as_array().unwrap().is_empty());
        // Nor does the one that is enabled take what comes to it for another subnet (SSDP-39).
        places[0].ip("addr add 10.88.0.14/24 dev far0");
        assert!(search_from(&places[0], "10.88.0.14").is_empty());
    });
}

/// R6 of the fault injection: the cable is out for a few seconds.
#[test]
fn what_plays_goes_on_when_the_link_was_gone_for_seconds() {
    const FROM: &str = "10.77.0.14";
    const TO: &str = "10.77.0.1:7640";
    in_a_house(|house| {
        let place = mostra_tests::wires::wired("player", None);
        let folder = tempfile::tempdir().unwrap();
        long_sound(&folder.path().join("Long.wav"));
        let _service = serve(&house, "lan0");
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Sound"]);
        until(30, "the sound", || house.items().contains_key("Long").then_some(()));
        let ask = |request: String| {
            let request = request.replace(mostra_tests::SERVER, TO);
            place.inside(move || exchange(FROM, TO, &request).unwrap())
        };
        ask("GET /media/none HTTP/1.1\r\nHost: 10.77.0.1:7640\r\n\r\n".into());
        until(10, "the player", || house.device(FROM));
        house.admit(FROM);
        let list = ask(soap("content", "Browse", BROWSE));
        let text = unescaped(&list.text());
        let path = between(&text, "http://10.77.0.1:7640", "</res>").unwrap().to_owned();
        let (received, over) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
        let (count, stop) = (received.clone(), over.clone());
        let taken = place.begin(move || {
            let mut stream = TcpStream::connect(TO).unwrap();
            stream.set_read_timeout(Some(Duration::from_secs(25))).unwrap();
            let request = format!("GET {path} HTTP/1.1\r\nHost: {TO}\r\n\r\n");
            stream.write_all(request.as_bytes()).unwrap();
            let mut piece = vec![0; 1 << 14];
            while !stop.load(Ordering::Relaxed) {
                match stream.read(&mut piece) {
                    Ok(0) => return Err("closed".to_owned()),
                    Ok(bytes) => count.fetch_add(bytes as u64, Ordering::Relaxed),
                    Err(error) => return Err(error.to_string()),
                };
                // No faster than a player, so that it lasts.
                std::thread::sleep(Duration::from_micros(300));
            }
            Ok(())
        });
        let so_far = || received.load(Ordering::Relaxed);
        until(10, "the first bytes", || (so_far() > 1 << 16).then_some(()));
        ip("link set lan0 down");
        until(5, "the link to be gone", || {
            house.json(&["status"])["interfaces"].as_array().unwrap().is_empty().then_some(())
        });
        let before = so_far();
        ip("link set lan0 up");
        until(25, "more of it", || {
            (so_far() > before + (1 << 20) || taken.is_finished()).then_some(())
        });
        over.store(true, Ordering::Relaxed);
        assert_eq!(taken.join().unwrap(), Ok(()), "after {} bytes", so_far());
        until(10, "the link to be served", || {
            (house.json(&["status"])["interfaces"].as_array().unwrap().len() == 1).then_some(())
        });
        assert_eq!(place.get("http://10.77.0.1:7640/about/device.xml"), "200");
    });
}

const BROWSE: &str = "<ObjectID>music-all</ObjectID><BrowseFlag>BrowseDirectChildren</BrowseFlag>\
    <Filter>*</Filter><StartingIndex>0</StartingIndex><RequestedCount>0</RequestedCount>\
    <SortCriteria></SortCriteria>";
