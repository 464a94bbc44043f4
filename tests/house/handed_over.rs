//! What is handed over: the paper for the household, the house as a file, and an archive for whoever
//! helps.

use mostra_tests::raw::browse;
use mostra_tests::{House, in_a_house, until};

const LOUNGE: &str = "127.0.0.41";
const GUEST: &str = "127.0.0.42";

fn path(house: &House, name: &str) -> String {
    house.folders.path().join(name).to_str().unwrap().to_owned()
}

/// A house with much that a person decided.
fn decided(house: &House) {
    house.mostra(&["house", "name", "Pellworth Light"]);
    house.mostra(&["house", "pictures", "title"]);
    house.publish("Films");
    house.publish("Pictures");
    house.meet(LOUNGE);
    house.meet(GUEST);
    let label = ["--name", "Lounge <television>", "--kinds", "films", "--folders", "Films"];
    house.mostra(&[&["device", "admit", LOUNGE], label.as_slice()].concat());
    house.mostra(&["device", "about", LOUNGE, "--kind", "television", "--room", "Lounge"]);
    house.mostra(&["device", "refuse", GUEST]);
    house.mostra(&["preset", "keep", "For guests", "--kinds", "pictures"]);
    house.mostra(&["config", "set", "max_age", "600"]);
}

#[test]
fn the_household_gets_a_page_that_says_its_rule_and_what_changed() {
    in_a_house(|house| {
        let _service = house.begin();
        decided(&house);
        let file = path(&house, "paper.html");
        let said = house.mostra(&["handover", "write", &file]);
        assert!(said.contains("2 devices are not confirmed"), "{said}");
        let page = std::fs::read_to_string(&file).unwrap();
        let rule = page.split("class=\"rule\">").nth(1).unwrap().split("</ol>").next().unwrap();
        assert_eq!(rule.matches("<li>").count(), 3, "{rule}");
        assert!(rule.contains("On a television") && rule.contains("choose Pellworth Light"));
        for part in [
            "<h1>Pellworth Light</h1>",
            "Lounge &lt;television&gt;",
            "may see films in Films",
            "It is refused and may see nothing",
            "<code>max_age</code>",
            "Switch off and on",
        ] {
            assert!(page.contains(part), "{part} in {page}");
        }
        assert!(
            !page.contains("<script") && !page.contains("src=") && !page.contains("Changed since")
        );
        // The next one says what changed; a draft is not remembered.
        house.mostra(&["device", "admit", LOUNGE, "--kinds", "films,pictures"]);
        let changes =
            |house: &House| house.json(&["handover", "write", "--draft"])["changes"].clone();
        let first = changes(&house);
        assert!(first[0].as_str().unwrap().starts_with("Device Lounge <television>: admitted"));
        assert_eq!(changes(&house), first);
        house.mostra(&["handover", "write", &file]);
        assert_eq!(changes(&house), serde_json::json!([]));
        assert!(std::fs::read_to_string(&file).unwrap().contains("Changed since"));
        let table = path(&house, "devices.csv");
        house.mostra(&["handover", "write", &table, "--csv"]);
        let table = std::fs::read_to_string(table).unwrap();
        assert_eq!(table.lines().count(), 3, "{table}");
        assert!(table.contains("Lounge <television>,Lounge,127.0.0.41,admitted"), "{table}");
    });
}

#[test]
fn a_house_goes_into_a_file_and_out_of_it_in_an_empty_house() {
    in_a_house(|house| {
        let mut service = house.begin();
        decided(&house);
        let first = path(&house, "first.toml");
        house.mostra(&["house", "export", &first]);
        let text = std::fs::read_to_string(&first).unwrap();
        let same = house.mostra(&["house", "apply", &first, "--plan"]);
        assert!(same.contains("Nothing changes"), "{same}\n{text}");
        // What is wrong is told with its place, and changes nothing.
        let wrong = path(&house, "wrong.toml");
        for (from, to, place) in [
            ("doorway = \"ask\"", "doorway = \"ajar\"", "column 11"),
            ("max_age", "max_ago", "max_ago"),
            ("\"600\"", "\"6\"", "is not from 60"),
            ("room =", "roam =", "roam"),
            ("folders = [\"Films\"]", "folders = [\"Filme\"]", "no folder \"Filme\""),
        ] {
            assert!(text.contains(from), "{from} in {text}");
            std::fs::write(&wrong, text.replace(from, to)).unwrap();
            let said = house.mostra_fails(&["house", "apply", &wrong]);
            assert!(said.contains("line ") && said.contains(place), "{place}: {said}");
        }
        assert!(service.stop());
        // An empty house becomes the same.
        let other = house.beside();
        let _service = other.begin();
        let plan = other.mostra(&["house", "apply", &first, "--plan"]);
        assert!(plan.contains("Would change:") && plan.contains("folder Films"), "{plan}");
        assert_eq!(other.json(&["folder", "list"]).as_array().unwrap().len(), 0, "only a plan");
        other.mostra(&["house", "apply", &first]);
        let again = other.mostra(&["house", "apply", &first]);
        assert!(again.contains("Nothing changes"), "{again}");
        let second = path(&house, "second.toml");
        other.mostra(&["house", "export", &second]);
        assert_eq!(std::fs::read_to_string(&second).unwrap(), text);
        // It is in force: the device sees what it was let see.
        until(30, "the films", || {
            browse(LOUNGE, "video-all").text().contains("Harbour").then_some(())
        });
        assert_eq!(browse(LOUNGE, "pictures").status, 500);
    });
}

#[test]
fn an_archive_for_whoever_helps_holds_what_it_says_and_no_secret() {
    in_a_house(|house| {
        let _service = house.begin();
        decided(&house);
        browse(LOUNGE, "0");
        let file = path(&house, "support.tar");
        let said = house.mostra(&["support", "write", &file]);
        assert!(said.contains("no media, passwords or tokens"), "{said}");
        let list = std::process::Command::new("tar").args(["-tf", &file]).output().unwrap();
        let names = String::from_utf8(list.stdout).unwrap();
        for name in ["README.txt", "preflight.json", "settings.json", "sightings.json", "log.txt"] {
            assert!(names.contains(&format!("mostra-support/{name}")), "{names}");
        }
        let whole = String::from_utf8_lossy(&std::fs::read(&file).unwrap()).into_owned();
        assert!(whole.contains("published \\\"Films\\\"") || whole.contains("published \"Films\""));
        let token = std::fs::read_to_string(house.data.path().join("token")).unwrap();
        for secret in [mostra_tests::PASSWORD, token.trim(), &house.database_url] {
            assert!(!whole.contains(secret), "a secret is in it");
        }
        // Nothing of the media themselves.
        assert!(whole.len() < 3_000_000);
    });
}
