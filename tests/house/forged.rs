//! Datagrams, which anybody can send in anybody's name, make no records and change nothing.

use std::net::{Ipv4Addr, SocketAddrV4, UdpSocket};
use std::process::Command;
use std::sync::mpsc::RecvTimeoutError;
use std::time::Duration;

use mostra_tests::raw::{ask, between};
use mostra_tests::subscriber::Subscriber;
use mostra_tests::wires::{ear, hear, wired};
use mostra_tests::{House, in_a_house, in_a_house_timed, query, until};

const DEVICE: &str = "127.0.0.62";
const GROUP: &str = "239.255.255.250:1900";

fn rows(house: &House) -> u32 {
    query(&house.database_url, "select count(*) from device").parse().unwrap()
}

fn notify(n: u32) -> String {
    format!(
        "NOTIFY * HTTP/1.1\r\nHOST: {GROUP}\r\nCACHE-CONTROL: max-age=1800\r\n\
         LOCATION: http://127.0.0.1:9/{n}\r\nNT: upnp:rootdevice\r\nNTS: ssdp:alive\r\n\
         USN: uuid:{n}::upnp:rootdevice\r\nSERVER: x\r\n\r\n"
    )
}

fn search(agent: &str) -> String {
    format!(
        "M-SEARCH * HTTP/1.1\r\nHOST: 127.0.0.1:1900\r\nMAN: \"ssdp:discover\"\r\nMX: 1\r\n\
         ST: upnp:rootdevice\r\nUSER-AGENT: {agent}\r\n\r\n"
    )
}

/// Sends from many addresses of the loopback network.
fn flood(count: u32) {
    for n in 0..count {
        let from = format!("127.1.{}.{}:0", n / 250, n % 250 + 1);
        let socket = UdpSocket::bind(from).unwrap();
        let datagram = if n % 2 == 0 { notify(n) } else { search("Flood/1") };
        let _ = socket.send_to(datagram.as_bytes(), "127.0.0.1:1900");
    }
}

#[test]
fn a_flood_of_datagrams_makes_no_device_whatever_the_doorway() {
    in_a_house(|house| {
        let mut service = house.begin();
        house.publish("Films");
        house.meet(DEVICE);
        for doorway in ["ask", "open"] {
            house.mostra(&["house", "doorway", doorway]);
            flood(5000);
            // Whatever came of them has come by the time that a request after them is seen.
            ask(DEVICE, "GET", "/about/device.xml", &format!("User-Agent: After/{doorway}\r\n"));
            until(10, "the request", || {
                let seen = house.device(DEVICE)?["user_agent"] == format!("After/{doorway}");
                seen.then_some(())
            });
            let devices = house.json(&["device", "list"]);
            assert_eq!(devices.as_array().unwrap().len(), 1, "{doorway}: {devices}");
        }
        service.stop();
        assert_eq!(rows(&house), 1, "and none in the records");
        let _service = house.start();
        assert_eq!(house.json(&["device", "list"]).as_array().unwrap().len(), 1);
    });
}

/// A socket that sends by `far0` in the name of an address that nobody has.
fn in_the_name_of(address: Ipv4Addr) -> UdpSocket {
    let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::DGRAM, None).unwrap();
    socket.set_ip_transparent_v4(true).unwrap();
    socket.bind(&SocketAddrV4::new(address, 0).into()).unwrap();
    socket.into()
}

#[test]
fn searches_in_the_name_of_nobody_hold_up_no_announcement() {
    in_a_house(|house| {
        let there = wired("nobody", None);
        let _service = house.begin_with(&["--interfaces", "lan0"]);
        let listener = ear(&there, "10.77.0.14".parse().unwrap());
        hear(&listener, 10, "alive", |t| t.contains("ssdp:alive"));
        let (end, ended) = std::sync::mpsc::channel::<()>();
        let flood = there.begin(move || {
            let all = search("Nobody/1").replace("upnp:rootdevice", "ssdp:all");
            let mut addresses = (20..220).cycle();
            // Answers to all of these wait in the system until it knows that nobody is there.
            while ended.recv_timeout(Duration::from_millis(50)) == Err(RecvTimeoutError::Timeout) {
                for last in addresses.by_ref().take(20) {
                    let socket = in_the_name_of(Ipv4Addr::new(10, 77, 0, last));
                    socket.send_to(all.as_bytes(), "10.77.0.1:1900").unwrap();
                }
            }
        });
        until(10, "what waits in the system to be too much", || {
            let output = Command::new("ss").args(["-uanm", "src", "10.77.0.1:1900"]).output();
            let text = String::from_utf8_lossy(&output.unwrap().stdout).into_owned();
            let waiting: u32 = between(&text, ",t", ",")?.parse().ok()?;
            (waiting > 200_000).then_some(())
        });
        while listener.recv_from(&mut [0; 2048]).is_ok() {}
        for _ in 0..3 {
            house.mostra(&["house", "announce"]);
            let (_, took) = hear(&listener, 10, "alive meanwhile", |t| t.contains("ssdp:alive"));
            assert!(took < Duration::from_millis(800), "{took:?}");
            while listener.recv_from(&mut [0; 2048]).is_ok() {}
        }
        drop(end);
        flood.join().unwrap();
    });
}

#[test]
fn whoever_searched_is_known_once_it_connects() {
    in_a_house(|house| {
        let _service = house.begin();
        let socket = UdpSocket::bind((DEVICE, 0)).unwrap();
        socket.send_to(search("Lamp/1").as_bytes(), "127.0.0.1:1900").unwrap();
        let mut buffer = [0; 2048];
        socket.set_read_timeout(Some(std::time::Duration::from_secs(5))).unwrap();
        socket.recv_from(&mut buffer).expect("an answer");
        assert!(house.device(DEVICE).is_none(), "a datagram alone makes no device");
        house.meet(DEVICE);
        house.await_step(DEVICE, "seen");
        let seen = house.device(DEVICE).unwrap()["proof"][0]["what"].clone();
        assert_eq!(seen, "searched for upnp:rootdevice");
    });
}

#[test]
fn a_forged_search_changes_neither_traits_nor_name_of_a_device() {
    in_a_house_timed(|house| {
        let rule = "[[rule]]\nname = \"old ones\"\nwhen = { user-agent = \"Old/\" }\ntraits = { page-objects = 7 }\n";
        std::fs::write(house.data.path().join("traits.toml"), rule).unwrap();
        let _service = house.begin();
        ask(DEVICE, "GET", "/about/device.xml", "User-Agent: New/2\r\n");
        ask(DEVICE, "GET", "/media/none", "User-Agent: New/2\r\n");
        let device = || house.device(DEVICE).unwrap();
        until(5, "its name", || (house.device(DEVICE)?["user_agent"] == "New/2").then_some(()));
        // In its name, from its address.
        let forger = UdpSocket::bind((DEVICE, 0)).unwrap();
        forger.set_read_timeout(Some(std::time::Duration::from_secs(5))).unwrap();
        forger.send_to(search("Old/1").as_bytes(), "127.0.0.1:1900").unwrap();
        forger.recv_from(&mut [0; 2048]).expect("it was heard");
        house.await_step(DEVICE, "read");
        assert_eq!(device()["user_agent"], "New/2");
        assert_eq!(device()["rules"], serde_json::json!([]));
        // What it says over a connection counts.
        ask(DEVICE, "GET", "/about/device.xml", "User-Agent: Old/1\r\n");
        until(5, "the rule", || (device()["rules"][0] == "old ones").then_some(()));
        assert_eq!(device()["traits"]["page-objects"], 7);
    });
}

#[test]
fn devices_beyond_the_most_leave_the_records_too_and_loading_is_capped() {
    in_a_house_timed(|house| {
        let mut service = house.begin();
        house.meet(DEVICE);
        house.admit(DEVICE);
        until(5, "the record", || (rows(&house) == 1).then_some(()));
        service.stop();
        // As a house that was flooded before: many that nobody decided on.
        let many = "insert into device (id, standing, kinds, update_offset, first_seen_ms, last_seen_ms, \
                    traits, rules, asked_ms) select n + 100, 'waiting', 'video', 0, n, n, '{}', '[]', n \
                    from generate_series(1, 5000) n; \
                    insert into endpoint (device_id, address, last_seen_ms) select n + 100, \
                    '127.2.' || n / 250 || '.' || n % 250 + 1, n from generate_series(1, 5000) n";
        query(&house.database_url, many);
        service = house.start();
        let count = || house.api("GET", "/devices").as_array().unwrap().len();
        assert_eq!(count(), 2048);
        assert_eq!(house.device(DEVICE).unwrap()["standing"], "admitted");
        until(20, "the rest to leave the records", || (rows(&house) == 2048).then_some(()));
        // Ten more connect: ten that waited longest go, here and there.
        for n in 1..=10 {
            ask(&format!("127.3.0.{n}"), "GET", "/media/none", "");
        }
        until(20, "the new ones", || house.device("127.3.0.10"));
        assert_eq!(count(), 2048);
        until(20, "the old ones to leave the records", || {
            let new = "select count(*) from endpoint where address like '127.3.0.%'";
            (rows(&house) == 2048 && query(&house.database_url, new) == "10").then_some(())
        });
        assert!(house.device(DEVICE).is_some());
        drop(service);
    });
}

#[test]
fn nobody_renews_or_ends_the_subscription_of_another() {
    const OTHER: &str = "127.0.0.63";
    in_a_house(|house| {
        let _service = house.begin();
        for device in [DEVICE, OTHER] {
            house.meet(device);
            house.admit(device);
        }
        let television = Subscriber::new(DEVICE);
        television.event(5).expect("the initial event");
        // Its SID is known to the other one, which shows it from its own address.
        let sid = format!("SID: {}\r\n", television.sid);
        assert_eq!(ask(OTHER, "SUBSCRIBE", "/event/content", &sid).status, 412);
        assert_eq!(ask(OTHER, "UNSUBSCRIBE", "/event/content", &sid).status, 412);
        // Nor can it lead the events elsewhere.
        let both = format!("{sid}CALLBACK: <http://{OTHER}:50000/>\r\nNT: upnp:event\r\n");
        assert_eq!(ask(OTHER, "SUBSCRIBE", "/event/content", &both).status, 400);
        house.publish("Films");
        assert!(television.event(10).is_some(), "it goes on as it was");
        assert_eq!(television.renew("content").status, 200);
    });
}
