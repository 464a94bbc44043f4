//! Devices that come to the door, or that a person adds: standing, the doorway, what is said of
//! them, and the history of decisions.

use mostra_tests::wires::wired;
use mostra_tests::{House, in_a_house, in_a_house_timed, raw, until};
use serde_json::Value;

const TV: &str = "127.0.0.21";
const OTHER: &str = "127.0.0.22";
const LATER: &str = "127.0.0.23";

fn standing(house: &House, address: &str) -> Option<Value> {
    Some(house.device(address)?["standing"].clone())
}

#[test]
fn only_who_asks_comes_to_the_door_and_the_doorway_leaves_its_mark() {
    in_a_house_timed(|house| {
        let mut service = house.begin();
        house.mostra(&["house", "doorway", "open"]);
        // A router reads what announces itself, and is not let in by that.
        let description = raw::ask(OTHER, "GET", "/about/device.xml", "");
        assert_eq!(description.status, 200);
        until(5, "it to be seen on the network", || {
            let view = house.json(&["network", "list"]);
            let mut things = view["things"].as_array()?.iter();
            things.find(|thing| thing["address"] == OTHER).map(|thing| {
                assert_eq!(thing["devices"], serde_json::json!([]));
            })
        });
        assert_eq!(house.json(&["device", "list"]), serde_json::json!([]));
        house.meet(TV);
        let device = house.device(TV).unwrap();
        assert_eq!(device["standing"], "admitted");
        assert!(device["by_doorway_ms"].is_u64(), "{device}");
        let id = device["id"].to_string();
        until(10, "the record of it", || {
            let all = house.json(&["device", "decisions", &id]);
            let first = all.get(0)?.clone();
            assert_eq!(
                (&first["who"], &first["can_be_undone"]),
                (&"the doorway".into(), &false.into())
            );
            Some(())
        });

        house.mostra(&["house", "doorway", "closed"]);
        raw::ask(LATER, "GET", "/media/none", "");
        until(5, "it to be turned away", || (standing(&house, LATER)? == "refused").then_some(()));
        assert_eq!(standing(&house, TV).unwrap(), "admitted", "whoever is in stays in");
        service.stop();
        let _service = house.start();
        // Once the doorway is no longer closed it waits like any other.
        house.mostra(&["house", "doorway", "ask"]);
        raw::ask(LATER, "GET", "/media/none", "");
        until(5, "it to wait", || (standing(&house, LATER)? == "waiting").then_some(()));
        let said = house.mostra(&["device", "wait", "--seconds", "5"]);
        assert!(said.contains(&format!("at {LATER} waits")), "{said}");
    });
}

#[test]
fn a_decision_is_undone_and_history_only_grows() {
    in_a_house(|house| {
        let mut service = house.begin();
        house.meet(TV);
        let id = house.device(TV).unwrap()["id"].to_string();
        assert!(house.mostra_fails(&["device", "undo", &id]).contains("no decision to undo"));
        house.mostra(&["device", "admit", &id, "--kinds", "pictures", "--why", "asked by Marlo"]);
        house.mostra(&["device", "admit", &id, "--everything"]);
        let undone = house.json(&["device", "undo", &id]);
        assert_eq!(
            (&undone["standing"], &undone["kinds"]),
            (&"admitted".into(), &serde_json::json!(["picture"]))
        );
        // A refusal as well, though it is in force before it is saved.
        house.mostra(&["device", "refuse", &id]);
        let back = house.json(&["device", "undo", &id]);
        assert_eq!(back["standing"], "admitted");
        house.mostra(&["device", "undo", &id]);
        assert_eq!(standing(&house, TV).unwrap(), "refused");
        house.mostra(&["device", "undo", &id]);
        // Undoing goes on after a restart.
        service.stop();
        let _service = house.start();
        let again = house.json(&["device", "undo", &id]);
        assert_eq!(again["standing"], "refused");
        let all = house.json(&["device", "decisions", &id]);
        let whys: Vec<&str> =
            all.as_array().unwrap().iter().map(|d| d["why"].as_str().unwrap_or("-")).collect();
        let all = ["undone", "undone", "undone", "undone", "-", "undone", "-", "asked by Marlo"];
        assert_eq!(whys, all);
    });
}

#[test]
fn a_device_is_added_before_it_is_seen_and_is_itself_when_it_comes() {
    in_a_house(|house| {
        let there = wired("device", Some("00:00:5e:00:53:2c"));
        let mut service = house.begin_with(&["--interfaces", "lan0"]);
        assert!(house.mostra_fails(&["device", "add", "kettle"]).contains("no hardware address"));
        let added =
            house.json(&["device", "add", "00-00-5E-00-53-2C", "--name", "Loft television"]);
        assert_eq!((&added["standing"], &added["address"]), (&"waiting".into(), &"0.0.0.0".into()));
        let shown = house.mostra(&["device", "show", "Loft television"]);
        assert!(shown.contains("not seen yet"), "{shown}");
        house.mostra(&["device", "admit", "Loft television"]);
        let kind = ["--kind", "television", "--room", "Loft", "--note", "the old one"];
        let about = [&["device", "about", "Loft television"], &kind[..]].concat();
        assert_eq!(house.json(&about)["room"], "Loft");
        assert!(
            house
                .mostra_fails(&["device", "about", "Loft television", "--kind", "kettle"])
                .contains("television, console")
        );
        service.stop();
        let _service = house.start_with(&["--interfaces", "lan0"]);

        there.get("http://10.77.0.1:7640/media/none");
        let met = until(10, "it to be met", || {
            let device = house.json(&["device", "show", "Loft television"]);
            (device["address"] == "10.77.0.14").then_some(device)
        });
        assert_eq!((&met["standing"], &met["note"]), (&"admitted".into(), &"the old one".into()));
        assert_eq!(
            (&met["device_kind"], &met["private_hardware"]),
            (&"television".into(), &false.into())
        );
        // The register names who has that block.
        until(10, "its maker", || {
            let device = house.json(&["device", "show", "Loft television"]);
            device["maker"].as_str().filter(|maker| !maker.is_empty()).map(|_| ())
        });
        assert_eq!(house.json(&["device", "list"]).as_array().unwrap().len(), 1);
    });
}

#[test]
fn terms_and_directions_are_explained() {
    in_a_house(|house| {
        let _service = house.begin();
        assert!(house.mostra(&["explain", "dlna"]).contains("televisions and servers agree"));
        assert!(house.mostra(&["explain"]).contains("renderer"));
        assert!(house.mostra_fails(&["explain", "kettle"]).contains("not explained"));
        let said = house.mostra(&["device", "directions", "disc-player"]);
        assert!(said.contains("network media") && !said.contains("television"), "{said}");
    });
}

#[test]
fn two_people_who_keep_presets_at_once_both_have_theirs() {
    in_a_house(|house| {
        let _service = house.begin();
        let house = &house;
        std::thread::scope(|scope| {
            for person in 0..2 {
                scope.spawn(move || {
                    for n in 0..8 {
                        let path = format!("/presets/p{person}n{n}");
                        let kept = house.api_with("PUT", &path, r#"{"kinds":["music"]}"#).unwrap();
                        assert_eq!(kept.status, 200, "{}", kept.text());
                    }
                });
            }
        });
        let listed = house.json(&["preset", "list"]);
        let own = listed.as_array().unwrap().iter().filter(|preset| preset["built_in"] == false);
        assert_eq!(own.count(), 16, "{listed}");
    });
}

#[test]
fn a_preset_is_given_to_several_and_what_is_wide_is_pointed_out() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.mostra(&["house", "doorway", "open"]);
        house.meet(TV);
        house.mostra(&["house", "doorway", "ask"]);
        house.meet(OTHER);
        house.meet(LATER);
        let films = house.json(&["folder", "list"])[0]["label"].as_str().unwrap().to_owned();
        house.mostra(&[
            "preset",
            "keep",
            "For guests",
            "--kinds",
            "pictures,music",
            "--folders",
            &films,
        ]);
        assert!(
            house
                .mostra_fails(&["preset", "keep", "everything", "--kinds", "music"])
                .contains("every house has")
        );
        assert!(
            house
                .mostra_fails(&["device", "admit", OTHER, "--preset", "kettle"])
                .contains("No such preset")
        );
        // One that is not known stops all: nothing is decided by half.
        house.mostra_fails(&["device", "admit", OTHER, "127.9.9.9", "--preset", "for guests"]);
        assert_eq!(standing(&house, OTHER).unwrap(), "waiting");
        let decided = house.json(&["device", "admit", OTHER, LATER, "--preset", "for guests"]);
        for device in decided.as_array().unwrap() {
            assert_eq!(device["kinds"], serde_json::json!(["music", "picture"]));
            assert_eq!(device["folders"].as_array().unwrap().len(), 1);
        }
        let exposure = until(10, "the doorway's admission to be recorded", || {
            let exposure = house.json(&["exposure"]);
            let all = exposure["devices"].as_array()?;
            all.iter().any(|d| d["by"] == "the doorway").then(|| exposure.clone())
        });
        let devices = exposure["devices"].as_array().unwrap();
        assert_eq!(devices.iter().filter(|d| d["by"] == "house").count(), 2);
        assert!(devices.iter().all(|d| d["since_ms"].is_u64()), "{devices:?}");
        assert_eq!(exposure["folders"][0]["devices"], 3);
        // The command that is told narrows it.
        let wide = exposure["wide"][0].clone();
        let words: Vec<&str> = wide["command"].as_str().unwrap().split(' ').skip(1).collect();
        assert_eq!(words[..2], ["device", "refuse"]);
        house.mostra(&words);
        let after = house.json(&["exposure"]);
        assert!(!after["wide"].as_array().unwrap().contains(&wide), "{after}");
        house.mostra(&["preset", "remove", "For guests"]);
        assert_eq!(house.json(&["preset", "list"]).as_array().unwrap().len(), 4);
    });
}

#[test]
fn the_catalogue_as_a_device_gets_it_is_what_it_gets_byte_for_byte() {
    in_a_house(|house| {
        let _service = house.begin();
        for folder in ["Films", "Sound", "Pictures"] {
            house.publish(folder);
        }
        house.meet(TV);
        house.meet(OTHER);
        house.mostra(&["device", "admit", TV, "--kinds", "pictures,films"]);
        house.mostra(&["device", "traits", TV, "page-objects=3", "thumbnails=false"]);
        let id = |address| house.device(address).unwrap()["id"].clone();
        let (tv, other) = (id(TV), id(OTHER));
        let mut seen = 0;
        let mut open = vec!["0".to_owned()];
        while let Some(container) = open.pop() {
            for who in [TV, OTHER] {
                let number = if who == TV { &tv } else { &other };
                let answer = raw::browse(who, &container).text();
                let got = raw::between(&answer, "<Result>", "</Result>").map(raw::unescaped);
                let path = format!("/devices/{number}/catalogue/{container}");
                let shown = house.api("GET", &path);
                assert_eq!(got.as_deref(), shown["result"].as_str(), "{container} of {who}");
                let Some(_) = got else { continue };
                let total = raw::between(&answer, "<TotalMatches>", "</TotalMatches>").unwrap();
                let update = raw::between(&answer, "<UpdateID>", "</UpdateID>").unwrap();
                assert_eq!(
                    (total, update),
                    (&*shown["total"].to_string(), &*shown["update_id"].to_string())
                );
                seen += 1;
                if who == TV {
                    let objects = shown["objects"].as_array().unwrap();
                    assert!(objects.len() <= 3, "a page as large as this device's");
                    let containers = objects.iter().filter(|object| object["container"] == true);
                    open.extend(containers.map(|object| object["id"].as_str().unwrap().to_owned()));
                }
            }
        }
        assert!(seen > 10, "{seen}");
        let text = house.mostra(&["catalogue", "list", "0", "--as", OTHER]);
        assert!(text.contains("is waiting, so it gets"), "{text}");
        let text = house.mostra(&["catalogue", "list", "video-all", "--as", TV]);
        assert!(text.contains("video/mp4") && text.contains("go on with --start 3"), "{text}");
        let music = house.mostra_fails(&["catalogue", "list", "music-all", "--as", TV]);
        assert!(music.contains("error 701"), "{music}");
    });
}

/// A program that takes what it is told: the bodies that came, and answers in this order.
fn told(port: u16, answers: &'static [&'static str]) -> std::sync::mpsc::Receiver<String> {
    let (sender, receiver) = std::sync::mpsc::channel();
    let listener = std::net::TcpListener::bind(("127.0.0.1", port)).unwrap();
    std::thread::spawn(move || {
        for answer in answers {
            let (mut stream, _) = listener.accept().unwrap();
            let mut request = Vec::new();
            while !request.ends_with(b"}") {
                let mut some = [0; 2048];
                let n = std::io::Read::read(&mut stream, &mut some).unwrap();
                request.extend_from_slice(&some[..n]);
            }
            let answer =
                format!("HTTP/1.1 {answer}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n");
            std::io::Write::write_all(&mut stream, answer.as_bytes()).unwrap();
            sender.send(String::from_utf8(request).unwrap()).unwrap();
        }
    });
    receiver
}

#[test]
fn a_program_in_the_house_is_told_that_a_device_waits_and_tried_three_times() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        for wrong in ["https://192.168.1.5/", "http://box.example/"] {
            assert!(house.mostra_fails(&["house", "webhook", wrong]).contains("not of the form"));
        }
        assert!(
            house
                .mostra_fails(&["house", "webhook", "http://198.51.100.7/"])
                .contains("out of the local network")
        );
        house.mostra(&["house", "webhook", "http://127.0.0.1:9911/mostra"]);
        let received = told(9911, &["500 No", "503 Later", "204 Taken"]);
        house.meet(TV);
        let patience = std::time::Duration::from_secs(15);
        for _ in 0..3 {
            let request = received.recv_timeout(patience).unwrap();
            assert!(request.starts_with("POST /mostra HTTP/1.1\r\n"), "{request}");
            let body = request.split("\r\n\r\n").nth(1).unwrap();
            let body: Value = serde_json::from_str(body).unwrap();
            assert_eq!((&body["event"], &body["address"]), (&"device-waiting".into(), &TV.into()));
        }
        until(5, "that it was taken", || {
            house.mostra(&["house", "webhook"]).contains("was taken").then_some(())
        });
        // Whoever is known is not told of again, nor who is let in by an open doorway.
        house.mostra(&["house", "doorway", "open"]);
        house.meet(TV);
        house.meet(OTHER);
        house.mostra(&["house", "webhook", "off"]);
        assert!(received.recv_timeout(std::time::Duration::from_millis(500)).is_err());
    });
}
