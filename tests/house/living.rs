//! Folders live: what changes in them shows by itself, and files are never touched.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use mostra_tests::{
    House, Running, by_socket_for_all, in_a_house, in_a_house_timed, media, top, until,
};
use serde_json::Value;

fn titles(house: &House) -> Vec<String> {
    house.items().into_keys().collect()
}

fn await_titles(house: &House, expected: &[&str]) -> Duration {
    let begin = Instant::now();
    until(30, &format!("{expected:?}"), || (titles(house) == expected).then_some(()));
    begin.elapsed()
}

fn publish(house: &House, folder: &Path) {
    house.mostra(&["folder", "add", folder.to_str().unwrap(), "--label", "Sandbox"]);
    until(30, "the folder to be watched", || {
        let next = house.json(&["folder", "list"])[0]["next_scan"].clone();
        next.as_str().unwrap().contains("as soon as something changes").then_some(())
    });
}

#[test]
fn what_changes_shows_by_itself_and_ids_stay() {
    in_a_house(|house| {
        let _service = house.begin();
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::create_dir_all(at("Storm/Old")).unwrap();
        fs::copy(media("Films/Lamp-room tour.mp4"), at("tour.mp4")).unwrap();
        fs::copy(media("Pictures/Storm/Storm 1.jpg"), at("Storm/one.jpg")).unwrap();
        fs::copy(media("Pictures/Storm/Storm 2.jpg"), at("Storm/Old/two.jpg")).unwrap();
        publish(&house, folder.path());
        let before = house.items();
        assert_eq!(before.len(), 3);

        // New: complete when it appears, by copying.
        fs::copy(media("Pictures/Tides/Neap tide.jpg"), at("Storm/neap.jpg")).unwrap();
        let took = await_titles(&house, &["Lamp-room tour", "neap", "one", "two"]);
        assert!(took < Duration::from_secs(5), "a new file took {took:?}");

        // Renamed, and moved: the same objects.
        fs::rename(at("Storm/one.jpg"), at("Storm/uno.jpg")).unwrap();
        await_titles(&house, &["Lamp-room tour", "neap", "two", "uno"]);
        assert_eq!(house.items()["uno"], before["one"]);
        fs::rename(at("Storm/Old"), at("Kept")).unwrap();
        until(30, "the moved folder", || {
            let object = house.json(&["catalogue", "show", &before["two"]]);
            let parent = object["parent"].as_str().unwrap().to_owned();
            (house.json(&["catalogue", "show", &parent])["title"] == "Kept").then_some(())
        });

        // A whole directory comes, with one inside it.
        let outside = tempfile::tempdir_in(folder.path().parent().unwrap()).unwrap();
        fs::create_dir_all(outside.path().join("New/Deep")).unwrap();
        fs::copy(media("Sound/Night log.mp3"), outside.path().join("New/Deep/log.mp3")).unwrap();
        fs::rename(outside.path().join("New"), at("New")).unwrap();
        await_titles(&house, &["Lamp-room tour", "Night log", "neap", "two", "uno"]);

        // Gone.
        fs::remove_dir_all(at("New")).unwrap();
        fs::remove_file(at("tour.mp4")).unwrap();
        await_titles(&house, &["neap", "two", "uno"]);

        let scans = house.json(&["folder", "scans", "Sandbox"])["reports"].clone();
        let all: Vec<(String, String)> = scans
            .as_array()
            .unwrap()
            .iter()
            .flat_map(|r| r["files"].as_array().unwrap())
            .map(|f| (f["what"].to_string(), f["path"].to_string()))
            .collect();
        for (what, path) in [
            ("added", "Storm/neap.jpg"),
            ("changed", "Storm/uno.jpg"),
            ("changed", "Kept/two.jpg"),
            ("added", "New/Deep/log.mp3"),
            ("gone", "tour.mp4"),
        ] {
            let wanted = (format!("{what:?}"), format!("{path:?}"));
            assert!(all.contains(&wanted), "{what} {path} in {all:?}");
        }
    });
}

#[test]
fn a_directory_in_the_place_of_another_is_looked_through() {
    in_a_house(|house| {
        let _service = house.begin();
        let folder = tempfile::tempdir().unwrap();
        let aside = tempfile::tempdir_in(folder.path().parent().unwrap()).unwrap();
        let fill = |top: &Path, picture: &str| {
            fs::create_dir_all(top.join("Box/Inner")).unwrap();
            let (from, to) = (media("Pictures/Storm/Storm 1.jpg"), format!("{picture}.jpg"));
            fs::copy(from, top.join("Box/Inner").join(to)).unwrap();
        };
        fill(folder.path(), "before");
        fill(aside.path(), "after");
        publish(&house, folder.path());
        assert_eq!(titles(&house), ["before"]);
        // Both at once, so that there is nothing between to see.
        fs::rename(folder.path().join("Box"), aside.path().join("Old")).unwrap();
        fs::rename(aside.path().join("Box"), folder.path().join("Box")).unwrap();
        await_titles(&house, &["after"]);
        // It is watched as well, and all in it.
        fs::rename(folder.path().join("Box/Inner/after.jpg"), aside.path().join("after.jpg"))
            .unwrap();
        await_titles(&house, &[]);
        // The whole folder is another one.
        let other = aside.path().join("Other");
        fill(&other, "anew");
        fs::rename(folder.path(), aside.path().join("Whole")).unwrap();
        fs::rename(&other, folder.path()).unwrap();
        await_titles(&house, &["anew"]);
        fs::copy(media("Sound/Night log.mp3"), folder.path().join("Box/Inner/log.mp3")).unwrap();
        await_titles(&house, &["Night log", "anew"]);
    });
}

/// Starts a service for which the kernel watches no more than three directories.
fn begin_with_few_watches(house: &mut House, poll_seconds: &str) -> Running {
    let few = "echo 3 >/proc/sys/user/max_inotify_watches && exec \"$@\"";
    let under = ["unshare", "--user", "--map-root-user", "sh", "-c", few, "sh"];
    // The namespace's root may not enter other users' directories.
    house.database_url = by_socket_for_all(&house.database_url);
    house.under = under.map(String::from).to_vec();
    house.begin_with(&["--poll-seconds", poll_seconds])
}

#[test]
fn a_sub_folder_is_scanned_when_somebody_asks() {
    in_a_house(|mut house| {
        let folder = tempfile::tempdir().unwrap();
        for n in 1..=5 {
            fs::create_dir_all(folder.path().join(format!("Box {n}/Inner"))).unwrap();
        }
        let _service = begin_with_few_watches(&mut house, "3600");
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Sandbox"]);
        until(30, "the first scan", || house.json(&["folder", "list"])[0]["scanned_ms"].as_u64());
        for n in 1..=5 {
            let there = folder.path().join(format!("Box {n}/Inner/{n}.mp3"));
            fs::copy(media("Sound/Night log.mp3"), there).unwrap();
        }
        let wrong = house.mostra_fails(&["folder", "rescan", "Sandbox", "--path", "Box 6"]);
        assert!(wrong.contains("no such sub-folder"), "{wrong}");
        // Of ten directories at least seven are not watched.
        for n in 1..=5 {
            house.mostra(&["folder", "rescan", "Sandbox", "--path", &format!("Box {n}")]);
        }
        until(10, "all five", || (house.api("GET", "/status")["items"] == 5).then_some(()));
        let reports = house.json(&["folder", "scans", "Sandbox"])["reports"].clone();
        let added = |why: &str| -> u64 {
            let of = reports.as_array().unwrap().iter().filter(|report| report["why"] == why);
            of.map(|report| report["added"].as_u64().unwrap()).sum()
        };
        // What is asked for while a scan runs is one scan after it. At most three are noticed.
        assert_eq!(added("asked") + added("change"), 5, "{reports}");
        assert!(added("asked") >= 2, "{reports}");
        // One that went is looked for as well.
        fs::remove_dir_all(folder.path().join("Box 5")).unwrap();
        let asked = house.client(&["folder", "rescan", "Sandbox", "--path", "Box 5"]);
        // Where its directory is among those that are watched, that may have been done already.
        let said = String::from_utf8_lossy(&asked.stderr).into_owned();
        assert!(asked.status.success() || said.contains("no such sub-folder"), "{said}");
        until(10, "the fifth to go", || (house.api("GET", "/status")["items"] == 4).then_some(()));
    });
}

#[test]
fn where_the_kernel_watches_no_more_the_folder_is_looked_through() {
    in_a_house(|mut house| {
        let folder = tempfile::tempdir().unwrap();
        for n in 1..=5 {
            fs::create_dir(folder.path().join(format!("Box {n}"))).unwrap();
        }
        let _service = begin_with_few_watches(&mut house, "1");
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Sandbox"]);
        until(30, "the folder to be looked through", || {
            let next = house.json(&["folder", "list"])[0]["next_scan"].clone();
            next.as_str().unwrap().starts_with("every 1 s").then_some(())
        });
        for n in 1..=5 {
            let there = folder.path().join(format!("Box {n}/{n}.mp3"));
            fs::copy(media("Sound/Night log.mp3"), there).unwrap();
        }
        until(30, "all five", || (house.api("GET", "/status")["items"] == 5).then_some(()));
        assert!(house.log().contains("max_user_watches"), "{}", house.log());
    });
}

#[test]
fn a_file_that_is_still_written_comes_when_it_is_complete() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        let folder = tempfile::tempdir().unwrap();
        fs::copy(media("Sound/Night log.mp3"), folder.path().join("log.mp3")).unwrap();
        publish(&house, folder.path());
        let whole = fs::read(media("Films/Lamp-room tour.mp4")).unwrap();
        let mut film = fs::File::create(folder.path().join("tour.mp4")).unwrap();
        // Slowly, in pieces; the index of this file stands at its end.
        let begin = Instant::now();
        for piece in whole.chunks(whole.len() / 12) {
            film.write_all(piece).unwrap();
            film.flush().unwrap();
            std::thread::sleep(Duration::from_millis(200));
            assert_eq!(titles(&house), ["Night log"], "after {:?}", begin.elapsed());
        }
        drop(film);
        let took = await_titles(&house, &["Lamp-room tour", "Night log"]);
        assert!(took < Duration::from_secs(4), "{took:?}");
        until(30, "nothing to be left out in the end", || {
            let left = house.json(&["folder", "show", "Sandbox"])["left_out"]["files"].clone();
            (left == Value::Array(vec![])).then_some(())
        });
    });
}

#[test]
fn a_folder_that_goes_away_comes_back_with_the_same_ids() {
    in_a_house(|house| {
        let _service = house.begin();
        let around = tempfile::tempdir().unwrap();
        let (here, away) = (around.path().join("drive"), around.path().join("elsewhere"));
        fs::create_dir(&here).unwrap();
        fs::copy(media("Sound/Night log.mp3"), here.join("log.mp3")).unwrap();
        fs::copy(media("Pictures/Storm/Storm 1.jpg"), here.join("one.jpg")).unwrap();
        publish(&house, &here);
        house.publish("Films");
        let before = house.items();
        fs::rename(&here, &away).unwrap();
        let shown = until(30, "the folder to be away", || {
            let shown = house.mostra(&["folder", "list"]);
            shown.contains("away since").then_some(shown)
        });
        assert!(shown.contains("Films"), "{shown}");
        until(30, "its own items to be hidden, and no others", || {
            (house.items().len() == before.len() - 2).then_some(())
        });
        fs::rename(&away, &here).unwrap();
        until(30, "the folder to be back", || (house.items() == before).then_some(()));
        // And it is watched again.
        fs::copy(media("Pictures/Storm/Storm 2.jpg"), here.join("two.jpg")).unwrap();
        until(30, "a new file in it", || house.items().contains_key("two").then_some(()));
    });
}

#[test]
fn sub_folders_can_be_left_out_and_taken_in_again() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Pictures");
        let before = titles(&house);
        let said = house.mostra(&["folder", "leave-out", "Pictures", "Storm"]);
        assert!(said.contains("Storm"), "{said}");
        until(30, "the sub-folder to go", || (titles(&house).len() == 7).then_some(()));
        assert!(
            house.mostra_fails(&["folder", "leave-out", "Pictures", "../x"]).contains("no place")
        );
        house.mostra(&["folder", "leave-out", "Pictures", "--none"]);
        until(30, "it to come back", || (titles(&house) == before).then_some(()));
    });
}

#[test]
fn odd_files_each_have_their_outcome() {
    in_a_house(|house| {
        use std::os::unix::ffi::OsStrExt;
        let _service = house.begin();
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        let picture = fs::read(media("Pictures/Storm/Storm 1.jpg")).unwrap();
        fs::write(at("named.mp4"), &picture).unwrap();
        fs::write(at("empty.mp3"), b"").unwrap();
        fs::write(at("cut.mp4"), &fs::read(media("Films/Harbour at dawn.mp4")).unwrap()[..9000])
            .unwrap();
        fs::write(folder.path().join(std::ffi::OsStr::from_bytes(b"bad\xff.jpg")), &picture)
            .unwrap();
        let long = format!("{}.jpg", "l".repeat(251));
        fs::write(at(&long), &picture).unwrap();
        let deep: PathBuf =
            (0..60).fold(folder.path().to_owned(), |path, n| path.join(format!("d{n}")));
        fs::create_dir_all(&deep).unwrap();
        fs::write(deep.join("deep.jpg"), &picture).unwrap();
        std::os::unix::fs::symlink("/etc/hostname", at("link.jpg")).unwrap();
        // Hidden ones, and what is no file (SEC-14).
        fs::write(at(".secret.jpg"), &picture).unwrap();
        fs::create_dir(at(".kept")).unwrap();
        fs::write(at(".kept/inside.jpg"), &picture).unwrap();
        nix::unistd::mkfifo(&at("pipe.mp3"), nix::sys::stat::Mode::S_IRWXU).unwrap();
        let _listener = std::os::unix::net::UnixListener::bind(at("door.mp4")).unwrap();
        publish(&house, folder.path());
        assert_eq!(titles(&house), ["l".repeat(251).as_str(), "named"]);
        let object = house.json(&["catalogue", "show", &house.items()["named"]]);
        assert_eq!(object["facts"]["mime"], "image/jpeg", "contents decide");
        // What was written a moment ago may still grow; then its outcome stands.
        let left = until(30, "the outcomes", || {
            let left = house.json(&["folder", "show", "Sandbox"])["left_out"]["files"].clone();
            (!left.to_string().contains("still being written")).then_some(left)
        });
        let reason = |path: &str| {
            let all = left.as_array().unwrap();
            let file = all.iter().find(|f| f["path"].as_str().unwrap().starts_with(path));
            file.unwrap_or_else(|| panic!("{path} in {left}"))["reason"]
                .as_str()
                .unwrap()
                .to_owned()
        };
        assert!(reason("empty.mp3").contains("empty"));
        assert!(reason("cut.mp4").contains("damaged"));
        assert!(reason("bad").contains("UTF-8"));
        assert!(reason("d0/d1").contains("folders deep"));
        assert!(reason("link.jpg").contains("link"));
    });
}

#[test]
fn no_file_is_ever_changed() {
    in_a_house(|house| {
        let folder = tempfile::tempdir().unwrap();
        let copied = std::process::Command::new("cp")
            .args(["-r", top().join("demo/media").to_str().unwrap()])
            .arg(folder.path().join("all"))
            .status()
            .unwrap();
        assert!(copied.success());
        let state = || {
            let output = std::process::Command::new("sh")
                .args([
                    "-c",
                    "find . -type f -exec sha256sum {} + -printf '%p %s %T@ %m\\n' | sort",
                ])
                .current_dir(folder.path())
                .output()
                .unwrap();
            String::from_utf8(output.stdout).unwrap()
        };
        let before = state();
        let mut service = house.begin();
        publish(&house, &folder.path().join("all"));
        for id in house.items().into_values() {
            let object = house.json(&["catalogue", "show", &id]);
            if let Some(art) = object["art"].as_str() {
                let token = fs::read_to_string(house.data.path().join("token")).unwrap();
                let request = format!(
                    "GET /api/v1{art}tn HTTP/1.1\r\nHost: 127.0.0.1:7641\r\nAuthorization: Bearer {}\r\nConnection: close\r\n\r\n",
                    token.trim()
                );
                let answer =
                    mostra_tests::raw::exchange("127.0.0.1", "127.0.0.1:7641", &request).unwrap();
                assert_eq!(answer.status, 200, "{art}");
                assert_eq!(&answer.body[..2], [0xff, 0xd8]);
            }
        }
        house.mostra(&["folder", "rescan", "Sandbox"]);
        assert!(service.stop());
        assert_eq!(state(), before);
    });
}
