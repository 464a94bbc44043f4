//! Downgrade and damage: each has a word for the person, and nothing is lost.

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};

use mostra_tests::raw::browse;
use mostra_tests::{Cluster, House, faketime, in_a_house, media, query, raw, until};
use nix::mount::{MsFlags, mount};
use nix::sched::{CloneFlags, unshare};

const TV: &str = "127.0.0.62";

/// A disk of some MiB, in a mount namespace of the test's own.
fn disk(at: &Path, mib: u32) {
    unshare(CloneFlags::CLONE_NEWNS).unwrap();
    let none: Option<&str> = None;
    mount(none, "/", none, MsFlags::MS_REC | MsFlags::MS_PRIVATE, none).unwrap();
    let size = format!("size={mib}m,mode=755");
    mount(Some("none"), at, Some("tmpfs"), MsFlags::empty(), Some(size.as_str())).unwrap();
}

/// Fills the disk below a directory, until the file goes.
struct Filled(PathBuf);

impl Filled {
    fn to_the_last_byte(directory: &Path) -> Filled {
        use std::io::Write as _;
        let path = directory.join("filler");
        let mut file = fs::File::create(&path).unwrap();
        for size in [1 << 20, 4096, 1] {
            while file.write_all(&vec![0; size]).is_ok() {}
        }
        Filled(path)
    }
}

impl Drop for Filled {
    fn drop(&mut self) {
        fs::remove_file(&self.0).unwrap();
    }
}

/// Everything in the records, as statements.
fn all(url: &str) -> String {
    let tables = query(
        url,
        "select string_agg(tablename, ' ' order by 1) from pg_tables where schemaname = 'public'",
    );
    let rows = tables.split(' ').map(|table| {
        query(
            url,
            &format!("select md5(string_agg(t::text, '|' order by t::text)) from \"{table}\" t"),
        )
    });
    format!("{tables} {}", rows.collect::<Vec<_>>().join(" "))
}

#[test]
fn an_older_program_on_newer_records_says_so_and_touches_nothing() {
    in_a_house(|house| {
        let mut service = house.begin();
        house.publish("Films");
        let said = on_the_host(&house, &["save"], true);
        let saved = said.trim().trim_end_matches('.').rsplit('/').next().unwrap().to_owned();
        assert!(service.stop());
        let url = house.database_url.clone();
        query(&url, "insert into seaql_migrations (version, applied_at) values ('m9001_later', 1)");
        query(&url, "alter table device add column later text");
        let before = all(&url);
        let said = house.refused(|_| {});
        assert!(
            said.contains("later version wrote these records") && said.contains("m9001_later"),
            "{said}"
        );
        assert!(
            said.contains("Nothing was touched") && said.contains("Install that version"),
            "{said}"
        );
        let said = house.refused(|c| {
            c.args(["account", "reset"]);
        });
        assert!(said.contains("m9001_later"), "{said}");
        assert_eq!(all(&url), before);

        // Back to what this version can read: what was saved before the upgrade.
        // What a stop left unsaved belongs to the records that go.
        let left = house.data.path().join("unsaved.json");
        fs::write(&left, "{}").unwrap();
        let said = on_the_host(&house, &["restore", &saved], true);
        assert!(!left.exists() && left.with_extension("superseded").exists());
        assert!(said.contains("are restored"), "{said}");
        let _service = house.start();
        house.sign_in();
        until(30, "the films", || (house.items().len() >= 5).then_some(()));
        let list = house.json(&["records", "list"]);
        let becauses: Vec<&str> = list["saved"]
            .as_array()
            .unwrap()
            .iter()
            .map(|s| s["because"].as_str().unwrap())
            .collect();
        assert_eq!(becauses, ["before-restore", "before-upgrade"]);
        // Into a database in which nothing was ever, as well.
        let new = house.beside().database_url;
        let mut command = house.service_command();
        command.env("MOSTRA_DATABASE_URL", &new).args(["restore", &saved]);
        assert!(command.output().unwrap().status.success());
        assert_eq!(
            query(&new, "select count(*) from file"),
            query(&url, "select count(*) from file")
        );
        // While a service runs, its records are not taken away.
        let said = on_the_host(&house, &["restore", &saved], false);
        assert!(said.contains("another service uses this database"), "{said}");
    });
}

/// What `mostrad` says of something done on the host.
fn on_the_host(house: &House, arguments: &[&str], works: bool) -> String {
    let output = house.service_command().args(arguments).output().unwrap();
    let said = [output.stdout, output.stderr].concat();
    let said = String::from_utf8_lossy(&said).into_owned();
    assert_eq!(output.status.success(), works, "{said}");
    said
}

#[test]
fn a_change_of_the_tables_that_fails_leaves_the_records_as_they_were() {
    in_a_house(|house| {
        let mut service = house.begin();
        house.publish("Films");
        assert!(service.stop());
        let url = house.database_url.clone();
        // A change is to be made again, and fails at a row that it cannot read.
        query(&url, "delete from seaql_migrations where version = 'm0009_reasons'");
        query(
            &url,
            "insert into left_out (folder_id, path, reason) select id, 'a', 'the file is empty' from folder limit 1",
        );
        query(
            &url,
            "create function no() returns trigger language plpgsql as $$ begin \
                     if new.reason = '\"name\"' then raise exception 'a fault in the middle'; end if; return new; end $$",
        );
        query(
            &url,
            "insert into left_out (folder_id, path, reason) select id, 'b', 'its name is not valid text' from folder limit 1",
        );
        query(
            &url,
            "create trigger no before update on left_out for each row execute function no()",
        );
        let before = all(&url);
        let said = house.refused(|_| {});
        assert!(
            said.contains("are as they were") && said.contains("a fault in the middle"),
            "{said}"
        );
        assert!(said.contains("Install the version before"), "{said}");
        assert_eq!(all(&url), before);
        query(&url, "drop trigger no on left_out");
        let _service = house.start();
        until(30, "the films", || (house.items().len() >= 5).then_some(()));
    });
}

#[test]
fn on_a_full_disk_what_cannot_be_saved_is_told_and_all_goes_on_once_there_is_room() {
    in_a_house(|house| {
        let place = tempfile::tempdir().unwrap();
        disk(place.path(), 160);
        // PostgreSQL's files and the service's own are on it.
        let cluster = Cluster::below(place.path());
        let url = cluster.start(true);
        let data = tempfile::Builder::new().tempdir_in(place.path()).unwrap();
        let house = House { database_url: url, data, ..house };
        let _service = house.begin();
        house.publish("Films");
        house.meet(TV);
        house.admit(TV);
        let many = house.folders.path().join("many");
        fs::create_dir(&many).unwrap();
        for n in 0..4000 {
            fs::hard_link(
                media_copy(&house),
                many.join(format!("A tide of long ago, number {n}.jpg")),
            )
            .unwrap();
        }
        let filled = Filled::to_the_last_byte(place.path());
        house.client(&["folder", "add", many.to_str().unwrap(), "--label", "Many"]);
        // What was there is served.
        assert!(browse(TV, "video-all").text().contains("<TotalMatches>5<"));
        let said = house.mostra_fails(&["records", "save", "/tmp/never.tar"]);
        assert!(said.contains("too little room") || said.contains("Not saved"), "{said}");
        let said = house.mostra_fails(&["config", "set", "max_age", "900"]);
        assert!(said.contains("cannot be kept") && said.contains("room"), "{said}");
        drop(filled);
        // Nothing is lost, and what failed is done when asked again.
        until(60, "the folder", || {
            let known = house.json(&["folder", "list"]);
            let many_known = known.as_array().unwrap().iter().any(|one| one["label"] == "Many");
            let verb = if many_known {
                vec!["folder", "rescan", "Many"]
            } else {
                vec!["folder", "add", many.to_str().unwrap(), "--label", "Many"]
            };
            house.client(&verb);
            let folders = house.json(&["folder", "list"]);
            let found = folders.as_array().unwrap().iter().find(|one| one["label"] == "Many")?;
            (found["items"]["picture"] == 4000).then_some(())
        });
        house.mostra(&["config", "set", "max_age", "900"]);
        assert!(browse(TV, "video-all").text().contains("<TotalMatches>5<"), "still admitted");
        assert_eq!(house.json(&["status"])["records"], true);
    });
}

/// A small picture on the disk of the folders.
fn media_copy(house: &House) -> PathBuf {
    let copy = house.folders.path().join("one.jpg");
    if !copy.exists() {
        fs::copy(media("Pictures/Tides/Neap tide.jpg"), &copy).unwrap();
    }
    copy
}

#[test]
fn with_a_read_only_data_directory_the_running_house_goes_on_and_a_start_says_why_not() {
    in_a_house(|house| {
        let place = tempfile::tempdir().unwrap();
        disk(place.path(), 64);
        let data = tempfile::Builder::new().tempdir_in(place.path()).unwrap();
        let house = House { data, ..house };
        let mut service = house.begin();
        house.publish("Films");
        house.meet(TV);
        house.admit(TV);
        let none: Option<&str> = None;
        let read_only = |is: bool| {
            let only = if is { MsFlags::MS_RDONLY } else { MsFlags::empty() };
            let remounted = mount(none, place.path(), none, MsFlags::MS_REMOUNT | only, none);
            // What is open for writing, as the log, has to be closed first.
            remounted.is_ok()
        };
        assert!(service.stop());
        until(10, "the log to be closed", || read_only(true).then_some(()));
        let output = house.service_command().output().unwrap();
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(!output.status.success());
        assert!(said.contains("not writable") && said.contains("--data"), "{said}");
        assert!(read_only(false));
        let _service = house.start();
        until(30, "the films", || {
            browse(TV, "video-all").text().contains("<TotalMatches>5<").then_some(())
        });
        // Its own directories cannot be written, while it runs.
        let closed = house.data.path().join("settings.part");
        fs::create_dir(&closed).unwrap();
        let said = house.mostra_fails(&["config", "set", "max_age", "900"]);
        assert!(said.contains("cannot be kept"), "{said}");
        assert!(browse(TV, "video-all").text().contains("<TotalMatches>5<"));
    });
}

#[test]
fn while_postgresql_is_upgraded_devices_are_served_and_then_all_is_saved_again() {
    let cluster = Cluster::new();
    let url = cluster.start(true);
    in_a_house(move |house| {
        let house = House { database_url: url, ..house };
        let _service = house.begin();
        house.publish("Films");
        house.meet(TV);
        house.admit(TV);
        let before = all(&house.database_url);
        cluster.stop();
        // This machine has one version; for the script, the cluster is of an earlier one.
        let versions = tempfile::tempdir().unwrap();
        fs::set_permissions(versions.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let newest = fs::read_dir("/usr/lib/postgresql").unwrap().flatten();
        let newest = newest.max_by_key(|v| v.file_name()).unwrap();
        for number in ["97", newest.file_name().to_str().unwrap()] {
            symlink(newest.path(), versions.path().join(number)).unwrap();
        }
        let said = house.mostra_fails(&["house", "name", "Elsewhere"]);
        assert!(said.contains("Not saved") && said.contains("PostgreSQL"), "{said}");
        let upgraded = cluster.script("upgrade", |command| {
            command.env("MOSTRA_POSTGRES_VERSIONS", versions.path());
        });
        assert!(upgraded.status.success(), "{}", String::from_utf8_lossy(&upgraded.stderr));
        assert!(browse(TV, "video-all").text().contains("<TotalMatches>5<"));
        cluster.start(true);
        until(30, "saving to work again", || {
            house.client(&["house", "name", "Upgraded"]).status.success().then_some(())
        });
        assert_eq!(
            fs::read_to_string(cluster.data.join("postgres/url")).unwrap().trim(),
            house.database_url
        );
        until(30, "the house to say so", || {
            (house.json(&["status"])["records"] == true).then_some(())
        });
        let url = fs::read_to_string(cluster.data.join("postgres/url")).unwrap();
        let counts = |text: &str| text.split(' ').count();
        assert_eq!(counts(&all(url.trim())), counts(&before));
        assert_eq!(query(url.trim(), "select count(*) from file"), "5");
    });
}

#[test]
fn a_clock_that_jumps_by_a_year_loses_nothing() {
    in_a_house(|house| {
        let jump = house.folders.path().join("jump");
        fs::write(&jump, "+0d").unwrap();
        let mut command = house.service_command();
        command
            .env("LD_PRELOAD", faketime())
            .env("FAKETIME_TIMESTAMP_FILE", &jump)
            .env("FAKETIME_NO_CACHE", "1")
            .env("FAKETIME_DONT_FAKE_MONOTONIC", "1");
        let _service = house.begin_as(&mut command);
        house.publish("Films");
        house.meet(TV);
        house.admit(TV);
        let said = house.json(&["console", "open"]);
        let (first, ends) =
            (said["fingerprint"].clone(), said["certificate_ends_ms"].as_u64().unwrap());
        let films = browse(TV, "video-all").text();
        assert!(films.contains("<TotalMatches>5<"));
        for days in ["-365d", "+365d"] {
            let certificate = || fs::read(house.data.path().join("console.crt")).unwrap();
            let before = certificate();
            fs::write(&jump, days).unwrap();
            // It notices, says so in its own time, and goes on.
            until(30, "the house at another time", || {
                let answer = raw::ask(TV, "GET", "/about/device.xml", "");
                let year = if days.starts_with('+') { year_now() + 1 } else { year_now() - 1 };
                answer.field("date").unwrap_or_default().contains(&year.to_string()).then_some(())
            });
            assert_eq!(browse(TV, "video-all").text(), films, "{days}");
            assert!(raw::search(TV, 5).is_some(), "it is found: {days}");
            until(20, "a certificate of that time", || (certificate() != before).then_some(()));
        }
        fs::write(&jump, "+0d").unwrap();
        // Whoever was signed in may have to sign in again, and nothing else.
        let password = house.data.path().join("password");
        house.mostra(&["login", "--password-file", password.to_str().unwrap()]);
        let status = house.json(&["status"]);
        assert_eq!((&status["admitted"], &status["items"]), (&1.into(), &5.into()), "{status}");
        // The console's certificate was made anew as it would have ended, and counts now.
        let said = until(20, "a certificate of now", || {
            let said = house.json(&["console", "open"]);
            let counts = said["certificate_ends_ms"].as_u64().unwrap().abs_diff(ends) < 86_400_000;
            counts.then_some(said)
        });
        assert_ne!(said["fingerprint"], first);
    });
}

fn year_now() -> i64 {
    let seconds = std::time::UNIX_EPOCH.elapsed().unwrap().as_secs();
    1970 + (seconds as f64 / 31_556_952.0) as i64
}
