//! Hostile input: every parser of bytes from the network, fed with a corpus and with what a
//! seeded mutator makes of it. Nothing may panic, loop or grow without bound.
//!
//! `make fuzz` runs each for as long as `FUZZ_SECONDS` says.
// A test that cannot go on has failed: that is what unwrap says.
#![allow(clippy::unwrap_used)]
// Time is taken of the crate, which itself has none.
#![allow(clippy::disallowed_methods, clippy::disallowed_types)]

use std::net::{Ipv4Addr, SocketAddrV4};
use std::path::Path;
use std::time::{Duration, Instant};

use mostra_protocol::Moment;
use mostra_protocol::control_point::{
    Finder, parse_datagram, protocol_info, read_answer, read_description, read_last_change,
    read_properties, resolve,
};
use mostra_protocol::model::identifiers::MEDIA_RENDERER;
use mostra_protocol::model::object_filter::Filter;
use mostra_protocol::model::service::OwnService;
use mostra_protocol::model::{charset, didl, npt, search, service, sort};
use mostra_protocol::server::content_directory::{Browse, Leniency, Search};
use mostra_protocol::server::{
    Announcer, Asked, Identity, Link, Tuning, range, read_call, read_timeout,
};

/// What one piece of input may take, without optimisation and on a busy machine.
const TIME: Duration = Duration::from_secs(2);

fn seeds(target: &str) -> Vec<Vec<u8>> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus").join(target);
    let mut files: Vec<_> =
        std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    files.sort();
    assert!(!files.is_empty(), "{target} has a corpus");
    files.iter().map(|file| std::fs::read(file).unwrap()).collect()
}

/// Bits, bytes and pieces changed, cut, doubled and mixed with another seed.
fn mutate(random: &mut fastrand::Rng, seeds: &[Vec<u8>]) -> Vec<u8> {
    let mut bytes = random.choice(seeds).unwrap().clone();
    for _ in 0..random.usize(1..6) {
        let at = random.usize(0..=bytes.len());
        match random.u8(0..7) {
            0 if at < bytes.len() => bytes[at] ^= 1 << random.u8(0..8),
            1 => bytes.truncate(at),
            2 => bytes.insert(at, *random.choice(b"<>&\"';:,*()=\\\r\n\t\0 -0aZ\xff\xc3").unwrap()),
            3 if at < bytes.len() => drop(bytes.remove(at)),
            4 => {
                let other = random.choice(seeds).unwrap();
                bytes.splice(at.., other[random.usize(0..=other.len())..].iter().copied());
            }
            5 => {
                let piece = bytes[..at].to_vec();
                let times = random.usize(1..20);
                bytes.extend(piece.repeat(times));
            }
            _ => {
                let digits = ["4294967296", "-1", "18446744073709551616", "&#x10FFFF;", "%00"];
                bytes.splice(at..at, random.choice(digits).unwrap().bytes());
            }
        }
        bytes.truncate(70_000);
    }
    bytes
}

fn feed(target: &str, mut parse: impl FnMut(&[u8])) {
    let seeds = seeds(target);
    seeds.iter().for_each(|seed| parse(seed));
    let seconds = std::env::var("FUZZ_SECONDS").ok().and_then(|s| s.parse().ok());
    // Another way each time when there is time; the same one in every test run.
    let seed = seconds.map_or(7, |_: u64| fastrand::u64(..));
    let mut random = fastrand::Rng::with_seed(seed);
    let begin = Instant::now();
    let mut count = 0u64;
    loop {
        let input = mutate(&mut random, &seeds);
        let began = Instant::now();
        parse(&input);
        assert!(began.elapsed() < TIME, "{target}: {:?} for {input:?}", began.elapsed());
        count += 1;
        let over = match seconds {
            Some(seconds) => begin.elapsed() > Duration::from_secs(seconds),
            None => count >= 1500,
        };
        if over {
            println!("{target}: {count} inputs, seed {seed}");
            return;
        }
    }
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// The fields that we write.
const OURS: [&str; 14] = [
    "HOST",
    "CACHE-CONTROL",
    "DATE",
    "EXT",
    "LOCATION",
    "SERVER",
    "ST",
    "NT",
    "NTS",
    "USN",
    "BOOTID.UPNP.ORG",
    "CONFIGID.UPNP.ORG",
    "SEARCHPORT.UPNP.ORG",
    "OPT",
];

#[test]
fn datagrams() {
    let identity = Identity {
        udn: "uuid:6f1c2f0e-5b7d-4d0a-9a3e-2b8c41d7e901".into(),
        server: "Linux/6.1 UPnP/1.0 Mostra/0.1".into(),
        description_path: "/about/device.xml".into(),
        boot_id: 7,
        config_id: 4021,
        services: OwnService::ALL.to_vec(),
    };
    let mut machine = Announcer::new(identity, Tuning::default(), 1, Moment::EPOCH);
    let address = Ipv4Addr::new(192, 0, 2, 21);
    machine
        .link_up(Moment::EPOCH, Link { id: 1, address, prefix: 24, port: 7640, search_port: None });
    let mut finder = Finder::new("uuid:own", &[MEDIA_RENDERER], "Mostra/0.1");
    finder
        .link_up(Moment::EPOCH, Link { id: 1, address, prefix: 24, port: 7640, search_port: None });
    let mut now = Moment::EPOCH;
    feed("datagram", |bytes| {
        now += Duration::from_millis(50);
        let _ = parse_datagram(bytes);
        let from = SocketAddrV4::new(Ipv4Addr::new(192, 0, 2, 60), 50_000);
        let _ = machine.handle(now, 1, from, bytes.len() % 2 == 0, bytes);
        finder.handle(now, 1, from, bytes);
        assert!(finder.found().count() <= 32, "of one source (SCP-15)");
        while finder.poll_event(now).is_some() || finder.poll_output(now).is_some() {}
        while let Some(datagram) = machine.poll_output(now) {
            assert!(datagram.data.len() <= 1400, "each is one datagram (SSDP-9)");
            let text = String::from_utf8_lossy(&datagram.data).into_owned();
            let mut names =
                text.trim_end().lines().skip(1).map(|line| line.split(':').next().unwrap());
            let unknown = names.find(|name| !OURS.contains(name));
            assert_eq!(unknown, None, "nothing is carried into a field (SEC-17): {text}");
        }
    });
}

#[test]
fn control_requests() {
    feed("control", |bytes| {
        let Ok(call) = read_call(&text(bytes)) else { return };
        let _ = read_answer(&text(bytes));
        let _ = Browse::read(&call, Leniency::Standard);
        let _ = Browse::read(&call, Leniency::PassOverSort);
        let _ = Search::read(&call, Leniency::Standard);
    });
}

#[test]
fn listings() {
    feed("didl", |bytes| drop(didl::read(&text(bytes))));
}

#[test]
fn search_criteria() {
    feed("search", |bytes| drop(search::parse(&text(bytes))));
}

#[test]
fn sort_criteria_and_filters() {
    feed("sort", |bytes| {
        let text = text(bytes);
        let _ = sort::parse(&text);
        assert!(sort::parse_known(&text).len() <= 16);
        let _ = Filter::parse(&text).wants("res@size");
    });
}

#[test]
fn ranges() {
    feed("range", |bytes| {
        let text = text(bytes);
        for size in [0, 1, 1000, u64::MAX] {
            if let range::Selection::Part { first, last } = range::select(Some(&text), size) {
                assert!(first <= last && last < size, "{text}: {first}-{last} of {size}");
            }
        }
    });
}

#[test]
fn lists_of_protocol_info() {
    feed("protocol_info", |bytes| {
        let text = text(bytes);
        assert!(protocol_info::read_list(&text).len() <= 2000);
    });
}

#[test]
fn times_sought() {
    feed("npt", |bytes| {
        if let Some(npt::TimeRange { from, to: Some(to) }) = npt::read(&text(bytes)) {
            assert!(from <= to);
        }
    });
}

#[test]
fn charsets() {
    feed("control", |bytes| {
        let label = String::from_utf8_lossy(&bytes[..bytes.len().min(60)]).into_owned();
        let _ = charset::decode(Some(&label), bytes);
        let _ = charset::decode(None, bytes);
    });
}

#[test]
fn descriptions() {
    feed("description", |bytes| {
        let text = text(bytes);
        if let Ok(read) = read_description(&text) {
            let _ = read.with(&service::av_transport::DEFINITION);
            let base = read.url_base.as_deref();
            let _ = resolve("http://192.0.2.7/d.xml", base, &read.root().presentation);
        }
        drop(service::read(&text));
    });
}

#[test]
fn events_and_callbacks() {
    feed("event", |bytes| {
        drop(read_properties(&text(bytes)));
        drop(read_last_change(&text(bytes)));
    });
    feed("callback", |bytes| {
        let text = text(bytes);
        let _ = Asked::read(Some(&text), Some(&text), Some(&text));
        let _ = read_timeout(Some(&text));
    });
}
