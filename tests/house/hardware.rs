//! A house with a real link: standing hangs on the hardware address.

use mostra_tests::wires::{ip, wired};
use mostra_tests::{House, in_a_house, until};

fn by_hardware(house: &House, hardware: &str) -> Option<serde_json::Value> {
    let devices = house.json(&["device", "list"]);
    devices.as_array()?.iter().find(|d| d["hardware"] == hardware).cloned()
}

#[test]
fn standing_follows_the_device_and_not_its_address() {
    in_a_house(|house| {
        let there = wired("device", Some("02:5e:11:00:00:2c"));
        let _service = house.begin_with(&["--interfaces", "lan0"]);
        house.publish("Films");

        let get = |path: &str| there.get(&format!("http://10.77.0.1:7640{path}"));
        assert_eq!(get("/about/device.xml"), "200");
        get("/media/none");
        let device = until(30, "the device", || by_hardware(&house, "02:5e:11:00:00:2c"));
        assert_eq!(device["address"], "10.77.0.14");
        house.mostra(&["device", "admit", "02:5e:11:00:00:2c", "--name", "Lounge television"]);
        let films = house.json(&["catalogue", "list", "video-all"]);
        let film = films["objects"][0]["original"].as_str().unwrap();
        let film = format!("/media/{film}.mp4");
        assert_eq!(get(&film), "200");

        // The same device at a new address is still let in.
        there.ip("addr del 10.77.0.14/24 dev far0");
        there.ip("addr add 10.77.0.15/24 dev far0");
        assert_eq!(get(&film), "200");
        // Another device at the old address is not.
        there.ip("link set far0 down");
        there.ip("link set far0 address 02:5e:11:00:00:99");
        there.ip("link set far0 up");
        ip("neigh flush dev lan0");
        assert_eq!(get(&film), "403");
        let other = until(30, "the other device", || by_hardware(&house, "02:5e:11:00:00:99"));
        assert_eq!(
            (other["standing"].as_str(), other["address"].as_str()),
            (Some("waiting"), Some("10.77.0.15"))
        );
    });
}
