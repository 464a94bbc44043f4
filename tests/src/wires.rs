//! Network namespaces beside a test's own, and wires to them.

use std::fs::File;
use std::net::{Ipv4Addr, SocketAddrV4, UdpSocket};
use std::process::Command;
use std::sync::atomic::{AtomicU32, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use nix::sched::{CloneFlags, setns};

/// Where servers announce themselves.
pub const GROUP: Ipv4Addr = Ipv4Addr::new(239, 255, 255, 250);

/// Runs `ip` in the test's own namespace.
///
/// # Panics
/// When it fails.
pub fn ip(arguments: &str) {
    let status = Command::new("ip").args(arguments.split(' ')).status().expect("ip runs");
    assert!(status.success(), "ip {arguments}");
}

/// A device in a namespace of its own: a wire leads from `lan0` here, 10.77.0.1, to `far0` there,
/// 10.77.0.14, with a hardware address of its own if one is given.
///
/// # Panics
/// When the wire cannot be laid.
pub fn wired(word: &str, hardware: Option<&str>) -> Namespace {
    let there = Namespace::new(word);
    ip(&format!("link add lan0 type veth peer name far0 netns {}", there.name()));
    ip("addr add 10.77.0.1/24 dev lan0");
    ip("link set lan0 up");
    if let Some(hardware) = hardware {
        there.ip(&format!("link set far0 address {hardware}"));
    }
    there.ip("addr add 10.77.0.14/24 dev far0");
    there.ip("link set far0 up");
    there
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
        self.begin(work).join().expect("the work is done")
    }

    /// The same, while the test goes on.
    ///
    /// # Panics
    /// When there is no such namespace.
    pub fn begin<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> JoinHandle<T> {
        let place = File::open(format!("/run/netns/{}", self.0)).expect("the namespace");
        std::thread::spawn(move || {
            setns(place, CloneFlags::CLONE_NEWNET).expect("entered");
            work()
        })
    }

    /// GET from in it; gives the status, `000` without an answer.
    ///
    /// # Panics
    /// When curl does not run.
    pub fn get(&self, url: &str) -> String {
        self.curl(&[url])
    }

    /// The same from one of its addresses.
    ///
    /// # Panics
    /// When curl does not run.
    pub fn get_from(&self, source: &str, url: &str) -> String {
        self.curl(&["--interface", source, url])
    }

    fn curl(&self, more: &[&str]) -> String {
        let arguments = ["netns", "exec", &self.0, "curl", "-s", "-m", "10"];
        let output = Command::new("ip")
            .args(arguments)
            .args(["-o", "/dev/null", "-w", "%{http_code}"])
            .args(more)
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

/// A listener at the group in a namespace, on its only interface.
///
/// # Panics
/// When the socket cannot be made.
pub fn ear(place: &Namespace, address: Ipv4Addr) -> UdpSocket {
    place.inside(move || {
        let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::DGRAM, None)
            .expect("a socket");
        socket.set_reuse_address(true).expect("a socket");
        socket.bind(&SocketAddrV4::new(GROUP, 1900).into()).expect("a socket");
        socket.join_multicast_v4(&GROUP, &address).expect("a socket");
        let socket: UdpSocket = socket.into();
        socket.set_read_timeout(Some(Duration::from_millis(200))).expect("a socket");
        socket
    })
}

/// Hears announcements until one fits; gives it and how long that took.
///
/// # Panics
/// When none does in time.
pub fn hear(
    ear: &UdpSocket,
    seconds: u64,
    what: &str,
    fits: impl Fn(&str) -> bool,
) -> (String, Duration) {
    let begin = Instant::now();
    let mut buffer = [0; 2048];
    loop {
        // It waits for a while itself.
        if let Ok((length, _)) = ear.recv_from(&mut buffer) {
            let text = String::from_utf8_lossy(&buffer[..length]).into_owned();
            if fits(&text) {
                return (text, begin.elapsed());
            }
        }
        assert!(begin.elapsed() < Duration::from_secs(seconds), "waited {seconds} s for {what}");
    }
}
