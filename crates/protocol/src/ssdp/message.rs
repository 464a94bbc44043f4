//! SSDP datagrams as text: reading tolerantly, writing strictly.

use crate::identifiers::{SSDP_GROUP, SSDP_PORT};

/// What a datagram says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Message {
    /// Somebody looks for something.
    Search(Search),
    /// Somebody announces (`ssdp:alive`, `ssdp:update`) or leaves (`ssdp:byebye`).
    Notify {
        /// `NTS`.
        kind: String,
        /// `NT`.
        target: String,
        /// `USN`.
        usn: String,
        /// `LOCATION`, where there is one.
        location: Option<String>,
    },
    /// An answer to a search.
    Answer {
        /// `ST`.
        target: String,
        /// `USN`.
        usn: String,
        /// `LOCATION`.
        location: Option<String>,
    },
}

/// An `M-SEARCH` (UDA §1.3.2).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Search {
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
    let mut lines = text.lines();
    let start = lines.next()?.trim_end();
    let field = |name: &str| {
        let mut lines = text.lines().skip(1).take(64);
        lines.find_map(|line| {
            let (key, value) = line.split_once(':')?;
            key.trim().eq_ignore_ascii_case(name).then(|| value.trim().to_owned())
        })
    };
    let mut words = start.split_ascii_whitespace();
    let (first, second, third) = (words.next()?, words.next()?, words.next());
    let http = |v: Option<&str>| matches!(v, Some("HTTP/1.1" | "HTTP/1.0"));
    if first.eq_ignore_ascii_case("M-SEARCH") && second == "*" && http(third) {
        let man = field("MAN")?;
        if man.trim_matches('"') != "ssdp:discover" {
            return None;
        }
        let mx = field("MX").and_then(|v| v.parse().ok()).filter(|mx| *mx >= 1);
        Some(Message::Search(Search { target: field("ST")?, mx, user_agent: field("USER-AGENT") }))
    } else if first.eq_ignore_ascii_case("NOTIFY") && second == "*" && http(third) {
        let (kind, target, usn) = (field("NTS")?, field("NT")?, field("USN")?);
        Some(Message::Notify { kind, target, usn, location: field("LOCATION") })
    } else if http(Some(first)) && second == "200" {
        let (target, usn) = (field("ST")?, field("USN")?);
        Some(Message::Answer { target, usn, location: field("LOCATION") })
    } else {
        None
    }
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
pub(super) fn lines(start: &str, fields: &[(&str, &str)]) -> Vec<u8> {
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
    fn a_search_needs_man_and_st() {
        assert_eq!(parse(b"M-SEARCH * HTTP/1.1\r\nST: ssdp:all\r\nMX: 1\r\n\r\n"), None);
        assert_eq!(parse(b"M-SEARCH * HTTP/1.1\r\nMAN: \"ssdp:discover\"\r\n\r\n"), None);
        let mx0 = parse(b"M-SEARCH * HTTP/1.1\r\nMAN: \"ssdp:discover\"\r\nST: a\r\nMX: 0\r\n\r\n");
        assert!(matches!(mx0, Some(Message::Search(Search { mx: None, .. }))));
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
