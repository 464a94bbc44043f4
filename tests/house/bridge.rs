//! A house on a bridge, as most are: several hosts with hardware addresses of their own, some of
//! whose links go down.

use std::time::Duration;

use mostra_tests::wires::{Namespace, ear, hear, ip};
use mostra_tests::{House, in_a_house, until};

/// A host on the bridge, by its number.
struct Host {
    place: Namespace,
    number: u8,
}

impl Host {
    fn new(number: u8) -> Host {
        let place = Namespace::new("host");
        ip(&format!("link add port{number} type veth peer name lan netns {}", place.name()));
        ip(&format!("link set port{number} master lan0"));
        ip(&format!("link set port{number} up"));
        place.ip(&format!("link set lan address 02:5e:11:00:01:{number:02x}"));
        place.ip(&format!("addr add 10.77.0.{number}/24 dev lan"));
        place.ip("link set lan up");
        Host { place, number }
    }

    fn address(&self) -> String {
        format!("10.77.0.{}", self.number)
    }

    fn get(&self, path: &str) -> String {
        self.place.get(&format!("http://10.77.0.1:7640{path}"))
    }

    /// What the house knows of it.
    fn device(&self, house: &House) -> Option<serde_json::Value> {
        let hardware = format!("02:5e:11:00:01:{:02x}", self.number);
        let devices = house.json(&["device", "list"]);
        devices.as_array()?.iter().find(|d| d["hardware"] == hardware.as_str()).cloned()
    }
}

#[test]
fn only_subnets_that_are_ours_or_named_are_answered() {
    in_a_house(|house| {
        ip("link add lan0 type bridge");
        ip("link set lan0 type bridge forward_delay 0");
        ip("addr add 10.77.0.1/24 dev lan0");
        ip("link set lan0 up");
        // Their packets come by the same interface, from addresses beyond its subnet (SEC-3).
        let hosts =
            [(11, "10.88.0.11"), (12, "10.99.0.12"), (13, "10.77.0.13")].map(|(n, address)| {
                let host = Host::new(n);
                host.place.ip(&format!("addr replace {address}/32 dev lan"));
                host.place.ip("route replace 10.77.0.1/32 dev lan");
                host.place.ip(&format!("route replace 10.77.0.0/24 dev lan src {address}"));
                ip(&format!("route replace {address}/32 dev lan0"));
                host
            });
        let subnets = ["--interfaces", "lan0", "--also-from", "10.88.0.0/24"];
        let _service = house.begin_with(&subnets);
        let status = |host: &Host, source: &str| {
            let url = "http://10.77.0.1:7640/about/device.xml";
            host.place.get_from(source, url)
        };
        assert_eq!(status(&hosts[0], "10.88.0.11"), "200", "named");
        assert_eq!(status(&hosts[1], "10.99.0.12"), "403");
        assert_eq!(status(&hosts[2], "10.77.0.13"), "200", "of the interface");
    });
}

#[test]
fn hosts_on_a_bridge_are_told_apart_and_one_that_goes_takes_nobody_along() {
    in_a_house(|house| {
        ip("link add lan0 type bridge");
        // Else a port that comes up learns in silence for half a minute.
        ip("link set lan0 type bridge forward_delay 0");
        ip("addr add 10.77.0.1/24 dev lan0");
        ip("link set lan0 up");
        let hosts: Vec<Host> = (11..=14).map(Host::new).collect();
        let ears: Vec<_> =
            hosts.iter().map(|h| ear(&h.place, h.address().parse().unwrap())).collect();
        let _service = house.begin_with(&["--interfaces", "lan0"]);
        house.publish("Films");
        // Each hears the house and fetches what it announces.
        for (host, ear) in hosts.iter().zip(&ears) {
            let (alive, _) = hear(ear, 10, "alive", |t| t.contains("NTS: ssdp:alive"));
            assert!(alive.contains("LOCATION: http://10.77.0.1:7640/"), "{alive}");
            assert_eq!(host.get("/about/device.xml"), "200");
            host.get("/media/none");
            let device = until(10, "the device", || host.device(&house));
            assert_eq!(device["address"], host.address().as_str());
        }
        // One decision for each of them.
        house.mostra(&["device", "admit", "02:5e:11:00:01:0b", "--name", "Lounge television"]);
        house.mostra(&["device", "refuse", "02:5e:11:00:01:0c"]);
        let films = house.json(&["catalogue", "list", "video-all"]);
        let film = format!("/media/{}.mp4", films["objects"][0]["original"].as_str().unwrap());
        let got: Vec<String> = hosts.iter().map(|h| h.get(&film)).collect();
        assert_eq!(got, ["200", "403", "403", "403"]);
        // A refused one gets no answers to searches; the others do.
        let found = |host: &Host| {
            let address = host.address();
            host.place.inside(move || {
                let socket = std::net::UdpSocket::bind((address.as_str(), 0)).unwrap();
                socket.set_read_timeout(Some(Duration::from_secs(2))).unwrap();
                socket.set_multicast_ttl_v4(2).unwrap();
                let search = b"M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\n\
                    MAN: \"ssdp:discover\"\r\nMX: 1\r\nST: upnp:rootdevice\r\n\r\n";
                socket.send_to(search, "239.255.255.250:1900").unwrap();
                socket.recv_from(&mut [0; 2048]).is_ok()
            })
        };
        let answered: Vec<bool> = hosts.iter().map(found).collect();
        assert_eq!(answered, [true, false, true, true]);
        // The cable of one is pulled while it streams; the others go on.
        ip("link set port13 down");
        assert_eq!(hosts[0].get(&film), "200");
        assert_eq!(hosts[2].get("/about/device.xml"), "000", "it is gone");
        let served = house.json(&["status"])["interfaces"].as_array().unwrap().len();
        assert_eq!(served, 1, "the house's own link is as it was");
        ip("link set port13 up");
        until(15, "it to be back", || (hosts[2].get("/about/device.xml") == "200").then_some(()));
        // Moved to another port of the bridge, it is still the same device.
        ip("link set port11 nomaster");
        ip("link set port11 master lan0");
        until(15, "it to be back", || (hosts[0].get(&film) == "200").then_some(()));
        // The bridge itself goes down and comes up again: the house is announced anew.
        ip("link set lan0 down");
        until(10, "the house to notice", || {
            house.json(&["status"])["interfaces"].as_array().unwrap().is_empty().then_some(())
        });
        while ears[3].recv_from(&mut [0; 2048]).is_ok() {}
        ip("link set lan0 up");
        hear(&ears[3], 10, "alive again", |t| t.contains("NTS: ssdp:alive"));
        assert_eq!(hosts[3].get("/about/device.xml"), "200");
    });
}
