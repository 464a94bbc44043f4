//! The records as files: saved, checked, restored here and on another machine, with folders moved.

use std::fs;
use std::io::Write as _;
use std::path::Path;
use std::process::Stdio;

use mostra_tests::browser::Browser;
use mostra_tests::raw::{ask, browse, media_path};
use mostra_tests::{House, PASSWORD, binary, faketime, in_a_house, media, query, until};
use serde_json::Value;
use sha2::Digest as _;

const TV: &str = "127.0.0.61";

/// A directory with the films of the demo house.
fn films() -> tempfile::TempDir {
    let place = tempfile::tempdir().unwrap();
    let film = "Harbour at dawn.mp4";
    fs::copy(media(&format!("Films/{film}")), place.path().join(film)).unwrap();
    fs::create_dir(place.path().join("Sound")).unwrap();
    fs::copy(media("Sound/Night log.mp3"), place.path().join("Sound/Night log.mp3")).unwrap();
    place
}

fn publish(house: &House, at: &Path, label: &str) {
    house.mostra(&["folder", "add", at.to_str().unwrap(), "--label", label]);
}

/// The device plays a film.
fn plays(path: &str) {
    assert_eq!(ask(TV, "GET", path, "").status, 200, "{path}");
}

/// What is known of a device, and the ids of what it sees.
fn known(house: &House) -> (Value, String) {
    let mut device = house.json(&["device", "show", TV]);
    for moving in ["seen_ms", "last_ms", "sightings", "endpoints"] {
        device.as_object_mut().unwrap().remove(moving);
    }
    (device["standing"].clone(), media_path(&browse(TV, "video-all"), "Harbour at dawn"))
}

#[test]
fn saved_records_are_listed_checked_and_restored_and_what_was_here_is_kept() {
    in_a_house(|house| {
        let place = films();
        let service = house.begin();
        let said = house.mostra(&["records", "list"]);
        assert!(said.contains("Nothing is saved yet"), "{said}");
        publish(&house, place.path(), "Films");
        house.meet(TV);
        house.admit(TV);
        let before = known(&house);
        let file = place.path().join("house.tar");
        let said = house.mostra(&["records", "save", file.to_str().unwrap()]);
        assert!(said.contains("1 folder with 2 files, 1 device with"), "{said}");
        use std::os::unix::fs::PermissionsExt as _;
        assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
        let again = house.mostra_fails(&["records", "save", file.to_str().unwrap()]);
        assert!(again.contains("there already") && again.contains("--replace"), "{again}");
        let said = house.mostra(&["records", "check"]);
        assert!(said.contains("every table has the rows"), "{said}");
        let checked = house.json(&["records", "list"]);
        assert!(checked["saved"][0]["checked_ms"].as_u64() > Some(0), "{checked}");

        // What happens afterwards is lost by restoring, which says so, and is saved before.
        house.mostra(&["device", "forget", TV, "--yes"]);
        house.mostra(&["house", "name", "Another"]);
        let said = house.mostra_fails(&["records", "restore", file.to_str().unwrap()]);
        assert!(said.contains("--yes"), "{said}");
        let process = service.id();
        let said = house.mostra(&["records", "restore", file.to_str().unwrap(), "--yes"]);
        assert!(said.contains("are restored") && said.contains("mostra login"), "{said}");
        assert_eq!(service.id(), process, "the service started itself again");
        // No session goes on or comes back, whatever was saved of them.
        assert!(house.mostra_fails(&["status"]).contains("mostra login"));
        assert_eq!(query(&house.database_url, "select count(*) from session"), "0");
        house.sign_in();
        until(10, "the catalogue", || (house.json(&["status"])["loaded"] == true).then_some(()));
        assert_eq!(known(&house), before, "decision and ids are as they were");
        assert_eq!(house.mostra(&["house", "name"]).trim(), "Mostra");
        // And back again.
        let list = house.json(&["records", "list"]);
        let kept = list["saved"].as_array().unwrap();
        let kept = kept.iter().find(|saved| saved["because"] == "before-restore").unwrap();
        assert_eq!(kept["house"], "Another");
        house.mostra(&["records", "restore", kept["name"].as_str().unwrap(), "--yes"]);
        house.sign_in();
        assert_eq!(house.mostra(&["house", "name"]).trim(), "Another");
    });
}

#[test]
fn a_house_moves_to_another_machine_with_ids_proof_and_places() {
    in_a_house(|house| {
        let place = films();
        let mut service = house.begin();
        publish(&house, place.path(), "Films");
        house.meet(TV);
        house.admit(TV);
        plays(&media_path(&browse(TV, "video-all"), "Harbour at dawn"));
        house.await_step(TV, "started");
        let (before, steps) = (known(&house), house.confirmed(TV));
        let item = house.items()["Harbour at dawn"].clone();
        let put = house.api_with(
            "PUT",
            &format!("/catalogue/{item}/position"),
            r#"{"position_ms":21000,"seen":false}"#,
        );
        assert_eq!(put.unwrap().status, 204);
        let place_of =
            |house: &House| house.api("GET", "/positions")["objects"][0]["position"].clone();
        let stopped = place_of(&house);
        assert_eq!(stopped["position_ms"], 21000);
        let carried = tempfile::tempdir().unwrap();
        let file = carried.path().join("house.tar");
        house.mostra(&["records", "save", file.to_str().unwrap()]);
        assert!(service.stop());
        // The other machine: another database and data directory, the media at another path.
        let other = house.beside();
        let moved = tempfile::tempdir().unwrap();
        let to = moved.path().join("media");
        fs::rename(place.path(), &to).unwrap();
        let _service = other.begin();
        // An empty house is not asked about.
        let said = other.mostra(&["records", "restore", file.to_str().unwrap()]);
        assert!(said.contains("sign in with one of them"), "{said}");
        assert!(said.contains("They bring these accounts: "), "{said}");
        assert!(said.contains("Films  was at"), "{said}");
        let password = other.data.path().join("password");
        fs::write(&password, PASSWORD).unwrap();
        other.mostra(&["login", "--password-file", password.to_str().unwrap()]);
        // The wrong directory is noticed.
        let wrong = moved.path().to_str().unwrap();
        let said = other.mostra_fails(&["folder", "move", "Films", wrong]);
        assert!(said.contains("Of 2 files") && said.contains("0 are below"), "{said}");
        let said = other.mostra(&["folder", "move", "Films", to.to_str().unwrap()]);
        assert!(said.contains("Moved Films: 2 items"), "{said}");
        assert_eq!(known(&other), before, "decision and ids are as they were");
        assert_eq!(other.confirmed(TV), steps, "proof is as it was");
        plays(&before.1);
        assert_eq!(place_of(&other), stopped, "where somebody stopped is as it was");
        let said = other.mostra_fails(&["folder", "move"]);
        assert!(said.contains("no folder is away"), "{said}");
    });
}

/// What a command prints at a terminal where this is typed.
fn at_a_terminal(house: &House, arguments: &str, typed: &str) -> String {
    let client = binary("mostra");
    let mut child = std::process::Command::new("script")
        .args(["-qec", &format!("{} {arguments}", client.display()), "/dev/null"])
        .env("MOSTRA_SOCKET", house.socket())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(typed.as_bytes()).unwrap();
    String::from_utf8_lossy(&child.wait_with_output().unwrap().stdout).into_owned()
}

#[test]
fn a_folder_that_is_elsewhere_is_asked_for_at_a_terminal_and_in_the_console() {
    in_a_house(|house| {
        let _service = house.begin();
        let place = films();
        let (here, there) = (place.path().join("here"), place.path().join("there"));
        let media = films();
        fs::rename(media.path(), &here).unwrap();
        publish(&house, &here, "Films");
        let items = house.items();
        let away = || {
            house.client(&["folder", "rescan", "Films"]);
            until(30, "the folder to be away", || {
                (house.json(&["folder", "list"])[0]["away_ms"].is_u64()).then_some(())
            });
        };
        let back = || until(30, "the items", || (house.items() == items).then_some(()));
        fs::rename(&here, &there).unwrap();
        away();
        // A wrong answer is told, and asked for again.
        let typed = format!("/nowhere\n{}\n", there.display());
        let said = at_a_terminal(&house, "folder move", &typed);
        assert!(said.contains("Films was at") && said.contains("does not exist"), "{said}");
        assert!(said.contains("it is scanned"), "{said}");
        back();

        // Away from there, though something is at the first path again.
        fs::rename(&there, &here).unwrap();
        away();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let browser = Browser::open().await;
            browser.size(390, 844).await;
            browser.go("/folders").await;
            browser.sign_in(PASSWORD).await;
            browser.sees("It is elsewhere now").await;
            browser.press("It is elsewhere now").await;
            browser.fill("Folder on the host", here.to_str().unwrap()).await;
            browser.press("Go").await;
            browser.press("Use this folder").await;
            browser.sees("Films is at").await;
            browser.press("Use it").await;
            browser.sees("scanned").await;
            browser.close().await;
        });
        back();
    });
}

#[test]
fn by_night_the_records_are_saved_by_themselves() {
    in_a_house(|house| {
        let mut service = house.begin();
        house.publish("Films");
        house.mostra(&["records", "save", house.data.path().join("asked.tar").to_str().unwrap()]);
        assert!(service.stop());
        // Ten past three, tomorrow.
        let seconds = std::time::UNIX_EPOCH.elapsed().unwrap().as_secs();
        let ahead = 86_400 - seconds % 86_400 + 3 * 3600 + 600;
        let mut command = house.service_command();
        command
            .env("TZ", "UTC0")
            .env("LD_PRELOAD", faketime())
            .env("FAKETIME", format!("+{ahead}"));
        command.env("FAKETIME_DONT_FAKE_MONOTONIC", "1");
        let _service = house.begin_as(&mut command);
        until(30, "the records to be saved", || {
            let list = house.json(&["records", "list"]);
            list["saved"].as_array()?.iter().any(|one| one["because"] == "nightly").then_some(())
        });
        house.mostra(&["records", "check"]);
    });
}

#[test]
fn what_is_no_file_of_records_is_refused_and_a_failed_restoring_leaves_all_as_it_was() {
    in_a_house(|house| {
        let place = films();
        let _service = house.begin();
        publish(&house, place.path(), "Films");
        // Beside the folder: what is written into one has it looked through again.
        let file = house.folders.path().join("house.tar");
        house.mostra(&["records", "save", file.to_str().unwrap()]);
        let whole = fs::read(&file).unwrap();
        let wrong = house.folders.path().join("wrong.tar");
        let mut changed = whole.clone();
        let middle = changed.len() / 2;
        changed[middle] ^= 1;
        for (bytes, words) in [
            (&b"no records"[..], "no file of saved records"),
            (&whole[..whole.len() / 2], "damaged"),
            (&changed[..], "damaged"),
        ] {
            fs::write(&wrong, bytes).unwrap();
            let said =
                house.mostra_fails(&["records", "restore", wrong.to_str().unwrap(), "--yes"]);
            assert!(said.contains(words), "{said}");
        }
        // Of a later version.
        let text = String::from_utf8_lossy(&whole);
        let at = text.find("m0").unwrap();
        let mut later = whole.clone();
        later[at + 1] = b'9';
        fs::write(&wrong, &later).unwrap();
        let said = house.mostra_fails(&["records", "restore", wrong.to_str().unwrap(), "--yes"]);
        assert!(said.contains("later than this one"), "{said}");
        // PostgreSQL takes only half of it: nothing of it stays.
        let saved = house.data.path().join("saved");
        let waits = serde_json::json!({
            "name": "records-half.tar", "schema": "m0011_walkthroughs", "accounts": []
        });
        fs::write(saved.join("restore.rows"), &whole[..whole.len() / 2]).unwrap();
        fs::write(saved.join("restore.json"), waits.to_string()).unwrap();
        house.mostra(&["house", "restart"]);
        let said = house.mostra(&["status"]);
        assert!(said.contains("records-half.tar was not restored, and all is as before"), "{said}");
        assert!(said.contains("2 items from 1 folder"), "{said}");
        assert!(house.mostra(&["records", "list"]).contains("was not restored"));
        // PostgreSQL refuses one row, after much was taken.
        let url = &house.database_url;
        query(
            url,
            "insert into decision (device_id, at_ms, who, what) select n, n, 'somebody', repeat('a', 200) from generate_series(1, 20000) n",
        );
        query(url, "alter table walkthrough drop constraint walkthrough_device_id_fkey");
        query(url, "insert into walkthrough values (1, 987654, 1, null, '{}')");
        house.mostra(&["records", "save", file.to_str().unwrap(), "--replace"]);
        let said = house.mostra_fails(&["records", "restore", file.to_str().unwrap(), "--yes"]);
        assert!(said.contains("takes no such records"), "{said}");
        assert_eq!(query(url, "select count(*) from decision where what like 'aaa%'"), "20000");
        let parts: Vec<_> = fs::read_dir(&saved).unwrap().flatten().collect();
        assert!(
            parts.iter().all(|p| p.path().extension().is_none_or(|e| e != "part")),
            "{parts:?}"
        );
    });
}

/// A file of saved records with these rows, and a manifest like that of a real one.
fn forged(whole: &[u8], format: u32, rows: &[u8]) -> Vec<u8> {
    let mut real = tar::Archive::new(whole);
    let mut manifest: Value =
        serde_json::from_reader(real.entries().unwrap().next().unwrap().unwrap()).unwrap();
    manifest["format"] = format.into();
    manifest["bytes"] = rows.len().into();
    manifest["sha256"] = format!("{:x}", sha2::Sha256::digest(rows)).into();
    let mut forged = tar::Builder::new(Vec::new());
    for (name, bytes) in
        [("manifest.json", manifest.to_string().as_bytes()), ("records.rows", rows)]
    {
        let mut header = tar::Header::new_gnu();
        header.set_size(bytes.len() as u64);
        header.set_mode(0o600);
        forged.append_data(&mut header, name, bytes).unwrap();
    }
    forged.into_inner().unwrap()
}

/// N5: text of a file is never executed.
#[test]
fn a_file_that_is_checked_runs_nothing_and_is_tried_by_a_role_without_rights() {
    in_a_house(|house| {
        let mut service = house.begin();
        let file = house.folders.path().join("house.tar");
        house.mostra(&["records", "save", file.to_str().unwrap()]);
        let whole = fs::read(&file).unwrap();
        let piece = |letter: u8, bytes: &[u8]| {
            [&[letter][..], &(bytes.len() as u32).to_be_bytes(), bytes].concat()
        };
        let packed = |pieces: &[Vec<u8>]| {
            let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
            packed.write_all(&pieces.concat()).unwrap();
            packed.finish().unwrap()
        };
        let attack = "setting\" from stdin; drop table file cascade; --";
        let head = |table: &str, column: &str| {
            let head = serde_json::json!({"table": table, "columns": [column]});
            piece(b'T', head.to_string().as_bytes())
        };
        let end = piece(b'E', b"");
        let statement = piece(b'R', b"a\n\\.\ndrop table file cascade;\n");
        let wrong = house.folders.path().join("wrong.tar");
        for (format, rows, words) in [
            (2, packed(&[head(attack, "name"), end.clone()]), "a table that is none of ours"),
            (2, packed(&[head("setting", attack), end.clone()]), "other columns than ours"),
            (2, packed(&[head("seaql_migrations", "version"), end.clone()]), "none of ours"),
            (2, packed(&[head("session", "account"), end.clone()]), "none of ours"),
            (2, packed(&[head("setting", "name"), statement, end]), "takes no such records"),
            (1, b"PGDMP drop table file cascade;".to_vec(), "of a form that is not taken any more"),
        ] {
            fs::write(&wrong, forged(&whole, format, &rows)).unwrap();
            let said =
                house.mostra_fails(&["records", "restore", wrong.to_str().unwrap(), "--yes"]);
            assert!(said.contains(words), "{words}: {said}");
        }
        assert_ne!(
            query(&house.database_url, "select to_regclass('public.file') is not null"),
            "f"
        );

        // A role that could do harm tries nothing, and neither does none.
        let name = house.json(&["records", "list"])["saved"][0]["name"].clone();
        for (url, words) in [
            ("", "check_database_url is empty"),
            (&*house.database_url, "the house's own database"),
        ] {
            assert!(service.stop());
            let mut command = house.service_command();
            service = house.begin_as(command.env("MOSTRA_CHECK_DATABASE_URL", url));
            for verb in ["check", "restore"] {
                let said = house.mostra_fails(&["records", verb, name.as_str().unwrap()]);
                assert!(said.contains(words) && said.contains("create role"), "{said}");
            }
        }
    });
}
