//! The harness of the end-to-end tests.
//!
//! [`in_a_house`] gives a test a network namespace of its own, a database of its own and the
//! real binaries. Everything the test starts, and every socket it opens, is inside.

pub mod browser;
mod cluster;
pub mod drive;
mod files;
mod places;
pub mod raw;
pub mod relay;
mod service;
pub mod subscriber;
pub mod wires;

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

use serde_json::Value;

pub use cluster::{
    Cluster, another_database, by_socket_for_all, check_url, psql, query, start_postgres,
};
pub use files::{LONG, faketime, long_sound, media};
pub use service::Running;

/// The password of every test house.
pub const PASSWORD: &str = "lamp and lens";

/// The repository's top.
pub fn top() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR"))
        .parent()
        .expect("tests/ lies in the repository")
        .to_owned()
}

/// A binary that was built beside the tests.
///
/// # Panics
/// When it is not there.
pub fn binary(name: &str) -> PathBuf {
    let mut folder = std::env::current_exe().expect("a test knows its own path");
    while folder.file_name().is_some_and(|n| n != "debug" && n != "release") {
        folder.pop();
    }
    let path = folder.join(name);
    assert!(
        path.exists(),
        "{} is not built; run `make test` or `make build` first",
        path.display()
    );
    path
}

/// Waits until a condition gives something. Between two looks it sleeps for longer than a look
/// takes, so that a test that waits leaves the processors to the others.
///
/// # Panics
/// After `seconds`, with what was waited for.
pub fn until<T>(seconds: u64, what: &str, mut condition: impl FnMut() -> Option<T>) -> T {
    let end = Instant::now() + Duration::from_secs(seconds);
    loop {
        let began = Instant::now();
        if let Some(found) = condition() {
            return found;
        }
        assert!(Instant::now() < end, "waited {seconds} s for {what}");
        let pause = began.elapsed() * 2;
        std::thread::sleep(pause.clamp(Duration::from_millis(20), Duration::from_millis(200)));
    }
}

/// The shared PostgreSQL's URL, started by whoever comes first.
fn postgres() -> &'static str {
    static URL: OnceLock<String> = OnceLock::new();
    URL.get_or_init(|| {
        let url = start_postgres(&top().join("target/test-house"), true);
        forget_old_databases(&url);
        url
    })
}

/// Drops the databases of processes that are no more: the server looks after each, so that
/// hundreds of them would show in what is measured.
fn forget_old_databases(url: &str) {
    let server = another_database(url, "postgres");
    let names =
        query(&server, "select datname from pg_database where datname ~ '^t[0-9]+_[0-9]+$'");
    for name in names.lines() {
        let process = name[1..].split('_').next().unwrap_or_default();
        if !Path::new("/proc").join(process).exists() {
            let drop = format!("drop database if exists {name}");
            // Another test may just do the same.
            let _ = psql(&server).args(["-Atqc", &drop]).output();
        }
    }
}

/// Makes a database of a test's own and gives its URL.
fn database() -> String {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    let name = format!("t{}_{}", std::process::id(), NEXT.fetch_add(1, Ordering::Relaxed));
    let url = postgres();
    let server = another_database(url, "postgres");
    query(&server, &format!("create database {name}"));
    // As scripts/postgres does: it is nobody else's.
    query(&server, &format!("revoke connect on database {name} from public"));
    another_database(url, &name)
}

/// Says that a test cannot run here. That fails it, unless `MOSTRA_TESTS_PARTIAL=1` is set: then it
/// is counted, and scripts/test says at its end how many there were.
///
/// # Panics
/// Where all tests are to run.
pub fn not_run(why: &str) {
    let partial = std::env::var("MOSTRA_TESTS_PARTIAL").is_ok_and(|set| set == "1");
    assert!(partial, "NOT RUN: {why}. With MOSTRA_TESTS_PARTIAL=1 the others run all the same.");
    let thread = std::thread::current();
    let line = format!("{}: {why}\n", thread.name().unwrap_or("a test"));
    let path = top().join("target/tests-not-run");
    let file = fs::OpenOptions::new().create(true).append(true).open(path);
    file.and_then(|mut file| std::io::Write::write_all(&mut file, line.as_bytes()))
        .expect("the list of tests that did not run");
}

/// Runs a test in a network namespace of its own. Where that is not possible it does
/// [not run](not_run).
///
/// # Panics
/// When the test does.
pub fn in_a_house(test: impl FnOnce(House) + Send + 'static) {
    run(false, test);
}

/// The same for a test that measures time: no more tests run beside it than there are other
/// processors.
///
/// # Panics
/// When the test does.
pub fn in_a_house_timed(test: impl FnOnce(House) + Send + 'static) {
    run(true, test);
}

fn run(measures_time: bool, test: impl FnOnce(House) + Send + 'static) {
    let _place = places::take(measures_time);
    // Started outside, so that it outlives this test's namespace.
    let url = database();
    let run = std::thread::spawn(move || {
        if let Err(error) = nix::sched::unshare(nix::sched::CloneFlags::CLONE_NEWNET) {
            not_run(&format!("no network namespace of its own ({error}); run it as root"));
            return;
        }
        let up = Command::new("ip").args(["link", "set", "lo", "up"]).status().expect("ip runs");
        assert!(up.success(), "loopback comes up");
        test(House::new(url));
    });
    if let Err(panic) = run.join() {
        std::panic::resume_unwind(panic);
    }
}

/// A house under test.
pub struct House {
    /// Its data directory.
    pub data: tempfile::TempDir,
    /// Where folders to publish can be made; what is in its data directory is never published.
    pub folders: tempfile::TempDir,
    /// Its database.
    pub database_url: String,
    /// A program under which the service is started, with its arguments; none if empty.
    pub under: Vec<String>,
}

impl House {
    fn new(database_url: String) -> House {
        let data = tempfile::tempdir().expect("a data directory");
        let folders = tempfile::tempdir().expect("a directory for folders");
        House { data, folders, database_url, under: Vec::new() }
    }

    /// Another house on the same host, with data and records of its own.
    pub fn beside(&self) -> House {
        House::new(database())
    }

    /// Runs the client.
    ///
    /// # Panics
    /// When it cannot be run.
    pub fn client(&self, arguments: &[&str]) -> Output {
        self.client_command(arguments).output().expect("mostra runs")
    }

    /// The client as a command, for what goes on for a while.
    pub fn client_command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(binary("mostra"));
        command
            .args(arguments)
            .env("MOSTRA_CONSOLE", "http://127.0.0.1:7641")
            .env("MOSTRA_TOKEN_FILE", self.data.path().join("token"))
            .stdin(Stdio::null());
        command
    }

    /// Runs the client, which must succeed; gives what it printed.
    ///
    /// # Panics
    /// When it fails.
    pub fn mostra(&self, arguments: &[&str]) -> String {
        let output = self.client(arguments);
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(
            output.status.success(),
            "mostra {arguments:?}: {}",
            String::from_utf8_lossy(&output.stderr)
        );
        said
    }

    /// Runs the client, which must fail with exit code 1; gives what it said.
    ///
    /// # Panics
    /// When it succeeds.
    pub fn mostra_fails(&self, arguments: &[&str]) -> String {
        let output = self.client(arguments);
        assert_eq!(
            output.status.code(),
            Some(1),
            "mostra {arguments:?}: {}",
            String::from_utf8_lossy(&output.stdout)
        );
        String::from_utf8_lossy(&output.stderr).into_owned()
    }

    /// Runs the client with `--json`.
    ///
    /// # Panics
    /// When it fails or prints no JSON.
    pub fn json(&self, arguments: &[&str]) -> Value {
        let mut all = arguments.to_vec();
        all.push("--json");
        serde_json::from_str(&self.mostra(&all)).expect("JSON")
    }

    /// Asks the console's API as the client would, without a process for it.
    ///
    /// # Panics
    /// When it does not answer with JSON.
    pub fn api(&self, method: &str, path: &str) -> Value {
        let answer = self.api_with(method, path, "").expect("an answer");
        serde_json::from_slice(&answer.body).expect("JSON")
    }

    /// The same with a body of JSON; gives the answer as it is.
    ///
    /// # Errors
    /// Those of the socket.
    ///
    /// # Panics
    /// When nobody is signed in.
    pub fn api_with(&self, method: &str, path: &str, body: &str) -> std::io::Result<raw::Answer> {
        let token = fs::read_to_string(self.data.path().join("token")).expect("a token");
        let request = format!(
            "{method} /api/v1{path} HTTP/1.1\r\nHost: 127.0.0.1:7641\r\n\
             Authorization: Bearer {}\r\nContent-Type: application/json\r\n\
             Content-Length: {}\r\n\r\n{body}",
            token.trim(),
            body.len()
        );
        raw::exchange("127.0.0.1", "127.0.0.1:7641", &request)
    }

    /// Items of all kinds as the person sees them: title to the original's id.
    ///
    /// # Panics
    /// When the client's answer is not as it should be.
    pub fn items(&self) -> BTreeMap<String, String> {
        let criteria = "upnp:class derivedfrom \"object.item\"";
        let found = self.json(&["catalogue", "search", "--criteria", criteria]);
        let text = |o: &Value, name: &str| o[name].as_str().expect("a text").to_owned();
        let objects = found["objects"].as_array().expect("objects").iter();
        objects.map(|o| (text(o, "title"), text(o, "id"))).collect()
    }

    /// Publishes a folder of the demo media.
    pub fn publish(&self, name: &str) {
        let path = top().join("demo/media").join(name);
        self.mostra(&["folder", "add", path.to_str().expect("text")]);
    }

    /// Starts stand-ins: those of the demo, or others by their place, as `faults/loft-player`.
    ///
    /// # Panics
    /// When they do not come on.
    pub fn stand_ins(&self, personas: &[&str]) -> Running {
        let demo = top().join("demo");
        let place = |persona: &&str| match persona.contains('/') {
            true => demo.join(format!("{persona}.toml")),
            false => demo.join(format!("personas/{persona}.toml")),
        };
        let files: Vec<PathBuf> = personas.iter().map(place).collect();
        let child = Command::new(binary("mostra-stage"))
            .args(["run", "--quiet"])
            .args(&files)
            .stdout(Stdio::null())
            .spawn()
            .expect("mostra-stage starts");
        let running = Running::of(child);
        for file in files {
            let text = fs::read_to_string(file).expect("a persona");
            let address = text.lines().find_map(|line| line.strip_prefix("address = "));
            let address = address.expect("a persona's address").trim_matches('"');
            until(30, "a stand-in", || raw::get(&format!("{address}:7690"), "/stage/screen").ok());
        }
        running
    }

    /// Tells a stand-in to do something; gives whether it worked and what it said.
    ///
    /// # Panics
    /// When the stand-in does not answer.
    pub fn tell(&self, address: &str, deed: &[&str]) -> (bool, String) {
        let output = Command::new(binary("mostra-stage"))
            .args(["do", address])
            .args(deed)
            .output()
            .expect("mostra-stage runs");
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(!said.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
        (output.status.success(), said)
    }

    /// A stand-in's state.
    ///
    /// # Panics
    /// When it does not answer.
    pub fn stand_in(&self, address: &str) -> Value {
        let answer = raw::get(&format!("{address}:7690"), "/stage/state").expect("a stand-in");
        serde_json::from_slice(&answer.body).expect("JSON")
    }

    /// The confirmed steps of the device at an address.
    pub fn confirmed(&self, address: &str) -> Vec<String> {
        let device = self.device(address).unwrap_or_default();
        let steps = device["proof"].as_array().cloned().unwrap_or_default();
        steps
            .iter()
            .filter(|s| s["confirmed"] == true)
            .map(|s| s["step"].as_str().unwrap_or_default().to_owned())
            .collect()
    }

    /// The device at an address, if it is known.
    pub fn device(&self, address: &str) -> Option<Value> {
        let devices = self.json(&["device", "list"]);
        devices.as_array()?.iter().find(|d| d["address"] == address).cloned()
    }

    /// A device comes to the door: it reads the description, and asks for content.
    pub fn meet(&self, address: &str) {
        raw::ask(address, "GET", "/about/device.xml", "");
        raw::ask(address, "GET", "/media/none", "");
        until(30, "the device", || self.device(address));
    }

    /// Waits until a step of a device is confirmed.
    pub fn await_step(&self, address: &str, step: &str) {
        until(30, &format!("{address} {step}"), || {
            self.confirmed(address).iter().any(|s| s == step).then_some(())
        });
    }

    /// Admits the device at an address.
    pub fn admit(&self, address: &str) {
        self.mostra(&["device", "admit", address]);
    }
}

/// Where the television stands.
pub const TELEVISION: &str = "127.0.0.11";
/// Where the disc player stands.
pub const DISC_PLAYER: &str = "127.0.0.12";
/// The device listener.
pub const SERVER: &str = "127.0.0.1:7640";
