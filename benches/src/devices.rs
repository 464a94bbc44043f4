//! Two thousand devices in lists, and how soon what announces itself is in them.

use std::fmt::Write as _;
use std::io::{Read as _, Write as _};
use std::net::{TcpListener, UdpSocket};
use std::time::{Duration, Instant};

use mostra_tests::{House, raw, until};

/// Devices that asked.
const DEVICES: u32 = 2000;
/// Times that each list is read, and things that announce themselves.
const TIMES: usize = 15;

/// Measures and writes its table.
pub(crate) fn measure(house: &House, report: &mut String) {
    for number in 0..DEVICES {
        let address = format!("127.20.{}.{}", number / 200, number % 200 + 1);
        raw::ask(&address, "GET", "/media/none", "Connection: close\r\n");
    }
    let known = until(60, "all devices", || {
        let devices = house.api("GET", "/devices");
        let count = devices.as_array()?.len();
        (count >= DEVICES as usize).then_some(count)
    });
    let _ = writeln!(
        report,
        "## Lists of {known} devices, and how soon a thing is in them\n\n\
         | what | median | longest | aim |\n| --- | --- | --- | --- |"
    );
    for (path, what) in
        [("/devices", "device list"), ("/network", "network list"), ("/exposure", "exposure")]
    {
        let mut took: Vec<Duration> = (0..TIMES)
            .map(|_| {
                let began = Instant::now();
                let answer = house.api_with("GET", path, "").expect("an answer");
                assert_eq!(answer.status, 200);
                began.elapsed()
            })
            .collect();
        took.sort_unstable();
        row(report, what, &took, "100 ms");
    }
    let mut took: Vec<Duration> = (0..TIMES).map(|number| announce(house, number)).collect();
    took.sort_unstable();
    row(report, "from its first alive to its row with its name", &took, "1000 ms");
    report.push('\n');
}

fn row(report: &mut String, what: &str, sorted: &[Duration], aim: &str) {
    let ms = |took: Duration| took.as_millis();
    let (median, longest) = (sorted[sorted.len() / 2], sorted[sorted.len() - 1]);
    let _ = writeln!(report, "| {what} | {} ms | {} ms | {aim} |", ms(median), ms(longest));
}

/// A thing announces itself; gives how long it takes until its name is in the list.
fn announce(house: &House, number: usize) -> Duration {
    let address = format!("127.21.0.{}", number + 1);
    let listener = TcpListener::bind(format!("{address}:4000")).expect("a listener");
    let name = format!("Thing {number}");
    let body = format!(
        "<root xmlns='urn:schemas-upnp-org:device-1-0'><device>\
         <deviceType>urn:schemas-upnp-org:device:Basic:1</deviceType>\
         <friendlyName>{name}</friendlyName><UDN>uuid:thing-{number}</UDN></device></root>"
    );
    let serving = std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().expect("a request");
        let mut head = [0; 2048];
        let _ = stream.read(&mut head);
        let head = format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", body.len());
        let _ = stream.write_all(format!("{head}{body}").as_bytes());
    });
    let own = UdpSocket::bind(format!("{address}:0")).expect("a socket");
    socket2::SockRef::from(&own)
        .set_multicast_if_v4(&std::net::Ipv4Addr::LOCALHOST)
        .expect("loopback");
    let text = format!(
        "NOTIFY * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nCACHE-CONTROL: max-age=1800\r\n\
         LOCATION: http://{address}:4000/d.xml\r\nNT: upnp:rootdevice\r\nNTS: ssdp:alive\r\n\
         USN: uuid:thing-{number}::upnp:rootdevice\r\n\r\n"
    );
    let began = Instant::now();
    own.send_to(text.as_bytes(), "239.255.255.250:1900").expect("sent");
    let shown = format!("\"{name}\"");
    until(10, "its row", || {
        let answer = house.api_with("GET", "/network", "").ok()?;
        answer.text().contains(&shown).then_some(())
    });
    let took = began.elapsed();
    serving.join().expect("served");
    took
}
