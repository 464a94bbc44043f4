//! What is found on the network.

use std::net::{Ipv4Addr, UdpSocket};
use std::process::Command;
use std::time::{Duration, Instant};

use mostra_tests::browser::Browser;
use mostra_tests::wires::{Namespace, ip, wired};
use mostra_tests::{DISC_PLAYER, House, PASSWORD, in_a_house, in_a_house_timed, query, until};
use serde_json::Value;

/// What the house knows of something by its name, once it is as wanted.
fn thing(house: &House, name: &str, wanted: impl Fn(&Value) -> bool) -> Value {
    until(10, &format!("{name} to be as wanted"), || {
        let view = house.json(&["network", "list"]);
        let mut things = view["things"].as_array()?.iter();
        things.find(|thing| thing["label"] == name && wanted(thing)).cloned()
    })
}

/// A call of an action of the speaker.
fn inside<'a>(words: &[&'a str]) -> Vec<&'a str> {
    [&["network", "call", "Kitchen speaker"], words].concat()
}

#[test]
fn what_is_on_the_network_is_found_with_what_it_is_and_can() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        let began = Instant::now();
        let mut all = house.stand_ins(&["kitchen-speaker", "harbour-router", "attic-server"]);
        let speaker = thing(&house, "Kitchen speaker", |t| t["found"][0]["abilities"].is_object());
        assert!(began.elapsed().as_secs() < 5, "by its own announcement, {:?}", began.elapsed());
        assert_eq!(speaker["roles"], serde_json::json!(["renderer"]));
        assert_eq!(speaker["presence"], "here");
        assert_eq!(speaker["devices"], serde_json::json!([]), "it asked for nothing");
        let found = &speaker["found"][0];
        assert_eq!((&found["maker"], &found["model"]), (&"Tarn Audio".into(), &"SoundPost".into()));
        let formats = serde_json::json!(["audio/flac", "audio/l16", "audio/mpeg"]);
        assert_eq!(found["abilities"]["formats"], formats);
        assert_eq!(found["abilities"]["volume"], true);
        let attic = thing(&house, "Attic server", |t| t["found"][0]["name"].is_string());
        assert_eq!(attic["found"][0]["directory_answers"], true);
        let router = thing(&house, "Harbour router", |t| t["found"][0]["name"].is_string());
        assert_eq!(router["roles"], serde_json::json!(["router"]));

        // They are found and nobody at the door.
        assert_eq!(house.json(&["device", "list"]), serde_json::json!([]));
        assert_eq!(house.json(&["status"])["waiting"], 0);

        // Routers are kept apart for people.
        let text = house.mostra(&["network", "list"]);
        assert!(text.contains("Kitchen speaker") && !text.contains("Harbour router"), "{text}");
        assert!(text.contains("1 other thing is shown with --all"), "{text}");
        assert!(house.mostra(&["network", "list", "--all"]).contains("Harbour router"));
        let shown = house.mostra(&["network", "show", "Kitchen speaker"]);
        assert!(shown.contains("SoundPost") && shown.contains("audio/flac"), "{shown}");

        // What is inside: reading is free, what may change something is asked for.
        let what = house.mostra(&["network", "show", "Kitchen speaker", "RenderingControl"]);
        assert!(
            what.contains("DesiredVolume=0…100") && what.contains("may change something"),
            "{what}"
        );
        let call = inside;
        let info = house.json(&call(&["ConnectionManager", "GetProtocolInfo"]));
        assert_eq!(info["outputs"][1]["name"], "Sink");
        assert!(info["outputs"][1]["value"].as_str().unwrap().contains("audio/flac"));
        let raw = house.mostra(&call(&["ConnectionManager", "GetProtocolInfo", "--raw"]));
        assert!(raw.contains("SOAPACTION: ") && raw.contains("GetProtocolInfoResponse"), "{raw}");
        let line = house.mostra(&call(&["ConnectionManager", "GetProtocolInfo", "--curl"]));
        let again = Command::new("sh").args(["-c", line.trim()]).output().unwrap();
        assert!(String::from_utf8_lossy(&again.stdout).contains("audio/flac"), "{line}");
        let loud = ["InstanceID=0", "Channel=Master", "DesiredVolume=90"];
        let set = call(&[&["RenderingControl", "SetVolume"], &loud[..]].concat());
        let why = house.mostra_fails(&set);
        assert!(why.contains("SetVolume changes something") && why.contains("--yes"), "{why}");
        assert_eq!(house.json(&[&set[..], &["--yes"]].concat())["status"], 200);
        let heard = ["RenderingControl", "GetVolume", "InstanceID=0", "Channel=Master"];
        assert_eq!(house.json(&call(&heard))["outputs"][0]["value"], "90");
        let elsewhere = ["RenderingControl", "GetVolume", "InstanceID=7", "Channel=Master"];
        let fault = house.json(&call(&elsewhere));
        assert_eq!(
            (&fault["status"], &fault["fault"]),
            (&500.into(), &"error 402: Invalid Args".into())
        );
        let few = house.mostra_fails(&call(&["RenderingControl", "GetVolume", "InstanceID=0"]));
        assert!(few.contains("needs the argument Channel"), "{few}");

        // Killed without a word, they do not answer the next search.
        all.kill();
        house.json(&["network", "search"]);
        let gone = thing(&house, "Kitchen speaker", |t| t["presence"] == "away");
        assert_eq!(gone["away_why"], "it answers neither a search nor at its address");
    });
}

#[test]
fn a_device_appears_is_limited_and_let_in_and_its_screen_changes() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        house.publish("Pictures");
        house.publish("Films");
        let _disc = house.stand_ins(&["cottage-disc-player"]);
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let browser = Browser::open().await;
            browser.size(1280, 800).await;
            browser.go("/").await;
            browser.sign_in(PASSWORD).await;
            browser.sees("Today").await;
            browser.go("/network").await;
            browser.sees("Nothing that has to do with media").await;
            // It appears without a reload, a moment after it says that it is there.
            let began = Instant::now();
            let _speaker = house.stand_ins(&["kitchen-speaker"]);
            browser.sees("Kitchen speaker").await;
            assert!(began.elapsed().as_secs() < 5, "{:?}", began.elapsed());
            browser.go("/devices").await;
            house.tell(DISC_PLAYER, &["find"]);
            browser.sees("127.0.0.12").await;
            browser.go(&format!("/devices/{}", house.device(DISC_PLAYER).unwrap()["id"])).await;
            browser.sees("What it is").await;
            browser.press("Pictures only").await;
            browser.sees("may see pictures").await;
            let (listed, screen) = house.tell(DISC_PLAYER, &["list", "Pictures/All pictures"]);
            assert!(listed, "{screen}");
            assert!(!house.tell(DISC_PLAYER, &["list", "Video/All videos"]).0, "no films for it");
            browser.close().await;
        });
    });
}

#[test]
fn a_browser_that_may_tells_once_of_a_device_that_comes_to_wait() {
    in_a_house(|house| {
        let _service = house.begin();
        let _disc = house.stand_ins(&["cottage-disc-player"]);
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let browser = Browser::open().await;
            browser.size(1280, 800).await;
            browser.go("/settings").await;
            browser.sign_in(PASSWORD).await;
            browser.sees("Tell me by a notification of this browser").await;
            browser.allow_notifications().await;
            let tick = "[...document.querySelectorAll('#arrivals input[type=checkbox]')][0]";
            browser.page.execute(format!("{tick}.click()"), vec![]).await.unwrap();
            let ticked = format!("return {tick}.checked");
            let end = Instant::now() + Duration::from_secs(10);
            while !browser.page.execute(&*ticked, vec![]).await.unwrap().convert::<bool>().unwrap()
            {
                assert!(Instant::now() < end, "it stays unticked: {}", browser.text().await);
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
            browser.go("/devices").await;
            browser.sees("Add a device…").await;
            // What the browser is given to show, which it shows as well.
            let record = "window.told = []; const real = window.Notification; \
                          window.Notification = class extends real { \
                          constructor(title, options) { super(title, options); \
                          window.told.push([title, real.permission]); } }";
            browser.page.execute(record, vec![]).await.unwrap();
            house.tell(DISC_PLAYER, &["find"]);
            browser.sees("127.0.0.12").await;
            // A second request of the same device is nothing new.
            house.tell(DISC_PLAYER, &["find"]);
            house.mostra(&["house", "name", "Later"]);
            browser.sees("Later").await;
            let told = browser.page.execute("return window.told", vec![]).await.unwrap();
            let told: Vec<(String, String)> = told.convert().unwrap();
            assert_eq!(told, [("Device at 127.0.0.12 waits".into(), "granted".into())]);
            browser.close().await;
        });
    });
}

/// Bytes of memory that a process uses.
fn memory_of(process: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
    let number = line.trim().strip_suffix(" kB").unwrap();
    number.trim().parse::<u64>().unwrap() << 10
}

#[test]
fn a_flood_of_forged_announcements_is_bounded_and_makes_no_device() {
    in_a_house(|house| {
        let service = house.begin();
        let memory = || memory_of(service.id());
        let before = memory();
        let forger = |n| {
            let socket = UdpSocket::bind((Ipv4Addr::new(127, 4, 0, n), 0)).unwrap();
            let by = socket2::SockRef::from(&socket);
            by.set_multicast_if_v4(&Ipv4Addr::LOCALHOST).unwrap();
            socket
        };
        let sockets: Vec<UdpSocket> = (1..=100).map(forger).collect();
        for n in 0..10_000_usize {
            let (socket, last) = (&sockets[n % 100], n % 100 + 1);
            let text = format!(
                "NOTIFY * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nCACHE-CONTROL: max-age=1800\r\n\
                 LOCATION: http://127.4.0.{last}:9/{n}.xml\r\nNT: upnp:rootdevice\r\n\
                 NTS: ssdp:alive\r\nUSN: uuid:{n}::upnp:rootdevice\r\n\r\n"
            );
            socket.send_to(text.as_bytes(), "239.255.255.250:1900").unwrap();
            if n % 200 == 0 {
                // As fast as they are read: what the kernel drops would prove nothing.
                std::thread::sleep(Duration::from_millis(5));
            }
        }
        // What one host announces is one row.
        let count = || {
            let view = house.json(&["network", "list"]);
            let rows = view["things"].as_array().unwrap().iter();
            rows.map(|row| row["found"].as_array().unwrap().len()).sum::<usize>()
        };
        until(20, "some to be found", || (count() > 100).then_some(()));
        assert!(count() < 300, "{}", count());
        assert_eq!(house.json(&["device", "list"]), serde_json::json!([]));
        let grown = memory().saturating_sub(before);
        assert!(grown < 20 << 20, "{grown} bytes");
    });
}

#[test]
fn what_was_there_before_is_found_by_a_search() {
    in_a_house(|house| {
        // Its announcement went out before anybody listened.
        let _attic = house.stand_ins(&["attic-server"]);
        let _service = house.begin();
        let attic = thing(&house, "Attic server", |t| t["found"][0]["directory_answers"] == true);
        assert_eq!(attic["roles"], serde_json::json!(["server"]));
    });
}

#[test]
fn whoever_asks_from_elsewhere_leaves_a_trace_and_gets_nothing() {
    in_a_house(|house| {
        let there = Namespace::new("guest");
        ip(&format!("link add lan0 type veth peer name dev0 netns {}", there.name()));
        ip("addr add 10.77.0.1/24 dev lan0");
        ip("link set lan0 up");
        there.ip("addr add 192.168.50.7/24 dev dev0");
        there.ip("link set dev0 up");
        there.ip("route add 10.77.0.0/24 dev dev0");
        there.ip("route add 239.0.0.0/8 dev dev0");
        ip("route add 192.168.50.0/24 dev lan0");
        let _service = house.begin_with(&["--interfaces", "lan0"]);
        assert_eq!(there.get("http://10.77.0.1:7640/about/device.xml"), "403");
        there.inside(|| {
            let socket = UdpSocket::bind("192.168.50.7:0").unwrap();
            let search = "M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nMAN: \"ssdp:discover\"\r\n\
                          MX: 1\r\nST: ssdp:all\r\n\r\n";
            socket.send_to(search.as_bytes(), "239.255.255.250:1900").unwrap();
        });
        until(10, "the traces", || {
            let text = house.mostra(&["network", "list"]);
            let searched = "192.168.50.7 searched; it is not in a network that this house serves";
            (text.contains(searched) && text.contains("192.168.50.7 connected;")).then_some(())
        });
        assert_eq!(house.json(&["device", "list"]), serde_json::json!([]));
    });
}

#[test]
fn who_is_switched_off_is_told_from_who_is_not_let_in() {
    in_a_house(|house| {
        let there = wired("device", Some("02:5e:11:00:00:2c"));
        let _service = house.begin_with(&["--interfaces", "lan0"]);
        there.get("http://10.77.0.1:7640/media/none");
        let device = || house.json(&["device", "show", "10.77.0.14"]);
        until(10, "it to wait", || {
            (house.device("10.77.0.14")?["standing"] == "waiting").then_some(())
        });
        assert!(device()["private_hardware"] == true && device()["away_since_ms"].is_null());
        // Pulled from the wall: it answers nothing, not even whose address that is.
        there.ip("addr del 10.77.0.14/24 dev far0");
        house.json(&["network", "search"]);
        // At the second try at the latest, when the system no longer believes that it is there.
        until(90, "it to be away", || device()["away_since_ms"].as_u64());
        assert_eq!(device()["standing"], "waiting", "that is another matter");
        let row = house.json(&["network", "show", "10.77.0.14"]);
        assert_eq!(row["presence"], "away");
        assert!(row["away_why"].as_str().unwrap().contains("(ARP)"));
        // Back, and heard at once.
        there.ip("addr add 10.77.0.14/24 dev far0");
        there.get("http://10.77.0.1:7640/media/none");
        until(10, "it to be back", || device()["away_since_ms"].is_null().then_some(()));
    });
}

#[test]
fn one_announced_under_another_udn_than_described_holds_up_nothing() {
    in_a_house(|house| {
        let _service = house.begin();
        let listener = std::net::TcpListener::bind("127.0.0.63:4000").unwrap();
        std::thread::spawn(move || {
            for mut stream in listener.incoming().flatten() {
                let _ = std::io::Read::read(&mut stream, &mut [0; 2048]);
                let body = "<root xmlns='urn:schemas-upnp-org:device-1-0'><device>\
                            <deviceType>urn:schemas-upnp-org:device:MediaRenderer:1</deviceType>\
                            <friendlyName>Two names</friendlyName><UDN>uuid:described</UDN>\
                            </device></root>";
                let head = format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", body.len());
                let _ = std::io::Write::write_all(&mut stream, format!("{head}{body}").as_bytes());
            }
        });
        let socket = UdpSocket::bind("127.0.0.63:0").unwrap();
        socket2::SockRef::from(&socket).set_multicast_if_v4(&Ipv4Addr::LOCALHOST).unwrap();
        let rows = || house.api("GET", "/network").to_string();
        // Each is heard after what came before it was read.
        for (udn, shown) in [("announced", "Two names"), ("next", "uuid:next")] {
            let text = format!(
                "NOTIFY * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nCACHE-CONTROL: max-age=1800\r\n\
                 LOCATION: http://127.0.0.63:4000/{udn}.xml\r\nNT: upnp:rootdevice\r\n\
                 NTS: ssdp:alive\r\nUSN: uuid:{udn}::upnp:rootdevice\r\n\r\n"
            );
            until(10, shown, || {
                socket.send_to(text.as_bytes(), "239.255.255.250:1900").unwrap();
                rows().contains(shown).then_some(())
            });
        }
        house.json(&["network", "search"]);
    });
}

#[test]
fn from_alive_to_its_row_takes_less_than_a_second() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        let socket = UdpSocket::bind("127.0.0.40:0").unwrap();
        socket2::SockRef::from(&socket).set_multicast_if_v4(&Ipv4Addr::LOCALHOST).unwrap();
        let mut times: Vec<Duration> = (0..9)
            .map(|n| {
                let text = format!(
                    "NOTIFY * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nCACHE-CONTROL: max-age=1800\r\n\
                     LOCATION: http://127.0.0.40:9/{n}.xml\r\nNT: urn:schemas-upnp-org:device:MediaRenderer:1\r\n\
                     NTS: ssdp:alive\r\nUSN: uuid:r{n}::urn:schemas-upnp-org:device:MediaRenderer:1\r\n\r\n"
                );
                let began = Instant::now();
                socket.send_to(text.as_bytes(), "239.255.255.250:1900").unwrap();
                let udn = format!("uuid:r{n}");
                until(5, "its row", || {
                    house.api("GET", "/network").to_string().contains(&udn).then(|| began.elapsed())
                })
            })
            .collect();
        times.sort();
        assert!(times[4] < Duration::from_secs(1), "{times:?}");
    });
}

#[test]
fn of_two_thousand_devices_those_in_sight_are_drawn_and_live_events_move_nothing() {
    in_a_house_timed(|house| {
        let mut service = house.begin();
        service.stop();
        let many = "insert into device (id, standing, kinds, update_offset, first_seen_ms, last_seen_ms, \
                    traits, rules, asked_ms, name, decided) select n, 'admitted', 'video', 0, n, n, '{}', \
                    '[]', n, 'Box ' || n, true from generate_series(1, 2000) n; \
                    insert into endpoint (device_id, address, last_seen_ms) select n, \
                    '127.2.' || n / 250 || '.' || n % 250 + 1, n from generate_series(1, 2000) n";
        query(&house.database_url, many);
        let _service = house.start();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let browser = Browser::open().await;
            browser.size(1280, 800).await;
            browser.go("/").await;
            browser.sign_in(PASSWORD).await;
            browser.sees("Today").await;
            browser.go("/devices").await;
            browser.sees("Box 1").await;
            let page = &browser.page;
            let script = |text: &'static str| async move {
                let result = page.execute(text, vec![]).await.unwrap();
                result.json().as_f64().unwrap()
            };
            let drawn = "return document.querySelectorAll('ul[aria-label=devices] > li').length";
            assert!(script(drawn).await < 60.0);
            script("window.scrollTo({ top: 40000, behavior: 'instant' }); return 0").await;
            browser.sees("Box 4").await;
            let before = script("return window.scrollY").await;
            assert!(before > 30_000.0 && script(drawn).await < 60.0);
            // Somebody comes to the door meanwhile: the list stays where it is.
            house.meet("127.0.0.99");
            until(5, "it to be counted", || {
                (house.json(&["status"])["waiting"] == 1).then_some(())
            });
            browser.sees("waiting").await;
            assert_eq!(script("return window.scrollY").await, before);
            browser.close().await;
        });
    });
}
