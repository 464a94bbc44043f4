//! After `kill -9` of service and PostgreSQL, nothing confirmed is lost.

use mostra_tests::raw::{ask, browse};
use mostra_tests::{Cluster, House, in_a_house, until};

const DEVICE: &str = "127.0.0.61";

#[test]
fn nothing_confirmed_is_lost_by_kill_9() {
    // A cluster of this test's own, since it is killed.
    let cluster = Cluster::new();
    let url = cluster.start(true);
    in_a_house(move |house| {
        let house = House { database_url: url, ..house };
        let mut service = house.begin();
        house.mostra(&["house", "name", "Pellworth Light"]);
        house.publish("Films");
        ask(DEVICE, "GET", "/about/device.xml", "");
        ask(DEVICE, "GET", "/media/none", "");
        until(30, "the device", || house.device(DEVICE));
        house.mostra(&["device", "admit", DEVICE, "--name", "Den console"]);
        browse(DEVICE, "video-all");
        house.await_step(DEVICE, "listed");
        let ids = house.json(&["catalogue", "list", "video-all"])["objects"].clone();
        let id = update_id();
        house.mostra(&["device", "refuse", "Den console"]);

        service.kill();
        cluster.kill();
        // The next start needs no hand: the same command as ever.
        assert_eq!(cluster.start(true), house.database_url);
        let _service = house.start();
        assert_eq!(house.mostra(&["house", "name"]).trim(), "Pellworth Light");
        let device = house.device(DEVICE).unwrap();
        assert_eq!(
            (device["label"].as_str(), device["standing"].as_str()),
            (Some("Den console"), Some("refused"))
        );
        assert!(
            browse(DEVICE, "0").text().contains("<TotalMatches>0</TotalMatches>"),
            "refused from the first request on"
        );
        until(30, "the catalogue", || (house.json(&["status"])["loaded"] == true).then_some(()));
        assert_eq!(house.json(&["catalogue", "list", "video-all"])["objects"], ids);
        house.admit(DEVICE);
        assert!(update_id() > id, "update ids never go back");
    });
}

fn update_id() -> u32 {
    let text = mostra_tests::raw::call(DEVICE, "content", "GetSystemUpdateID", "").text();
    mostra_tests::raw::between(&text, "<Id>", "</Id>").unwrap().parse().unwrap()
}

#[test]
fn with_the_database_away_browsing_goes_on_and_commands_say_not_saved() {
    let cluster = Cluster::new();
    let url = cluster.start(true);
    in_a_house(move |house| {
        let house = House { database_url: url, ..house };
        let _service = house.begin();
        house.publish("Films");
        ask(DEVICE, "GET", "/about/device.xml", "");
        ask(DEVICE, "GET", "/media/none", "");
        until(30, "the device", || house.device(DEVICE));
        house.admit(DEVICE);
        cluster.stop();
        assert!(browse(DEVICE, "video-all").text().contains("<TotalMatches>5<"));
        let said = house.mostra_fails(&["house", "name", "Elsewhere"]);
        assert!(said.contains("Not saved") && said.contains("PostgreSQL"), "{said}");
        // A refusal is in force at once, saved or not.
        assert!(house.mostra_fails(&["device", "refuse", DEVICE]).contains("in force"));
        assert!(browse(DEVICE, "0").text().contains("<TotalMatches>0<"));
        cluster.start(true);
        until(30, "saving to work again", || {
            house.client(&["house", "name", "Elsewhere"]).status.success().then_some(())
        });
        until(30, "the banner to go", || {
            (house.json(&["status"])["records"] == true).then_some(())
        });
    });
}
