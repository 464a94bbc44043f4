//! Conversations of devices that are recorded, read, replayed and learnt from.

use std::process::Command;

use mostra_tests::{House, binary, in_a_house, in_a_house_timed, raw, until};
use serde_json::Value;

const DEN: &str = "127.0.0.17";

fn stage(arguments: &[&str]) -> (bool, String) {
    let output = Command::new(binary("mostra-stage")).args(arguments).output().unwrap();
    let said = [output.stdout, output.stderr].concat();
    (output.status.success(), String::from_utf8_lossy(&said).into_owned())
}

/// What was said, in words, once all of it is there.
fn said(house: &House, last: &str) -> Vec<Value> {
    until(10, &format!("{last} in the recording"), || {
        let whole = house.json(&["recording", "show", "Den console"]);
        let entries = whole["entries"].as_array()?.clone();
        entries.iter().any(|e| e["said"].as_str().unwrap().contains(last)).then_some(entries)
    })
}

#[test]
fn what_a_device_says_is_recorded_replayed_and_learnt() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.publish("Pictures");
        let _den = house.stand_ins(&["den-console"]);
        house.tell(DEN, &["find"]);
        until(10, "it to wait", || house.device(DEN));
        house.mostra(&["device", "admit", DEN, "--name", "Den console"]);

        let nothing = house.mostra(&["recording", "list", "Den console"]);
        assert!(nothing.contains("mostra device record"), "{nothing}");
        assert!(house.mostra_fails(&["recording", "show", "Den console"]).contains("is recorded"));
        house.mostra(&["device", "record", "Den console", "--minutes", "5"]);
        let again = house.mostra_fails(&["device", "record", "Den console"]);
        assert!(again.contains("already") && again.contains("recording stop"), "{again}");
        for deed in [&["find"][..], &["list", "Films"], &["play", "Harbour at dawn"], &["skip"]] {
            let (done, said) = house.tell(DEN, deed);
            assert!(done, "{said}");
        }
        // Another device is no part of it.
        raw::ask("127.0.0.18", "GET", "/about/device.xml", "X-Mark: other\r\n");
        house.mostra(&["house", "name", "Pellworth Bright"]);
        let entries = said(&house, "event 0");
        let words: Vec<&str> = entries.iter().map(|e| e["said"].as_str().unwrap()).collect();
        for wanted in [
            "searches for urn:schemas-upnp-org:service:ContentDirectory:1",
            "GET /about/device.xml",
            "calls IsAuthorized",
            "calls Search of upnp:class derivedfrom \"object.item.videoItem\"",
            "calls Browse of",
            "bytes=0-65535",
        ] {
            assert!(words.iter().any(|said| said.contains(wanted)), "{wanted} in {words:?}");
        }
        assert!(entries.iter().all(|e| !e["raw"].as_str().unwrap().contains("X-Mark")));
        let media = entries.iter().find(|e| e["said"].as_str().unwrap().contains("bytes=0-65535"));
        let media = media.unwrap();
        assert!(media["answered"].as_str().unwrap().starts_with("206, 65536 bytes"), "{media}");
        assert!(media["raw_answer"].as_str().unwrap().len() < 1000, "no media in it");

        house.mostra(&["recording", "stop", "Den console"]);
        let file = house.data.path().join("den.jsonl");
        let file = file.to_str().unwrap();
        house.mostra(&["recording", "save", "Den console", file]);
        // It is said again to this house, from the same address, and answered the same.
        let place = format!("http://{}/about/device.xml", mostra_tests::SERVER);
        let (same, told) = stage(&["replay", file, "--from", DEN, "--description", &place]);
        assert!(same && told.contains("0 otherwise"), "{told}");
        // From one that is not let in it is not.
        let (same, told) =
            stage(&["replay", file, "--from", "127.0.0.19", "--description", &place]);
        assert!(!same && told.contains("✗ Search"), "{told}");
        // And a stand-in can be made of it that does the same.
        let (learnt, persona) = stage(&["learn", file, "--address", "127.0.0.44"]);
        assert!(learnt, "{persona}");
        let made = house.data.path().join("learnt.toml");
        std::fs::write(&made, &persona).unwrap();
        let child = Command::new(binary("mostra-stage")).arg("run").arg(&made).spawn().unwrap();
        let _learnt = mostra_tests::Running::of(child);
        until(10, "the new stand-in", || raw::get("127.0.0.44:7690", "/stage/screen").ok());
        until(20, "it to find the house", || house.device("127.0.0.44"));
        house.admit("127.0.0.44");
        let (done, said) = house.tell("127.0.0.44", &["list", "Films"]);
        assert!(done, "{said}");
        let (played, said) = house.tell("127.0.0.44", &["play", "Harbour at dawn"]);
        assert!(played, "{said}");
        assert!(!stage(&["learn", made.to_str().unwrap()]).0, "that is no recording");

        let name = house.json(&["recording", "list", "Den console"])[0]["name"].clone();
        house.mostra(&["recording", "remove", "Den console", name.as_str().unwrap()]);
        assert_eq!(house.json(&["recording", "list", "Den console"]), serde_json::json!([]));
        // With the device goes what was recorded of it.
        house.mostra(&["device", "record", "Den console"]);
        let kept = || std::fs::read_dir(house.data.path().join("recordings")).unwrap().count();
        assert_eq!(kept(), 1);
        house.mostra(&["device", "forget", "Den console", "--yes"]);
        assert_eq!(kept(), 0);
    });
}

#[test]
fn the_device_that_asks_now_is_told_from_another_like_it() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        house.publish("Films");
        for address in ["127.0.0.21", "127.0.0.22"] {
            house.meet(address);
            house.admit(address);
        }
        let active = || house.api("GET", "/active-devices");
        until(5, "what they did to be told", || (active().as_array()?.len() == 2).then_some(()));
        until(30, "both to be quiet", || (active() == serde_json::json!([])).then_some(()));
        raw::browse("127.0.0.22", "video-all");
        let one = until(5, "the one that lists", || active().get(0).cloned());
        assert_eq!(
            (&one["address"], &one["what"]),
            (&"127.0.0.22".into(), &"listed All videos".into())
        );
        assert_eq!(active().as_array().unwrap().len(), 1);
        raw::browse("127.0.0.22", "video-all");
        let told = house.mostra(&["device", "active", "--seconds", "1"]);
        assert!(told.contains("127.0.0.22") && !told.contains("127.0.0.21"), "{told}");
        let id = one["id"].to_string();
        let lists = house.json(&["device", "sightings", &id, "--only", "lists"]);
        assert!(lists.as_array().unwrap().iter().all(|s| s["group"] == "lists"), "{lists}");
        assert!(!lists.as_array().unwrap().is_empty());
        let wrong = house.mostra_fails(&["device", "sightings", &id, "--only", "kettles"]);
        assert!(wrong.contains("discovery, description"), "{wrong}");
    });
}
