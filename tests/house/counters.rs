//! Numbers that go round, one service for one database, and a clock that is set back.

use std::fs;

use mostra_tests::raw::browse;
use mostra_tests::{House, in_a_house, media, query, raw, until};

const DEVICE: &str = "127.0.0.55";

fn update_id() -> u32 {
    let text = raw::call(DEVICE, "content", "GetSystemUpdateID", "").text();
    raw::between(&text, "<Id>", "</Id>").unwrap().parse().unwrap()
}

#[test]
fn update_ids_and_starts_go_round_and_serials_are_not_wasted() {
    in_a_house(|house| {
        let mut service = house.begin();
        let folder = tempfile::tempdir().unwrap();
        fs::copy(media("Sound/Night log.mp3"), folder.path().join("0.mp3")).unwrap();
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Sandbox"]);
        house.meet(DEVICE);
        house.admit(DEVICE);
        let serial =
            || query(&house.database_url, "select value from counter where name = 'serial'");
        let before: u64 = serial().parse().unwrap();
        // Each of these changes is found by a scan of its own.
        for n in 1..=8 {
            fs::copy(media("Sound/Night log.mp3"), folder.path().join(format!("{n}.mp3"))).unwrap();
            until(30, "the file", || (house.api("GET", "/status")["items"] == n + 1).then_some(()));
        }
        let after: u64 = serial().parse().unwrap();
        assert!(after - before < 200, "{} serials for 8 files", after - before);

        // As after forty thousand starts: the ids are about to go round.
        service.stop();
        let far = "update counter set value = 4294967290 where name in ('update_id', 'boot')";
        query(&house.database_url, far);
        service = house.start();
        until(30, "the catalogue", || (house.json(&["status"])["loaded"] == true).then_some(()));
        let late = update_id();
        fs::copy(media("Sound/Night log.mp3"), folder.path().join("late.mp3")).unwrap();
        until(30, "the file", || (house.api("GET", "/status")["items"] == 10).then_some(()));
        assert_ne!(update_id(), late);
        service.stop();
        let _service = house.start();
        until(30, "the catalogue", || (house.json(&["status"])["loaded"] == true).then_some(()));
        assert!(browse(DEVICE, "music-all").text().contains("<TotalMatches>10<"));
        assert!(update_id() < 1_000_000, "it went round: {}", update_id());
    });
}

#[test]
fn a_second_service_on_the_same_database_says_who_holds_it() {
    in_a_house(|house| {
        let first = house.begin();
        let other = House { data: tempfile::tempdir().unwrap(), ..house.beside() };
        let said = other.refused(|command| {
            command.args(["--console-port", "7741", "--device-port", "7740"]);
            command.env("MOSTRA_DATABASE_URL", &house.database_url);
        });
        let who = format!("mostrad {} on ", first.id());
        assert!(
            said.contains("another service uses this database") && said.contains(&who),
            "{said}"
        );
        // PostgreSQL ends the connection that holds it; the service takes it again.
        let end = "select pg_terminate_backend(pid) from pg_locks where locktype = 'advisory' and \
                   database = (select oid from pg_database where datname = current_database())";
        assert_eq!(query(&house.database_url, end), "t");
        let held = "select count(*) from pg_locks where locktype = 'advisory' and granted and \
                    database = (select oid from pg_database where datname = current_database())";
        until(20, "it to be held again", || {
            (query(&house.database_url, held) == "1").then_some(())
        });
        assert_eq!(house.api("GET", "/status")["records"], true);
        // Somebody else takes it first: this service ends, as two would undo each other's work.
        let number = 0x6d6f_7374_7261_i64;
        let take = format!("{end}; select pg_advisory_lock({number}); select pg_sleep(60)");
        let mut holder =
            mostra_tests::psql(&house.database_url).args(["-qAtc", &take]).spawn().unwrap();
        until(30, "the service to end", || {
            house.log().contains("another service uses this database").then_some(())
        });
        holder.kill().unwrap();
        holder.wait().unwrap();
        drop(first);
    });
}

#[test]
fn a_clock_that_starts_in_the_past_revives_no_session() {
    in_a_house(|house| {
        let mut service = house.begin();
        assert_eq!(house.client(&["folder", "list"]).status.code(), Some(0));
        service.stop();
        // The session ended long ago by the latest time that was noted; the host's clock says
        // that it is not so late yet.
        let latest = "select value from setting where name = 'latest_ms'";
        let latest: u64 = query(&house.database_url, latest).parse().unwrap();
        let later = latest + 40 * 24 * 3_600_000;
        query(
            &house.database_url,
            &format!("update setting set value = '{later}' where name = 'latest_ms'"),
        );
        let _service = house.start();
        assert!(house.mostra_fails(&["folder", "list"]).contains("Not signed in"));
        // Signing in works, and lasts.
        let file = house.data.path().join("password");
        house.mostra(&["login", "--password-file", file.to_str().unwrap()]);
        house.mostra(&["folder", "list"]);
    });
}

#[test]
fn a_folder_removed_while_it_is_recorded_leaves_no_rows_behind() {
    in_a_house(|house| {
        let mut service = house.begin();
        let folder = tempfile::tempdir().unwrap();
        for n in 0..400 {
            let directory = folder.path().join(format!("Box {}", n / 20));
            fs::create_dir_all(&directory).unwrap();
            fs::copy(media("Sound/Night log.mp3"), directory.join(format!("{n}.mp3"))).unwrap();
        }
        let rows = "select (select count(*) from file) + (select count(*) from container)";
        for _ in 0..6 {
            house.mostra(&[
                "folder",
                "add",
                folder.path().to_str().unwrap(),
                "--label",
                "Sandbox",
                "--no-wait",
            ]);
            // As soon as something is recorded of it.
            until(30, "a row", || (query(&house.database_url, rows) != "1").then_some(()));
            house.mostra(&["folder", "remove", "Sandbox", "--yes"]);
            until(10, "all rows to be gone", || {
                (query(&house.database_url, rows) == "0").then_some(())
            });
        }
        assert_eq!(house.api("GET", "/status")["items"], 0);
        service.stop();
        assert_eq!(query(&house.database_url, rows), "0");
    });
}
