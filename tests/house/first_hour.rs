//! What a person reads in the first hour is true and answers the next question.

use mostra_tests::{in_a_house, media};

const TV: &str = "127.0.0.61";
const SPEAKER: &str = "127.0.0.62";

#[test]
fn who_may_see_what_is_one_look_and_names_tell_devices_apart() {
    in_a_house(|house| {
        let _service = house.begin();
        house.mostra(&["folder", "add", media("Sound").to_str().unwrap(), "--label", "Sounds"]);
        house.meet(TV);
        house.meet(SPEAKER);
        let attention = || house.json(&["status"])["attention"].to_string();
        assert!(attention().contains("2 devices wait for your decision"), "{}", attention());
        let listed = house.mostra(&["device", "list"]);
        assert!(listed.matches("nothing").count() >= 2, "{listed}");
        house.mostra(&["device", "admit", TV, "--name", "Lounge", "--everything"]);
        assert!(attention().contains("One device waits for your decision"), "{}", attention());
        let said = house.mostra(&[
            "device",
            "admit",
            SPEAKER,
            "--kinds",
            "films,pictures",
            "--folders",
            "Sounds",
        ]);
        assert!(said.contains("may now see films, pictures in Sounds"), "{said}");
        let listed = house.mostra(&["device", "list"]);
        assert!(listed.contains("everything") && listed.contains("films, pictures in Sounds"));
        assert!(!attention().contains("decision"), "{}", attention());
        // Nothing is changed, and the other one is named.
        let said = house.mostra_fails(&["device", "name", SPEAKER, "lounge"]);
        assert!(said.contains("Another device is called Lounge") && said.contains(TV), "{said}");
        house.mostra_fails(&["device", "admit", SPEAKER, "--name", "Lounge"]);
        house.mostra(&["device", "name", SPEAKER, "Kitchen"]);
        house.mostra(&["device", "name", SPEAKER, "kitchen"]);
        let said = house.mostra(&["house", "name", "Villa Pell"]);
        assert_eq!(said.trim(), "The house is now called Villa Pell.");
        let said = house.mostra(&["house", "doorway", "open"]);
        assert!(said.contains("let in at once") && said.contains("still wait"), "{said}");
        let load = house.json(&["host"]);
        assert!(load["processor"].is_array() && load["disk"].is_array(), "{load}");
        assert!(house.json(&["stream", "list"]).as_array().unwrap().is_empty());
    });
}
