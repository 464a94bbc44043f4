//! The preflight: what stands in the way, in the real network and on the real host.

use std::process::Command;

use mostra_tests::wires::{ip, wired};
use mostra_tests::{House, in_a_house, until};
use serde_json::Value;

/// The check of this id, of a preflight that looks now.
fn look(house: &House, id: &str) -> Value {
    let output = house.client(&["preflight", "--json"]);
    let all: Value = serde_json::from_slice(&output.stdout).unwrap();
    let code = if all["worst"] == "stops you" { 3 } else { 0 };
    assert_eq!(output.status.code(), Some(code), "{all}");
    check(&all, id)
}

fn check(all: &Value, id: &str) -> Value {
    let mut checks = all["checks"].as_array().unwrap().iter();
    checks.find(|check| check["id"] == id).unwrap_or_else(|| panic!("no {id} in {all}")).clone()
}

/// Once it came out so, without a person's looking.
fn await_outcome(house: &House, id: &str, outcome: &str) -> Value {
    until(30, &format!("{id} to be {outcome}"), || {
        let check = check(&house.api("GET", "/preflight"), id);
        (check["outcome"] == outcome).then_some(check)
    })
}

#[test]
fn a_sound_house_is_told_so_and_what_stops_it_has_exit_code_3() {
    in_a_house(|house| {
        let tablet = wired("tablet", None);
        let _service = house.begin_with(&["--interfaces", "lan0"]);
        assert_eq!(look(&house, "folders")["outcome"], "attention", "nothing is published yet");
        house.publish("Films");
        let films = look(&house, "folder:1");
        assert_eq!(films["outcome"], "ok", "{films}");
        assert!(films["measured"].as_str().unwrap().contains("items, on "), "{films}");
        assert_eq!(look(&house, "listener")["measured"], "It answers at 10.77.0.1:7640 (lan0).");
        // Our own search comes back by multicast.
        assert_eq!(await_outcome(&house, "multicast", "ok")["outcome"], "ok");
        let records = look(&house, "records");
        assert!(records["measured"].as_str().unwrap().contains("the records take"), "{records}");
        assert_eq!(look(&house, "ffmpeg")["outcome"], "ok");
        assert!(look(&house, "versions")["measured"].as_str().unwrap().contains("PostgreSQL 1"));

        // Only another machine shows that the way is open: the page says so, and so does the check.
        assert_eq!(look(&house, "reached")["outcome"], "unknown");
        let page = Command::new("ip")
            .args(["netns", "exec", tablet.name(), "curl", "-s", "http://10.77.0.1:7640/"])
            .output()
            .unwrap();
        let page = String::from_utf8_lossy(&page.stdout).into_owned();
        assert!(page.contains("You reach the house") && page.contains("10.77.0.14"), "{page}");
        let reached = await_outcome(&house, "reached", "ok");
        assert_eq!(reached["measured"], "10.77.0.14 reached the house at 10.77.0.1.");

        // Another address of the same interface, on which the house is not served.
        ip("addr add 10.77.5.1/24 dev lan0");
        let address = look(&house, "address");
        assert_eq!(address["outcome"], "attention", "{address}");
        assert!(address["measured"].as_str().unwrap().contains("besides 10.77.5.1"), "{address}");

        // A name that gives away an account of this host.
        house.mostra(&["house", "name", "Films of nobody"]);
        assert_eq!(look(&house, "name")["outcome"], "ok");
        let said = house.mostra(&["preflight"]);
        assert!(said.contains("✓ Devices reach the house"), "{said}");

        // A drive that goes away stops what is on it, and Today tells of it.
        let folder = house.folders.path().join("sound");
        std::fs::create_dir(&folder).unwrap();
        std::fs::copy(mostra_tests::media("Sound/Slow tide.mp3"), folder.join("a.mp3"))
            .or_else(|_| copy_any(&folder))
            .unwrap();
        house.mostra(&["folder", "add", folder.to_str().unwrap(), "--label", "Tides"]);
        std::fs::rename(&folder, house.folders.path().join("elsewhere")).unwrap();
        house.client(&["folder", "rescan", "Tides"]);
        let away = await_outcome(&house, "folder:2", "stops you");
        assert!(away["measured"].as_str().unwrap().starts_with("Tides is away"), "{away}");
        let stopped = house.client(&["preflight", "--last"]);
        assert_eq!(stopped.status.code(), Some(3));
        let attention = house.json(&["status"])["attention"].to_string();
        assert!(attention.contains("Tides is away"), "{attention}");

        house.mostra(&["house", "off"]);
        let off = await_outcome(&house, "listener", "attention");
        assert_eq!(off["command"], "mostra house on");
    });
}

/// Any piece of music of the demo.
fn copy_any(folder: &std::path::Path) -> std::io::Result<u64> {
    let mut all = std::fs::read_dir(mostra_tests::media("Sound"))?.flatten();
    let file = all.find(|entry| entry.path().extension().is_some_and(|e| e == "mp3"));
    std::fs::copy(file.unwrap().path(), folder.join("a.mp3"))
}

fn nft(rules: &str) {
    let mut child =
        Command::new("nft").args(["-f", "-"]).stdin(std::process::Stdio::piped()).spawn().unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), rules.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success(), "{rules}");
}

#[test]
fn a_firewall_that_keeps_devices_out_is_told_with_the_command_that_lets_them_in() {
    in_a_house(|house| {
        let there = wired("device", None);
        let _service = house.begin_with(&["--interfaces", "lan0"]);
        let page = "http://10.77.0.1:7640/about/device.xml";
        assert_eq!(there.get(page), "200");
        assert_eq!(look(&house, "firewall")["outcome"], "ok");
        nft("table inet filter { chain input { type filter hook input priority 0; policy drop; \
             iif lo accept; ct state established,related accept; udp dport 1900 accept; }; }");
        let closed = look(&house, "firewall");
        assert_eq!(closed["measured"], "It keeps devices out of TCP 7640 on lan0.", "{closed}");
        assert_eq!(there.get(page), "000", "and so it does");
        // The command that it names lets them in.
        let command = closed["command"].as_str().unwrap().replace("sudo ", "");
        let ran = Command::new("sh").args(["-c", &command]).status().unwrap();
        assert!(ran.success(), "{command}");
        assert_eq!(there.get(page), "200");
        assert_eq!(look(&house, "firewall")["outcome"], "ok");
        // Rules from a file are read as well, where the service may not read them by itself.
        let rules = Command::new("nft").args(["-j", "list", "ruleset"]).output().unwrap().stdout;
        let file = house.data.path().join("rules.json");
        std::fs::write(&file, rules).unwrap();
        let file = file.to_str().unwrap();
        assert!(house.mostra(&["preflight", "--firewall", file]).contains("✓ Firewall"));
        let none = house.mostra_fails(&["preflight", "--firewall", "/nowhere"]);
        assert!(none.contains("cannot be read"), "{none}");
        // What is no rule set is no reason to forget the one before.
        let wrong = house.api_with("POST", "/preflight", "no rules").unwrap();
        assert_eq!(wrong.status, 415);
        assert_eq!(look(&house, "firewall")["outcome"], "ok");
    });
}

#[test]
fn a_router_that_lets_the_world_in_is_told() {
    in_a_house(|house| {
        let persona =
            std::fs::read_to_string(mostra_tests::top().join("demo/personas/harbour-router.toml"))
                .unwrap();
        let _service = house.begin();
        let switch_on = |persona: &str| {
            let file = house.data.path().join("router.toml");
            std::fs::write(&file, persona).unwrap();
            let child = Command::new(mostra_tests::binary("mostra-stage"))
                .args(["run", "--quiet"])
                .arg(&file)
                .stdout(std::process::Stdio::null())
                .spawn()
                .unwrap();
            mostra_tests::Running::of(child)
        };
        let known = |presence: &str| {
            until(20, "the router", || {
                let view = house.json(&["network", "list"]);
                let things = view["things"].as_array()?;
                let router = things.iter().find(|t| t["label"] == "Harbour router")?;
                (router["presence"] == presence).then_some(())
            });
        };
        assert_eq!(look(&house, "router")["outcome"], "ok", "there is none");
        let mut router = switch_on(&persona);
        known("here");
        let other = look(&house, "router");
        assert_eq!(other["outcome"], "ok", "what it lets in is for another machine: {other}");
        assert_eq!(other["measured"], "Nothing from outside leads to this computer.");
        router.stop();
        known("away");
        let _open = switch_on(
            &persona
                .replace("127.0.0.90", "127.0.0.1")
                .replace("internal = 443", "internal = 7640"),
        );
        known("here");
        let open = look(&house, "router");
        assert_eq!(open["outcome"], "stops you", "{open}");
        assert!(
            open["measured"].as_str().unwrap().contains("TCP 8443 of Harbour router"),
            "{open}"
        );
    });
}
