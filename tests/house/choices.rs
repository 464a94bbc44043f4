//! What an installation may choose of discovery, and where it keeps to itself.

use std::net::UdpSocket;
use std::process::Command;
use std::time::{Duration, Instant};

use mostra_tests::raw::{self, ask, between, call};
use mostra_tests::{in_a_house, in_a_house_timed, top, until};

const TV: &str = "127.0.0.61";

#[test]
fn how_long_an_announcement_stays_valid_is_chosen() {
    in_a_house(|house| {
        let refused = |flags: [&str; 2]| {
            house.refused(|command| {
                command.args(flags);
            })
        };
        let said = refused(["--max-age", "59"]);
        assert!(said.contains("max_age is \"59\", and not from 60 to 86400"), "{said}");

        let _service = house.start_with(&["--max-age", "120"]);
        let (answer, _) = raw::search(TV, 5).expect("a search answer");
        assert!(answer.contains("\r\nCACHE-CONTROL: max-age=120\r\n"), "{answer}");
    });
}

#[test]
fn what_the_server_says_of_itself_is_chosen() {
    in_a_house(|house| {
        let service = house.start();
        let before = ask(TV, "GET", "/about/device.xml", "").text();
        assert!(before.contains("X_MS_MediaReceiverRegistrar") && !before.contains("configId"));
        let (answer, _) = raw::search(TV, 5).expect("a search answer");
        drop(service);
        // Three tokens, no comma and no blank inside (SSDP-12).
        let server = between(&answer, "\r\nSERVER: ", "\r\n").unwrap();
        let tokens: Vec<&str> = server.split(' ').collect();
        assert!(tokens.len() == 3 && tokens.iter().all(|t| t.contains('/')), "{server}");
        assert!(tokens[1] == "UPnP/1.0" && !server.contains(','), "{server}");

        let chosen = ["--registrar", "off", "--edition", "1.1"];
        let model = ["--model-name", "Harbour player", "--model-number", "12"];
        let _service = house.start_with(&[chosen, model].concat());
        let (answer, _) = raw::search(TV, 5).expect("a search answer");
        let server = between(&answer, "\r\nSERVER: ", "\r\n").unwrap();
        assert_eq!(server.split(' ').nth(1), Some("UPnP/1.1"), "{server}");
        let config = between(&answer, "\r\nCONFIGID.UPNP.ORG: ", "\r\n").unwrap();
        let described = ask(TV, "GET", "/about/device.xml", "");
        assert_eq!(described.field("server"), Some(server), "the same everywhere");
        let text = described.text();
        for part in [
            &format!(" configId=\"{config}\">"),
            "<specVersion><major>1</major><minor>1</minor></specVersion>",
            "<modelName>Harbour player</modelName><modelNumber>12</modelNumber>",
        ] {
            assert!(text.contains(part), "{part}: {text}");
        }
        assert!(!text.contains("Registrar"), "it is not offered (REG-1): {text}");
        for path in ["/about/registrar.xml", "/control/registrar", "/event/registrar"] {
            assert_eq!(ask(TV, "GET", path, "").status, 404, "{path}");
        }
        assert_eq!(call(TV, "registrar", "IsAuthorized", "").status, 404);
        let refused = |flags: [&str; 2]| {
            house.refused(|command| {
                command.args(flags);
            })
        };
        assert!(refused(["--edition", "2.0"]).contains("Give 1.0 or 1.1"));
        assert!(refused(["--multicast-ttl", "5"]).contains("0 to 4"));
    });
}

#[test]
fn several_houses_on_one_host_hear_the_one_group() {
    in_a_house(|house| {
        let other = house.beside();
        let here = house.start_with(&["--interfaces", "127.0.0.21", "--device-port", "0"]);
        let ports = ["--device-port", "0", "--console-port", "0"];
        let _there = other.launch_with(&[&["--interfaces", "127.0.0.22"], &ports[..]].concat());
        let mut places = std::collections::BTreeSet::new();
        until(30, "both to answer one search", || {
            places.extend(raw::search_all(TV, 2).iter().map(|answer| {
                let location = between(answer, "\r\nLOCATION: http://", "/").unwrap();
                location.to_owned()
            }));
            (places.len() == 2).then_some(())
        });
        let hosts: Vec<&str> = places.iter().map(|p| p.split(':').next().unwrap()).collect();
        assert_eq!(hosts, ["127.0.0.21", "127.0.0.22"]);
        let mut names = std::collections::BTreeSet::new();
        for place in &places {
            let request = format!("GET /about/device.xml HTTP/1.1\r\nHost: {place}\r\n\r\n");
            let answer = raw::exchange(TV, place, &request).unwrap();
            assert_eq!(answer.status, 200, "{place}");
            names.insert(between(&answer.text(), "<UDN>", "<").unwrap().to_owned());
        }
        assert_eq!(names.len(), 2, "each with a UDN of its own");
        // A port that the system chose is the same after a restart (IOP-27).
        drop(here);
        let _here = house.start_with(&["--interfaces", "127.0.0.21", "--device-port", "0"]);
        let again = raw::search_all(TV, 2);
        let first = places.first().unwrap();
        assert!(
            again.iter().any(|a| a.contains(&format!("LOCATION: http://{first}/"))),
            "{again:?}"
        );
        // Nothing listens at the wildcard, nor at an address that is not served (SEC-4).
        let sockets = Command::new("ss").args(["-Hlnt"]).output().unwrap();
        let sockets = String::from_utf8_lossy(&sockets.stdout).into_owned();
        let mut at: Vec<&str> =
            sockets.lines().filter_map(|l| l.split_ascii_whitespace().nth(3)).collect();
        at.retain(|local| !local.starts_with("127.0.0.1:"));
        at.sort_unstable();
        assert_eq!(at, places.iter().map(String::as_str).collect::<Vec<_>>());
    });
}

/// Packets that left by an interface, and came in by it.
fn packets(interface: &str) -> (u64, u64) {
    let told = Command::new("ip").args(["-j", "-s", "link", "show", interface]).output().unwrap();
    let told: serde_json::Value = serde_json::from_slice(&told.stdout).unwrap();
    let count = |way: &str| told[0]["stats64"][way]["packets"].as_u64().unwrap();
    (count("tx"), count("rx"))
}

#[test]
fn on_loopback_nothing_leaves_by_another_interface() {
    in_a_house_timed(|house| {
        let ip = |line: &str| {
            assert!(Command::new("ip").args(line.split(' ')).status().unwrap().success(), "{line}");
        };
        // The kernel's own greetings would be counted.
        for interface in ["all", "default"] {
            let name = format!("net.ipv6.conf.{interface}.disable_ipv6=1");
            let _ = Command::new("sysctl").args(["-qw", &name]).status();
        }
        ip("link add near0 type veth peer name far0");
        ip("addr add 10.77.1.1/24 dev near0");
        ip("link set near0 up");
        ip("link set far0 up");
        // Until the link is quiet, so that what comes later is ours.
        let mut before = packets("near0");
        let mut since = Instant::now();
        until(20, "the new link to be quiet", || {
            let now = packets("near0");
            if now != before {
                (before, since) = (now, Instant::now());
            }
            (since.elapsed() > Duration::from_millis(500)).then_some(())
        });
        let _service = house.begin();
        // Somebody on the other wire hears nothing and reaches nothing.
        raw::search(TV, 5).expect("a search answer");
        house.meet(TV);
        house.mostra(&["house", "announce"]);
        let foreign = UdpSocket::bind("10.77.1.1:0").unwrap();
        foreign.set_read_timeout(Some(Duration::from_secs(1))).unwrap();
        let search = b"M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\n\
            MAN: \"ssdp:discover\"\r\nMX: 1\r\nST: ssdp:all\r\n\r\n";
        // To our own address, which the kernel delivers without a wire.
        foreign.send_to(search, "10.77.1.1:1900").unwrap();
        assert!(foreign.recv_from(&mut [0; 2048]).is_err(), "an answer where nothing is served");
        drop(foreign);
        assert!(raw::get("10.77.1.1:7640", "/about/device.xml").is_err());
        assert_eq!(packets("near0"), before, "packets by the other interface");
        let sockets = Command::new("ss").args(["-Hlntu"]).output().unwrap();
        let sockets = String::from_utf8_lossy(&sockets.stdout).into_owned();
        let outside: Vec<&str> = sockets
            .lines()
            .filter_map(|line| line.split_ascii_whitespace().nth(4))
            .filter(|local| !local.starts_with("127.") && !local.starts_with("239.255.255.250"))
            .collect();
        assert!(outside.is_empty(), "sockets outside loopback: {outside:?}");
    });
}

#[test]
fn tiny_pages_are_quick() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Pictures");
        house.meet(TV);
        house.admit(TV);
        let mut took: Vec<Duration> = (0..200)
            .map(|n| {
                let (start, count) = (n % 5, 1 + n % 10);
                let arguments = format!(
                    "<ObjectID>pictures-all</ObjectID><BrowseFlag>BrowseDirectChildren</BrowseFlag>\
                     <Filter>*</Filter><StartingIndex>{start}</StartingIndex>\
                     <RequestedCount>{count}</RequestedCount><SortCriteria></SortCriteria>"
                );
                let began = Instant::now();
                let answer = call(TV, "content", "Browse", &arguments);
                assert_eq!(answer.status, 200);
                began.elapsed()
            })
            .collect();
        took.sort();
        let at = took[took.len() * 95 / 100];
        assert!(at < Duration::from_millis(20), "{at:?} at the 95th percentile");
    });
}

#[test]
fn names_stand_by_the_alphabet_that_a_person_chose() {
    in_a_house(|house| {
        let mut service = house.begin();
        let folder = tempfile::tempdir().unwrap();
        for name in ["Al", "Ål", "Ärla", "Zebra"] {
            let sound = top().join("demo/media/Sound/Night log.mp3");
            std::fs::copy(sound, folder.path().join(format!("{name}.mp3"))).unwrap();
        }
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Birds"]);
        house.mostra(&["house", "titles", "file-names"]);
        let titles = || -> Vec<String> {
            let listed = house.json(&["catalogue", "list", "music-all"]);
            let all = listed["objects"].as_array().unwrap().iter();
            all.map(|o| o["title"].as_str().unwrap().to_owned()).collect()
        };
        assert_eq!(titles(), ["Al", "Ål", "Ärla", "Zebra"]);
        let said = house.mostra(&["house", "locale"]);
        assert!(said.starts_with("en\n") && said.contains(" sv "), "{said}");
        let said = house.mostra(&["house", "locale", "sv"]);
        assert!(said.contains("the alphabet of sv"), "{said}");
        assert_eq!(titles(), ["Al", "Zebra", "Ål", "Ärla"]);
        let said = house.mostra_fails(&["house", "locale", "xx"]);
        assert!(said.contains("\"xx\" is none of en, bs") && said.contains("Choose en"), "{said}");
        // Also after a restart.
        assert!(service.stop());
        let _service = house.start();
        until(30, "the catalogue", || (house.json(&["status"])["loaded"] == true).then_some(()));
        assert_eq!(titles(), ["Al", "Zebra", "Ål", "Ärla"]);
    });
}
