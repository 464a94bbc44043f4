//! The service with a million items recorded: start, load, memory, Browse over HTTP.

use std::collections::VecDeque;
use std::fmt::Write as _;
use std::io::Write as _;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant, SystemTime};

use mostra_core::catalogue::Change;
use mostra_tests::{House, psql, query, raw, top, until};

use crate::million::{FOLDERS, ITEMS, file, places};

pub(crate) fn measure(house: &House, report: &mut String) {
    clear(house);
    let empty = {
        let mut service = house.start();
        let memory = crate::resident(crate::processes("mostrad")[0]);
        service.stop();
        memory
    };
    fill(house);
    let mut command = house.service_command();
    command.args(["--scan", "asked"]).stderr(Stdio::null());
    let begin = Instant::now();
    let mut service = command.spawn().expect("mostrad starts");
    let described = until(60, "the description", || {
        raw::get("127.0.0.1:7640", "/about/device.xml").ok().filter(|a| a.status == 200)?;
        Some(begin.elapsed())
    });
    until(120, "the catalogue", || {
        std::thread::sleep(Duration::from_millis(50));
        (house.api("GET", "/status")["loaded"] == true).then_some(())
    });
    let loaded = begin.elapsed();
    // Whatever the loading left behind goes back to the system when it is idle.
    std::thread::sleep(Duration::from_secs(2));
    let memory = crate::resident(service.id());
    // One device sees everything, the other neither one of the kinds nor half of the folders.
    let devices = ["127.0.0.1", "127.0.0.2"];
    devices.iter().for_each(|device| house.meet(device));
    house.admit(devices[0]);
    let half: Vec<String> = (1..=FOLDERS / 2).map(|f| f.to_string()).collect();
    let half = half.join(",");
    house.mostra(&["device", "admit", devices[1], "--kinds", "music,picture", "--folders", &half]);
    let containers = containers(devices[0]);
    let changing = house.folders.path().join("changing");
    std::fs::create_dir(&changing).expect("a folder");
    let sound = top().join("demo/media/Sound/Night log.mp3");
    std::fs::copy(&sound, changing.join("Night log.mp3")).expect("a file");
    let folder = house.json(&["folder", "add", changing.to_str().expect("text")])["id"].clone();
    let mut pages = Vec::new();
    let updates = update_id(devices[0]);
    let ended = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            // Files come while pages are asked for, and each is applied to the whole catalogue.
            for n in 0.. {
                if ended.load(Ordering::Relaxed) {
                    break;
                }
                let copy = changing.join(format!("Night log {n}.mp3"));
                std::fs::copy(&sound, &copy).expect("a file");
                // Not so new that the scan waits whether it still grows.
                let copied = std::fs::File::options().write(true).open(copy).expect("a file");
                let before = SystemTime::now() - Duration::from_secs(3600);
                copied.set_modified(before).expect("a time");
                house.api("POST", &format!("/folders/{folder}/rescan"));
                std::thread::sleep(Duration::from_millis(100));
            }
        });
        for container in &containers {
            for device in devices {
                for order in ["", "+dc:title", "-dc:date"] {
                    let mut total = 0_u32;
                    for share in 0..3_u32 {
                        // First page, middle and last.
                        let start = total.saturating_sub(50) * share / 2;
                        let begin = Instant::now();
                        let answer = browse(device, container, start, order);
                        let took = begin.elapsed();
                        // What a grant hides altogether does not exist for that device.
                        if answer.status != 200 {
                            assert_eq!((device, answer.status), (devices[1], 500), "{container}");
                            continue;
                        }
                        total = number(&answer.text(), "TotalMatches");
                        pages.push(took);
                    }
                }
            }
        }
        ended.store(true, Ordering::Relaxed);
    });
    let updates = update_id(devices[0]).wrapping_sub(updates);
    pages.sort();
    let at = |share: f64| pages[((pages.len() - 1) as f64 * share) as usize].as_secs_f64() * 1e3;
    let _ = writeln!(
        report,
        "## The service with a million items recorded\n\n\
         | what | measured | aim |\n| --- | --- | --- |\n\
         | start to the device description | {:.2} s | 1 s |\n\
         | start to the whole catalogue loaded from PostgreSQL | {:.1} s | 8 s |\n\
         | resident memory then, beyond an empty house ({} MiB), an item | {} B | 250 B |\n\
         | Browse of 50 over HTTP, a connection each, {} pages of {} containers, first, \
         middle, last, three orders, for two devices of which one sees no films and half of the \
         folders, while {updates} changes are applied: median | {:.1} ms | |\n\
         | the same, 99th percentile | {:.1} ms | 5 ms |",
        described.as_secs_f64(),
        loaded.as_secs_f64(),
        empty >> 10,
        memory.saturating_sub(empty) * 1024 / u64::from(ITEMS),
        pages.len(),
        containers.len(),
        at(0.5),
        at(0.99),
    );
    save(house, report, service.id());
    let _ = service.kill();
    let _ = service.wait();
}

/// The records of a million items as a file, beside PostgreSQL's own program alone.
fn save(house: &House, report: &mut String, service: u32) {
    let file = house.folders.path().join("records.tar");
    let alone = house.folders.path().join("alone.dump");
    let begin = Instant::now();
    let dumped = psql(&house.database_url).get_envs().fold(
        Command::new("pg_dump"),
        |mut command, (name, value)| {
            command.env(name, value.expect("a value"));
            command
        },
    );
    let mut dumped = dumped;
    let done = dumped.args(["--format=custom", "--compress=1", "--file"]).arg(&alone).status();
    assert!(done.expect("pg_dump runs").success());
    let floor = begin.elapsed().as_secs_f64();
    let before = crate::resident(service);
    let (begin, ended) = (Instant::now(), AtomicBool::new(false));
    let most = std::thread::scope(|scope| {
        let most = scope.spawn(|| {
            let mut most = before;
            while !ended.load(Ordering::Relaxed) {
                most = most.max(crate::resident(service));
                std::thread::sleep(Duration::from_millis(20));
            }
            most
        });
        house.mostra(&["records", "save", file.to_str().expect("text")]);
        ended.store(true, Ordering::Relaxed);
        most.join().expect("watched")
    });
    let took = begin.elapsed().as_secs_f64();
    let bytes = std::fs::metadata(&file).expect("the file").len();
    let begin = Instant::now();
    house.mostra(&["records", "check"]);
    let checked = begin.elapsed().as_secs_f64();
    let _ = writeln!(
        report,
        "| `mostra records save`, {} MB | {took:.1} s, {:.2} of pg_dump alone ({floor:.1} s) | 60 s |\n\
         | memory of the service meanwhile, at most beyond before | {} MiB | level |\n\
         | `mostra records check` of it, by restoring it | {checked:.1} s | |\n",
        bytes / 1_000_000,
        took / floor,
        most.saturating_sub(before) >> 10,
    );
}

/// Containers whose pages are asked for, large and small, everywhere in the tree.
const CONTAINERS: usize = 350;

fn containers(device: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut open = VecDeque::from(["0".to_owned()]);
    while let Some(id) = open.pop_front() {
        if found.len() + open.len() < CONTAINERS {
            let listing = raw::unescaped(&browse(device, &id, 0, "").text());
            let inner = listing.split("<container id=\"").skip(1);
            open.extend(inner.take(12).filter_map(|c| Some(c.split_once('"')?.0.to_owned())));
        }
        found.push(id);
    }
    assert!(found.len() >= CONTAINERS / 2, "only {} containers", found.len());
    found
}

fn browse(device: &str, container: &str, start: u32, order: &str) -> raw::Answer {
    let arguments = format!(
        "<ObjectID>{container}</ObjectID><BrowseFlag>BrowseDirectChildren</BrowseFlag>\
         <Filter>*</Filter><StartingIndex>{start}</StartingIndex>\
         <RequestedCount>50</RequestedCount><SortCriteria>{order}</SortCriteria>"
    );
    raw::call(device, "content", "Browse", &arguments)
}

fn number(answer: &str, field: &str) -> u32 {
    let text = raw::between(answer, &format!("<{field}>"), &format!("</{field}>"));
    text.and_then(|n| n.parse().ok()).expect("a number")
}

fn update_id(device: &str) -> u32 {
    number(&raw::call(device, "content", "GetSystemUpdateID", "").text(), "Id")
}

/// What the other measurements published goes, and leaves nothing behind that PostgreSQL would
/// clear up while we measure.
fn clear(house: &House) {
    query(&house.database_url, "truncate file, folder cascade;");
}

/// Records a million files as a scan would have.
fn fill(house: &House) {
    let mut sql = String::from("begin;\n");
    for change in places() {
        let _ = match change {
            Change::PutFolder(f) => writeln!(
                sql,
                "insert into folder (id, label, root, kinds, container_id, added_ms, scanned_ms) \
                 values ({0}, '{1}', '{2}', 'video,music,picture', {3}, 0, 1);\n\
                 insert into container values ({3}, {0}, null, '{1}');",
                f.serial, f.label, f.root, f.container
            ),
            Change::PutDirectory(d) => writeln!(
                sql,
                "insert into container values ({}, {}, {}, '{}');",
                d.serial,
                d.folder,
                d.parent.unwrap_or_default(),
                d.name
            ),
            _ => Ok(()),
        };
    }
    sql += "insert into counter values ('serial', 3000000), ('folder', 100) on conflict (name) do update set value = excluded.value;\ncommit;\n";
    let mut psql = psql(&house.database_url)
        .args(["-qv", "ON_ERROR_STOP=1", "-f", "-"])
        .stdin(Stdio::piped())
        .spawn()
        .expect("psql runs");
    let mut input = std::io::BufWriter::new(psql.stdin.take().expect("its input"));
    input.write_all(sql.as_bytes()).expect("written");
    writeln!(input, "copy file (id, container_id, name, facts) from stdin;").expect("written");
    for n in 1..=ITEMS {
        let file = file(n);
        let facts = serde_json::to_string(&*file.facts).expect("JSON");
        writeln!(input, "{}\t{}\t{}\t{facts}", file.serial, file.directory, file.name)
            .expect("written");
    }
    // The role may not clear up the shared tables, and is told so for each.
    writeln!(input, "\\.\nset client_min_messages = error;\nvacuum analyze;").expect("written");
    drop(input);
    assert!(psql.wait().expect("psql ends").success());
    assert_eq!(FOLDERS, 20);
}
