//! Those who mean no good, or are badly made: the service refuses them and goes on.

use std::io::{Read as _, Write as _};
use std::net::UdpSocket;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use mostra_tests::{SERVER, raw};

use super::ledger::Ledger;

/// Goes on until the end. What comes back must be no failure of the service's own.
pub(super) fn live(address: &str, ledger: &Ledger, ended: &AtomicBool, mut chance: fastrand::Rng) {
    while !ended.load(Ordering::Relaxed) {
        let kind = chance.u32(..12);
        ledger.note("be refused", address, || attack(address, kind, &mut chance));
        std::thread::sleep(Duration::from_millis(chance.u64(20..400)));
    }
}

fn attack(from: &str, kind: u32, chance: &mut fastrand::Rng) -> Result<(), String> {
    let garbage = |chance: &mut fastrand::Rng, count: usize| -> Vec<u8> {
        (0..count).map(|_| chance.u8(..)).collect()
    };
    let head = |line: &str, fields: &str| {
        format!("{line} HTTP/1.1\r\nHost: {SERVER}\r\n{fields}\r\n").into_bytes()
    };
    let soap = |body: &str| {
        let fields = format!(
            "Content-Type: text/xml\r\nContent-Length: {}\r\nSOAPACTION: \
             \"urn:schemas-upnp-org:service:ContentDirectory:1#Browse\"\r\n",
            body.len()
        );
        [head("POST /control/content", &fields), body.as_bytes().to_vec()].concat()
    };
    let bytes = match kind {
        0 => garbage(chance, 2000),
        1 => return drip(from),
        2 => soap("<!DOCTYPE a [<!ENTITY b \"c\">]><a>&b;&b;&b;</a>"),
        3 => soap(&"<a>".repeat(15_000)),
        4 => head("GET /media/../../../../../etc/passwd", ""),
        5 => head(
            "SUBSCRIBE /event/content",
            "CALLBACK: <http://192.0.2.1/>\r\nNT: upnp:event\r\nTIMEOUT: Second-300\r\n",
        ),
        6 => return flood(from, chance),
        7 => return crowd(from),
        8 => head("POST /control/content", "Content-Length: 5\r\nTransfer-Encoding: chunked\r\n"),
        9 => {
            let ranges: Vec<String> = (0..1500).map(|n| format!("{n}-{n}")).collect();
            head("GET /media/1", &format!("Range: bytes={}\r\n", ranges.join(",")))
        }
        10 => soap(&" ".repeat(1 << 20)),
        _ => head("GET /about/device.xml", &format!("X: {}\r\n", "y".repeat(100_000))),
    };
    send(from, &bytes)
}

/// Sends bytes and looks at what comes back.
fn send(from: &str, bytes: &[u8]) -> Result<(), String> {
    let Ok(mut stream) = raw::connect(from, SERVER) else { return Ok(()) };
    let _ = stream.set_read_timeout(Some(Duration::from_secs(1)));
    let _ = stream.set_write_timeout(Some(Duration::from_secs(5)));
    let _ = stream.write_all(bytes);
    let mut answer = [0; 512];
    let count = stream.read(&mut answer).unwrap_or(0);
    let text = String::from_utf8_lossy(&answer[..count]).into_owned();
    match text.get(9..12) {
        // A SOAP fault is a 500 by standard.
        Some("500") if !bytes.starts_with(b"POST") => Err(text),
        Some("502" | "504") => Err(text),
        _ => Ok(()),
    }
}

/// A head, a byte at a time.
fn drip(from: &str) -> Result<(), String> {
    let Ok(mut stream) = raw::connect(from, SERVER) else { return Ok(()) };
    for byte in b"GET /about/device.xml HTTP/1.1\r\nX-Slow: " {
        if stream.write_all(&[*byte]).is_err() {
            break;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    Ok(())
}

/// Searches and nonsense, many at once.
fn flood(from: &str, chance: &mut fastrand::Rng) -> Result<(), String> {
    let socket = UdpSocket::bind((from, 0)).map_err(|e| e.to_string())?;
    for n in 0..200 {
        let mut search = b"M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\n\
            MAN: \"ssdp:discover\"\r\nMX: 1\r\nST: ssdp:all\r\n\r\n"
            .to_vec();
        if n % 4 == 0 {
            let at = chance.usize(..search.len());
            search[at] = chance.u8(..);
        }
        let _ = socket.send_to(&search, "127.0.0.1:1900");
    }
    Ok(())
}

/// Connections that ask for nothing.
fn crowd(from: &str) -> Result<(), String> {
    let open: Vec<_> = (0..12).filter_map(|_| raw::connect(from, SERVER).ok()).collect();
    std::thread::sleep(Duration::from_secs(1));
    drop(open);
    Ok(())
}
