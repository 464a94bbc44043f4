//! A decision takes effect at once: what it does not cover any more ends within a second.

use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use mostra_tests::raw::{self, ask, between, browse, call, media_path};
use mostra_tests::subscriber::Subscriber;
use mostra_tests::wires::hear;
use mostra_tests::{House, LONG, SERVER, in_a_house, in_a_house_timed, long_sound, media, until};

const PLAYER: &str = "127.0.0.41";
const OTHER: &str = "127.0.0.42";

/// A stream that has begun and is read slowly.
struct Playing(TcpStream);

impl Playing {
    fn begin(from: &str, path: &str) -> Playing {
        let mut stream = raw::connect_with(from, SERVER, Some(65_536)).unwrap();
        let request = format!("GET {path} HTTP/1.1\r\nHost: {SERVER}\r\n\r\n");
        stream.write_all(request.as_bytes()).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
        let mut playing = Playing(stream);
        assert_eq!(raw::read_answer(&mut playing.0, false).unwrap().status, 200, "{path}");
        assert!(playing.read() > 0);
        playing
    }

    fn read(&mut self) -> usize {
        self.0.read(&mut [0; 65_536]).unwrap()
    }

    /// How long it takes until the connection ends, whatever still comes.
    fn ends(mut self) -> Duration {
        let begin = Instant::now();
        let (mut total, mut buffer) = (0, vec![0; 1 << 20]);
        loop {
            match self.0.read(&mut buffer) {
                Ok(0) => break,
                Ok(count) => total += count as u64,
                Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => {
                    panic!("still open after {:?}", begin.elapsed())
                }
                Err(_) => break,
            }
        }
        assert!(total < LONG / 4, "{total} bytes came after the decision");
        begin.elapsed()
    }

    /// It goes on: much more comes than was under way.
    fn goes_on(&mut self) {
        let mut total = 0;
        while total < 24 << 20 {
            let count = self.read();
            assert!(count > 0, "ended after {total} bytes");
            total += count;
        }
    }
}

const SOON: Duration = Duration::from_secs(1);

/// A station that sends sound for ever.
fn station(place: &str) {
    let listener = TcpListener::bind(place).unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            std::thread::spawn(move || {
                let mut stream = stream;
                let _ = stream.read(&mut [0; 4096]);
                let head = b"HTTP/1.1 200 OK\r\nContent-Type: audio/mpeg\r\n\r\n";
                let _ = stream.write_all(head);
                while stream.write_all(&[0xab; 4096]).is_ok() {
                    std::thread::sleep(Duration::from_millis(20));
                }
            });
        }
    });
}

fn published(house: &House) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    long_sound(&folder.path().join("Long watch.wav"));
    fs::copy(media("Pictures/Storm/Storm 1.jpg"), folder.path().join("one.jpg")).unwrap();
    house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Sandbox"]);
    for device in [PLAYER, OTHER] {
        house.meet(device);
        house.admit(device);
    }
    folder
}

#[test]
fn every_decision_ends_what_it_does_not_cover_and_nothing_else() {
    in_a_house(|house| {
        let _service = house.begin();
        let _folder = published(&house);
        let sound = media_path(&browse(PLAYER, "music-all"), "Long watch");
        // By the kernel's own way, by the framework's, and the samples without their header.
        let samples = sound.replace("/media/", "/samples/").replace(".wav", ".l16");
        let ways = || [sound.clone(), sound.replace(".wav", "%2Ewav"), samples.clone()];
        let mut other = Playing::begin(OTHER, &sound);
        let everything = || house.mostra(&["device", "admit", PLAYER, "--everything"]);
        let decisions: [&[&str]; 3] = [
            &["device", "refuse", PLAYER],
            &["device", "admit", PLAYER, "--kinds", "picture"],
            &["device", "forget", PLAYER, "--yes"],
        ];
        for decision in decisions {
            let playing = ways().map(|path| Playing::begin(PLAYER, &path));
            house.mostra(decision);
            for playing in playing {
                assert!(playing.ends() < SOON, "{decision:?}");
            }
            other.goes_on();
            house.meet(PLAYER);
            everything();
        }
        // A decision that covers it changes nothing for it.
        let mut playing = Playing::begin(PLAYER, &sound);
        house.mostra(&["device", "admit", PLAYER, "--kinds", "music", "--name", "Den console"]);
        house.mostra(&["device", "traits", PLAYER, "page-objects=10"]);
        playing.goes_on();
        // The folder goes, and with it every stream of it.
        house.mostra(&["folder", "remove", "Sandbox", "--yes"]);
        assert!(playing.ends() < SOON && other.ends() < SOON);
    });
}

#[test]
fn a_station_is_a_stream_like_any_other() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        station("127.0.0.5:8000");
        let folder = tempfile::tempdir().unwrap();
        fs::write(
            folder.path().join("harbour.pls"),
            "[playlist]\nFile1=http://127.0.0.5:8000/live\nTitle1=Harbour watch\n",
        )
        .unwrap();
        house.mostra(&["house", "stations", "--allow", "127.0.0.5"]);
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Radio"]);
        house.meet(PLAYER);
        house.admit(PLAYER);
        let path = media_path(&browse(PLAYER, "music-all"), "Harbour watch");
        let listed = || house.json(&["stream", "list"]);

        let mut playing = Playing::begin(PLAYER, &path);
        let stream = until(5, "the stream to be listed", || {
            playing.read();
            let all = listed();
            all.as_array().unwrap().iter().find(|s| s["delivered"].as_u64() > Some(10_000)).cloned()
        });
        assert_eq!(
            (stream["title"].as_str(), stream["kind"].as_str()),
            (Some("Harbour watch"), Some("music"))
        );
        assert_eq!((stream["size"].as_u64(), stream["duration_ms"].is_null()), (Some(0), true));
        let shown = house.mostra(&["stream", "list"]);
        assert!(shown.contains("Harbour watch") && shown.contains("live"), "{shown}");
        house.mostra(&["stream", "end", &stream["id"].to_string()]);
        assert!(playing.ends() < SOON);
        until(15, "it to be listed no more", || {
            (listed().as_array().unwrap().is_empty()).then_some(())
        });
        assert_eq!(ask(PLAYER, "GET", &path, "").status, 503, "kept from it for a minute");

        house.meet(OTHER);
        house.admit(OTHER);
        let playing = Playing::begin(OTHER, &path);
        house.mostra(&["device", "refuse", OTHER]);
        assert!(playing.ends() < SOON);
        assert!(!house.confirmed(OTHER).contains(&"started".to_owned()));
    });
}

#[test]
fn an_answer_that_nobody_reads_is_given_up() {
    in_a_house(|house| {
        let _service = house.begin();
        station("127.0.0.5:8000");
        let folder = tempfile::tempdir().unwrap();
        let picture = fs::read(media("Pictures/Storm/Storm 1.jpg")).unwrap();
        for n in 0..5000 {
            fs::write(folder.path().join(format!("A picture with a long name {n}.jpg")), &picture)
                .unwrap();
        }
        let list = "[playlist]\nFile1=http://127.0.0.5:8000/live\nTitle1=Harbour watch\n";
        fs::write(folder.path().join("harbour.pls"), list).unwrap();
        house.mostra(&["house", "stations", "--allow", "127.0.0.5"]);
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Sandbox"]);
        house.meet(PLAYER);
        house.admit(PLAYER);
        let path = media_path(&browse(PLAYER, "music-all"), "Harbour watch");
        let _deaf = Playing::begin(PLAYER, &path);
        let listed = || house.json(&["stream", "list"]).as_array().unwrap().len();
        // A list of several megabytes, of which nothing is read.
        let mut stuck = raw::connect_with(PLAYER, SERVER, Some(4096)).unwrap();
        let request = raw::soap(
            "content",
            "Browse",
            "<ObjectID>pictures-all</ObjectID><BrowseFlag>BrowseDirectChildren</BrowseFlag><Filter>*</Filter>\
             <StartingIndex>0</StartingIndex><RequestedCount>0</RequestedCount><SortCriteria></SortCriteria>",
        );
        stuck.write_all(request.as_bytes()).unwrap();
        until(10, "the station to be listed", || (listed() == 1).then_some(()));
        until(80, "the station to be given up", || (listed() == 0).then_some(()));
        stuck.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        let answer = raw::read_answer(&mut stuck, true);
        let length = |answer: &raw::Answer| {
            answer.field("content-length").unwrap().parse::<usize>().unwrap()
        };
        let whole = answer.is_ok_and(|answer| answer.body.len() == length(&answer));
        assert!(!whole, "it was all still there");
    });
}

#[test]
fn letting_in_again_or_naming_does_not_widen_a_grant() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.publish("Pictures");
        house.meet(PLAYER);
        let said = house.mostra(&[
            "device",
            "admit",
            PLAYER,
            "--kinds",
            "picture",
            "--folders",
            "Pictures",
        ]);
        assert!(said.contains("pictures in Pictures"), "{said}");
        let grant = || {
            let device = house.device(PLAYER).unwrap();
            (device["kinds"].clone(), device["folders"].clone())
        };
        let narrow = grant();
        let said = house.mostra(&["device", "admit", PLAYER, "--name", "Den console"]);
        assert!(said.contains("Den console may now see pictures in Pictures"), "{said}");
        assert_eq!(grant(), narrow);
        house.mostra(&["device", "refuse", PLAYER]);
        // As the console's button does.
        let id = house.device(PLAYER).unwrap()["id"].to_string();
        let decision = format!("/devices/{id}/decision");
        let answer = house.api_with("PUT", &decision, r#"{"standing":"admitted"}"#).unwrap();
        assert_eq!(answer.status, 200, "{}", answer.text());
        assert_eq!(grant(), narrow);
        // One part chosen leaves the other.
        house.mostra(&["device", "admit", PLAYER, "--kinds", "video,picture"]);
        assert_eq!(grant().1, narrow.1);
        house.mostra(&["device", "admit", PLAYER, "--all-folders"]);
        assert_eq!(grant(), (serde_json::json!(["video", "picture"]), serde_json::Value::Null));
        let both = r#"{"standing":"admitted","folders":[1],"all_folders":true}"#;
        assert_eq!(house.api_with("PUT", &decision, both).unwrap().status, 422);
        house.mostra(&["device", "admit", PLAYER, "--everything"]);
        assert_eq!(grant().0, serde_json::json!(["video", "music", "picture"]));
        assert_eq!(house.device(PLAYER).unwrap()["name"], "Den console");
    });
}

#[test]
fn a_refused_device_learns_nothing_from_events_or_update_ids() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.meet(PLAYER);
        house.meet(OTHER);
        house.admit(PLAYER);
        let id = |from: &str| {
            let text = call(from, "content", "GetSystemUpdateID", "").text();
            between(&text, "<Id>", "</Id>").unwrap().parse::<u32>().unwrap()
        };
        let browsed = |from: &str| {
            let text = browse(from, "0").text();
            between(&text, "<UpdateID>", "</UpdateID>").unwrap().to_owned()
        };
        let admitted = Subscriber::new(PLAYER);
        let waiting = Subscriber::new(OTHER);
        for subscriber in [&admitted, &waiting] {
            subscriber.event(5).expect("the initial event");
        }
        let (before, page) = (id(OTHER), browsed(OTHER));
        house.mostra(&["device", "refuse", PLAYER]);
        let (refused, refused_page) = (id(PLAYER), browsed(PLAYER));
        assert_eq!(admitted.renew("content").status, 403, "its subscription is gone");
        let callback = "CALLBACK: <http://127.0.0.41:5000/>\r\nNT: upnp:event\r\n";
        assert_eq!(ask(PLAYER, "SUBSCRIBE", "/event/content", callback).status, 403);
        // The house changes.
        house.publish("Pictures");
        assert_eq!((id(OTHER), browsed(OTHER)), (before, page), "it waits, and sees no change");
        assert_eq!((id(PLAYER), browsed(PLAYER)), (refused, refused_page));
        // Being let in is a change for whoever it concerns, and the first that it is told of.
        house.admit(OTHER);
        let (_, body) = waiting.event(5).expect("the event of the decision");
        assert!(body.contains("SystemUpdateID"), "{body}");
        assert_ne!(id(OTHER), before);
    });
}

#[test]
fn what_a_device_asked_in_vain_is_shown_and_proves_nothing() {
    in_a_house_timed(|house| {
        let mut service = house.begin();
        house.publish("Films");
        house.meet(PLAYER);
        browse(PLAYER, "0");
        let denied = |what: &str| {
            until(5, what, || {
                let device = house.device(PLAYER).unwrap();
                (device["denied"]["what"] == what).then_some(device)
            })
        };
        let device = denied("asked for the root menu");
        assert_eq!(house.confirmed(PLAYER), ["seen", "read"], "{device}");
        let shown = house.mostra(&["device", "show", PLAYER]);
        assert!(
            shown.contains("asked for the root menu") && shown.contains("got nothing: it waits"),
            "{shown}"
        );
        assert!(shown.contains("○ opened"), "{shown}");
        // Kept over a restart; gone once it is let in, and then it counts.
        service.stop();
        let _service = house.start();
        denied("asked for the root menu");
        house.admit(PLAYER);
        assert!(house.device(PLAYER).unwrap()["denied"].is_null());
        until(30, "the catalogue", || (house.json(&["status"])["loaded"] == true).then_some(()));
        let film = media_path(&browse(PLAYER, "video-all"), "Harbour at dawn");
        browse(PLAYER, "0");
        house.await_step(PLAYER, "opened");
        house.mostra(&["device", "refuse", PLAYER]);
        assert_eq!(ask(PLAYER, "GET", &film, "").status, 403);
        denied("asked for a file");
        let shown = house.mostra(&["device", "show", PLAYER]);
        assert!(
            shown.contains("got nothing: it is refused") && shown.contains("✓ opened"),
            "{shown}"
        );
    });
}

#[test]
fn a_console_that_cannot_open_everywhere_opens_nowhere() {
    in_a_house_timed(|house| {
        for (n, link) in ["lan0", "lan1"].into_iter().enumerate() {
            mostra_tests::wires::ip(&format!("link add {link} type veth peer name far{n}"));
            mostra_tests::wires::ip(&format!("link set far{n} up"));
            mostra_tests::wires::ip(&format!("addr add 10.77.{n}.1/24 dev {link}"));
            mostra_tests::wires::ip(&format!("link set {link} up"));
        }
        let _service = house.begin_with(&["--interfaces", "lan0,lan1"]);
        let served = || house.json(&["status"])["interfaces"].as_array().map(Vec::len);
        // A link comes up a moment after it was told to.
        until(10, "both links to be up", || (served() == Some(2)).then_some(()));
        let taken = TcpListener::bind("10.77.1.1:7642").unwrap();
        let said = house.mostra_fails(&["console", "open"]);
        assert!(said.contains("10.77.1.1:7642"), "{said}");
        assert_eq!(house.api("GET", "/console")["open"], false);
        assert!(TcpStream::connect("10.77.0.1:7642").is_err(), "nobody listens there");
        // With the obstacle gone it opens, without a restart.
        drop(taken);
        house.mostra(&["console", "open"]);
        for address in ["10.77.0.1:7642", "10.77.1.1:7642"] {
            assert!(TcpStream::connect(address).is_ok(), "{address}");
        }
        house.mostra(&["console", "close"]);
        until(5, "it to be closed", || TcpStream::connect("10.77.0.1:7642").is_err().then_some(()));
    });
}

#[test]
fn a_house_that_is_off_is_found_by_nobody_and_keeps_everything() {
    in_a_house_timed(|house| {
        let folder = tempfile::tempdir().unwrap();
        long_sound(&folder.path().join("Long.wav"));
        let mut service = house.begin();
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Sandbox"]);
        house.meet(PLAYER);
        house.admit(PLAYER);
        let path = until(30, "the sound", || {
            let browsed = browse(PLAYER, "music-all");
            browsed.text().contains("Long").then(|| media_path(&browsed, "Long"))
        });
        let items = house.items();
        let playing = Playing::begin(PLAYER, &path);
        let told = Subscriber::new(PLAYER);
        told.event(5).expect("the first event");
        let ear = raw::ear();
        let said = house.mostra(&["house", "off"]);
        assert!(said.contains("is OFF") && said.contains("mostra house on"), "{said}");
        // It is proven from outside, too.
        assert!(
            said.contains("✓ Byebye was said") && said.contains("its port is closed"),
            "{said}"
        );
        hear(&ear, 5, "byebye", |text| text.contains("NTS: ssdp:byebye"));
        let took = playing.ends();
        assert!(took < Duration::from_secs(2), "{took:?}");
        until(5, "the listener to close", || raw::connect(PLAYER, SERVER).is_err().then_some(()));
        assert!(raw::search(PLAYER, 2).is_none(), "nobody answers a search");
        assert!(house.json(&["stream", "list"]).as_array().unwrap().is_empty());
        // What it is asked meanwhile, and badly, changes nothing.
        let refused = house.mostra_fails(&["house", "off", "--until", "2001-02-03"]);
        assert!(refused.contains("has passed"), "{refused}");
        let wrong = house.client(&["house", "off", "--until", "some day"]);
        assert_eq!(wrong.status.code(), Some(2), "a wrong argument");
        assert!(String::from_utf8_lossy(&wrong.stderr).contains("2027-01-07"));
        let off = house.json(&["status"])["house"]["off"].clone();
        assert!(off["since_ms"].is_u64() && off["until_ms"].is_null(), "{off}");
        // It survives a restart.
        service.stop();
        let _service = house.start();
        assert!(house.mostra(&["status"]).contains("is OFF"));
        assert!(raw::connect(PLAYER, SERVER).is_err());
        until(10, "the catalogue", || (house.items() == items).then_some(()));
        let ear = raw::ear();
        house.mostra(&["house", "on"]);
        hear(&ear, 10, "alive", |text| text.contains("NTS: ssdp:alive"));
        assert_eq!(ask(PLAYER, "GET", &path, "Range: bytes=0-9\r\n").status, 206, "as before");
        // By itself, when its moment has come.
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_millis();
        let body = format!("{{\"until_ms\":{}}}", now + 3_000);
        assert_eq!(house.api_with("PUT", "/house/off", &body).unwrap().status, 200);
        until(5, "the listener to close", || raw::connect(PLAYER, SERVER).is_err().then_some(()));
        until(10, "the house to be on", || raw::connect(PLAYER, SERVER).is_ok().then_some(()));
        assert!(house.json(&["status"])["house"]["off"].is_null());
    });
}

#[test]
fn the_end_of_a_walkthrough_ends_what_plays_of_the_test_pieces() {
    in_a_house(|house| {
        house.put_test_pieces();
        // One that no test hears to its end.
        long_sound(&house.data.path().join("test-pieces/Music samples.wav"));
        let mut service = house.begin_with(&["--test-pieces", "on"]);
        house.publish("Films");
        house.meet(PLAYER);
        house.admit(PLAYER);
        house.mostra(&["walkthrough", "start", PLAYER]);
        let pieces = || {
            let root = raw::unescaped(&browse(PLAYER, "0").text());
            let first = root.split("<container id=\"").nth(1)?;
            first
                .contains("<dc:title>Test pieces<")
                .then(|| first.split('"').next().map(str::to_owned))?
        };
        let path = until(30, "the test pieces", || {
            let inside = browse(PLAYER, &pieces()?);
            inside.text().contains("Music samples").then(|| media_path(&inside, "Music samples"))
        });
        let playing = Playing::begin(PLAYER, &path);
        house.mostra(&["walkthrough", "finish", PLAYER]);
        let took = playing.ends();
        assert!(took < Duration::from_secs(2), "{took:?}");
        assert_eq!(ask(PLAYER, "GET", &path, "").status, 404);
        // Where they are switched off nobody sees them, though they were made before.
        assert!(service.stop());
        let _service = house.start();
        house.mostra(&["walkthrough", "start", PLAYER]);
        until(30, "the films", || {
            browse(PLAYER, "video-all").text().contains("Harbour").then_some(())
        });
        assert_eq!(pieces(), None);
    });
}
