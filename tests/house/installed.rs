//! As an installed service: what the service manager is told, and what it waits for.

use std::os::unix::net::UnixDatagram;
use std::time::Duration;

use mostra_tests::{Cluster, SERVER, in_a_house, raw, until};

const PLAYER: &str = "127.0.0.48";

#[test]
fn systemd_is_told_when_it_is_ready_how_it_is_and_that_it_lives() {
    in_a_house(|mut house| {
        let place = house.data.path().join("notify");
        let ear = UnixDatagram::bind(&place).unwrap();
        ear.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
        let told = |what: &str| {
            until(40, what, || {
                let mut buffer = [0; 4096];
                let length = ear.recv(&mut buffer).ok()?;
                let text = String::from_utf8_lossy(&buffer[..length]).into_owned();
                text.contains(what).then_some(text)
            })
        };
        let cluster = Cluster::new();
        house.database_url = cluster.start(true);
        cluster.stop();
        let socket = format!("NOTIFY_SOCKET={}", place.display());
        house.under = vec!["env".into(), socket, "WATCHDOG_USEC=400000".into()];
        let mut service = house.launch();
        // It waits for PostgreSQL as long as that takes, and says so.
        let waits = told("STATUS=waiting for PostgreSQL");
        assert!(waits.contains("EXTEND_TIMEOUT_USEC="), "{waits}");
        cluster.start(true);
        told("READY=1");
        assert!(raw::connect(PLAYER, SERVER).is_ok(), "ready is when players are answered");
        told("STATUS=Mostra is on; 0 devices admitted, 0 waiting; 0 streams");
        told("WATCHDOG=1");
        told("WATCHDOG=1");
        raw::ask(PLAYER, "GET", "/about/device.xml", "");
        told("1 waiting");
        service.ask_to_stop();
        told("STOPPING=1");
        assert!(service.stop());
    });
}

#[test]
fn records_that_do_not_answer_are_told_though_nothing_is_saved() {
    in_a_house(|mut house| {
        let cluster = Cluster::new();
        house.database_url = cluster.start(true);
        let _service = house.begin();
        let attention = || house.json(&["status"])["attention"].to_string();
        assert!(!attention().contains("PostgreSQL"), "{}", attention());
        cluster.stop();
        until(20, "the word", || attention().contains("PostgreSQL does not answer").then_some(()));
        cluster.start(true);
        until(20, "it to go", || (!attention().contains("PostgreSQL")).then_some(()));
    });
}
