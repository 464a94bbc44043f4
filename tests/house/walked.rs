//! Devices are walked through: each step ticks by what they really do, and beside one that does not
//! stands the cause.

use mostra_tests::browser::Browser;
use mostra_tests::raw::{ask, between, browse, media_path, unescaped};
use mostra_tests::{House, PASSWORD, in_a_house_timed, until};
use serde_json::Value;

const DEVICE: &str = "127.0.0.41";
const OTHER: &str = "127.0.0.42";

/// The device at an address comes and is let in.
fn let_in(house: &House, address: &str, flags: &[&str]) {
    house.meet(address);
    let mut arguments = vec!["device", "admit", address];
    arguments.extend(flags);
    house.mostra(&arguments);
}

fn start(house: &House, address: &str) -> Value {
    house.json(&["walkthrough", "start", address])
}

fn now(house: &House, address: &str) -> Value {
    house.json(&["walkthrough", "status", address])
}

/// The steps that are done, as `listed video`.
fn done(walkthrough: &Value) -> Vec<String> {
    let steps = walkthrough["steps"].as_array().unwrap();
    let name = |step: &Value| match step["kind"].as_str() {
        Some(kind) => format!("{} {kind}", step["step"].as_str().unwrap()),
        None => step["step"].as_str().unwrap().to_owned(),
    };
    steps.iter().filter(|step| step["state"] == "done").map(name).collect()
}

/// Titles and ids of what is in a container, as a device gets them.
fn list(address: &str, id: &str) -> Vec<(String, String)> {
    let text = unescaped(&browse(address, id).text());
    let objects = text.split(" id=\"").skip(1);
    let titled = objects.filter_map(|object| {
        let (id, _) = object.split_once('"')?;
        Some((between(object, "<dc:title>", "</dc:title>")?.to_owned(), id.to_owned()))
    });
    titled.collect()
}

fn titles(address: &str) -> Vec<String> {
    list(address, "0").into_iter().map(|(title, _)| title).collect()
}

#[test]
fn each_step_ticks_by_what_the_device_does_and_test_pieces_stand_first_for_it_alone() {
    in_a_house_timed(|house| {
        house.put_test_pieces();
        let _service = house.begin_with(&["--test-pieces", "on"]);
        house.publish("Films");
        house.publish("Pictures");
        let_in(&house, DEVICE, &["--kinds", "pictures"]);
        let_in(&house, OTHER, &[]);
        let plain = titles(OTHER);
        // What it did before counts nothing.
        browse(DEVICE, "0");
        house.await_step(DEVICE, "opened");
        let begun = start(&house, DEVICE);
        assert_eq!((done(&begun), begun["summary"]["steps"].as_u64()), (vec![], Some(5)));
        assert!(begun["steps"][3]["press"].as_str().unwrap().contains("Pictures"));
        ask(DEVICE, "GET", "/about/device.xml", "");
        until(2, "the description's step", || {
            (done(&now(&house, DEVICE)).len() == 2).then_some(())
        });
        until(30, "the test pieces", || (titles(DEVICE)[0] == "Test pieces").then_some(()));
        assert_eq!(titles(OTHER), plain, "nobody else sees them");
        browse(DEVICE, "pictures-all");
        let listed = until(2, "the list's step", || {
            let now = now(&house, DEVICE);
            done(&now).contains(&"listed picture".to_owned()).then_some(now)
        });
        let step = &listed["steps"][3];
        let expected = step["expected"].as_u64().unwrap();
        assert!(expected > 0 && step["given"].as_u64() == Some(expected), "{step}");
        // The piece is fetched, which no walkthrough leaves to anybody.
        let (_, folder) = list(DEVICE, "0").swap_remove(0);
        let inside = browse(DEVICE, &folder);
        let text = inside.text();
        assert!(text.contains("Upright arrow") && !text.contains("Flash and beep"));
        let piece = media_path(&inside, "Upright arrow");
        assert_eq!(ask(OTHER, "GET", &piece, "").status, 404);
        assert_eq!(ask(DEVICE, "GET", &piece, "").status, 200);
        let ended = until(3, "all steps", || {
            let now = now(&house, DEVICE);
            (now["summary"]["verdict"] == "confirmed").then_some(now)
        });
        assert!(done(&ended).contains(&"started picture".to_owned()));
        // It ends by a person, is kept, and takes the pieces away again.
        house.mostra(&["walkthrough", "finish", DEVICE]);
        assert!(!titles(DEVICE).contains(&"Test pieces".to_owned()));
        assert_eq!(ask(DEVICE, "GET", &piece, "").status, 404);
        assert!(house.mostra_fails(&["walkthrough", "finish", DEVICE]).contains("No walkthrough"));
        assert_eq!(house.json(&["walkthrough", "earlier", DEVICE]).as_array().unwrap().len(), 1);
        // A change of what it may see has it due again.
        let due = |house: &House| now(house, DEVICE)["summary"]["due_again"].clone();
        assert_eq!(due(&house), serde_json::json!([]));
        house.mostra(&["device", "admit", DEVICE, "--kinds", "pictures,films"]);
        assert_eq!(due(&house), serde_json::json!(["grant"]));
    });
}

#[test]
fn a_walkthrough_goes_on_after_a_restart_and_counts_what_a_person_says() {
    in_a_house_timed(|house| {
        let mut service = house.begin();
        house.publish("Pictures");
        house.meet(DEVICE);
        let waits = house.mostra_fails(&["walkthrough", "start", DEVICE]);
        assert!(waits.contains("Let it in or refuse it first"), "{waits}");
        assert!(house.mostra_fails(&["walkthrough", "status", DEVICE]).contains("start DEVICE"));
        house.mostra(&["device", "admit", DEVICE, "--kinds", "pictures"]);
        let first = start(&house, DEVICE)["summary"]["number"].clone();
        browse(DEVICE, "0");
        until(2, "steps", || (done(&now(&house, DEVICE)).len() == 3).then_some(()));
        assert!(service.stop());
        let _service = house.start();
        let after = start(&house, DEVICE);
        assert_eq!(after["summary"]["number"], first, "the same goes on");
        assert_eq!(done(&after), ["seen", "read", "opened"]);
        let pictures = until(30, "the pictures", || {
            let answer = browse(DEVICE, "pictures-all");
            (answer.status == 200).then_some(answer)
        });
        let path = media_path(&pictures, "Spring tide");
        assert_eq!(ask(DEVICE, "GET", &path, "").status, 200);
        let verdict = |house: &House| now(house, DEVICE)["summary"]["verdict"].clone();
        until(3, "all steps", || (verdict(&house) == "confirmed").then_some(()));
        house.mostra(&["walkthrough", "say", DEVICE, "picture-upright", "no"]);
        assert_eq!(verdict(&house), "not-upright");
        house.mostra(&["walkthrough", "say", DEVICE, "picture-upright", "nothing"]);
        assert_eq!(verdict(&house), "confirmed");
        let unknown = house.mostra_fails(&["walkthrough", "say", DEVICE, "smell", "yes"]);
        assert!(unknown.contains("picture-upright"), "{unknown}");
    });
}

#[test]
fn stand_ins_come_to_what_they_should_and_faults_fail_for_the_right_reason() {
    in_a_house_timed(|house| {
        house.put_test_pieces();
        let _service = house.begin_with(&["--test-pieces", "on"]);
        house.publish("Films");
        house.publish("Pictures");
        let faults = [
            ("faults/barn-television", 31),
            ("faults/attic-television", 32),
            ("faults/porch-frame", 33),
            ("faults/loft-player", 34),
            ("faults/boathouse-television", 35),
            ("faults/study-computer", 36),
            ("faults/cellar-player", 37),
            ("faults/shed-television", 38),
        ];
        let mut personas: Vec<&str> = faults.iter().map(|(persona, _)| *persona).collect();
        personas.extend(["lounge-television", "keepers-phone"]);
        let _stand_ins = house.stand_ins(&personas);
        let kind = |address: &str| if address == "127.0.0.33" { "pictures" } else { "films" };
        for (_, last) in faults {
            let address = format!("127.0.0.{last}");
            let_in(&house, &address, &["--kinds", kind(&address)]);
        }
        let_in(&house, "127.0.0.11", &["--kinds", "films,pictures"]);
        house.meet("127.0.0.16");
        house.mostra(&["device", "refuse", "127.0.0.16"]);
        let output = house.client(&["walkthrough", "run", "--all", "--json"]);
        let came: Value = serde_json::from_slice(&output.stdout).expect("JSON");
        let came = came.as_array().unwrap();
        assert_eq!(came.len(), 10);
        assert!(came.iter().all(|one| one["right"] == true), "{came:#?}");
        assert!(output.status.success());
        let to = |word: &str| came.iter().filter(|one| one["came_to"] == word).count();
        assert_eq!((to("confirmed"), to("kept-out"), to("too-slow")), (1, 1, 1));
        // One that comes to something else is told by the exit code.
        house.mostra(&["device", "refuse", "127.0.0.11"]);
        let output = house.client(&["walkthrough", "run", "127.0.0.11"]);
        assert_eq!(output.status.code(), Some(1));
    });
}

#[test]
fn a_person_follows_the_steps_on_the_page() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        house.publish("Pictures");
        let_in(&house, DEVICE, &["--kinds", "pictures", "--name", "Lounge frame"]);
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let browser = Browser::open().await;
            browser.size(390, 844).await;
            browser.go("/walkthrough").await;
            browser.sign_in(PASSWORD).await;
            browser.sees("No device has been walked through.").await;
            browser.press("Walk Lounge frame through").await;
            browser.sees("0 of 5 steps are done").await;
            browser.sees("Have it look for media servers").await;
            ask(DEVICE, "GET", "/about/device.xml", "");
            browser.sees("2 of 5 steps are done").await;
            browse(DEVICE, "0");
            let pictures = until(30, "the pictures", || {
                let answer = browse(DEVICE, "pictures-all");
                (answer.status == 200).then_some(answer)
            });
            browser.sees("10 of 10 titles").await;
            let path = media_path(&pictures, "Spring tide");
            ask(DEVICE, "GET", &path, "");
            browser.sees("It finds, lists and plays.").await;
            browser.press("No").await;
            browser.sees("Pictures are not upright or not sharp.").await;
            browser.press("Yes").await;
            browser.sees("5 of 5 steps are done").await;
            browser.press("Finish").await;
            browser.sees("One device is confirmed.").await;
            browser.close().await;
        });
    });
}
