//! What somebody on the network, or a local user, tries against the house (docs/security.md).

use std::io::{Read as _, Write as _};
use std::net::{Ipv4Addr, TcpListener, UdpSocket};

use mostra_tests::{in_a_house, until};

/// The most memory that a process has used, in bytes.
fn most_memory_of(process: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap();
    let number = line.trim().strip_suffix(" kB").unwrap();
    number.trim().parse::<u64>().unwrap() << 10
}

/// Serves one document at an address, and announces it as that of a root device.
fn announce(address: &'static str, document: String) {
    let listener = TcpListener::bind((address, 4000)).unwrap();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let _ = stream.read(&mut [0; 2048]);
            let head = format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", document.len());
            let _ = stream.write_all(format!("{head}{document}").as_bytes());
        }
    });
    let socket = UdpSocket::bind((address, 0)).unwrap();
    socket2::SockRef::from(&socket).set_multicast_if_v4(&Ipv4Addr::LOCALHOST).unwrap();
    let text = format!(
        "NOTIFY * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nCACHE-CONTROL: max-age=1800\r\n\
         LOCATION: http://{address}:4000/d.xml\r\nNT: upnp:rootdevice\r\nNTS: ssdp:alive\r\n\
         USN: uuid:costly::upnp:rootdevice\r\n\r\n"
    );
    socket.send_to(text.as_bytes(), "239.255.255.250:1900").unwrap();
}

/// N1 of the third security review.
#[test]
fn a_description_of_many_elements_under_a_long_name_takes_little_memory() {
    in_a_house(|house| {
        let service = house.begin();
        let before = most_memory_of(service.id());
        let long = "A".repeat(200_000);
        let document =
            format!("<root xmlns=\"{long}\"><device>{}</device></root>", "<a/>".repeat(81_000));
        announce("127.0.0.64", document);
        until(20, "the description to be refused", || {
            house.api("GET", "/network").to_string().contains("too large").then_some(())
        });
        let grown = most_memory_of(service.id()) - before;
        assert!(grown < 16 << 20, "{grown} bytes");
    });
}
