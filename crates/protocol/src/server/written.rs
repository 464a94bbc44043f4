//! What the announcer says, as datagrams.

use std::net::SocketAddrV4;

use super::announcer::{Datagram, Identity, Link};
use crate::messages::ssdp::lines;
use crate::model::identifiers::{SSDP_GROUP, SSDP_PORT};
use crate::{Moment, http_date};

fn to_group(link: &Link, fields: &[(&str, &str)]) -> Datagram {
    let data = lines("NOTIFY * HTTP/1.1", fields);
    Datagram { link: link.id, to: SocketAddrV4::new(SSDP_GROUP, SSDP_PORT), data }
}

fn location(id: &Identity, link: &Link) -> String {
    format!("http://{}:{}{}", link.address, link.port, id.description_path)
}

/// The fields at the end of every message.
struct Ids {
    boot: String,
    config: String,
    search_port: Option<String>,
}

impl Ids {
    fn of(id: &Identity, link: &Link) -> Ids {
        Ids {
            boot: id.boot_id.to_string(),
            config: id.config_id.to_string(),
            search_port: link.search_port.map(|port| port.to_string()),
        }
    }

    fn behind<'a>(&'a self, fields: &[(&'a str, &'a str)]) -> Vec<(&'a str, &'a str)> {
        let mut all = fields.to_vec();
        all.extend([("BOOTID.UPNP.ORG", &*self.boot), ("CONFIGID.UPNP.ORG", &*self.config)]);
        all.extend(self.search_port.as_deref().map(|port| ("SEARCHPORT.UPNP.ORG", port)));
        all
    }
}

const HOST: &str = "239.255.255.250:1900";

/// One row of the alive set (SSDP-11).
pub(super) fn alive(id: &Identity, max_age: u32, link: &Link, (nt, usn): (&str, &str)) -> Datagram {
    let fields = [
        ("HOST", HOST),
        ("CACHE-CONTROL", &format!("max-age={max_age}")),
        ("LOCATION", &location(id, link)),
        ("NT", nt),
        ("NTS", "ssdp:alive"),
        ("SERVER", &id.server),
        ("USN", usn),
    ];
    to_group(link, &Ids::of(id, link).behind(&fields))
}

/// One row of the byebye set (SSDP-23).
pub(super) fn byebye(id: &Identity, link: &Link, (nt, usn): (&str, &str)) -> Datagram {
    let fields = [("HOST", HOST), ("NT", nt), ("NTS", "ssdp:byebye"), ("USN", usn)];
    to_group(link, &Ids::of(id, link).behind(&fields))
}

/// An answer to a search (SSDP-36).
pub(super) fn answer(
    id: &Identity,
    max_age: u32,
    link: &Link,
    (st, usn): (&str, &str),
    (to, now): (SocketAddrV4, Moment),
) -> Datagram {
    let fields = [
        ("CACHE-CONTROL", &*format!("max-age={max_age}")),
        ("DATE", &http_date(now)),
        ("EXT", ""),
        ("LOCATION", &location(id, link)),
        ("SERVER", &id.server),
        ("ST", st),
        ("USN", usn),
    ];
    let data = lines("HTTP/1.1 200 OK", &Ids::of(id, link).behind(&fields));
    Datagram { link: link.id, to, data }
}
