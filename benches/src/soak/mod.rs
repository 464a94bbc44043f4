//! `make soak`: two hundred devices use the service for a while, among hostile ones, while
//! PostgreSQL is restarted, the disk is full, folders change and a person gives names. Nothing
//! legitimate may fail, nothing leak and nothing recorded be lost.

mod crowd;
mod hostile;
mod ledger;
mod troubles;

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::Path;
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use mostra_tests::{House, Running, in_a_house, raw, top, until};
use serde_json::Value;

use crowd::Visitor;
use ledger::Ledger;
use troubles::{Disk, Person};

const DEVICES: usize = 200;
const HOSTILE: usize = 20;
/// The same devices do the same on every run, as far as time lets them.
const SEED: u64 = 7;

/// What the service holds at one moment.
#[derive(Clone, Copy)]
struct Sample {
    memory_kib: u64,
    files: usize,
    threads: usize,
}

impl Sample {
    fn of(process: u32) -> Sample {
        let count =
            |what| std::fs::read_dir(format!("/proc/{process}/{what}")).map_or(0, Iterator::count);
        Sample { memory_kib: super::resident(process), files: count("fd"), threads: count("task") }
    }
}

/// Runs the soak, prints its report, and ends the process with 1 if anything was wrong.
pub(crate) fn run(length: Duration) {
    in_a_house(move |_| {
        let disk = Disk::mount();
        let data = tempfile::tempdir_in(disk.path()).expect("a data directory");
        let folders = tempfile::tempdir().expect("a directory for folders");
        let house = House { data, folders, database_url: disk.start_postgres(), under: Vec::new() };
        let (report, wrong) = soak(&house, &disk, length);
        print!("{report}");
        disk.stop_postgres();
        std::process::exit(i32::from(wrong > 0));
    });
}

fn soak(house: &House, disk: &Disk, length: Duration) -> (String, u64) {
    let mut service = house.begin();
    let media = tempfile::tempdir().expect("a folder");
    let copied =
        Command::new("cp").arg("-r").arg(top().join("demo/media/.")).arg(media.path()).status();
    assert!(copied.is_ok_and(|status| status.success()), "the media are copied");
    let folder = media.path().to_str().expect("text");
    house.mostra(&["folder", "add", folder, "--label", "Soak"]);
    let at_first = music(house).0;
    let addresses: Vec<String> = (1..=DEVICES).map(|n| format!("127.0.1.{n}")).collect();
    for address in &addresses {
        raw::ask(address, "GET", "/about/device.xml", "");
        // Who only reads the description does not come to the door.
        raw::ask(address, "GET", "/media/none", "");
    }
    let devices = until(60, "all devices to be known", || {
        let devices = house.api("GET", "/devices");
        (devices.as_array().map_or(0, Vec::len) >= DEVICES).then_some(devices)
    });
    let mut ids = BTreeMap::new();
    for device in devices.as_array().into_iter().flatten() {
        let id = device["id"].as_u64().expect("an id");
        let decision = "{\"standing\":\"admitted\"}";
        let path = format!("/devices/{id}/decision");
        let answer = house.api_with("PUT", &path, decision).expect("an answer");
        assert_eq!(answer.status, 200, "{}", answer.text());
        ids.insert(device["address"].as_str().expect("an address").to_owned(), id);
    }
    let items = crowd::offered(&addresses[0], media.path());
    assert!(items.len() > 10, "{} items", items.len());
    let (ledger, ended) = (Ledger::begin(), AtomicBool::new(false));
    let person = Person::new(house, ids.into_values().collect());
    let idle = Sample::of(service.id());
    let mut samples = Vec::new();
    let events = std::thread::scope(|scope| {
        for (n, address) in addresses.iter().enumerate() {
            let visitor = Visitor {
                address: address.clone(),
                ledger: &ledger,
                items: &items,
                ended: &ended,
                chance: fastrand::Rng::with_seed(SEED + n as u64),
                subscribes: n % 5 == 0,
            };
            scope.spawn(move || visitor.live());
        }
        for n in 0..HOSTILE {
            let (ledger, ended) = (&ledger, &ended);
            let chance = fastrand::Rng::with_seed(SEED + 1000 + n as u64);
            scope
                .spawn(move || hostile::live(&format!("127.0.2.{}", n + 1), ledger, ended, chance));
        }
        scope.spawn(|| troubles::change(media.path(), &ended));
        scope.spawn(|| person.live(&ledger, &ended));
        let process = service.id();
        let events = troubles::come(disk, &person, &ledger, length, || {
            samples.push((ledger.now(), Sample::of(process)));
        });
        ended.store(true, Ordering::Relaxed);
        events
    });
    let (table, mut wrong) = ledger.close();
    let mut report = format!(
        "# Soak\n\n{DEVICES} devices and {HOSTILE} hostile hosts for {} s.\n\n{table}\n",
        length.as_secs()
    );
    for (at, what) in events {
        let _ = writeln!(report, "- {:.0} s: {what}", at.as_secs_f64());
    }
    let mut check = |what: &str, outcome: Result<String, String>| {
        let _ = match outcome {
            Ok(said) => writeln!(report, "ok: {what}: {said}"),
            Err(why) => {
                wrong += 1;
                writeln!(report, "WRONG: {what}: {why}")
            }
        };
    };
    check("memory and descriptors", leaks(&service, idle, &samples));
    check("the catalogue is what is on disk", on_disk(house, media.path(), at_first));
    check("names given and confirmed", person.kept(house));
    check("nothing recorded is lost by a restart", restarted(house, &mut service));
    let said = house.log();
    let panics = said.lines().filter(|line| line.contains("panicked")).count();
    check(
        "the log",
        if panics == 0 { Ok("no panic".into()) } else { Err(format!("{panics} panics")) },
    );
    report += "\n| at | memory | descriptors | threads |\n| --- | --- | --- | --- |\n";
    for (at, Sample { memory_kib, files, threads }) in &samples {
        let _ = writeln!(
            report,
            "| {:.0} s | {:.1} MiB | {files} | {threads} |",
            at.as_secs_f64(),
            *memory_kib as f64 / 1024.0
        );
    }
    let verdict = if wrong == 0 { "All well." } else { "NOT well." };
    let _ = writeln!(report, "\n{verdict}");
    (report, wrong)
}

/// After all is quiet: as many descriptors as before, and not much more memory than after a
/// third of the time.
fn leaks(
    service: &Running,
    idle: Sample,
    samples: &[(Duration, Sample)],
) -> Result<String, String> {
    let end = Instant::now() + Duration::from_secs(90);
    let after = loop {
        let now = Sample::of(service.id());
        if now.files <= idle.files + 16 || Instant::now() > end {
            break now;
        }
        std::thread::sleep(Duration::from_millis(500));
    };
    let third = samples[samples.len() / 3].1;
    let said = format!(
        "{} descriptors after {} before; {:.1} MiB after {:.1} MiB at a third of the time",
        after.files,
        idle.files,
        after.memory_kib as f64 / 1024.0,
        third.memory_kib as f64 / 1024.0
    );
    let most = third.memory_kib + third.memory_kib / 5 + (16 << 10);
    match after.files <= idle.files + 16 && after.memory_kib <= most {
        true => Ok(said),
        false => Err(said),
    }
}

/// Pieces of music published, and whether no scan runs.
fn music(house: &House) -> (u64, bool) {
    let folders = house.api("GET", "/folders");
    let count = folders[0]["items"]["music"].as_u64().unwrap_or_default();
    (count, folders[0]["scan"].is_null())
}

/// Whether the music published is what was there at first and what the soak left on disk.
fn on_disk(house: &House, media: &Path, at_first: u64) -> Result<String, String> {
    let files = std::fs::read_dir(media.join("Sound")).expect("a folder").flatten();
    let ours = files.filter(|file| file.file_name().to_string_lossy().starts_with("Soak "));
    let expected = at_first + ours.count() as u64;
    let end = Instant::now() + Duration::from_secs(30);
    loop {
        let (published, quiet) = music(house);
        if quiet && published == expected {
            return Ok(format!("{published} pieces of music"));
        }
        if Instant::now() > end {
            return Err(format!("{published} pieces of music published, {expected} on disk"));
        }
        std::thread::sleep(Duration::from_millis(200));
    }
}

/// What is known of each device, before and after the service is started anew.
fn restarted(house: &House, service: &mut Running) -> Result<String, String> {
    let known = || -> BTreeMap<u64, Value> {
        let devices = house.api("GET", "/devices");
        let told = |device: &Value| {
            let steps = device["proof"].as_array().cloned().unwrap_or_default();
            let proof: Vec<Value> = steps
                .iter()
                .map(|s| serde_json::json!([s["step"], s["confirmed"], s["at_ms"]]))
                .collect();
            serde_json::json!([device["address"], device["name"], device["standing"], proof])
        };
        let all = devices.as_array().cloned().unwrap_or_default();
        all.iter().filter_map(|d| Some((d["id"].as_u64()?, told(d)))).collect()
    };
    // Whatever is still on its way to the records.
    std::thread::sleep(Duration::from_secs(2));
    let before = known();
    service.stop();
    *service = house.start();
    let after = known();
    let lost: Vec<&u64> =
        before.iter().filter(|(id, d)| after.get(id) != Some(d)).map(|(id, _)| id).collect();
    match lost.as_slice() {
        [] => Ok(format!("{} devices with their standing, names and proof", before.len())),
        lost => Err(format!(
            "{lost:?} of {}; the first was {:?} and is {:?}",
            before.len(),
            before.get(lost[0]),
            after.get(lost[0])
        )),
    }
}
