//! While PostgreSQL takes nothing, nothing is lost: not what devices proved, not what scans found.

use std::collections::BTreeSet;
use std::fs;
use std::net::TcpStream;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use mostra_tests::raw::{browse, connect};
use mostra_tests::{Cluster, House, by_socket_for_all, in_a_house, media, psql, query, until};

const KNOWN: &str = "127.0.0.61";
const NEW: &str = "127.0.0.62";

/// Whether PostgreSQL only reads from now on.
fn read_only(url: &str, is: bool) {
    let word = if is { "on" } else { "off" };
    query(
        url,
        &format!(
            "begin read write; alter role mostra set default_transaction_read_only = {word}; commit"
        ),
    );
    query(
        url,
        "select pg_terminate_backend(pid) from pg_stat_activity \
         where usename = 'mostra' and pid <> pg_backend_pid()",
    );
}

/// A folder with pieces of music of these names.
fn put(folder: &Path, names: impl Iterator<Item = String>) {
    for name in names {
        fs::copy(media("Sound/Night log.mp3"), folder.join(name)).unwrap();
    }
}

/// Whether there are as many pieces in the catalogue as on disk.
fn catalogue_is_disk(house: &House, folder: &Path) -> Option<()> {
    let on_disk = fs::read_dir(folder).unwrap().count();
    (house.json(&["status"])["items"] == on_disk).then_some(())
}

/// The ids of all pieces of music.
fn ids(house: &House) -> BTreeSet<String> {
    let list = house.json(&["catalogue", "list", "music-all"]);
    let objects = list["objects"].as_array().unwrap().iter();
    objects.map(|object| object["id"].as_str().unwrap().to_owned()).collect()
}

fn attention(house: &House) -> String {
    house.json(&["status"])["attention"].to_string()
}

/// Starts a cluster that says its messages in German, so that nothing can hang on their words.
fn start_in_german(cluster: &Cluster) -> String {
    use std::os::unix::fs::PermissionsExt as _;
    cluster.start(true);
    cluster.stop();
    let locales = cluster.data.parent().unwrap().join("locales");
    fs::create_dir_all(&locales).unwrap();
    let made = Command::new("localedef")
        .args(["-i", "de_DE", "-f", "UTF-8"])
        .arg(locales.join("de_DE.UTF-8"))
        .status();
    assert!(made.unwrap().success());
    for place in [&locales, &locales.join("de_DE.UTF-8")] {
        fs::set_permissions(place, fs::Permissions::from_mode(0o755)).unwrap();
    }
    let config = cluster.place().join("postgresql.auto.conf");
    let mut text = fs::read_to_string(&config).unwrap();
    text.push_str("lc_messages = 'de_DE.UTF-8'\n");
    fs::write(&config, text).unwrap();
    let started = cluster.script("start", |command| {
        command.env("LOCPATH", &locales).env("MOSTRA_POSTGRES_FAST", "1");
    });
    assert!(started.status.success(), "{}", String::from_utf8_lossy(&started.stderr));
    let url = String::from_utf8(started.stdout).unwrap().trim().to_owned();
    let refused = psql(&url).args(["-c", "select nonsense"]).output().unwrap();
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(said.contains("existiert nicht"), "{said}");
    url
}

/// R1: read-only for a while, and 14: in another language.
#[test]
fn what_devices_prove_while_postgresql_only_reads_is_kept_and_saved() {
    let cluster = Cluster::new();
    let url = start_in_german(&cluster);
    in_a_house(move |house| {
        let house = House { database_url: url.clone(), ..house };
        let mut service = house.begin();
        house.publish("Films");
        house.meet(KNOWN);
        house.admit(KNOWN);
        until(10, "the decision", || (house.device(KNOWN)?["unsaved"] == false).then_some(()));
        read_only(&url, true);
        browse(KNOWN, "video-all");
        house.meet(NEW);
        house.await_step(KNOWN, "listed");
        until(20, "the cause", || attention(&house).contains("read only").then_some(()));
        let said = attention(&house);
        assert!(said.contains("what devices did") && said.contains("read_only"), "{said}");
        // What would be lost by a crash says so.
        until(10, "the mark", || (house.device(NEW)?["unsaved"] == true).then_some(()));
        assert!(house.mostra(&["device", "show", KNOWN]).contains("not saved yet"));
        let said = house.mostra_fails(&["house", "name", "Elsewhere"]);
        assert!(said.contains("Not saved") && said.contains("read only"), "{said}");
        let said = house.mostra_fails(&["walkthrough", "start", KNOWN]);
        assert!(said.contains("Not saved"), "a walkthrough is not begun then: {said}");
        read_only(&url, false);
        until(20, "all to be saved", || {
            let saved = |device| house.device(device).is_some_and(|d| d["unsaved"] == false);
            (saved(KNOWN) && saved(NEW)).then_some(())
        });
        until(20, "the message to go", || (!attention(&house).contains("read only")).then_some(()));
        service.kill();
        let _service = house.start();
        assert!(house.confirmed(KNOWN).contains(&"listed".to_owned()));
        assert!(house.device(NEW).is_some());
    });
}

/// R9: an orderly stop while PostgreSQL is away.
#[test]
fn what_is_not_saved_at_an_orderly_stop_is_read_by_the_next_start() {
    let cluster = Cluster::new();
    let url = cluster.start(true);
    in_a_house(move |house| {
        let house = House { database_url: url, ..house };
        let mut service = house.begin();
        house.publish("Films");
        house.meet(KNOWN);
        house.admit(KNOWN);
        until(10, "the device", || (house.device(KNOWN)?["unsaved"] == false).then_some(()));
        cluster.stop();
        browse(KNOWN, "video-all");
        house.meet(NEW);
        house.await_step(KNOWN, "listed");
        assert!(service.stop(), "{}", house.log());
        assert!(house.data.path().join("unsaved.json").exists());
        cluster.start(true);
        let _service = house.start();
        assert!(house.confirmed(KNOWN).contains(&"listed".to_owned()), "{}", house.log());
        assert!(house.device(NEW).is_some());
        assert!(!house.data.path().join("unsaved.json").exists());
    });
}

/// R2: a folder changes while PostgreSQL is away.
#[test]
fn what_changes_on_disk_while_the_records_are_away_is_scanned_once_they_are_back() {
    let cluster = Cluster::new();
    let url = cluster.start(true);
    in_a_house(move |house| {
        let house = House { database_url: url, ..house };
        let folder = tempfile::tempdir().unwrap();
        put(folder.path(), (0..20).map(|n| format!("{n}.mp3")));
        let _service = house.begin();
        let place = folder.path().to_str().unwrap().to_owned();
        house.mostra(&["folder", "add", &place, "--label", "Music"]);
        until(30, "all of it", || catalogue_is_disk(&house, folder.path()));
        let before = ids(&house);
        cluster.stop();
        (0..5).for_each(|n| fs::remove_file(folder.path().join(format!("{n}.mp3"))).unwrap());
        put(folder.path(), (30..40).map(|n| format!("{n}.mp3")));
        until(20, "the scan to fail", || {
            attention(&house).contains("the last scan failed").then_some(())
        });
        cluster.start(true);
        until(40, "the catalogue to be as the disk", || catalogue_is_disk(&house, folder.path()));
        until(10, "the message to go", || {
            (!attention(&house).contains("scan failed")).then_some(())
        });
        let now = ids(&house);
        assert_eq!(now.intersection(&before).count(), 15, "what stayed keeps its ids");
    });
}

/// R2, as a property: whenever the records go and come while a folder changes, the catalogue equals
/// the disk within a minute after they are back.
#[test]
fn after_outages_at_any_moment_the_catalogue_is_as_the_disk() {
    let cluster = Cluster::new();
    let url = cluster.start(true);
    in_a_house(move |house| {
        let house = House { database_url: url, ..house };
        let folder = tempfile::tempdir().unwrap();
        let album = |n: u32| folder.path().join(format!("album-{n}"));
        (0..4).for_each(|n| fs::create_dir(album(n)).unwrap());
        put(&album(0), (0..10).map(|n| format!("{n}.mp3")));
        let _service = house.begin();
        let place = folder.path().to_str().unwrap().to_owned();
        house.mostra(&["folder", "add", &place, "--label", "Music"]);
        let seed = fastrand::u64(..);
        println!("the seed is {seed}");
        let mut random = fastrand::Rng::with_seed(seed);
        let on_disk =
            || (0..4).map(|n| fs::read_dir(album(n)).map_or(0, Iterator::count)).sum::<usize>();
        let mut named = 100;
        for round in 0..4 {
            let (down, up) = (random.usize(0..12), random.usize(12..24));
            for step in 0..24 {
                if step == down {
                    cluster.stop();
                }
                if step == up {
                    cluster.start(true);
                }
                let at = album(random.u32(0..4));
                let mut there = fs::read_dir(&at).unwrap().flatten().map(|entry| entry.path());
                match (random.u32(0..3), there.next()) {
                    (0, Some(old)) => fs::remove_file(old).unwrap(),
                    (1, Some(old)) => {
                        named += 1;
                        let to = album(random.u32(0..4)).join(format!("{named}.mp3"));
                        fs::rename(old, to).unwrap();
                    }
                    _ => {
                        named += 1;
                        put(&at, std::iter::once(format!("{named}.mp3")));
                    }
                }
                // At any moment of a scan: this is what is tried, and not what is waited for.
                std::thread::sleep(Duration::from_millis(random.u64(0..300)));
            }
            until(
                60,
                &format!("round {round} of seed {seed}: the catalogue to be as the disk"),
                || (house.json(&["status"])["items"] == on_disk()).then_some(()),
            );
        }
    });
}

/// R10: nothing is taken for gone because no file can be opened.
#[test]
fn without_descriptors_a_scan_is_put_off_and_nothing_is_hidden() {
    in_a_house(|mut house| {
        house.under = ["prlimit", "--nofile=96:96"].map(String::from).to_vec();
        let folder = tempfile::tempdir().unwrap();
        put(folder.path(), (0..20).map(|n| format!("{n}.mp3")));
        let _service = house.begin();
        let place = folder.path().to_str().unwrap().to_owned();
        house.mostra(&["folder", "add", &place, "--label", "Music"]);
        until(30, "all of it", || catalogue_is_disk(&house, folder.path()));
        let before = ids(&house);
        // Silent connections, as many as it takes.
        let silent: Vec<TcpStream> = (0..200)
            .filter_map(|n| connect(&format!("127.0.1.{}", n + 1), "127.0.0.1:7640").ok())
            .collect();
        assert!(silent.len() > 60, "{}", silent.len());
        put(folder.path(), (30..40).map(|n| format!("{n}.mp3")));
        until(30, "it to run out of descriptors", || {
            house
                .log()
                .contains("Too many open files")
                .then_some(())
                .or_else(|| house.log().contains("descriptors, threads or memory").then_some(()))
        });
        drop(silent);
        until(60, "the catalogue to be as the disk", || catalogue_is_disk(&house, folder.path()));
        assert!(!house.log().contains("is away"), "{}", house.log());
        assert!(ids(&house).is_superset(&before), "what was there keeps its ids");
    });
}

/// R3: the service may not read a sub-folder for a while.
#[test]
fn what_cannot_be_read_is_hidden_and_comes_back_with_its_ids() {
    use std::os::unix::fs::{PermissionsExt, chown};
    in_a_house(|mut house| {
        const NOBODY: u32 = 65_534;
        let under = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"];
        house.under = under.map(String::from).to_vec();
        house.database_url = by_socket_for_all(&house.database_url);
        chown(house.data.path(), Some(NOBODY), Some(NOBODY)).unwrap();
        let top = house.folders.path().to_owned();
        let mode = |path: &Path, mode| {
            fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
        };
        let inner = top.join("Music/Inner");
        fs::create_dir_all(&inner).unwrap();
        put(&inner, (0..5).map(|n| format!("{n}.mp3")));
        put(&top.join("Music"), (0..2).map(|n| format!("{n}.mp3")));
        mode(&top, 0o755);
        let _service = house.begin();
        let place = top.join("Music").to_str().unwrap().to_owned();
        house.mostra(&["folder", "add", &place, "--label", "Music"]);
        let items = |wanted: u64| (house.json(&["status"])["items"] == wanted).then_some(());
        until(30, "all of it", || items(7));
        let before = ids(&house);
        mode(&inner, 0);
        house.mostra(&["folder", "rescan", "Music"]);
        until(10, "it to be hidden", || items(2));
        let said = house.mostra(&["status"]);
        assert!(said.contains("Music: Inner cannot be read"), "{said}");
        mode(&inner, 0o755);
        until(20, "it to come back", || items(7));
        assert_eq!(ids(&house), before);
        assert!(!attention(&house).contains("cannot be read"));
        // A person says that it is gone for good.
        mode(&inner, 0);
        house.mostra(&["folder", "rescan", "Music", "--as-it-is"]);
        until(10, "it to be gone", || items(2));
        mode(&inner, 0o755);
        house.mostra(&["folder", "rescan", "Music"]);
        until(10, "it to be new", || items(7));
        assert_eq!(ids(&house).intersection(&before).count(), 2);
    });
}

/// R8: a restart that could not come back.
#[test]
fn a_restart_is_refused_while_it_could_not_come_back() {
    let cluster = Cluster::new();
    let url = cluster.start(true);
    in_a_house(move |house| {
        let house = House { database_url: url, ..house };
        let _service = house.begin();
        cluster.stop();
        let said = house.mostra_fails(&["house", "restart", "--yes"]);
        assert!(said.contains("would not come back") && said.contains("PostgreSQL"), "{said}");
        house.json(&["status"]);
        cluster.start(true);
        until(20, "the restart", || {
            house.client(&["house", "restart", "--yes"]).status.success().then_some(())
        });
        house.json(&["status"]);
    });
}

/// 13: rows that this version cannot read.
#[test]
fn a_row_that_cannot_be_read_costs_itself_alone() {
    in_a_house(|house| {
        let mut service = house.begin();
        house.publish("Films");
        house.meet(KNOWN);
        house.admit(KNOWN);
        house.meet(NEW);
        browse(KNOWN, "video-all");
        house.await_step(KNOWN, "listed");
        let items = house.items().len();
        assert!(service.stop());
        let url = house.database_url.clone();
        let file = query(&url, "select min(id) from file");
        query(&url, &format!("update file set facts = '{{\"of\":\"later\"}}' where id = {file}"));
        query(&url, "update device set standing = 'later' where not decided");
        query(
            &url,
            "update sighting set act = '{\"later\":1}' where id = (select min(id) from sighting)",
        );
        query(
            &url,
            "insert into setting values ('presets', 'later') on conflict (name) do update set value = 'later'",
        );
        let _service = house.start_with(&["--scan", "asked"]);
        until(30, "the catalogue", || (house.json(&["status"])["loaded"] == true).then_some(()));
        assert_eq!(house.items().len(), items - 1);
        assert!(house.confirmed(KNOWN).contains(&"listed".to_owned()));
        house.json(&["preset", "list"]);
        let said = house.mostra(&["status"]);
        assert!(said.contains("Set aside") && said.contains(&format!("file {file}")), "{said}");
        assert!(said.contains("device ") && !said.contains("does not answer"), "{said}");
        assert_eq!(query(&url, "select value from setting where name = 'unread:presets'"), "later");
        // It asks again, and is met anew; a scan finds the file.
        house.meet(NEW);
        house.mostra(&["folder", "rescan", "Films"]);
        assert_eq!(house.items().len(), items);
    });
}
