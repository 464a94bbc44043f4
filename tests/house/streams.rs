//! Who receives what, and ending it.

use std::io::{Read, Write};
use std::time::Duration;

use mostra_tests::raw::{self, ask, browse, media_path};
use mostra_tests::{House, SERVER, in_a_house, media, until};

const TV: &str = "127.0.0.54";
const OTHER: &str = "127.0.0.55";

fn streams(house: &House) -> Vec<serde_json::Value> {
    let all = house.json(&["stream", "list"]);
    all.as_array().unwrap().clone()
}

#[test]
fn a_person_sees_who_receives_what_and_ends_it() {
    in_a_house(|house| {
        let _service = house.begin();
        let folder = tempfile::Builder::new().prefix("seen-").tempdir().unwrap();
        let log = std::fs::read(media("Sound/Night log.mp3")).unwrap();
        std::fs::write(folder.path().join("Long.mp3"), log.repeat((48 << 20) / log.len())).unwrap();
        house.mostra(&["house", "titles", "file-names"]);
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Sandbox"]);
        for device in [TV, OTHER] {
            house.meet(device);
            house.admit(device);
        }
        assert!(house.mostra(&["stream", "list"]).contains("No device is watching"));
        let path = media_path(&browse(TV, "music-all"), "Long");
        let begin = |from: &str| {
            let mut stream = raw::connect_with(from, SERVER, Some(64 << 10)).unwrap();
            let request = format!("GET {path} HTTP/1.1\r\nHost: {SERVER}\r\n\r\n");
            stream.write_all(request.as_bytes()).unwrap();
            assert_eq!(raw::read_answer(&mut stream, false).unwrap().status, 200);
            stream
        };
        let mut tv = begin(TV);
        let mut other = begin(OTHER);
        // One takes some all the time, the other so much and then nothing.
        let read_some = |stream: &mut std::net::TcpStream, count: usize| {
            stream.read_exact(&mut vec![0; count]).unwrap();
        };
        read_some(&mut other, 4 << 20);
        let shown = until(20, "both", || {
            read_some(&mut tv, 256 << 10);
            let all = streams(&house);
            let rate = |s: &serde_json::Value| s["rate"].as_u64().unwrap();
            (all.len() == 2
                && all.iter().any(|s| rate(s) > 0 && s["device"] == 1 && s["paused"] == false)
                && all.iter().any(|s| s["paused"] == true && s["device"] == 2))
            .then_some(all)
        });
        for stream in &shown {
            assert_eq!((&stream["title"], &stream["kind"]), (&"Long".into(), &"music".into()));
            let delivered = stream["delivered"].as_u64().unwrap();
            assert!(delivered > 1 << 20 && stream["position"] == delivered, "{stream}");
            assert!(stream["average"].as_u64().unwrap() > 0);
            assert!(stream["size"].as_u64().unwrap() > 40 << 20);
        }
        let host = house.json(&["host"]);
        assert!(!host["processor"].as_array().unwrap().is_empty(), "{host}");
        let picture = house.mostra(&["stream", "watch"]);
        assert!(picture.contains("2 streams run.") && picture.contains("paused"), "{picture}");
        assert!(picture.contains("processors") && picture.contains("busiest disk"), "{picture}");

        // Ended: the connection closes, and the player does not get it back at once.
        let number = shown.iter().find(|s| s["device"] == 1).unwrap()["id"].to_string();
        let said = house.mostra(&["stream", "end", &number]);
        assert!(said.contains("no longer receives Long"), "{said}");
        tv.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
        let mut rest = Vec::new();
        let _ = tv.read_to_end(&mut rest);
        assert!(rest.len() < 40 << 20, "{} bytes more", rest.len());
        let again = ask(TV, "GET", &path, "");
        assert_eq!(again.status, 503);
        assert!(again.field("retry-after").unwrap().parse::<u32>().unwrap() <= 61);
        read_some(&mut other, 4 << 20);
        assert_eq!(ask(OTHER, "HEAD", &path, "").status, 200, "nobody else is touched");
        assert!(house.mostra_fails(&["stream", "end", &number]).contains("may have ended"));
        drop(other);
        until(15, "the streams to end", || streams(&house).is_empty().then_some(()));
    });
}
