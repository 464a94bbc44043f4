//! Publishing: what is there, what is left out, and what is refused.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::process::Command;

use mostra_tests::{House, by_socket_for_all, in_a_house, media, top, until};
use serde_json::Value;

/// A folder of media to play with, copied from the demo's.
fn sandbox() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    // The service may run as another user in a test.
    let open = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(folder.path(), open).unwrap();
    std::fs::create_dir(folder.path().join("Storm")).unwrap();
    let media = top().join("demo/media");
    for (from, to) in [
        ("Films/Lamp-room tour.mp4", "tour.mp4"),
        ("Sound/Night log.mp3", "log.mp3"),
        ("Pictures/Storm/Storm 1.jpg", "Storm/one.jpg"),
    ] {
        std::fs::copy(media.join(from), folder.path().join(to)).unwrap();
    }
    folder
}

fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

fn ids(house: &House) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    for view in ["video-all", "music-all", "pictures-all"] {
        // A view with nothing in it is not there.
        let output = house.client(&["catalogue", "list", view, "--json"]);
        let page: Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
        if let Some(objects) = page["objects"].as_array() {
            for object in objects {
                found.insert(
                    object["title"].as_str().unwrap().to_owned(),
                    object["id"].as_str().unwrap().to_owned(),
                );
            }
        }
    }
    found
}

#[test]
fn facts_are_read_and_the_rest_is_left_out_with_a_reason() {
    in_a_house(|house| {
        let _service = house.begin();
        for folder in ["Films", "Sound", "Pictures"] {
            house.publish(folder);
        }
        let ids = ids(&house);
        assert_eq!(ids.len(), 22);
        let facts = |title: &str| house.json(&["catalogue", "show", &ids[title]])["facts"].clone();
        let film = facts("Harbour at dawn");
        let expect = |facts: &Value, pairs: &[(&str, Value)]| {
            for (name, value) in pairs {
                assert_eq!(&facts[name], value, "{name} in {facts}");
            }
        };
        expect(
            &film,
            &[
                ("resolution", "640x360".into()),
                ("video_codec", "H.264 main, level 3.0".into()),
                ("profile", "AVC_MP4_MP_SD_AAC_MULT5".into()),
            ],
        );
        assert_eq!(film["audio"][0]["codec"], "aac-lc");
        let seconds = film["duration_ms"].as_u64().unwrap();
        assert!((47_900..48_200).contains(&seconds), "{seconds}");
        let size = film["size"].as_u64().unwrap();
        assert_eq!(film["bit_rate"].as_u64().unwrap(), size * 8000 / seconds);
        expect(
            &facts("Slack Water"),
            &[
                ("artists", vec!["Halyard Choir"].into()),
                ("album", "Slack Water".into()),
                ("bit_rate", 128_000.into()),
                ("profile", "MP3".into()),
                ("date", "2019-05-04".into()),
            ],
        );
        expect(
            &facts("Storm 10"),
            &[
                ("resolution", "1066x1600".into()),
                ("date", "2023-01-14T16:20:47".into()),
                ("profile", "JPEG_LRG".into()),
            ],
        );
        let flac = facts("Sheet bend");
        assert_eq!(
            (&flac["mime"], &flac["audio"][0]["codec"]),
            (&"audio/flac".into(), &"flac".into())
        );
        assert_eq!(facts("Bell test")["mime"], "audio/wav");
        assert_eq!(facts("Tide table")["mime"], "image/png");
        let tour = facts("Lamp-room tour");
        assert_eq!(tour["subtitles"][0]["file_name"], "Lamp-room tour.srt");
        let shown = house.mostra(&["folder", "show", "Films"]);
        assert!(shown.contains("offered with the film beside them"), "{shown}");
    });
}

#[test]
fn what_changes_on_disk_shows_after_a_rescan_and_ids_stay() {
    in_a_house(|house| {
        let mut service = house.begin();
        let folder = sandbox();
        let hash = |name: &str| std::fs::read(folder.path().join(name)).unwrap();
        let before_files = (hash("tour.mp4"), hash("log.mp3"), hash("Storm/one.jpg"));
        house.mostra(&["folder", "add", text(folder.path()), "--label", "Sandbox"]);
        let before = ids(&house);
        assert_eq!(before.len(), 3);
        assert_eq!(
            (hash("tour.mp4"), hash("log.mp3"), hash("Storm/one.jpg")),
            before_files,
            "files are never changed"
        );

        std::fs::copy(folder.path().join("Storm/one.jpg"), folder.path().join("Storm/two.jpg"))
            .unwrap();
        std::fs::remove_file(folder.path().join("log.mp3")).unwrap();
        std::fs::write(folder.path().join("empty.mp3"), b"").unwrap();
        std::fs::write(folder.path().join("notes.txt"), b"hello").unwrap();
        house.mostra(&["folder", "rescan", "Sandbox"]);
        let after = ids(&house);
        assert_eq!(after.keys().collect::<Vec<_>>(), ["Lamp-room tour", "one", "two"]);
        assert_eq!(after["one"], before["one"]);
        let left = house.json(&["folder", "show", "Sandbox"])["left_out"]["files"].clone();
        assert_eq!(left.as_array().unwrap().len(), 2, "{left}");

        // The same ids after a restart, also for what a removed and added file gets.
        assert!(service.stop());
        let _service = house.start();
        mostra_tests::until(30, "the catalogue", || {
            (house.json(&["status"])["loaded"] == true).then_some(())
        });
        assert_eq!(ids(&house), after);
        std::fs::copy(top().join("demo/media/Sound/Night log.mp3"), folder.path().join("log.mp3"))
            .unwrap();
        house.mostra(&["folder", "rescan", "Sandbox"]);
        assert_ne!(ids(&house)["Night log"], before["Night log"], "an id is never given twice");
    });
}

#[test]
fn bad_folders_are_refused_and_nothing_is_half_done() {
    in_a_house(|house| {
        let _service = house.begin();
        let folder = sandbox();
        let path = text(folder.path());
        assert!(
            house.mostra_fails(&["folder", "add", "/nowhere/at/all"]).contains("does not exist")
        );
        assert!(
            house
                .mostra_fails(&["folder", "add", text(&folder.path().join("tour.mp4"))])
                .contains("is a file")
        );
        assert!(house.mostra_fails(&["folder", "add", "/proc"]).contains("the system itself"));
        assert!(
            house
                .mostra_fails(&["folder", "add", path, "--kinds", "operas"])
                .contains("not a kind")
        );
        house.mostra(&[
            "folder",
            "add",
            text(&folder.path().join("Storm")),
            "--kinds",
            "picture,video",
        ]);
        assert!(house.mostra_fails(&["folder", "add", path]).contains("lies in it"));
        assert!(
            house
                .mostra_fails(&["folder", "add", text(&folder.path().join("Storm"))])
                .contains("already published")
        );
        let inner = folder.path().join("Storm/inner");
        std::fs::create_dir(&inner).unwrap();
        assert!(
            house
                .mostra_fails(&["folder", "add", text(&inner)])
                .contains("lies in one that is published")
        );
        let folders = house.json(&["folder", "list"]);
        assert_eq!(folders.as_array().unwrap().len(), 1);
        assert!(house.mostra_fails(&["folder", "remove", "Storm"]).contains("--yes"));
        house.mostra(&["folder", "remove", "Storm", "--yes"]);
        assert!(house.mostra(&["folder", "list"]).contains("Nothing is published yet"));
        assert!(house.mostra_fails(&["folder", "show", "Storm"]).contains("no folder is called"));
        assert!(folder.path().join("Storm/one.jpg").exists(), "the files stay");
    });
}

#[test]
fn kinds_decide_what_a_folder_holds() {
    in_a_house(|house| {
        let _service = house.begin();
        let folder = sandbox();
        house.mostra(&[
            "folder",
            "add",
            text(folder.path()),
            "--label",
            "Only music",
            "--kinds",
            "music",
        ]);
        assert_eq!(ids(&house).keys().collect::<Vec<_>>(), ["Night log"]);
        let shown = house.mostra(&["folder", "show", "Only music"]);
        assert!(shown.contains("the folder is not set to hold that kind"), "{shown}");
    });
}

#[test]
fn what_stops_the_service_on_the_way_to_a_folder_is_named_with_what_opens_it() {
    use std::os::unix::fs::{PermissionsExt, chown};
    in_a_house(|mut house| {
        const NOBODY: u32 = 65_534;
        let under = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"];
        house.under = under.map(String::from).to_vec();
        house.database_url = by_socket_for_all(&house.database_url);
        chown(house.data.path(), Some(NOBODY), Some(NOBODY)).unwrap();
        let top = house.folders.path().to_owned();
        let films = top.join("shut/My films");
        fs::create_dir_all(&films).unwrap();
        fs::copy(media("Sound/Night log.mp3"), films.join("log.mp3")).unwrap();
        let mode = |path: &Path, mode| fs::set_permissions(path, PermissionsExt::from_mode(mode));
        mode(&top, 0o755).unwrap();
        mode(&top.join("shut"), 0o700).unwrap();
        mode(&films, 0o700).unwrap();
        let _service = house.begin();
        let publish = ["folder", "add", films.to_str().unwrap(), "--label", "Films"];
        // Each command that it names is run as it stands, until nothing stops the service.
        let mut opened = Vec::new();
        while !house.client(&publish).status.success() {
            let said = house.mostra_fails(&publish);
            let (_, command) = said.split_once("then try again: ").unwrap();
            let command = command.trim().replace("sudo ", "");
            assert!(Command::new("sh").args(["-c", &command]).status().unwrap().success());
            opened.push(said);
            assert!(opened.len() < 4, "{opened:?}");
        }
        assert!(opened[0].contains("may not go through") && opened[0].contains("/shut"));
        assert!(opened[1].contains("may not read") && opened[1].contains("/shut/My films"));
        assert_eq!(opened.len(), 2);
        let bits = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
        assert_eq!((bits(&top.join("shut")), bits(&films)), (0o710, 0o750), "one bit each");
        until(30, "the track", || house.items().contains_key("Night log").then_some(()));
    });
}
