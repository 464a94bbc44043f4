//! Network namespaces beside a test's own, and wires to them.

use std::fs::File;
use std::process::Command;
use std::sync::atomic::{AtomicU32, Ordering};

use nix::sched::{CloneFlags, setns};

/// Runs `ip` in the test's own namespace.
///
/// # Panics
/// When it fails.
pub fn ip(arguments: &str) {
    let status = Command::new("ip").args(arguments.split(' ')).status().expect("ip runs");
    assert!(status.success(), "ip {arguments}");
}

/// A network namespace for a device, gone with the test.
pub struct Namespace(String);

impl Namespace {
    /// An empty one.
    ///
    /// # Panics
    /// When none can be made, which needs root.
    pub fn new(word: &str) -> Namespace {
        static MADE: AtomicU32 = AtomicU32::new(0);
        let number = MADE.fetch_add(1, Ordering::Relaxed);
        let name = format!("mostra-{word}-{}-{number}", std::process::id());
        ip(&format!("netns add {name}"));
        Namespace(name)
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.0
    }

    /// Runs `ip` in it.
    ///
    /// # Panics
    /// When it fails.
    pub fn ip(&self, arguments: &str) {
        ip(&format!("-n {} {arguments}", self.0));
    }

    /// Does something in it; sockets made there stay there.
    ///
    /// # Panics
    /// When it cannot be entered.
    pub fn inside<T: Send + 'static>(&self, work: impl FnOnce() -> T + Send + 'static) -> T {
        let place = File::open(format!("/run/netns/{}", self.0)).expect("the namespace");
        let thread = std::thread::spawn(move || {
            setns(place, CloneFlags::CLONE_NEWNET).expect("entered");
            work()
        });
        thread.join().expect("the work is done")
    }

    /// GET from in it; gives the status, `000` without an answer.
    ///
    /// # Panics
    /// When curl does not run.
    pub fn get(&self, url: &str) -> String {
        let arguments = ["netns", "exec", &self.0, "curl", "-s", "-m", "10"];
        let output = Command::new("ip")
            .args(arguments)
            .args(["-o", "/dev/null", "-w", "%{http_code}", url])
            .output()
            .expect("curl runs");
        String::from_utf8_lossy(&output.stdout).into_owned()
    }
}

impl Drop for Namespace {
    fn drop(&mut self) {
        let _ = Command::new("ip").args(["netns", "del", &self.0]).status();
    }
}
