//! SSDP datagrams as text: reading tolerantly, writing strictly.

use crate::model::identifiers::{SSDP_GROUP, SSDP_PORT};

/// What a datagram says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Message {
    /// Somebody looks for something.
    Search(MSearch),
    /// Somebody announces (`ssdp:alive`, `ssdp:update`) or leaves (`ssdp:byebye`).
    Notify {
        /// `NTS`.
        kind: NotifyKind,
        /// `NT`.
        target: String,
        /// Whom it is about.
        about: About,
    },
    /// An answer to a search.
    Answer {
        /// `ST`.
        target: String,
        /// Whom it is about.
        about: About,
    },
}

/// What `NTS` says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NotifyKind {
    /// `ssdp:alive`.
    Alive,
    /// `ssdp:update`.
    Update,
    /// `ssdp:byebye`.
    ByeBye,
}

/// What an announcement or an answer says of the device that it is about.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct About {
    /// `USN`.
    pub usn: String,
    /// `LOCATION`, where there is one.
    pub location: Option<String>,
    /// `max-age` of `CACHE-CONTROL`, in seconds, where it can be read.
    pub max_age: Option<u64>,
    /// `BOOTID.UPNP.ORG`.
    pub boot_id: Option<u32>,
    /// `CONFIGID.UPNP.ORG`.
    pub config_id: Option<u32>,
    /// `SERVER`.
    pub server: Option<String>,
}

impl About {
    /// The UDN: what stands before `::` in the USN.
    pub fn udn(&self) -> &str {
        self.usn.split("::").next().unwrap_or_default().trim()
    }
}

/// An `M-SEARCH` (UDA §1.3.2).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MSearch {
    /// `ST`, what is looked for.
    pub target: String,
    /// `MX` in seconds, if it is an integer of at least 1.
    pub mx: Option<u32>,
    /// `USER-AGENT`, if any.
    pub user_agent: Option<String>,
}

/// Reads a datagram; `None` for whatever is not SSDP.
///
/// Tolerates field names in any case, LF-only line ends, a missing final empty line, HTTP/1.0
/// and trailing NUL bytes (SSDP-30, SCP-16).
pub fn parse(datagram: &[u8]) -> Option<Message> {
    let text = std::str::from_utf8(datagram).ok()?.trim_end_matches('\0');
    let (start, rest) = text.split_once('\n').unwrap_or((text, ""));
    let fields = HeaderFields::of(rest);
    let mut words = start.split_ascii_whitespace();
    let (first, second, third) = (words.next()?, words.next()?, words.next());
    let http = |v: Option<&str>| matches!(v, Some("HTTP/1.1" | "HTTP/1.0"));
    if first.eq_ignore_ascii_case("M-SEARCH") && second == "*" && http(third) {
        if fields.man?.trim_matches('"') != "ssdp:discover" {
            return None;
        }
        Some(Message::Search(MSearch {
            target: fields.st?.to_owned(),
            mx: fields.mx.and_then(|v| v.parse().ok()).filter(|mx| *mx >= 1),
            user_agent: fields.user_agent.map(str::to_owned),
        }))
    } else if first.eq_ignore_ascii_case("NOTIFY") && second == "*" && http(third) {
        let kind = match fields.nts? {
            "ssdp:alive" => NotifyKind::Alive,
            "ssdp:update" => NotifyKind::Update,
            "ssdp:byebye" => NotifyKind::ByeBye,
            _ => return None,
        };
        Some(Message::Notify { kind, target: fields.nt?.to_owned(), about: fields.about()? })
    } else if http(Some(first)) && second == "200" {
        Some(Message::Answer { target: fields.st?.to_owned(), about: fields.about()? })
    } else {
        None
    }
}

/// HeaderFields of a datagram that are looked at, each from its first line.
#[derive(Default)]
struct HeaderFields<'a> {
    man: Option<&'a str>,
    mx: Option<&'a str>,
    st: Option<&'a str>,
    user_agent: Option<&'a str>,
    nts: Option<&'a str>,
    nt: Option<&'a str>,
    usn: Option<&'a str>,
    location: Option<&'a str>,
    cache_control: Option<&'a str>,
    boot_id: Option<&'a str>,
    config_id: Option<&'a str>,
    server: Option<&'a str>,
}

/// Lines of a datagram that are looked at.
const LINES: usize = 64;

impl<'a> HeaderFields<'a> {
    fn of(text: &'a str) -> HeaderFields<'a> {
        let mut fields = HeaderFields::default();
        for line in text.lines().take(LINES) {
            let Some((name, value)) = line.split_once(':') else { continue };
            let field = match name.trim().to_ascii_uppercase().as_str() {
                "MAN" => &mut fields.man,
                "MX" => &mut fields.mx,
                "ST" => &mut fields.st,
                "USER-AGENT" => &mut fields.user_agent,
                "NTS" => &mut fields.nts,
                "NT" => &mut fields.nt,
                "USN" => &mut fields.usn,
                "LOCATION" => &mut fields.location,
                "CACHE-CONTROL" => &mut fields.cache_control,
                "BOOTID.UPNP.ORG" => &mut fields.boot_id,
                "CONFIGID.UPNP.ORG" => &mut fields.config_id,
                "SERVER" => &mut fields.server,
                _ => continue,
            };
            field.get_or_insert(value.trim());
        }
        fields
    }

    fn about(&self) -> Option<About> {
        let number = |field: Option<&str>| field.and_then(|text| text.parse().ok());
        Some(About {
            usn: self.usn?.to_owned(),
            location: self.location.map(str::to_owned),
            max_age: self.cache_control.and_then(max_age),
            boot_id: number(self.boot_id),
            config_id: number(self.config_id),
            server: self.server.map(str::to_owned),
        })
    }
}

/// `max-age` in the directives of CACHE-CONTROL, blanks around its `=` or not (SCP-16).
fn max_age(directives: &str) -> Option<u64> {
    directives.split(',').find_map(|directive| {
        let (name, value) = directive.split_once('=')?;
        let named = name.trim().eq_ignore_ascii_case("max-age");
        named.then(|| value.trim().trim_matches('"').parse().ok())?
    })
}

/// Writes a multicast search, as a player sends it (SCP-2).
pub fn compose_search(target: &str, mx: u32, user_agent: &str) -> Vec<u8> {
    let host = format!("{SSDP_GROUP}:{SSDP_PORT}");
    let mx = mx.to_string();
    lines(
        "M-SEARCH * HTTP/1.1",
        &[
            ("HOST", &host),
            ("MAN", "\"ssdp:discover\""),
            ("MX", &mx),
            ("ST", target),
            ("USER-AGENT", user_agent),
        ],
    )
}

/// A start line and fields as one datagram. Line breaks inside values are dropped (SEC-17).
pub(crate) fn lines(start: &str, fields: &[(&str, &str)]) -> Vec<u8> {
    let mut out = String::with_capacity(400);
    out.push_str(start);
    out.push_str("\r\n");
    for (name, value) in fields {
        out.push_str(name);
        out.push(':');
        if !value.is_empty() {
            out.push(' ');
            out.extend(value.chars().filter(|c| !c.is_control()));
        }
        out.push_str("\r\n");
    }
    out.push_str("\r\n");
    out.into_bytes()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn searches_are_read_tolerantly() {
        let strict = compose_search("ssdp:all", 2, "ExampleOS/1.0 UPnP/1.0 ExamplePlayer/1.0");
        let Some(Message::Search(search)) = parse(&strict) else { panic!("not read") };
        assert_eq!((search.target.as_str(), search.mx), ("ssdp:all", Some(2)));
        let loose = b"m-search * HTTP/1.0\nman:ssdp:discover\nmx : 3\nst:upnp:rootdevice\0\0";
        let Some(Message::Search(search)) = parse(loose) else { panic!("not read") };
        assert_eq!((search.target.as_str(), search.mx), ("upnp:rootdevice", Some(3)));
    }

    #[test]
    fn an_answer_tells_whom_it_is_about() {
        let loose = b"HTTP/1.0 200 OK\nst:upnp:rootdevice\nusn: UUID:7::upnp:rootdevice\n\
                      Cache-Control: no-cache=\"Ext\", MAX-AGE = 90\nlocation:http://192.0.2.7/d\n\
                      bootid.upnp.org: 5\nusn: uuid:8\0";
        let Some(Message::Answer { target, about }) = parse(loose) else { panic!("not read") };
        assert_eq!((target.as_str(), about.udn()), ("upnp:rootdevice", "UUID:7"));
        assert_eq!((about.max_age, about.boot_id, about.config_id), (Some(90), Some(5), None));
        assert_eq!(about.location.as_deref(), Some("http://192.0.2.7/d"));
        for (text, age) in [
            ("max-age=1800", Some(1800)),
            ("max-age = 60", Some(60)),
            ("no-cache", None),
            ("max-age=soon", None),
            ("s-max-age=7, max-age=8", Some(8)),
        ] {
            assert_eq!(max_age(text), age, "{text}");
        }
    }

    #[test]
    fn a_search_needs_man_and_st() {
        assert_eq!(parse(b"M-SEARCH * HTTP/1.1\r\nST: ssdp:all\r\nMX: 1\r\n\r\n"), None);
        assert_eq!(parse(b"M-SEARCH * HTTP/1.1\r\nMAN: \"ssdp:discover\"\r\n\r\n"), None);
        let mx0 = parse(b"M-SEARCH * HTTP/1.1\r\nMAN: \"ssdp:discover\"\r\nST: a\r\nMX: 0\r\n\r\n");
        assert!(matches!(mx0, Some(Message::Search(MSearch { mx: None, .. }))));
    }

    #[test]
    fn what_is_nearly_a_notify_or_an_answer_is_none() {
        let fields = "NT: a\r\nNTS: ssdp:alive\r\nUSN: uuid:b::a\r\nST: a\r\n\r\n";
        let read = |start: &str| parse(format!("{start}\r\n{fields}").as_bytes());
        assert!(matches!(read("NOTIFY * HTTP/1.1"), Some(Message::Notify { .. })));
        assert!(matches!(read("HTTP/1.1 200 OK"), Some(Message::Answer { .. })));
        for other in [
            "NOTIFY /path HTTP/1.1",
            "NOTIFY * HTTP/3",
            "NOTIFY *",
            "OPTIONS * HTTP/1.1",
            "HTTP/1.1 404 Not Found",
            "HTTP/3 200 OK",
        ] {
            assert_eq!(read(other), None, "{other}");
        }
    }

    proptest! {
        #[test]
        fn any_datagram_is_survived(bytes in proptest::collection::vec(any::<u8>(), 0..2000)) {
            let _ = parse(&bytes);
        }
        #[test]
        fn any_text_is_survived(text in "(M-SEARCH|NOTIFY|HTTP/1.1)[ *]{0,3}.{0,40}(\r\n.{0,30}:.{0,30}){0,8}") {
            let _ = parse(text.as_bytes());
        }
    }
}
