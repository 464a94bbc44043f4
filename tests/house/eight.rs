//! A house of eight devices on a real network: each in a namespace of its own, with the hardware
//! addresses that its persona names.

use std::io::Read as _;
use std::process::{Command, Stdio};

use mostra_tests::raw::between;
use mostra_tests::wires::{Namespace, ip};
use mostra_tests::{House, Running, binary, in_a_house_timed, raw, top, until};
use serde_json::Value;

/// A device: its namespace, its wires to the bridge, and its stand-in.
struct WiredDevice {
    place: Namespace,
    address: String,
    stand_in: Running,
}

fn persona(name: &str) -> String {
    std::fs::read_to_string(top().join(format!("demo/personas/{name}.toml"))).unwrap()
}

/// The hardware addresses that a persona names.
fn hardware(persona: &str) -> Vec<String> {
    let line = persona.lines().find_map(|line| line.strip_prefix("hardware = ")).unwrap();
    line.split('"').skip(1).step_by(2).map(str::to_owned).collect()
}

/// A wire from a namespace to the bridge.
fn wire(place: &Namespace, near: &str, far: &str, hardware: &str, address: &str) {
    ip(&format!("link add {near} type veth peer name {far} netns {}", place.name()));
    ip(&format!("link set {near} master lan0"));
    ip(&format!("link set {near} up"));
    place.ip(&format!("link set {far} address {hardware}"));
    place.ip(&format!("addr add {address}/24 dev {far}"));
    place.ip(&format!("link set {far} up"));
}

fn switch_on(house: &House, place: &Namespace, persona: &str, address: &str) -> Running {
    let own = persona.lines().find(|line| line.starts_with("address = ")).unwrap();
    let text = persona.replace(own, &format!("address = \"{address}\""));
    let file = house.data.path().join(format!("{address}.toml"));
    std::fs::write(&file, text).unwrap();
    let child = Command::new("ip")
        .args(["netns", "exec", place.name()])
        .arg(binary("mostra-stage"))
        .args(["run", "--quiet"])
        .arg(&file)
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let running = Running::of(child);
    until(30, "a stand-in", || {
        (place.get(&format!("http://{address}:7690/stage/screen")) == "200").then_some(())
    });
    running
}

impl WiredDevice {
    fn new(house: &House, name: &str, number: u8, hardware: Option<&str>) -> WiredDevice {
        let text = persona(name);
        let place = Namespace::new("dev");
        // By it a device reaches itself.
        place.ip("link set lo up");
        let address = format!("10.77.0.{number}");
        let own = self::hardware(&text);
        wire(&place, &format!("w{number}"), "dev0", hardware.unwrap_or(&own[0]), &address);
        let stand_in = switch_on(house, &place, &text, &address);
        WiredDevice { place, address, stand_in }
    }

    fn tell(&self, deed: &[&str]) -> (bool, String) {
        let output = Command::new("ip")
            .args(["netns", "exec", self.place.name()])
            .arg(binary("mostra-stage"))
            .args(["do", &self.address])
            .args(deed)
            .output()
            .unwrap();
        let said = [output.stdout, output.stderr].concat();
        (output.status.success(), String::from_utf8_lossy(&said).into_owned())
    }
}

fn rows(house: &House) -> Vec<Value> {
    house.json(&["network", "list"])["things"].as_array().cloned().unwrap_or_default()
}

fn by_hardware(house: &House, hardware: &str) -> Option<Value> {
    let devices = house.json(&["device", "list"]);
    devices.as_array()?.iter().find(|d| d["hardware"] == hardware).cloned()
}

#[test]
fn eight_devices_are_found_joined_and_stay_who_they_are() {
    in_a_house_timed(|house| {
        ip("link add lan0 type bridge mcast_snooping 0");
        ip("addr add 10.77.0.1/24 dev lan0");
        ip("link set lan0 up");
        let _service = house.begin_with(&["--interfaces", "lan0"]);
        house.publish("Films");
        house.publish("Sound");
        let on = |name: &str, number, hardware: Option<&str>| {
            WiredDevice::new(&house, name, number, hardware)
        };
        let lounge = on("lounge-television", 11, None);
        // One of the same make: nothing that it says tells it from the other.
        let loft = on("lounge-television", 18, Some("00:00:5e:00:53:18"));
        let disc = on("cottage-disc-player", 12, None);
        let _speaker = on("kitchen-speaker", 13, None);
        let _router = on("harbour-router", 14, None);
        let attic = on("attic-server", 15, None);
        let phone = on("keepers-phone", 16, None);
        let den = on("den-console", 17, None);

        // Found, each once.
        for player in [&lounge, &loft, &disc, &phone, &den] {
            let (found, said) = player.tell(&["find"]);
            assert!(found || said.contains("no menu"), "{}: {said}", player.address);
        }
        let all = until(20, "eight of them", || {
            let all = rows(&house);
            (all.len() == 8).then_some(all)
        });
        let labels: Vec<&str> = all.iter().map(|row| row["label"].as_str().unwrap()).collect();
        for name in ["Kitchen speaker", "Harbour router", "Attic server"] {
            assert!(labels.contains(&name), "{name} in {labels:?}");
        }
        assert_eq!(house.json(&["device", "list"]).as_array().unwrap().len(), 5);
        let disc = by_hardware(&house, "00:00:5e:00:53:12").unwrap();
        assert_eq!(disc["roles"], serde_json::json!(["player"]), "by what it does: {disc}");
        // Each is known by its hardware address; two alike are two.
        let (first, second) = ("00:00:5e:00:53:11", "00:00:5e:00:53:18");
        assert_eq!(by_hardware(&house, first).unwrap()["address"], "10.77.0.11");
        assert_eq!(by_hardware(&house, second).unwrap()["address"], "10.77.0.18");
        let private = by_hardware(&house, "02:00:5e:00:53:16").unwrap();
        assert_eq!(private["private_hardware"], true, "a phone that made its address up");

        // Joined: the attic server by cable and by radio is one row.
        let text = persona("attic-server");
        wire(&attic.place, "w25", "dev1", &hardware(&text)[1], "10.77.0.25");
        let _radio = switch_on(&house, &attic.place, &text, "10.77.0.25");
        let joined = until(20, "it to be heard by radio as well", || {
            let all = rows(&house);
            assert_eq!(all.len(), 8, "it is one and the same");
            let row = all.iter().find(|row| row["label"] == "Attic server")?.clone();
            (row["address"] == "10.77.0.25").then_some(row)
        });
        assert_eq!(
            (&joined["roles"], &joined["presence"]),
            (&serde_json::json!(["server"]), &"here".into())
        );

        // Renamed, and let in; its twin is not.
        house.mostra(&["device", "admit", first, "--name", "Lounge television"]);
        assert!(lounge.tell(&["list", "Video/All videos"]).0);
        assert!(!loft.tell(&["list", "Video/All videos"]).0, "it was not let in");

        // Moved to another address: it stays who it is.
        let moved = lounge;
        drop(moved.stand_in);
        moved.place.ip("addr del 10.77.0.11/24 dev dev0");
        moved.place.ip("addr add 10.77.0.31/24 dev dev0");
        let stand_in = switch_on(&house, &moved.place, &persona("lounge-television"), "10.77.0.31");
        let lounge = WiredDevice { address: "10.77.0.31".into(), stand_in, ..moved };
        let (found, said) = lounge.tell(&["find"]);
        assert!(found, "{said}");
        assert!(lounge.tell(&["list", "Video/All videos"]).0, "its standing went with it");
        let known = by_hardware(&house, first).unwrap();
        assert_eq!(
            (&known["name"], &known["address"]),
            (&"Lounge television".into(), &"10.77.0.31".into())
        );
        assert_eq!(house.json(&["device", "list"]).as_array().unwrap().len(), 5);

        // Refused in mid-stream: what runs ends, and comes back once it is let in again.
        let listed = house.json(&["catalogue", "list", "video-all"]);
        let mut films = listed["objects"].as_array().unwrap().iter();
        let film = films.find(|object| object["title"] == "Harbour at dawn").unwrap();
        let film = film["original"].as_str().unwrap();
        let request = format!("GET /media/{film}.mp4 HTTP/1.1\r\nHost: 10.77.0.1:7640\r\n\r\n");
        let (mut stream, begin) = lounge.place.inside(move || {
            use std::io::Write as _;
            let mut stream = raw::connect_with("10.77.0.31", "10.77.0.1:7640", Some(4096)).unwrap();
            stream.write_all(request.as_bytes()).unwrap();
            let mut begin = [0; 1024];
            stream.read_exact(&mut begin).unwrap();
            (stream, String::from_utf8_lossy(&begin).into_owned())
        });
        assert!(begin.starts_with("HTTP/1.1 200"), "{begin}");
        let size = begin.to_lowercase();
        let size: u64 = between(&size, "content-length: ", "\r\n").unwrap().parse().unwrap();
        house.mostra(&["device", "refuse", "Lounge television"]);
        let mut rest = Vec::new();
        let ended = stream.read_to_end(&mut rest);
        assert!(ended.is_err() || (rest.len() as u64) < size, "{} of {size}", rest.len());
        assert!(!lounge.tell(&["list", "Video/All videos"]).0);
        house.mostra(&["device", "admit", "Lounge television"]);
        until(10, "it to list again", || {
            lounge.tell(&["list", "Video/All videos"]).0.then_some(())
        });

        // Seen from a second subnet that is not served: it gets nothing, and leaves a trace.
        lounge.place.ip("addr add 10.99.0.31/24 dev dev0");
        ip("route add 10.99.0.0/24 dev lan0");
        let url = "http://10.77.0.1:7640/about/device.xml";
        assert_eq!(lounge.place.get_from("10.99.0.31", url), "403");
        let traces = house.json(&["network", "list"])["outsiders"].clone();
        assert!(traces.to_string().contains("10.99.0.31"), "{traces}");
        let still = by_hardware(&house, first).unwrap();
        assert_eq!(
            (&still["standing"], &still["address"]),
            (&"admitted".into(), &"10.77.0.31".into())
        );
        drop(den.stand_in);

        // Walked through with a firewall in between: the cause is told, and goes with the firewall.
        // It comes first: who is let in lists at once.
        nft("add table inet between");
        nft("add chain inet between in { type filter hook input priority 0 ; }");
        nft("add rule inet between in ip saddr 10.77.0.18 tcp dport 7640 drop");
        house.mostra(&["device", "admit", second, "--name", "Loft television"]);
        house.mostra(&["walkthrough", "start", second]);
        assert!(!loft.tell(&["find"]).0);
        let comes_to = |word: &str| {
            let now = house.json(&["walkthrough", "status", second]);
            (now["summary"]["verdict"] == word).then_some(now)
        };
        let told = until(40, "the cause", || comes_to("no-way-to-description"));
        assert_eq!(told["steps"][1]["cause"]["place"], "preflight");
        nft("delete table inet between");
        let (found, said) = loft.tell(&["find"]);
        assert!(found, "{said}");
        // A list counts once the device has acknowledged it.
        until(5, "the cause to go, and the steps to tick", || {
            let now = comes_to("open")?;
            let done = |step: usize| now["steps"][step]["state"] == "done";
            (done(1) && done(2)).then_some(())
        });
        house.json(&["walkthrough", "finish", second]);

        // In the house as a file each is known by its hardware address.
        let text = house.mostra(&["house", "export"]);
        for hardware in [first, second] {
            assert!(text.contains(&format!("hardware = \"{hardware}\"")), "{text}");
        }
    });
}

fn nft(rule: &str) {
    let status = Command::new("nft").arg(rule).status().expect("nft runs");
    assert!(status.success(), "{rule}");
}
