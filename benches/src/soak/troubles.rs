//! What goes wrong in a house: PostgreSQL is restarted, the disk fills up; and what people do
//! meanwhile.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use mostra_tests::{Cluster, House, top};
use nix::mount::{MsFlags, mount};
use nix::sched::{CloneFlags, unshare};

use super::ledger::Ledger;

/// A small disk of the run's own, on which the records and the service's data lie.
pub(super) struct Disk(PathBuf, Cluster);

impl Disk {
    /// Mounted where nobody else sees it; it goes with the last process that does.
    pub(super) fn mount() -> Disk {
        let none = None::<&str>;
        unshare(CloneFlags::CLONE_NEWNS).expect("a mount namespace of its own; run it as root");
        mount(none, "/", none, MsFlags::MS_REC | MsFlags::MS_PRIVATE, none)
            .expect("private mounts");
        let place = PathBuf::from(format!("/tmp/mostra-soak-{}", std::process::id()));
        std::fs::create_dir_all(&place).expect("a directory");
        mount(Some("tmpfs"), &place, Some("tmpfs"), MsFlags::empty(), Some("size=512m,mode=755"))
            .expect("a disk in memory");
        let cluster = Cluster::below(&place);
        Disk(place, cluster)
    }

    pub(super) fn path(&self) -> &Path {
        &self.0
    }

    /// Starts PostgreSQL on it, if it does not run.
    pub(super) fn start_postgres(&self) -> String {
        // As safe as in a house: a full disk tears what is not written twice.
        self.1.start(false)
    }

    pub(super) fn stop_postgres(&self) {
        self.1.stop();
    }

    /// Fills it to the last byte; gives how much that took.
    fn fill(&self) -> u64 {
        let mut file = std::fs::File::create(self.0.join("filler")).expect("a file");
        let block = vec![0x5a; 64 << 10];
        let mut written = 0;
        for size in [block.len(), 4096, 1] {
            while let Ok(count) = file.write(&block[..size]) {
                written += count as u64;
            }
        }
        written
    }

    fn free(&self) {
        std::fs::remove_file(self.0.join("filler")).expect("the file goes");
    }
}

/// Files come, move and go in the published folder.
pub(super) fn change(media: &Path, ended: &AtomicBool) {
    let sound = std::fs::read(top().join("demo/media/Sound/Night log.mp3")).expect("a sound");
    let folder = media.join("Sound");
    let place = |n: u32, what: &str| folder.join(format!("Soak {n} {what}.mp3"));
    let mut n = 0;
    while !ended.load(Ordering::Relaxed) {
        std::fs::write(place(n, "new"), &sound).expect("a file");
        let before = SystemTime::now() - Duration::from_secs(3600 + u64::from(n));
        let file = std::fs::File::options().write(true).open(place(n, "new")).expect("a file");
        file.set_modified(before).expect("a time");
        if n >= 2 {
            std::fs::rename(place(n - 2, "new"), place(n - 2, "moved")).expect("moved");
        }
        if n >= 20 {
            std::fs::remove_file(place(n - 20, "moved")).expect("removed");
        }
        n += 1;
        std::thread::sleep(Duration::from_millis(1500));
    }
}

/// A person who gives devices names. What is confirmed must stay.
pub(super) struct Person<'a> {
    house: &'a House,
    devices: Vec<u64>,
    confirmed: Mutex<BTreeMap<u64, String>>,
    /// Whether the records may be away now, so that "not saved" is the right answer.
    excused: AtomicBool,
    not_saved: AtomicU64,
}

impl<'a> Person<'a> {
    pub(super) fn new(house: &'a House, devices: Vec<u64>) -> Person<'a> {
        Person {
            house,
            devices,
            confirmed: Mutex::default(),
            excused: AtomicBool::new(false),
            not_saved: AtomicU64::new(0),
        }
    }

    pub(super) fn live(&self, ledger: &Ledger, ended: &AtomicBool) {
        let mut n = 0usize;
        while !ended.load(Ordering::Relaxed) {
            let id = self.devices[n % self.devices.len()];
            ledger.note("name a device", "the person", || self.name(id, &format!("Device {n}")));
            n += 1;
            std::thread::sleep(Duration::from_millis(500));
        }
    }

    fn name(&self, id: u64, name: &str) -> Result<(), String> {
        let excused = self.excused.load(Ordering::Relaxed);
        let body = format!("{{\"name\":\"{name}\"}}");
        let path = format!("/devices/{id}/name");
        let answer = self.house.api_with("PUT", &path, &body).map_err(|e| e.to_string())?;
        let mut confirmed = self.confirmed.lock().unwrap_or_else(PoisonError::into_inner);
        if answer.status == 200 {
            confirmed.insert(id, name.to_owned());
            return Ok(());
        }
        // Whether it was saved is not known.
        confirmed.remove(&id);
        if answer.status == 503 && (excused || self.excused.load(Ordering::Relaxed)) {
            self.not_saved.fetch_add(1, Ordering::Relaxed);
            return Ok(());
        }
        Err(format!("{}: {}", answer.status, answer.text()))
    }

    /// Whether all that was confirmed is so.
    pub(super) fn kept(&self, house: &House) -> Result<String, String> {
        let devices = house.api("GET", "/devices");
        let names: BTreeMap<u64, String> = (devices.as_array().into_iter().flatten())
            .filter_map(|d| Some((d["id"].as_u64()?, d["name"].as_str()?.to_owned())))
            .collect();
        let confirmed = self.confirmed.lock().unwrap_or_else(PoisonError::into_inner);
        let lost = confirmed.iter().filter(|(id, name)| names.get(id) != Some(name)).count();
        let not_saved = self.not_saved.load(Ordering::Relaxed);
        let said = format!("{} names stand; {not_saved} times told \"not saved\"", confirmed.len());
        if lost == 0 { Ok(said) } else { Err(format!("{lost} are not there; {said}")) }
    }
}

/// Lets troubles come, each at its share of the time; `sample` is called now and then.
pub(super) fn come(
    disk: &Disk,
    person: &Person<'_>,
    ledger: &Ledger,
    length: Duration,
    mut sample: impl FnMut(),
) -> Vec<(Duration, String)> {
    let mut events = Vec::new();
    let mut next_sample = Duration::ZERO;
    let mut wait = |until: Duration| {
        while ledger.now() < until {
            if ledger.now() >= next_sample {
                sample();
                next_sample = ledger.now() + length / 20;
            }
            std::thread::sleep(Duration::from_millis(200));
        }
    };
    let saves = |excused: bool| person.excused.store(excused, Ordering::Relaxed);
    let back = |wait: &mut dyn FnMut(Duration)| {
        disk.start_postgres();
        let began = ledger.now();
        while person.house.api("GET", "/status")["records"] != true {
            let waited = ledger.now() - began;
            assert!(waited < Duration::from_secs(60), "the records stay away");
            wait(ledger.now() + Duration::from_millis(200));
        }
        let took = ledger.now() - began;
        // What was asked just before may still be told that it was not saved.
        wait(ledger.now() + Duration::from_secs(1));
        saves(false);
        took
    };
    for (share, outage) in [(0.15, 5.0), (0.35, 20.0)] {
        wait(length.mul_f64(share));
        saves(true);
        disk.stop_postgres();
        let stopped = ledger.now();
        wait(stopped + Duration::from_secs_f64(outage));
        let took = back(&mut wait);
        let said = format!(
            "PostgreSQL was away for {outage:.0} s, and in use {:.1} s after its start",
            took.as_secs_f64()
        );
        events.push((stopped, said));
    }
    wait(length.mul_f64(0.6));
    saves(true);
    let filled = ledger.now();
    let bytes = disk.fill();
    wait(filled + length.mul_f64(0.05).max(Duration::from_secs(10)));
    disk.free();
    let held = ledger.now() - filled;
    let took = back(&mut wait);
    let said = format!(
        "the disk was full for {:.0} s ({} MiB more on it), and records in use {:.1} s after",
        held.as_secs_f64(),
        bytes >> 20,
        took.as_secs_f64()
    );
    events.push((filled, said));
    wait(length);
    events
}
