//! A house with a real link: standing hangs on the hardware address.

use std::process::Command;

use mostra_tests::{House, in_a_house, raw, until};

fn ip(arguments: &str) {
    let status = Command::new("ip").args(arguments.split(' ')).status().expect("ip runs");
    assert!(status.success(), "ip {arguments}");
}

/// A namespace for the device, gone with the test.
struct Elsewhere(String);

impl Elsewhere {
    fn new() -> Elsewhere {
        let name = format!("mostra-test-{}", std::process::id());
        ip(&format!("netns add {name}"));
        Elsewhere(name)
    }

    fn ip(&self, arguments: &str) {
        ip(&format!("-n {} {arguments}", self.0));
    }

    /// GET from the device; gives the status.
    fn get(&self, path: &str) -> String {
        let url = format!("http://10.77.0.1:7640{path}");
        let arguments =
            ["netns", "exec", &self.0, "curl", "-s", "-o", "/dev/null", "-w", "%{http_code}", &url];
        let output = Command::new("ip").args(arguments).output().expect("curl runs");
        String::from_utf8_lossy(&output.stdout).into_owned()
    }
}

impl Drop for Elsewhere {
    fn drop(&mut self) {
        let _ = Command::new("ip").args(["netns", "del", &self.0]).status();
    }
}

fn by_hardware(house: &House, hardware: &str) -> Option<serde_json::Value> {
    let devices = house.json(&["device", "list"]);
    devices.as_array()?.iter().find(|d| d["hardware"] == hardware).cloned()
}

#[test]
fn standing_follows_the_device_and_not_its_address() {
    in_a_house(|house| {
        let there = Elsewhere::new();
        ip(&format!("link add lan0 type veth peer name dev0 netns {}", there.0));
        ip("addr add 10.77.0.1/24 dev lan0");
        ip("link set lan0 up");
        there.ip("link set dev0 address 02:5e:11:00:00:2c");
        there.ip("addr add 10.77.0.14/24 dev dev0");
        there.ip("link set dev0 up");
        let mut command = house.service_command();
        command.args(["--interfaces", "lan0"]);
        let log = std::fs::File::create(house.data.path().join("mostrad.log")).unwrap();
        let mut service = command.stderr(log).spawn().unwrap();
        until(30, "the console", || raw::get("127.0.0.1:7641", "/api/v1/setup").ok());
        std::fs::write(house.data.path().join("password"), mostra_tests::PASSWORD).unwrap();
        house.mostra(&[
            "login",
            "--password-file",
            house.data.path().join("password").to_str().unwrap(),
        ]);
        house.publish("Films");

        assert_eq!(there.get("/about/device.xml"), "200");
        let device = until(30, "the device", || by_hardware(&house, "02:5e:11:00:00:2c"));
        assert_eq!(device["address"], "10.77.0.14");
        house.mostra(&["device", "admit", "02:5e:11:00:00:2c", "--name", "Lounge television"]);
        let films = house.json(&["catalogue", "list", "video-all"]);
        let film = films["objects"][0]["original"].as_str().unwrap();
        let film = format!("/media/{film}.mp4");
        assert_eq!(there.get(&film), "200");

        // The same device at a new address is still let in.
        there.ip("addr del 10.77.0.14/24 dev dev0");
        there.ip("addr add 10.77.0.15/24 dev dev0");
        assert_eq!(there.get(&film), "200");
        // Another device at the old address is not.
        there.ip("link set dev0 down");
        there.ip("link set dev0 address 02:5e:11:00:00:99");
        there.ip("link set dev0 up");
        ip("neigh flush dev lan0");
        assert_eq!(there.get(&film), "403");
        let other = until(30, "the other device", || by_hardware(&house, "02:5e:11:00:00:99"));
        assert_eq!(
            (other["standing"].as_str(), other["address"].as_str()),
            (Some("waiting"), Some("10.77.0.15"))
        );
        service.kill().unwrap();
        service.wait().unwrap();
    });
}
