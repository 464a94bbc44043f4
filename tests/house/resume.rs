//! Scans that end before their time go on from where they were.

use mostra_tests::{House, in_a_house, until};

const FILES: u64 = 40_000;

fn items(house: &House) -> u64 {
    house.api("GET", "/status")["items"].as_u64().unwrap()
}

fn folder(house: &House) -> serde_json::Value {
    house.api("GET", "/folders")[0].clone()
}

#[test]
fn a_scan_that_was_stopped_or_killed_loses_nothing_done() {
    in_a_house(|house| {
        let frames = tempfile::tempdir().unwrap();
        let original = frames.path().join(".one");
        let head = b"GIF89a\x01\x00\x01\x00\x80\x00\x00\x00\x00\x00\xff\xff\xff,\x00\x00\x00\x00";
        let rest = b"\x01\x00\x01\x00\x00\x02\x02D\x01\x00;";
        std::fs::write(&original, [&head[..], rest].concat()).unwrap();
        for n in 0..FILES {
            std::fs::hard_link(&original, frames.path().join(format!("Frame {n}.gif"))).unwrap();
        }
        let mut service = house.begin();
        let path = frames.path().to_str().unwrap();
        house.mostra(&["folder", "add", path, "--label", "Frames", "--no-wait"]);
        // Stopped by a person.
        until(60, "the first of it", || (items(&house) >= 400).then_some(()));
        house.mostra(&["folder", "stop", "Frames"]);
        until(30, "the stop", || (folder(&house)["scan"]["state"] != "running").then_some(()));
        let stopped = items(&house);
        assert!((400..FILES).contains(&stopped), "{stopped} when stopped");
        assert!(house.mostra(&["folder", "show", "Frames"]).contains("goes on from there"));
        let list = house.json(&["catalogue", "list", "pictures-all", "--count", "5"]);
        let known = list["objects"].as_array().unwrap().clone();
        assert_eq!(known.len(), 5);
        // Killed in the middle.
        house.mostra(&["folder", "rescan", "Frames", "--no-wait"]);
        let seen = until(60, "more of it", || Some(items(&house)).filter(|n| *n >= stopped + 400));
        service.kill();
        assert!(seen < FILES, "the scan was over before it could be killed");
        let _service = house.start();
        until(60, "what was recorded", || {
            (house.api("GET", "/status")["loaded"] == true).then_some(())
        });
        assert!(items(&house) >= seen, "what was shown is recorded");
        until(60, "the rest, by itself", || {
            (items(&house) == FILES && folder(&house)["scan"].is_null()).then_some(())
        });
        for object in known {
            let shown = house.json(&["catalogue", "show", object["id"].as_str().unwrap()]);
            assert_eq!(shown["title"], object["title"], "ids stay");
        }
        let reports = house.json(&["folder", "scans", "Frames"]);
        let added = reports["reports"][0]["added"].as_u64().unwrap();
        assert!(added <= FILES - seen, "{added} added by the last scan, {seen} were there");
    });
}
