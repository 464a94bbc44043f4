//! What a person reads in the first hour is true and answers the next question.

use std::process::Command;

use mostra_tests::{binary, in_a_house, media, top, until};
use serde_json::Value;

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

#[test]
fn the_client_finds_the_house_on_this_host_or_says_where_it_looked() {
    in_a_house(|house| {
        let home = tempfile::tempdir().unwrap();
        let client = |arguments: &[&str]| {
            let mut command = Command::new(binary("mostra"));
            command.args(arguments).env("HOME", home.path()).env_remove("XDG_CONFIG_HOME");
            let output = command.output().unwrap();
            let text = [output.stdout, output.stderr].concat();
            (output.status.success(), String::from_utf8_lossy(&text).into_owned())
        };
        let (well, said) = client(&["status"]);
        assert!(!well && said.contains("no house runs on this host"), "{said}");
        assert!(said.contains("--socket") && said.contains("--console"), "{said}");
        let password = home.path().join("password");
        std::fs::write(&password, "correct horse").unwrap();
        // A house of this user, where `make start` keeps it.
        let own = home.path().join(".local/share");
        std::fs::create_dir_all(&own).unwrap();
        std::os::unix::fs::symlink(house.data.path(), own.join("mostra")).unwrap();
        let _service = house.start();
        let (well, said) = client(&["login", "--password-file", password.to_str().unwrap()]);
        assert!(well && said.contains("The account house is made"), "{said}");
        assert!(client(&["status"]).1.contains("Mostra is on"));
        // By the address of a console there is a login for each.
        let (well, said) = client(&["--console", "http://127.0.0.1:7641", "status"]);
        assert!(!well && said.contains("Not signed in"), "{said}");
    });
}

#[test]
fn json_outputs_are_as_documented() {
    in_a_house(|house| {
        let _service = house.begin();
        house.mostra(&["folder", "add", media("Sound").to_str().unwrap(), "--label", "Sounds"]);
        house.meet(TV);
        let id = until(30, "an item", || house.items().into_values().next());
        let document = Command::new(binary("mostrad")).arg("--openapi").output().unwrap().stdout;
        let document: Value = serde_json::from_slice(&document).unwrap();
        let page = std::fs::read_to_string(top().join("docs/json.md")).unwrap();
        let mut rows = 0;
        for row in page.lines().filter(|line| line.starts_with("| `")) {
            let mut parts = row.split('`');
            let (command, kind) = (parts.nth(1).unwrap(), parts.nth(1).unwrap());
            let argument = |word: &str| match word {
                "FOLDER" => "Sounds".to_owned(),
                "DEVICE" => TV.to_owned(),
                "ID" => id.clone(),
                "NAME" => "Pell".to_owned(),
                "FILE" => house.data.path().join("records.tar").to_str().unwrap().to_owned(),
                other => other.to_owned(),
            };
            let arguments: Vec<String> = command.split(' ').map(argument).collect();
            let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
            let printed = house.json(&arguments);
            let all = match (row.contains("array of"), &printed) {
                (true, Value::Array(all)) => all.clone(),
                (false, Value::Object(_)) => vec![printed],
                _ => panic!("{command}: {printed}"),
            };
            let needed: Vec<String> = match kind {
                "Done" => vec!["done".into()],
                "ShownFolder" => vec!["folder".into(), "left_out".into()],
                kind => {
                    let schema = &document["components"]["schemas"][kind];
                    assert!(schema.is_object(), "{kind} is no schema");
                    let required = schema["required"].as_array().cloned().unwrap_or_default();
                    required.iter().map(|name| name.as_str().unwrap().to_owned()).collect()
                }
            };
            for object in &all {
                assert!(
                    needed.iter().all(|name| object.get(name).is_some()),
                    "{command}: {object}"
                );
            }
            rows += 1;
        }
        assert!(rows > 35, "{rows}");
    });
}

#[test]
fn the_picker_says_what_a_path_is_and_offers_no_places_of_the_system() {
    in_a_house(|house| {
        let _service = house.begin();
        let places = |path: &str| house.api("GET", &format!("/places?path={path}"));
        let film = media("Films/Harbour at dawn.mp4");
        let file = places(&film.to_str().unwrap().replace(' ', "%20"));
        assert_eq!(file["title"], "That is not a folder");
        assert!(file["detail"].as_str().unwrap().contains("is a file"), "{file}");
        let below = places(&format!("{}/x", film.to_str().unwrap().replace(' ', "%20")));
        assert_eq!(below["title"], "That is not a folder", "{below}");
        assert_eq!(places("srv/media")["title"], "The path is not absolute");
        let root = places("/");
        let names: Vec<&str> = root["places"]
            .as_array()
            .unwrap()
            .iter()
            .map(|p| p["name"].as_str().unwrap())
            .collect();
        assert!(names.contains(&"srv") && names.contains(&"home"), "{names:?}");
        for system in ["proc", "sys", "dev", "etc", "usr", "boot"] {
            assert!(!names.contains(&system), "{names:?}");
        }
    });
}
