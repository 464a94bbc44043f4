//! What comes in by UDP, and what the announcer answers.
#![no_main]

use std::net::{Ipv4Addr, SocketAddrV4};
use std::time::Duration;

use libfuzzer_sys::fuzz_target;
use mostra_protocol::Moment;
use mostra_protocol::control_point::Finder;
use mostra_protocol::model::identifiers::MEDIA_RENDERER;
use mostra_protocol::model::service::OwnService;
use mostra_protocol::server::{Announcer, Identity, Link, Tuning};

fuzz_target!(|bytes: &[u8]| {
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
    let from = SocketAddrV4::new(Ipv4Addr::new(192, 0, 2, 60), 50_000);
    let mut finder = Finder::new("uuid:own", &[MEDIA_RENDERER], "Mostra/0.1");
    finder
        .link_up(Moment::EPOCH, Link { id: 1, address, prefix: 24, port: 7640, search_port: None });
    finder.handle(Moment::EPOCH, 1, from, bytes);
    assert!(finder.found().count() <= 1);
    let _ = machine.handle(Moment::EPOCH, 1, from, bytes.len().is_multiple_of(2), bytes);
    while let Some(datagram) = machine.poll_output(Moment::EPOCH + Duration::from_secs(6)) {
        assert!(datagram.data.len() <= 1400, "each is one datagram (SSDP-9)");
        let lines = datagram.data.split(|b| *b == b'\n').count();
        assert!(lines < 16, "nothing is carried into a field (SEC-17)");
    }
});
