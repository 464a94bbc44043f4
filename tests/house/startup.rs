//! Starting: what stands in the way is told with its remedy; configuration says where it is from.

use std::process::Stdio;
use std::time::{Duration, Instant};

use mostra_tests::raw::{ask, browse, media_path};
use mostra_tests::{in_a_house, in_a_house_timed, psql, query, until};

#[test]
fn each_obstacle_is_named_with_its_remedy() {
    in_a_house(|house| {
        let taken = std::net::TcpListener::bind("127.0.0.1:7640").unwrap();
        let said = house.refused(|_| {});
        assert!(said.contains("127.0.0.1:7640") && said.contains("--device-port"), "{said}");
        drop(taken);
        let taken = std::net::TcpListener::bind("127.0.0.1:7641").unwrap();
        let said = house.refused(|_| {});
        assert!(said.contains("127.0.0.1:7641") && said.contains("--console-port"), "{said}");
        drop(taken);
        let said = house.refused(|c| {
            c.args(["--interfaces", "lan7"]);
        });
        assert!(said.contains("lan7") && said.contains("lo (127.0.0.1)"), "{said}");
        let said = house.refused(|c| {
            c.args(["--database-url", "postgres://nobody@localhost/x?host=/nowhere"]);
        });
        assert!(said.contains("PostgreSQL") && said.contains("scripts/postgres start"), "{said}");
        let said = house.refused(|c| {
            c.args(["--database-url", ""]);
        });
        assert!(said.contains("no PostgreSQL is named"), "{said}");
        let file = house.data.path().join("a-file");
        std::fs::write(&file, "").unwrap();
        let said = house.refused(|c| {
            c.arg("--data").arg(&file);
        });
        assert!(said.contains("not writable") && said.contains("--data"), "{said}");
        let said = house.refused(|c| {
            c.args(["--device-port", "70000"]);
        });
        assert!(said.contains("70000") && said.contains("65535"), "{said}");
    });
}

#[test]
fn configuration_says_where_each_value_came_from() {
    in_a_house(|house| {
        std::fs::write(
            house.data.path().join("mostra.toml"),
            "house_port = 7700\nlog = \"debug\"\n",
        )
        .unwrap();
        let mut command = house.service_command();
        command.env("MOSTRA_LOG", "warn").args(["--log-format", "json"]);
        let log = std::fs::File::create(house.data.path().join("mostrad.log")).unwrap();
        let mut child = command.stderr(log).spawn().unwrap();
        mostra_tests::until(30, "the console", || {
            mostra_tests::raw::get("127.0.0.1:7641", "/api/v1/setup").ok()
        });
        house.sign_in();
        let shown = house.json(&["config", "show"]);
        let value = |name: &str| {
            let found = shown.as_array().unwrap().iter().find(|v| v["name"] == name).unwrap();
            (
                found["value"].as_str().unwrap().to_owned(),
                found["source"].as_str().unwrap().to_owned(),
            )
        };
        let pair = |a: &str, b: &str| (a.to_owned(), b.to_owned());
        assert_eq!(value("house_port"), pair("7700", "file"));
        assert_eq!(value("log"), pair("warn", "environment"));
        assert_eq!(value("log_format"), pair("json", "flag"));
        assert_eq!(value("device_port"), pair("7640", "default"));
        let password = house.database_url.split(['@', ':']).nth(2).unwrap();
        assert!(!shown.to_string().contains(password), "the database's password is not shown");
        child.kill().unwrap();
        child.wait().unwrap();
    });
}

#[test]
fn logs_are_json_where_wanted_and_a_stop_is_quick_and_clean() {
    in_a_house_timed(|house| {
        let log = std::fs::File::create(house.data.path().join("mostrad.log")).unwrap();
        let mut child =
            house.service_command().args(["--log-format", "json"]).stderr(log).spawn().unwrap();
        mostra_tests::until(30, "the console", || {
            mostra_tests::raw::get("127.0.0.1:7641", "/api/v1/setup").ok()
        });
        let asked = std::time::Instant::now();
        std::process::Command::new("kill").arg(child.id().to_string()).status().unwrap();
        let status = mostra_tests::until(30, "the end", || child.try_wait().unwrap());
        assert!(status.success() && asked.elapsed().as_secs() < 5);
        let log = house.log();
        assert!(log.lines().count() > 3);
        for line in log.lines() {
            let entry: serde_json::Value =
                serde_json::from_str(line).unwrap_or_else(|e| panic!("{line}: {e}"));
            assert!(entry["level"].is_string() && entry["timestamp"].is_string());
        }
        assert!(log.contains("stopped"));
        // The ports are free again at once.
        let _again = house.start();
    });
}

#[test]
fn players_are_answered_while_the_catalogue_is_still_being_loaded() {
    const TV: &str = "127.0.0.71";
    in_a_house_timed(|house| {
        let mut service = house.begin();
        house.publish("Films");
        house.meet(TV);
        house.admit(TV);
        let path = media_path(&browse(TV, "video-all"), "Lamp-room tour");
        let id = house.items()["Lamp-room tour"].clone();
        service.kill();
        // As if there were so many records that reading them takes long.
        let held = "begin; lock table file in access exclusive mode; \
                    select pg_advisory_lock(7); select pg_sleep(60)";
        let mut holder = psql(&house.database_url)
            .args(["-qAtc", held])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let sql = |text: &str| query(&house.database_url, text);
        let held = "from pg_locks where locktype = 'advisory' and objid = 7 and database = \
                    (select oid from pg_database where datname = current_database())";
        until(10, "the records to be held", || {
            (sql(&format!("select count(*) {held}")) == "1").then_some(())
        });
        let began = Instant::now();
        let _service = house.start();
        assert_eq!(ask(TV, "GET", "/about/device.xml", "").status, 200);
        assert_eq!(browse(TV, "0").status, 200);
        assert!(began.elapsed() < Duration::from_secs(5), "{:?} (IOP-28)", began.elapsed());
        assert_eq!(house.json(&["status"])["loaded"], false);
        // What exists is not denied meanwhile, on any road (HTTP-5).
        let put = r#"{"position_ms":5,"seen":false}"#;
        let position = format!("/catalogue/{id}/position");
        let later = [
            browse(TV, "video-all"),
            ask(TV, "GET", &path, ""),
            house.api_with("PUT", &position, put).unwrap(),
            house.api_with("GET", &format!("/catalogue/{id}"), "").unwrap(),
            house.api_with("GET", &format!("/catalogue/{id}/file"), "").unwrap(),
        ];
        for answer in later {
            assert_eq!(answer.status, 503, "{}", answer.head);
            assert!(answer.field("Retry-After").is_some(), "{}", answer.head);
        }
        sql(&format!("select pg_terminate_backend(pid) {held}"));
        holder.wait().unwrap();
        until(90, "the rest", || {
            browse(TV, "video-all").text().contains("Lamp-room tour").then_some(())
        });
    });
}

#[test]
fn the_data_directory_is_for_its_owner_only_and_is_never_published() {
    use std::os::unix::fs::{PermissionsExt, symlink};
    in_a_house(|house| {
        let data = house.data.path();
        let mode =
            |path: &std::path::Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
        std::fs::create_dir(data.join("art")).unwrap();
        for directory in [data.to_owned(), data.join("art")] {
            std::fs::set_permissions(&directory, std::fs::Permissions::from_mode(0o755)).unwrap();
        }
        let _service = house.begin();
        assert_eq!((mode(data), mode(&data.join("art"))), (0o700, 0o700));
        let picture = mostra_tests::media("Pictures/Storm/Storm 1.jpg");
        std::fs::copy(&picture, data.join("art/own.jpg")).unwrap();
        for inside in [data.to_owned(), data.join("art")] {
            let said = house.mostra_fails(&["folder", "add", inside.to_str().unwrap()]);
            assert!(said.contains("own directory"), "{said}");
        }
        // Nor by a link, nor as a part of what is around it.
        let folder = tempfile::Builder::new().prefix("shelf").tempdir().unwrap();
        std::fs::copy(&picture, folder.path().join("one.jpg")).unwrap();
        symlink(data.join("art"), folder.path().join("link")).unwrap();
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Shelf"]);
        until(10, "the picture", || (house.json(&["status"])["items"] == 1).then_some(()));
    });
}

#[test]
fn a_data_directory_inside_a_folder_is_left_out() {
    in_a_house(|house| {
        let around = tempfile::Builder::new().prefix("shelf").tempdir().unwrap();
        let inner = around.path().join("service");
        std::fs::create_dir(&inner).unwrap();
        let picture = mostra_tests::media("Pictures/Storm/Storm 1.jpg");
        std::fs::copy(&picture, around.path().join("one.jpg")).unwrap();
        std::fs::copy(&picture, inner.join("two.jpg")).unwrap();
        // The harness's own flag comes first; of two the last counts.
        let _service = house.begin_with(&["--data", inner.to_str().unwrap()]);
        house.mostra(&["folder", "add", around.path().to_str().unwrap(), "--label", "Shelf"]);
        let shown = house.mostra(&["folder", "show", "Shelf"]);
        assert!(shown.contains("the service's own directory"), "{shown}");
        assert_eq!(house.json(&["status"])["items"], 1);
    });
}
