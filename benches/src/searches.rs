//! Two thousand searches a second from a hundred sources: how many are answered, how fairly and
//! how soon, and what it costs.

use std::fmt::Write as _;
use std::net::{Ipv4Addr, SocketAddrV4, UdpSocket};
use std::time::{Duration, Instant};

use nix::sys::resource::{Resource, getrlimit, setrlimit};
use socket2::{Domain, Protocol, Socket, Type};

const SOURCES: usize = 100;
const A_SECOND: u32 = 2000;
const SECONDS: u32 = 10;
/// What the searches say they wait for.
const MX: Duration = Duration::from_secs(1);
const SEARCH: &[u8] =
    b"M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nMAN: \"ssdp:discover\"\r\n\
    MX: 1\r\nST: urn:schemas-upnp-org:device:MediaServer:1\r\n\r\n";

pub(crate) fn measure(report: &mut String) {
    let _ =
        getrlimit(Resource::RLIMIT_NOFILE).map(|(_, m)| setrlimit(Resource::RLIMIT_NOFILE, m, m));
    let sources: Vec<UdpSocket> = (1..=SOURCES).map(|n| source(n as u8)).collect();
    let service = super::processes("mostrad");
    let used = super::processor_seconds(&service);
    let began = Instant::now();
    let mut answers: Vec<(usize, Duration)> = Vec::new();
    let mut sent = 0;
    let mut buffer = [0; 2048];
    let mut last_search = Duration::ZERO;
    loop {
        let now = began.elapsed();
        let due = (now.as_secs_f64() * f64::from(A_SECOND)) as u32;
        while sent < due.min(A_SECOND * SECONDS) {
            let from = &sources[sent as usize % SOURCES];
            from.send_to(SEARCH, "239.255.255.250:1900").expect("sent");
            sent += 1;
            last_search = began.elapsed();
        }
        for (n, socket) in sources.iter().enumerate() {
            while socket.recv_from(&mut buffer).is_ok() {
                answers.push((n, began.elapsed()));
            }
        }
        if now > Duration::from_secs(u64::from(SECONDS)) + 2 * MX {
            break;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    let used = super::processor_seconds(&service) - used;
    // The most in any second, wherever it begins.
    let within = |from: &Duration| {
        answers.iter().filter(|(_, at)| at >= from && *at < *from + Duration::from_secs(1)).count()
    };
    let most = answers.iter().map(|(_, at)| within(at)).max().unwrap_or_default();
    let by_source = |n| answers.iter().filter(|(source, _)| *source == n).count();
    let shares: Vec<usize> = (0..SOURCES).map(by_source).collect();
    let last = answers.iter().map(|(_, at)| *at).max().unwrap_or_default();
    let _ = writeln!(
        report,
        "## {A_SECOND} searches a second from {SOURCES} sources for {SECONDS} s, on real sockets\n\n\
         | what | measured | aim |\n| --- | --- | --- |\n\
         | answers in any one second, at most | {most} | 200 |\n\
         | answers to one source in all, fewest to most | {} to {} | alike |\n\
         | last answer after the last search | {:.2} s | MX, {:.0} s |\n\
         | processors that the service used | {:.2} | 0.5 |\n",
        shares.iter().min().copied().unwrap_or_default(),
        shares.iter().max().copied().unwrap_or_default(),
        last.saturating_sub(last_search).as_secs_f64(),
        MX.as_secs_f64(),
        used / f64::from(SECONDS),
    );
}

fn source(n: u8) -> UdpSocket {
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP)).expect("a socket");
    let address = SocketAddrV4::new(Ipv4Addr::new(127, 0, 3, n), 0);
    socket.bind(&address.into()).expect("an address");
    socket.set_multicast_if_v4(&Ipv4Addr::LOCALHOST).expect("an interface");
    // The others need not hear it.
    socket.set_nonblocking(true).expect("set");
    socket.into()
}
