//! From start to the first answer, and memory after it.

use std::fmt::Write as _;
use std::net::UdpSocket;
use std::time::{Duration, Instant};

use mostra_tests::{House, Running};

/// Measures and leaves the service running, signed in.
pub(crate) fn measure(house: &House, report: &mut String) -> Running {
    let mut times = Vec::new();
    // The first start makes the tables.
    house.start().stop();
    for _ in 0..5 {
        let (running, time) = timed_start(house);
        times.push(time.as_secs_f64() * 1000.0);
        let mut running = running;
        running.stop();
    }
    let running = house.begin_with(&super::ROOM);
    let memory = super::resident(super::processes("mostrad")[0]);
    let _ = writeln!(
        report,
        "## Start\n\n| what | measured |\n| --- | --- |\n\
         | start to first unicast search answer (PostgreSQL running; answers wait up to 100 ms by standard), median of 5 | {:.0} ms |\n\
         | resident memory after start, empty house | {:.1} MiB |\n",
        super::median(times),
        memory as f64 / 1024.0
    );
    running
}

fn timed_start(house: &House) -> (Running, Duration) {
    let socket = UdpSocket::bind("127.0.0.88:0").expect("a socket");
    socket.set_read_timeout(Some(Duration::from_millis(5))).expect("a timeout");
    let search = b"M-SEARCH * HTTP/1.1\r\nHOST: 127.0.0.1:1900\r\nMAN: \"ssdp:discover\"\r\nST: upnp:rootdevice\r\n\r\n";
    let begin = Instant::now();
    let running = house.launch();
    let mut buffer = [0; 2048];
    loop {
        let _ = socket.send_to(search, "127.0.0.1:1900");
        if socket.recv_from(&mut buffer).is_ok() {
            return (running, begin.elapsed());
        }
        assert!(begin.elapsed() < Duration::from_secs(30), "no answer");
    }
}
