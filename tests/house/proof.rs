//! Proof comes only from what devices really took.

use std::io::{Read, Write};

use mostra_tests::raw::{self, browse, media_path};
use mostra_tests::{House, SERVER, TELEVISION, in_a_house, query, until};

const DEVICE: &str = "127.0.0.41";
/// The last device of a test: once its proof shows, earlier sightings have been dealt with.
const MARKER: &str = "127.0.0.49";

fn admitted(house: &House, from: &str) {
    raw::ask(from, "GET", "/about/device.xml", "");
    raw::ask(from, "GET", "/media/none", "");
    until(30, "the device", || house.device(from));
    house.admit(from);
    browse(from, "0");
    browse(from, "video-all");
    house.await_step(from, "listed");
}

fn size(from: &str, path: &str) -> u64 {
    raw::ask(from, "HEAD", path, "").field("content-length").unwrap().parse().unwrap()
}

fn range(from: &str, path: &str, first: u64, last: u64) {
    let answer = raw::ask(
        from,
        "GET",
        path,
        &format!("Range: bytes={first}-{last}\r\nConnection: close\r\n"),
    );
    assert_eq!(answer.status, 206);
    assert_eq!(answer.body.len() as u64, last - first + 1);
}

/// Plays on another device until its proof shows, so that what came before has been digested.
fn settle(house: &House, film: &str) {
    admitted(house, MARKER);
    let size = size(MARKER, film);
    range(MARKER, film, 0, size / 2);
    house.await_step(MARKER, "started");
}

fn nothing_played(house: &House) {
    let steps = house.confirmed(DEVICE);
    assert_eq!(steps, ["seen", "read", "opened", "listed"]);
}

#[test]
fn a_prober_confirms_nothing() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        admitted(&house, DEVICE);
        let film = media_path(&browse(DEVICE, "video-all"), "Harbour at dawn");
        let size = size(DEVICE, &film);
        range(DEVICE, &film, 0, 1);
        range(DEVICE, &film, 0, 65_535);
        range(DEVICE, &film, size - 65_536, size - 1);
        // Opens the whole, reads a little, and closes.
        let mut stream = raw::connect_with(DEVICE, SERVER, Some(16_384)).unwrap();
        write!(stream, "GET {film} HTTP/1.1\r\nHost: {SERVER}\r\nRange: bytes=0-\r\n\r\n").unwrap();
        stream.read_exact(&mut [0; 8192]).unwrap();
        drop(stream);
        settle(&house, &film);
        nothing_played(&house);
    });
}

#[test]
fn a_reader_of_the_tail_confirms_nothing() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        admitted(&house, DEVICE);
        let film = media_path(&browse(DEVICE, "video-all"), "Harbour at dawn");
        let size = size(DEVICE, &film);
        range(DEVICE, &film, size - size / 5, size - 1);
        settle(&house, &film);
        nothing_played(&house);
    });
}

#[test]
fn a_client_that_asks_and_never_reads_confirms_nothing() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        admitted(&house, DEVICE);
        let film = media_path(&browse(DEVICE, "video-all"), "Harbour at dawn");
        // With the system's own buffers, and with ones large enough to hold much of the film.
        let mut asking = Vec::new();
        for buffer in [None, Some(600_000)] {
            let mut stream = raw::connect_with(DEVICE, SERVER, buffer).unwrap();
            write!(stream, "GET {film} HTTP/1.1\r\nHost: {SERVER}\r\n\r\n").unwrap();
            asking.push(stream);
        }
        settle(&house, &film);
        nothing_played(&house);
        // Closed without having read: still nothing.
        drop(asking);
        raw::ask(MARKER, "HEAD", &film, "");
        until(30, "the streams to end", || (house.json(&["status"])["streams"] == 0).then_some(()));
        nothing_played(&house);
    });
}

#[test]
fn playing_and_skipping_confirm_with_item_and_bytes() {
    in_a_house(|house| {
        let mut service = house.begin();
        house.publish("Films");
        house.publish("Sound");
        admitted(&house, DEVICE);
        let film = media_path(&browse(DEVICE, "video-all"), "Harbour at dawn");
        let size = size(DEVICE, &film);
        range(DEVICE, &film, 0, size / 8);
        range(DEVICE, &film, size / 8 + 1, size / 4);
        house.await_step(DEVICE, "started");
        assert!(!house.confirmed(DEVICE).contains(&"skipped ahead".to_owned()));
        range(DEVICE, &film, size / 2, size / 2 + size / 4);
        house.await_step(DEVICE, "skipped ahead");
        let device = house.device(DEVICE).unwrap();
        let started = &device["proof"][4];
        assert_eq!(started["item"], "Harbour at dawn");
        let bytes = started["bytes"].as_u64().unwrap();
        assert!(bytes >= size / 5 && bytes <= size / 4 + 1, "{bytes} of {size}");
        assert!(started["at_ms"].as_u64().unwrap() > 1_700_000_000_000);
        // Kept over a kill, once it is in the records.
        until(30, "the proof to be saved", || {
            let proofs = query(&house.database_url, "select count(*) from proof");
            (proofs == "6").then_some(())
        });
        service.kill();
        let _service = house.start();
        assert_eq!(house.device(DEVICE).unwrap()["proof"], device["proof"]);
        let shown = house.mostra(&["device", "show", DEVICE]);
        assert!(shown.contains("✓ skipped ahead") && shown.contains("Harbour at dawn"), "{shown}");
    });
}

#[test]
fn a_picture_counts_when_it_is_whole() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.publish("Pictures");
        admitted(&house, DEVICE);
        let film = media_path(&browse(DEVICE, "video-all"), "Harbour at dawn");
        let picture = media_path(&browse(DEVICE, "pictures-all"), "Storm 2");
        let size = size(DEVICE, &picture);
        range(DEVICE, &picture, 0, size - 2);
        settle(&house, &film);
        nothing_played(&house);
        // On a connection that closes after the answer, as old devices ask.
        let whole = raw::ask(DEVICE, "GET", &picture, "Connection: close\r\n");
        assert_eq!(whole.body.len() as u64, size);
        house.await_step(DEVICE, "started");
    });
}

#[test]
fn a_player_that_keeps_to_the_films_time_is_told_from_one_that_copies() {
    in_a_house(|house| {
        const COPIER: &str = "127.0.0.52";
        let _service = house.begin();
        house.publish("Films");
        let _stand_ins = house.stand_ins(&["lounge-television"]);
        assert!(house.tell(TELEVISION, &["find"]).0);
        until(30, "the television", || house.device(TELEVISION));
        house.admit(TELEVISION);
        house.meet(COPIER);
        house.admit(COPIER);
        // One takes the whole film at once.
        let film = media_path(&browse(COPIER, "video-all"), "Harbour at dawn");
        assert_eq!(raw::ask(COPIER, "GET", &film, "").status, 200);
        // The other takes it as it plays.
        until(10, "the list on its screen", || {
            house.tell(TELEVISION, &["list", "Video/All videos"]).0.then_some(())
        });
        let (watched, said) = house.tell(TELEVISION, &["watch", "Harbour at dawn", "28"]);
        assert!(watched, "{said}");
        house.await_step(TELEVISION, "kept playing");
        let device = house.device(TELEVISION).unwrap();
        let steps = device["proof"].as_array().unwrap();
        let kept = steps.iter().find(|step| step["step"] == "kept playing").unwrap();
        assert_eq!(kept["item"], "Harbour at dawn");
        assert!(kept["what"].as_str().unwrap().ends_with("in the time that they play"), "{kept}");
        let of_copier = house.confirmed(COPIER);
        assert!(of_copier.contains(&"started".to_owned()), "{of_copier:?}");
        assert!(!of_copier.contains(&"kept playing".to_owned()), "{of_copier:?}");
    });
}
