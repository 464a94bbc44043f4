//! Text from outside that no record could hold as it is: in tags, playlists, header fields and
//! requests.

use std::fs;

use mostra_tests::raw::{self, ask, browse, media_path};
use mostra_tests::{House, in_a_house, media, query, until};

const PLAYER: &str = "127.0.0.51";
const OTHER: &str = "127.0.0.52";

/// A sound whose ID3v2.4 title is this.
fn titled(title: &[u8]) -> Vec<u8> {
    let length = |n: usize| [n >> 21, n >> 14, n >> 7, n].map(|n| (n & 0x7f) as u8);
    // Encoding 3 is UTF-8.
    let mut frame = b"TIT2".to_vec();
    frame.extend(length(title.len() + 1));
    frame.extend([0, 0, 3]);
    frame.extend(title);
    let mut file = b"ID3\x04\0\0".to_vec();
    file.extend(length(frame.len()));
    file.extend(frame);
    let sound = fs::read(media("Sound/Night log.mp3")).unwrap();
    // Without the tag that it has.
    let own = match sound.strip_prefix(b"ID3") {
        Some(rest) => 10 + rest[3..7].iter().fold(0, |n, byte| n << 7 | usize::from(*byte)),
        None => 0,
    };
    file.extend(&sound[own..]);
    file
}

fn play(device: &str, title: &str) {
    let path = media_path(&browse(device, "music-all"), title);
    let whole = ask(device, "GET", &path, "");
    assert_eq!(whole.status, 200);
}

/// The container of all tracks, by its title.
fn all_tracks(house: &House) {
    let menu = house.json(&["catalogue", "list", "music-all"]);
    assert!(menu["objects"].is_array(), "{menu}");
}

#[test]
fn a_title_with_nul_stops_no_saving_and_no_refusal() {
    in_a_house(|house| {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::write(at("odd.mp3"), titled(b"Neap\0Tide\x1b[31m")).unwrap();
        fs::write(at("list.m3u"), b"http://radio\0example/live\nhttp://\x07\x1b[1m/\nodd.mp3\n")
            .unwrap();
        let mut service = house.begin();
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Sandbox"]);
        all_tracks(&house);
        let titles: Vec<String> = house.items().into_keys().collect();
        assert_eq!(titles, ["Neap Tide [31m"]);
        let folders = house.json(&["folder", "list"]);
        assert!(folders[0]["scan"]["problem"].is_null(), "the scan ended well: {folders}");
        let shown = house.mostra(&["folder", "show", "Sandbox"]);
        assert!(shown.contains("list.m3u") && !shown.contains(['\0', '\x1b', '\x07']), "{shown:?}");
        // Every later scan ends as well.
        house.mostra(&["folder", "rescan", "Sandbox"]);

        for device in [PLAYER, OTHER] {
            house.meet(device);
            house.admit(device);
            play(device, "Neap Tide [31m");
            house.await_step(device, "started");
        }
        // It was logged, and no control character with it (SEC-16).
        let log = house.log();
        assert!(log.contains("Neap Tide") && !log.contains(['\0', '\u{1b}']), "{log}");
        let agent = "User-Agent: Lamp\u{1}Room/1\r\n";
        ask(OTHER, "GET", "/about/device.xml", agent);
        house.mostra(&["device", "refuse", PLAYER]);
        let saved = "select count(*) from proof where step = 'started'";
        until(10, "the proof to be saved", || {
            (query(&house.database_url, saved) == "2").then_some(())
        });
        assert_eq!(house.json(&["status"])["records"], true);
        service.kill();
        let _service = house.start();
        assert_eq!(house.device(PLAYER).unwrap()["standing"], "refused");
        assert!(house.confirmed(OTHER).contains(&"started".to_owned()));
    });
}

#[test]
fn what_people_write_is_checked_before_it_is_recorded() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.meet(PLAYER);
        let id = house.device(PLAYER).unwrap()["id"].to_string();
        let cases = [
            ("PATCH", "/house", r#"{"name":"A\u0000B"}"#),
            ("PATCH", "/house", r#"{"mimes":{"mkv":"video/x\u0000"}}"#),
            ("PATCH", "/house", r#"{"stations":["a\u0000b"]}"#),
            ("PUT", &format!("/devices/{id}/name"), r#"{"name":"A\u0000B"}"#),
            (
                "PUT",
                &format!("/devices/{id}/decision"),
                r#"{"standing":"admitted","name":"\u0000"}"#,
            ),
            ("POST", "/folders", r#"{"path":"/srv\u0000","label":"x"}"#),
            ("PUT", "/folders/1/excluded", r#"{"paths":["a\u0000b"]}"#),
            ("POST", "/folders/1/rescan", r#"{"path":"a\u0000b"}"#),
        ];
        for (method, path, body) in cases {
            let answer = house.api_with(method, path, body).unwrap();
            assert_eq!(answer.status, 400, "{method} {path}: {}", answer.text());
            assert!(answer.text().contains("control character"), "{}", answer.text());
        }
        let body = r#"{"name":"a\u0000","password":"xxxxxxx"}"#;
        let forged = format!(
            "POST /api/v1/session HTTP/1.1\r\nHost: 127.0.0.1:7641\r\n\
             Content-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
            body.len()
        );
        let answer = raw::exchange("127.0.0.1", "127.0.0.1:7641", &forged).unwrap();
        assert_eq!(answer.status, 400);
    });
}
