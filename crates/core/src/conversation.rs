//! What a recorded conversation says, in words.

use mostra_protocol::control_point::{Message, NotifyKind, parse_datagram};
use mostra_protocol::model::conversation::{Entry, Exchange, RecordedDatagram};

/// An entry in words: what was said, and what came back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EntryWords {
    /// When, in milliseconds since 1970; nothing of a gap.
    pub at_ms: Option<u64>,
    /// Whether the device said it.
    pub by_device: bool,
    /// What was said.
    pub said: String,
    /// What came back, if anything could.
    pub answered: Option<String>,
    /// Whether what came back is no success.
    pub failed: bool,
}

/// Puts an entry into words.
pub fn in_words(entry: &Entry) -> EntryWords {
    match entry {
        Entry::Heard(datagram) => datagram_words(datagram, true),
        Entry::Sent(datagram) => datagram_words(datagram, false),
        Entry::Request(exchange) => exchange_words(exchange, true),
        Entry::Event(exchange) => exchange_words(exchange, false),
        Entry::Left { out } => EntryWords {
            at_ms: None,
            by_device: false,
            said: format!("{out} entries are left out here: they came too fast to be written"),
            answered: None,
            failed: true,
        },
    }
}

fn datagram_words(datagram: &RecordedDatagram, by_device: bool) -> EntryWords {
    let said = match parse_datagram(datagram.text.as_bytes()) {
        Some(Message::Search(search)) => format!("searches for {}", search.target),
        Some(Message::Answer { target, .. }) => format!("answers the search for {target}"),
        Some(Message::Notify { kind, target, .. }) => match kind {
            NotifyKind::ByeBye => format!("leaves as {target}"),
            NotifyKind::Alive | NotifyKind::Update => format!("announces itself as {target}"),
        },
        None => "a datagram that says nothing of UPnP".to_owned(),
    };
    EntryWords { at_ms: Some(datagram.at_ms), by_device, said, answered: None, failed: false }
}

fn exchange_words(exchange: &Exchange, by_device: bool) -> EntryWords {
    let action = exchange.field("soapaction").and_then(|action| {
        let action = action.trim().trim_matches('"');
        action.rsplit_once('#').map(|(_, name)| name.to_owned())
    });
    let of = |name: &str| argument(&exchange.body, name);
    let object =
        action.is_some().then(|| of("ObjectID").or_else(|| of("SearchCriteria"))).flatten();
    let start = of("StartingIndex").filter(|start| start != "0");
    let said = match (&*exchange.method, action) {
        ("POST", Some(action)) => match (object, start) {
            (Some(object), Some(start)) => format!("calls {action} of {object} from {start}"),
            (Some(object), None) => format!("calls {action} of {object}"),
            _ => format!("calls {action}"),
        },
        ("NOTIFY", _) => format!("event {}", exchange.field("seq").unwrap_or("?")),
        ("GET" | "HEAD", _) => {
            let range = exchange.field("range").map(|range| format!(", {range}"));
            format!("{} {}{}", exchange.method, exchange.target, range.unwrap_or_default())
        }
        (method, _) => format!("{method} {}", exchange.target),
    };
    let answered = match exchange.status {
        0 => "no answer".to_owned(),
        status => match exchange.length {
            Some(length) => format!("{status}, {length} bytes, {} ms", exchange.took_ms),
            None => format!("{status}, {} ms", exchange.took_ms),
        },
    };
    let returned = argument(&exchange.answer, "NumberReturned");
    let total = argument(&exchange.answer, "TotalMatches");
    let fault = argument(&exchange.answer, "errorCode");
    let answered = match (returned, total, fault) {
        (Some(returned), Some(total), _) => format!("{answered}: {returned} of {total}"),
        (.., Some(fault)) => format!("{answered}: error {fault}"),
        _ => answered,
    };
    EntryWords {
        at_ms: Some(exchange.at_ms),
        by_device,
        said,
        answered: Some(answered),
        failed: !(200..400).contains(&exchange.status),
    }
}

/// The text of the first element of this name: enough to say what was asked, whatever is wrong with
/// the document around it.
pub fn argument(document: &str, name: &str) -> Option<String> {
    let at = document.find(&format!("<{name}"))? + 1 + name.len();
    let rest = &document[at..];
    let rest = &rest[rest.find('>')? + 1..];
    let text = rest[..rest.find('<')?].trim();
    let text = unescape(text);
    (!text.is_empty() && text.len() <= 200).then_some(text)
}

fn unescape(text: &str) -> String {
    let pairs = [("&lt;", "<"), ("&gt;", ">"), ("&quot;", "\""), ("&apos;", "'"), ("&amp;", "&")];
    pairs.iter().fold(text.to_owned(), |text, (written, meant)| text.replace(written, meant))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::{Ipv4Addr, SocketAddrV4};

    fn exchange(method: &str, target: &str, status: u16) -> Exchange {
        Exchange {
            method: method.into(),
            target: target.into(),
            status,
            took_ms: 3,
            ..Exchange::default()
        }
    }

    fn words(entry: Entry) -> String {
        let words = in_words(&entry);
        let answer = words.answered.map(|answer| format!(" → {answer}")).unwrap_or_default();
        format!("{}{answer}", words.said)
    }

    #[test]
    fn what_was_said_is_told_in_words() {
        let mut browse = exchange("POST", "/control/contents", 200);
        browse.fields = vec![("SOAPAction".into(), "\"urn:x:ContentDirectory:1#Browse\"".into())];
        browse.body = "<ObjectID>0</ObjectID><StartingIndex>30</StartingIndex>".into();
        browse.answer = "<NumberReturned>30</NumberReturned><TotalMatches>99</TotalMatches>".into();
        assert_eq!(
            words(Entry::Request(browse.clone())),
            "calls Browse of 0 from 30 → 200, 3 ms: 30 of 99"
        );
        browse.status = 500;
        browse.answer = "<errorCode>701</errorCode>".into();
        assert_eq!(
            words(Entry::Request(browse.clone())),
            "calls Browse of 0 from 30 → 500, 3 ms: error 701"
        );
        assert!(in_words(&Entry::Request(browse)).failed);
        let mut media = exchange("GET", "/media/7", 206);
        media.fields = vec![("range".into(), "bytes=0-99".into())];
        media.length = Some(100);
        assert_eq!(words(Entry::Request(media)), "GET /media/7, bytes=0-99 → 206, 100 bytes, 3 ms");
        let mut event = exchange("NOTIFY", "/e", 0);
        event.fields = vec![("SEQ".into(), "4".into())];
        assert_eq!(words(Entry::Event(event)), "event 4 → no answer");
    }

    #[test]
    fn a_search_is_told_by_what_it_is_for() {
        let mut search = exchange("POST", "/control/contents", 200);
        search.fields = vec![("SOAPACTION".into(), "\"urn:x:ContentDirectory:1#Search\"".into())];
        search.body = "<SearchCriteria>dc:title = &quot;A &amp;lt; B&quot;</SearchCriteria>".into();
        let told = words(Entry::Request(search));
        assert_eq!(told, "calls Search of dc:title = \"A &lt; B\" → 200, 3 ms");
    }

    #[test]
    fn datagrams_are_told_too_and_nonsense_is_called_so() {
        let of = |text: &str| {
            let peer = SocketAddrV4::new(Ipv4Addr::LOCALHOST, 9);
            words(Entry::Heard(RecordedDatagram { at_ms: 1, peer, text: text.into() }))
        };
        let search =
            "M-SEARCH * HTTP/1.1\r\nMAN: \"ssdp:discover\"\r\nMX: 2\r\nST: upnp:rootdevice\r\n\r\n";
        assert_eq!(of(search), "searches for upnp:rootdevice");
        let leaves = "NOTIFY * HTTP/1.1\r\nNT: a:b\r\nNTS: ssdp:byebye\r\nUSN: uuid:1::a:b\r\n\r\n";
        assert_eq!(of(leaves), "leaves as a:b");
        assert_eq!(of("hello"), "a datagram that says nothing of UPnP");
        assert_eq!(argument("<ObjectID>0", "ObjectID"), None);
        assert_eq!(argument("<ObjectID dt='x'> 7 </ObjectID>", "ObjectID").as_deref(), Some("7"));
    }
}
