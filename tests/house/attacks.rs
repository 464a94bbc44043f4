//! What somebody on the network, or a local user, tries against the house (docs/security.md).

use std::fs;
use std::io::{Read as _, Write as _};
use std::net::{Ipv4Addr, TcpListener, TcpStream, UdpSocket};
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::sync::{Arc, Barrier};
use std::time::Duration;

use mostra_tests::raw::{ask, browse, call};
use mostra_tests::wires::{ip, wired};
use mostra_tests::{in_a_house, media, query, until};

/// The most memory that a process has used, in bytes.
fn most_memory_of(process: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap();
    let number = line.trim().strip_suffix(" kB").unwrap();
    number.trim().parse::<u64>().unwrap() << 10
}

/// Serves one document at an address, and announces it as that of a root device.
fn announce(address: &'static str, document: String) {
    let listener = TcpListener::bind((address, 4000)).unwrap();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let _ = stream.read(&mut [0; 2048]);
            let head = format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", document.len());
            let _ = stream.write_all(format!("{head}{document}").as_bytes());
        }
    });
    let socket = UdpSocket::bind((address, 0)).unwrap();
    socket2::SockRef::from(&socket).set_multicast_if_v4(&Ipv4Addr::LOCALHOST).unwrap();
    let text = format!(
        "NOTIFY * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nCACHE-CONTROL: max-age=1800\r\n\
         LOCATION: http://{address}:4000/d.xml\r\nNT: upnp:rootdevice\r\nNTS: ssdp:alive\r\n\
         USN: uuid:costly::upnp:rootdevice\r\n\r\n"
    );
    socket.send_to(text.as_bytes(), "239.255.255.250:1900").unwrap();
}

/// N1 of the third security review.
#[test]
fn a_description_of_many_elements_under_a_long_name_takes_little_memory() {
    in_a_house(|house| {
        let service = house.begin();
        let before = most_memory_of(service.id());
        let long = "A".repeat(200_000);
        let document =
            format!("<root xmlns=\"{long}\"><device>{}</device></root>", "<a/>".repeat(81_000));
        announce("127.0.0.64", document);
        until(20, "the description to be refused", || {
            house.api("GET", "/network").to_string().contains("too large").then_some(())
        });
        let grown = most_memory_of(service.id()).saturating_sub(before);
        assert!(grown < 16 << 20, "{grown} bytes");
    });
}

/// N4: names that a device makes up, and others' sightings meanwhile.
#[test]
fn a_waiting_device_that_makes_up_actions_fills_no_records_and_silences_nobody() {
    in_a_house(|house| {
        const LOUD: &str = "127.0.0.71";
        const QUIET: &str = "127.0.0.72";
        let mut service = house.begin();
        house.publish("Films");
        house.meet(LOUD);
        for n in 0..3000 {
            let action = format!("A{n:064}");
            assert_eq!(call(LOUD, "content", &action, "").status, 500);
        }
        ask(QUIET, "GET", "/about/device.xml", "");
        assert_eq!(call(QUIET, "content", "NoSuch", "").status, 500);
        until(10, "the quiet one", || house.device(QUIET));
        let id = |address| house.device(address).unwrap()["id"].to_string();
        let (loud, quiet) = (id(LOUD), id(QUIET));
        service.stop();
        let rows = |device: &str| {
            let count = format!("select count(*) from sighting where device_id = {device}");
            query(&house.database_url, &count).parse::<u32>().unwrap()
        };
        assert!(rows(&loud) < 20, "{} rows", rows(&loud));
        let kept = format!(
            "select count(*) from sighting where device_id = {quiet} and act like '%unknown%'"
        );
        assert_eq!(query(&house.database_url, &kept), "1", "its own is kept");
        let times = format!("select max(times) from sighting where device_id = {loud}");
        assert!(
            query(&house.database_url, &times).parse::<u32>().unwrap() > 500,
            "they are counted"
        );
    });
}

/// L4: a request that comes while the neighbour entry of its address is missing.
#[test]
fn nobody_is_let_in_as_a_device_whose_hardware_address_is_not_known_now() {
    in_a_house(|house| {
        let there = wired("device", Some("02:5e:11:00:00:2c"));
        let _service = house.begin_with(&["--interfaces", "lan0"]);
        house.publish("Films");
        there.get("http://10.77.0.1:7640/media/none");
        until(10, "the device", || house.device("10.77.0.14"));
        house.admit("10.77.0.14");
        let film =
            house.json(&["catalogue", "list", "video-all"])["objects"][0]["original"].clone();
        let path = format!("/media/{}.mp4", film.as_str().unwrap());
        assert_eq!(there.get(&format!("http://10.77.0.1:7640{path}")), "200");
        let (connected, tell) = (Arc::new(Barrier::new(2)), Arc::new(Barrier::new(2)));
        let (ready, go) = (connected.clone(), tell.clone());
        let status = there.begin(move || {
            let mut stream = TcpStream::connect("10.77.0.1:7640").unwrap();
            ready.wait();
            go.wait();
            let head = format!("HEAD {path} HTTP/1.1\r\nHost: 10.77.0.1:7640\r\n\r\n");
            stream.write_all(head.as_bytes()).unwrap();
            let mut answer = [0; 12];
            stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
            stream.read_exact(&mut answer).unwrap();
            String::from_utf8_lossy(&answer[9..]).into_owned()
        });
        connected.wait();
        // The system forgets who is at the address, and nobody answers its question.
        ip("link set lan0 arp off");
        ip("neigh flush dev lan0");
        tell.wait();
        std::thread::sleep(Duration::from_millis(500));
        ip("link set lan0 arp on");
        assert_eq!(status.join().unwrap(), "403");
        // Once it is known again, it is let in as before.
        until(10, "the device", || {
            let path = format!("/media/{}.mp4", film.as_str().unwrap());
            (there.get(&format!("http://10.77.0.1:7640{path}")) == "200").then_some(())
        });
        assert_eq!(house.json(&["device", "list"]).as_array().unwrap().len(), 1);
    });
}

/// N6: a link in a folder for guests into a private one.
#[test]
fn a_link_into_another_published_folder_gives_nothing_of_it_away() {
    in_a_house(|house| {
        const GUEST: &str = "127.0.0.73";
        // A link into a hidden directory would not be followed anyway.
        let place = tempfile::Builder::new().prefix("mostra-links").tempdir().unwrap();
        let top = place.path().to_owned();
        let (guests, private) = (top.join("guests"), top.join("private"));
        fs::create_dir_all(&guests).unwrap();
        fs::create_dir_all(private.join("deep")).unwrap();
        fs::copy(media("Sound/Night log.mp3"), guests.join("open.mp3")).unwrap();
        fs::copy(media("Sound/Night log.mp3"), private.join("deep/secret.mp3")).unwrap();
        let _service = house.begin();
        let add = |place: &std::path::Path, label: &str| {
            house.mostra(&["folder", "add", place.to_str().unwrap(), "--label", label]);
        };
        add(&guests, "Guests");
        // It was followed, as long as nothing else was published there.
        symlink(private.join("deep"), guests.join("x")).unwrap();
        until(20, "the link to be followed", || {
            (house.json(&["status"])["items"] == 2).then_some(())
        });
        house.meet(GUEST);
        house.mostra(&["device", "admit", GUEST, "--folders", "Guests"]);
        add(&private, "Private");
        let seen = || browse(GUEST, "music-all").text();
        until(20, "the link to be followed no more", || {
            seen().contains("<TotalMatches>1<").then_some(())
        });
        // Neither is one to what is around it, or to a file in it.
        symlink(&top, guests.join("y")).unwrap();
        symlink(private.join("deep/secret.mp3"), guests.join("z.mp3")).unwrap();
        house.mostra(&["folder", "rescan", "Guests"]);
        assert!(seen().contains("<TotalMatches>1<"), "{}", seen());
        let shown = house.mostra(&["folder", "show", "Guests"]);
        assert!(shown.contains("a link into Private, which is published itself"), "{shown}");
    });
}

/// N6: what the owner of a link could not read is not shown by it.
#[test]
fn a_link_shows_no_more_than_its_owner_could_read() {
    in_a_house(|house| {
        let place = tempfile::Builder::new().prefix("mostra-links").tempdir().unwrap();
        let top = place.path();
        let mode = |place: &std::path::Path, mode| {
            fs::set_permissions(place, fs::Permissions::from_mode(mode)).unwrap();
        };
        let [shared, closed, open, inner] =
            ["shared", "closed", "open", "open/inner"].map(|name| top.join(name));
        mode(top, 0o755);
        for (directory, name) in
            [(&shared, "own"), (&closed, "secret"), (&open, "free"), (&inner, "deep")]
        {
            fs::create_dir_all(directory).unwrap();
            mode(directory, 0o755);
            let file = directory.join(name).with_extension("mp3");
            fs::copy(media("Sound/Night log.mp3"), &file).unwrap();
            mode(&file, 0o644);
        }
        fs::copy(media("Sound/Night log.mp3"), open.join("locked.mp3")).unwrap();
        mode(&open.join("locked.mp3"), 0o600);
        mode(&closed, 0o700);
        mode(&inner, 0o750);
        let link = |target: &std::path::Path, name: &str, owner: u32| {
            symlink(target, shared.join(name)).unwrap();
            std::os::unix::fs::lchown(shared.join(name), Some(owner), Some(owner)).unwrap();
        };
        const SOMEBODY: u32 = 60_123;
        link(&closed, "a", SOMEBODY);
        link(&closed.join("secret.mp3"), "b.mp3", SOMEBODY);
        link(&open, "c", SOMEBODY);
        let _service = house.begin();
        house.mostra(&["folder", "add", shared.to_str().unwrap(), "--label", "Shared"]);
        let items = || house.json(&["status"])["items"].as_u64().unwrap();
        let shown = house.mostra(&["folder", "show", "Shared"]);
        assert_eq!(items(), 2, "its own file, and the one that anybody may read: {shown}");
        for path in ["a", "b.mp3", "c/inner", "c/locked.mp3"] {
            assert!(shown.contains(path), "{path}: {shown}");
        }
        assert!(shown.contains("a link, or behind one, whose owner may not read it"), "{shown}");
        // The administrator's links lead where they will.
        link(&closed, "d", 0);
        until(20, "the administrator's link to be followed", || (items() == 3).then_some(()));
        house.mostra(&["folder", "links", "Shared", "all"]);
        assert_eq!(items(), 6, "the rest of c, b.mp3, and a or d, which lead to one place");
        assert!(house.mostra(&["house", "export"]).contains("links = \"all\""));
        house.mostra(&["folder", "links", "Shared", "readable"]);
        let shown = house.mostra(&["catalogue", "list", "music-all"]);
        let left = house.mostra(&["folder", "show", "Shared"]);
        assert_eq!(items(), 3, "what nobody but the owner may see goes: {shown} {left}");
    });
}
