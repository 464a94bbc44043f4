//! What devices do is kept: proof can be told from it again, records of one device can be put
//! together and taken apart, and what failed can be looked up.

use std::collections::BTreeMap;

use mostra_core::device::Device;
use mostra_core::ids::DeviceId;
use mostra_core::proof::ProofState;
use mostra_store::Records;
use mostra_tests::raw::{ask, browse, call, media_path};
use mostra_tests::subscriber::Subscriber;
use mostra_tests::{House, in_a_house, in_a_house_timed, query, until};

const RADIO: &str = "127.0.0.51";
const CABLE: &str = "127.0.0.52";

/// What is recorded of all devices, and what their sightings prove.
fn recorded(house: &House) -> BTreeMap<DeviceId, (Device, ProofState)> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let records =
            Records::open(&house.database_url, std::time::Duration::from_secs(10)).await.unwrap();
        let mut all = BTreeMap::new();
        for device in records.devices().await.unwrap() {
            let mut sightings = records.sightings_of(device.id).await.unwrap();
            let told = ProofState::fold(&mut sightings);
            all.insert(device.id, (device, told));
        }
        all
    })
}

fn steps(house: &House, address: &str) -> usize {
    house.confirmed(address).len()
}

fn play(house: &House, address: &str) {
    house.meet(address);
    house.admit(address);
    assert_eq!(browse(address, "0").status, 200);
    let film = media_path(&browse(address, "video-all"), "Harbour at dawn");
    assert_eq!(ask(address, "GET", &film, "").status, 200);
    house.await_step(address, "started");
}

#[test]
fn proof_is_told_again_from_what_is_kept_and_what_failed_is_listed() {
    in_a_house(|house| {
        let mut service = house.begin();
        house.publish("Films");
        play(&house, RADIO);
        let subscriber = Subscriber::new(RADIO);
        assert!(subscriber.event(10).is_some());
        assert_eq!(call(RADIO, "content", "Browse", "").status, 500);
        assert_eq!(ask(RADIO, "GET", "/media/999.mp4", "").status, 404);
        house.meet(CABLE);
        browse(CABLE, "0");

        let listed = |address: &str, more: &[&str]| {
            house.mostra(&[&["device", "sightings", address], more].concat())
        };
        let failed = listed(RADIO, &["--failed"]);
        assert!(failed.contains("called Browse, which failed with error 402"), "{failed}");
        assert!(failed.contains("status 404") && !failed.contains("Harbour"), "{failed}");
        let all = listed(RADIO, &[]);
        for what in [
            "took the description",
            "opened the root menu",
            "subscribed to",
            "accepted an event",
            "Harbour at dawn",
        ] {
            assert!(all.contains(what), "{what} in {all}");
        }
        let waiting = listed(CABLE, &["--failed"]);
        assert!(waiting.contains("asked for the root menu and got nothing"), "{waiting}");
        let none = house.mostra_fails(&["device", "sightings", "127.0.0.99"]);
        assert!(none.contains("no device is known"), "{none}");

        assert!(service.stop());
        let recorded = recorded(&house);
        assert_eq!(recorded.len(), 2);
        for (device, told) in recorded.values() {
            assert_eq!(&device.proof, told, "{}", device.label());
        }
    });
}

#[test]
fn two_records_of_one_device_become_one_and_two_again() {
    in_a_house(|house| {
        let mut service = house.begin();
        house.publish("Films");
        play(&house, CABLE);
        house.mostra(&["device", "name", CABLE, "Study console"]);
        house.meet(RADIO);
        let (both, one) = (steps(&house, CABLE), steps(&house, RADIO));
        assert!(both > one, "{both} {one}");
        let first_seen = |address: &str| house.device(address).unwrap()["first_seen_ms"].clone();
        let earlier = first_seen(CABLE);
        assert!(earlier.as_u64() < first_seen(RADIO).as_u64());

        // The record of the radio stays; sight and proof are those of the earlier.
        let answer = house.mostra(&["device", "merge", RADIO, "Study console"]);
        assert!(answer.contains("one device now"), "{answer}");
        let devices = house.json(&["device", "list"]);
        assert_eq!(devices.as_array().unwrap().len(), 1, "{devices}");
        let merged = devices[0].clone();
        assert_eq!(merged["first_seen_ms"], earlier);
        assert_eq!(merged["endpoints"].as_array().unwrap().len(), 2);
        assert_eq!(merged["standing"], "waiting", "the one that stays decides");
        let number = merged["id"].to_string();
        house.mostra(&["device", "admit", &number]);
        // Either address is the device now; neither makes another.
        for address in [RADIO, CABLE] {
            let film = media_path(&browse(address, "video-all"), "Harbour at dawn");
            assert_eq!(ask(address, "HEAD", &film, "").status, 200);
        }
        assert_eq!(house.json(&["device", "list"]).as_array().unwrap().len(), 1);

        // It stays so when the service is started again.
        assert!(service.stop());
        for (device, told) in recorded(&house).values() {
            assert_eq!((device.endpoints.len(), &device.proof), (2, told));
        }
        let _service = house.begin();
        let shown = house.mostra(&["device", "show", &number]);
        assert!(shown.contains(RADIO) && shown.contains(CABLE), "{shown}");
        let steps_of = |number: &str| {
            let device = house.json(&["device", "show", number]);
            device["proof"].as_array().unwrap().iter().filter(|s| s["confirmed"] == true).count()
        };
        assert_eq!(steps_of(&number), both);

        let wrong = house.mostra_fails(&["device", "split", &number, "127.0.0.99"]);
        assert!(wrong.contains("no such endpoint"), "{wrong}");
        let same = house.mostra_fails(&["device", "merge", &number, &number]);
        assert!(same.contains("same record"), "{same}");
        house.mostra(&["device", "split", &number, CABLE]);
        let devices = house.json(&["device", "list"]);
        assert_eq!(devices.as_array().unwrap().len(), 2, "{devices}");
        assert_eq!(steps(&house, CABLE), both, "what it did went with it");
        assert_eq!(house.device(CABLE).unwrap()["standing"], "waiting");
        assert_eq!(house.device(RADIO).unwrap()["standing"], "admitted");
        let last = house.mostra_fails(&["device", "split", &number, RADIO]);
        assert!(last.contains("only way"), "{last}");
        until(10, "rows of both", || {
            let rows = "select count(distinct device_id) from sighting";
            (query(&house.database_url, rows) == "2").then_some(())
        });
    });
}

#[test]
fn a_device_that_was_just_met_can_be_put_together_with_another() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        house.meet(CABLE);
        // At once, before any of them is recorded, ten times over.
        for n in 60..70 {
            let fresh = format!("127.0.0.{n}");
            ask(&fresh, "GET", "/media/none", "");
            let device = until(5, "the device", || house.device(&fresh));
            let number = device["id"].to_string();
            let last = house.device(CABLE).unwrap()["id"].to_string();
            house.mostra(&["device", "merge", &number, &last]);
            // Its address is the last one seen; that of the cable stays one of its endpoints.
            let merged = house.json(&["device", "show", &number]);
            assert!(merged["endpoints"].as_array().unwrap().len() >= 2, "{merged}");
            ask(CABLE, "GET", "/about/device.xml", "");
            until(5, "the cable", || house.device(CABLE));
        }
        assert_eq!(house.json(&["device", "list"]).as_array().unwrap().len(), 1);
    });
}
