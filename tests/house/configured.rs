//! The service's configuration: shown with its sources, changed while it runs, taken over by a
//! restart; and files that are wrong.

use std::fs;

use mostra_tests::browser::Browser;
use mostra_tests::wires::{Namespace, ip};
use mostra_tests::{House, in_a_house, raw, until};
use serde_json::Value;
use thirtyfour::{By, Key};

/// A setting as `config show` has it.
fn setting(house: &House, name: &str) -> Value {
    let all = house.json(&["config", "show"]);
    all.as_array().unwrap().iter().find(|one| one["name"] == name).unwrap().clone()
}

/// Its value now, what it will be, and from where.
fn state(house: &House, name: &str) -> (String, Option<String>, String) {
    let one = setting(house, name);
    let text = |key: &str| one[key].as_str().map(str::to_owned);
    (text("value").unwrap(), text("next"), text("source").unwrap())
}

#[test]
fn a_setting_is_checked_taken_at_a_restart_and_given_up_again() {
    in_a_house(|house| {
        let file = house.data.path().join("mostra.toml");
        let written = "# mine\nmax_age = 900\n";
        fs::write(&file, written).unwrap();
        let service = house.begin();
        let own = |value: &str, next: Option<&str>, source: &str| {
            (value.to_owned(), next.map(str::to_owned), source.to_owned())
        };
        assert_eq!(state(&house, "max_age"), own("900", None, "file"));
        // What does not do is refused with the reason, and nothing changes.
        for (name, value, words) in [
            ("max_age", "5", &["60 to 86400"][..]),
            ("max_agee", "600", &["no such setting", "max_age"]),
            ("device_port", "7641", &["console_port"]),
            ("also_from", "lan", &["10.1.0.0/24"]),
            ("interfaces", "lan0", &["--interfaces", "wins"]),
            ("database_url", "postgres://x/y", &["on the host"]),
            ("log", "loud", &["error or warn"]),
        ] {
            let said = house.mostra_fails(&["config", "set", name, value]);
            assert!(words.iter().all(|word| said.contains(word)), "{name}: {said}");
        }
        let taken = std::net::TcpListener::bind("127.0.0.1:7950").unwrap();
        let said = house.mostra_fails(&["config", "set", "device_port", "7950"]);
        assert!(said.contains("7950 cannot be used"), "{said}");
        drop(taken);
        assert!(!house.data.path().join("settings.toml").exists());

        let said = house.mostra(&["config", "set", "max_age", "600"]);
        assert!(said.contains("house restart"), "{said}");
        house.mostra(&["config", "set", "device_port", "7950"]);
        assert_eq!(state(&house, "max_age"), own("900", Some("600"), "console"));
        assert_eq!(fs::read_to_string(&file).unwrap(), written, "the file stays as it is");
        let said = house.mostra(&["config", "show"]);
        assert!(said.contains("900 (next: 600)") && said.contains("house restart"), "{said}");

        let process = service.id();
        house.mostra(&["house", "restart"]);
        assert_eq!(service.id(), process);
        assert_eq!(state(&house, "max_age"), own("600", None, "console"));
        until(10, "the device listener at its new port", || {
            raw::exchange(
                "127.0.0.9",
                "127.0.0.1:7950",
                "GET /about/device.xml HTTP/1.1\r\nHost: 127.0.0.1:7950\r\nConnection: close\r\n\r\n",
            )
            .ok()
            .filter(|answer| answer.status == 200)
        });
        // Given up, the file counts again.
        house.mostra(&["config", "reset", "max_age"]);
        house.mostra(&["config", "reset", "device_port"]);
        house.mostra(&["house", "restart"]);
        assert_eq!(state(&house, "max_age"), own("900", None, "file"));
        assert_eq!(state(&house, "device_port"), own("7640", None, "default"));
    });
}

#[test]
fn interfaces_change_without_a_restart() {
    in_a_house(|house| {
        let far = Namespace::new("far");
        for n in 0..2 {
            ip(&format!("link add lan{n} type veth peer name far{n} netns {}", far.name()));
            ip(&format!("addr add 10.77.{n}.1/24 dev lan{n}"));
            ip(&format!("link set lan{n} up"));
            far.ip(&format!("addr add 10.77.{n}.14/24 dev far{n}"));
            far.ip(&format!("link set far{n} up"));
        }
        let file = house.data.path().join("mostra.toml");
        fs::write(&file, "interfaces = \"lan0\"\n").unwrap();
        let _service = house.begin_as(&mut house.bare_command());
        let reached = |n: u8| far.get(&format!("http://10.77.{n}.1:7640/about/device.xml"));
        assert_eq!((reached(0), reached(1)), ("200".into(), "000".into()));
        let said = house.mostra_fails(&["config", "set", "interfaces", "lan7"]);
        assert!(said.contains("lan7") && said.contains("lan0 (10.77.0.1)"), "{said}");
        house.mostra(&["config", "set", "interfaces", "lan1"]);
        until(15, "the other interface", || {
            (reached(1) == "200" && reached(0) == "000").then_some(())
        });
        assert_eq!(state(&house, "interfaces").2, "console");
        house.mostra(&["config", "reset", "interfaces"]);
        until(15, "the interface of the file", || {
            (reached(0) == "200" && reached(1) == "000").then_some(())
        });
    });
}

#[test]
fn a_wrong_file_is_told_with_line_and_nearest_name_and_the_house_runs() {
    in_a_house(|house| {
        let file = house.data.path().join("mostra.toml");
        fs::write(&file, "prot = 7000\nmax_age = 5\nlog = \"debug\"\n[x\n").unwrap();
        fs::write(house.data.path().join("traits.toml"), "[[rule]]\nname = 3\n").unwrap();
        let service = house.begin();
        assert_eq!(state(&house, "log").0, "debug", "the rest of the file counts");
        assert_eq!(state(&house, "max_age").0, "1800");
        let said = house.mostra(&["status"]);
        for words in [
            ["line 1 of", "prot", "device_port"],
            ["line 2 of", "max_age", "60 to 86400"],
            ["line 4 of", "mostra.toml", "[x"],
            ["traits.toml", "cannot be used", "docs/traits.md"],
        ] {
            let told = said.lines().any(|line| words.iter().all(|word| line.contains(word)));
            assert!(told, "{words:?}: {said}");
        }
        assert!(house.log().contains("line 1 of"));
        assert!(house.mostra(&["config", "show"]).contains("! line 2 of"));
        // Corrected, it is told no more.
        fs::write(&file, "device_port = 7640\n").unwrap();
        fs::remove_file(house.data.path().join("traits.toml")).unwrap();
        let said = house.mostra(&["status"]);
        assert!(!said.contains("line 1 of") && !said.contains("traits.toml"), "{said}");
        drop(service);
    });
}

#[test]
fn in_the_console_a_code_makes_an_account_and_settings_are_changed_restarted_and_saved() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        let code = house.json(&["console", "code"])["code"].as_str().unwrap().to_owned();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let browser = Browser::open().await;
            browser.size(390, 844).await;
            // As a phone that read the QR code.
            browser.go(&format!("/#code={code}")).await;
            browser.sees("Make an account").await;
            browser.fill("Name", "ansgar").await;
            browser.fill("Password", "keeper of the lamp").await;
            browser.fill("Password again", "keeper of the lamp").await;
            browser.press("Make the account").await;
            browser.sees("is on").await;
            browser.go("/settings").await;
            browser.sees("Seconds that an announcement stays valid").await;
            let field =
                By::XPath("//label[contains(., 'announcement stays valid')]/following::input[1]");
            let field = browser.page.find(field).await.unwrap();
            field.send_keys(Key::Control + "a").await.unwrap();
            field.send_keys("900").await.unwrap();
            browser.press("Set max_age").await;
            browser.sees("1 change waits for a restart").await;
            browser.press("Restart the service").await;
            browser.sees("It takes a few seconds").await;
            browser.press("Restart").await;
            browser.sees("The service is started again").await;
            browser.press("Take back the change of max_age").await;
            browser.sees("1 change waits for a restart").await;
            browser.press("Save the records now").await;
            browser.sees("when somebody asked").await;
            browser.close().await;
        });
        assert_eq!(state(&house, "max_age"), ("900".into(), Some("1800".into()), "default".into()));
        let saved = house.json(&["records", "list"]);
        assert_eq!(saved["saved"][0]["because"], "asked");
        assert_eq!(saved["saved"][0]["holds"]["accounts"], 2);
    });
}
