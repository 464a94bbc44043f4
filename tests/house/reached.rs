//! The console on the house's network: how a person gets there, and that it follows the host's
//! addresses.

use std::process::Command;

use mostra_tests::wires::{Namespace, ip, wired};
use mostra_tests::{House, in_a_house, until};

/// What `curl` says of a request from inside a namespace: the status and where it leads.
fn leads(place: &Namespace, more: &[&str]) -> (String, String) {
    let output = Command::new("ip")
        .args(["netns", "exec", place.name(), "curl", "-s", "-m", "10", "-o", "/dev/null"])
        .args(["-w", "%{http_code} %{redirect_url}"])
        .args(more)
        .output()
        .unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    let (status, to) = text.split_once(' ').unwrap();
    (status.to_owned(), to.to_owned())
}

/// Whether the tablet reaches the console at an address, and trusts its certificate for it.
fn is_trusted(house: &House, tablet: &Namespace, url: &str) -> bool {
    let certificate = house.data.path().join("console.crt");
    leads(tablet, &["--cacert", certificate.to_str().unwrap(), url]).0 == "200"
}

fn fingerprint(house: &House) -> String {
    let access = house.json(&["console", "open"]);
    let ends = access["certificate_ends_ms"].as_u64().unwrap();
    let days = (ends / 1000 - unix_seconds()) / 86_400;
    assert!((390..=398).contains(&days), "phones take no longer ones: {days} days");
    access["fingerprint"].as_str().unwrap().to_owned()
}

fn unix_seconds() -> u64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs()
}

#[test]
fn the_servers_address_leads_to_the_console_and_the_console_follows_the_hosts_addresses() {
    in_a_house(|house| {
        let tablet = wired("tablet", None);
        let flags = ["--interfaces", "auto"];
        let mut service = house.begin_with(&flags);

        // On the host it is open; elsewhere a page says how it is opened.
        let here = Command::new("curl")
            .args(["-s", "-o", "/dev/null", "-w", "%{redirect_url}", "http://10.77.0.1:7640/"])
            .output()
            .unwrap();
        assert_eq!(String::from_utf8_lossy(&here.stdout), "http://127.0.0.1:7641/");
        assert_eq!(leads(&tablet, &["http://10.77.0.1:7640/"]), ("200".into(), String::new()));

        let said = house.mostra(&["console", "open"]);
        for part in ["https://10.77.0.1:7642", "One-time code", "SHA-256", "█"] {
            assert!(said.contains(part), "{part}: {said}");
        }
        let code = said.split("minutes: ").nth(1).unwrap().split_whitespace().next().unwrap();
        let console = "https://10.77.0.1:7642/";
        assert_eq!(leads(&tablet, &["http://10.77.0.1:7640/"]), ("302".into(), console.into()));
        assert!(is_trusted(&house, &tablet, console));
        let account = format!(r#"{{"name":"tablet","password":"beside the set","code":"{code}"}}"#);
        let asked = ["-k", "-H", "Content-Type: application/json", "-d", &account];
        let accounts = format!("{console}api/v1/accounts");
        assert_eq!(leads(&tablet, &[&asked[..], &[&accounts]].concat()).0, "201");

        // Another address: it answers there, with a certificate that names it.
        let first = fingerprint(&house);
        ip("addr del 10.77.0.1/24 dev lan0");
        ip("addr add 10.77.0.9/24 dev lan0");
        let moved = "https://10.77.0.9:7642/";
        until(20, "the console at the new address", || {
            is_trusted(&house, &tablet, moved).then_some(())
        });
        let second = fingerprint(&house);
        assert_ne!(first, second);
        // And back: the certificate names both.
        ip("addr del 10.77.0.9/24 dev lan0");
        ip("addr add 10.77.0.1/24 dev lan0");
        until(20, "the console at the first address", || {
            is_trusted(&house, &tablet, console).then_some(())
        });
        assert_eq!(fingerprint(&house), second);

        // A house that is off is switched on from the tablet, also after a restart.
        house.mostra(&["house", "off"]);
        assert!(is_trusted(&house, &tablet, console));
        assert!(service.stop());
        let _service = house.start_with(&flags);
        until(20, "the console after the restart", || {
            is_trusted(&house, &tablet, console).then_some(())
        });
        assert_eq!(fingerprint(&house), second, "the same over starts");
    });
}
