//! A persona from a recorded conversation.

use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;

use mostra_protocol::control_point::{Message, parse_datagram};
use mostra_protocol::model::conversation::{Entry, Exchange};
use mostra_protocol::server::read_call;

use crate::persona::{BrowseSettings, Persona, PersonaSearch, Play};
use crate::recording::{RecordedConversation, action};

/// Bytes from the end that count as the index of a file.
const TAIL: u64 = 4 << 20;

/// The habits that a conversation shows; what it does not show is left as most devices do it.
pub(crate) fn learn(recording: &RecordedConversation, address: Ipv4Addr) -> Persona {
    let requests: Vec<&Exchange> = recording.requests().collect();
    let user_agent = requests.iter().find_map(|request| request.field("user-agent"));
    let calls = |name: &str| {
        let of = requests.iter().filter(|r| action(r).is_some_and(|(_, action)| action == name));
        of.filter_map(|request| read_call(&request.body).ok()).collect::<Vec<_>>()
    };
    let registrar = requests.iter().any(|request| {
        action(request).is_some_and(|(service, _)| service.ends_with("X_MS_MediaReceiverRegistrar"))
    });
    let argument = |call: &mostra_protocol::server::Call, name: &str| {
        call.arguments.iter().find(|(n, _)| n == name).map(|(_, value)| value.clone())
    };
    let (browses, searches) = (calls("Browse"), calls("Search"));
    let lists = || browses.iter().chain(&searches);
    let counts = lists().filter_map(|call| argument(call, "RequestedCount")?.trim().parse().ok());
    let filter = most_common(lists().filter_map(|call| argument(call, "Filter")));
    // A class that is asked for is a menu of the device's own.
    let mut by_class = BTreeMap::new();
    for criteria in searches.iter().filter_map(|call| argument(call, "SearchCriteria")) {
        if let Some((class, title)) = class_of(&criteria) {
            by_class.insert(title, class);
        }
    }
    Persona {
        name: recording.heading.device.clone(),
        maker: "unknown".into(),
        address,
        hardware: Vec::new(),
        user_agent: user_agent.unwrap_or_default().to_owned(),
        plays: played(&requests).into_iter().collect(),
        subscribes: requests.iter().any(|request| request.method == "SUBSCRIBE"),
        registrar,
        search: search(recording),
        browse: BrowseSettings {
            page: counts.max().unwrap_or(30),
            filter: filter.unwrap_or_else(|| "*".into()),
            by_class,
        },
        play: play(&requests),
        fault: None,
        expects: None,
        port_mappings: Vec::new(),
        announces: None,
    }
}

fn most_common<T: Ord>(all: impl Iterator<Item = T>) -> Option<T> {
    let mut counts: BTreeMap<T, usize> = BTreeMap::new();
    for one in all {
        *counts.entry(one).or_default() += 1;
    }
    counts.into_iter().max_by_key(|(_, count)| *count).map(|(one, _)| one)
}

/// The class that a search is for, and a title for its menu.
fn class_of(criteria: &str) -> Option<(String, String)> {
    let at = criteria.find("upnp:class")?;
    let class = criteria[at..].split('"').nth(1)?;
    let title = match class.split('.').nth(2)? {
        "videoItem" => "Films",
        "audioItem" => "Music",
        "imageItem" => "Pictures",
        _ => return None,
    };
    Some((class.to_owned(), title.to_owned()))
}

/// How it looks for servers: what it asked for first, and how many times within ten seconds.
fn search(recording: &RecordedConversation) -> Option<PersonaSearch> {
    let searches: Vec<(u64, String, u32)> = recording
        .entries
        .iter()
        .filter_map(|entry| match entry {
            Entry::Heard(datagram) => match parse_datagram(datagram.text.as_bytes())? {
                Message::Search(search) => {
                    let mx = datagram.text.lines().find_map(|line| {
                        let (name, value) = line.split_once(':')?;
                        name.trim().eq_ignore_ascii_case("mx").then(|| value.trim().parse().ok())?
                    });
                    Some((datagram.at_ms, search.target, mx.unwrap_or(1)))
                }
                Message::Notify { .. } | Message::Answer { .. } => None,
            },
            _ => None,
        })
        .collect();
    let (first, target, mx) = searches.first()?.clone();
    let times = searches.iter().filter(|(at, t, _)| *t == target && at - first < 10_000).count();
    Some(PersonaSearch { target, mx: mx.clamp(1, 5), times: u32::try_from(times).unwrap_or(1) })
}

fn is_media(request: &&&Exchange) -> bool {
    let kind = request.answer_field("content-type").unwrap_or_default();
    let media = ["video/", "audio/", "image/"].iter().any(|word| kind.starts_with(word));
    media && matches!(request.status, 200 | 206)
}

/// The MIME types of what it took.
fn played(requests: &[&Exchange]) -> BTreeSet<String> {
    let taken = requests.iter().filter(is_media).filter(|request| request.method == "GET");
    let types = taken.filter_map(|request| request.answer_field("content-type"));
    types.map(|kind| kind.split(';').next().unwrap_or(kind).trim().to_owned()).collect()
}

/// A piece of a file that was taken: its first byte, its last, and the bytes of the whole file.
type TakenPiece = (u64, Option<u64>, Option<u64>);

/// How it fetches media: the first piece, the end, and the pieces between.
fn play(requests: &[&Exchange]) -> Play {
    let mut of: BTreeMap<&str, Vec<TakenPiece>> = BTreeMap::new();
    for request in requests.iter().filter(is_media).filter(|request| request.method == "GET") {
        // Pictures are taken whole by everybody.
        if request.answer_field("content-type").is_some_and(|kind| kind.starts_with("image/")) {
            continue;
        }
        let range = request.field("range").and_then(|range| {
            let (first, last) = range.trim().strip_prefix("bytes=")?.split_once('-')?;
            Some((first.trim().parse().ok()?, last.trim().parse::<u64>().ok()))
        });
        let size = request.answer_field("content-range").and_then(|range| {
            range.rsplit_once('/').and_then(|(_, size)| size.trim().parse().ok())
        });
        let (first, last) = range.unwrap_or((0, None));
        of.entry(&request.target).or_default().push((first, last, size.or(request.length)));
    }
    let mut play = Play::default();
    let mut pieces: Vec<u64> = Vec::new();
    for takes in of.values() {
        if let Some((_, Some(last), _)) = takes.iter().find(|(first, ..)| *first == 0) {
            play.first_bytes = play.first_bytes.max(last + 1);
        }
        for (first, last, size) in takes.iter().filter(|(first, ..)| *first > 0) {
            let from_end = size.and_then(|size| size.checked_sub(*first));
            match from_end {
                Some(from_end)
                    if from_end <= TAIL
                        && last.is_none_or(|l| size.is_some_and(|s| l + 1 >= s)) =>
                {
                    play.tail_bytes = play.tail_bytes.max(from_end);
                }
                _ => pieces.extend(last.map(|last| last + 1 - first)),
            }
        }
    }
    pieces.sort_unstable();
    play.ask_bytes = pieces.get(pieces.len() / 2).copied().unwrap_or(1 << 20);
    play
}

#[cfg(test)]
mod tests {
    use super::*;
    use mostra_protocol::model::conversation::{EDITION, Heading, RecordedDatagram};

    fn field(name: &str, value: &str) -> (String, String) {
        (name.to_owned(), value.to_owned())
    }

    fn browse(count: u32, filter: &str) -> Entry {
        let body = format!(
            "<s:Envelope xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\"><s:Body>\
             <u:Browse xmlns:u=\"urn:schemas-upnp-org:service:ContentDirectory:1\">\
             <ObjectID>0</ObjectID><BrowseFlag>BrowseDirectChildren</BrowseFlag>\
             <Filter>{filter}</Filter><StartingIndex>0</StartingIndex>\
             <RequestedCount>{count}</RequestedCount><SortCriteria></SortCriteria>\
             </u:Browse></s:Body></s:Envelope>"
        );
        Entry::Request(Exchange {
            method: "POST".into(),
            target: "/control/x".into(),
            fields: vec![
                field("SOAPACTION", "\"urn:schemas-upnp-org:service:ContentDirectory:1#Browse\""),
                field("User-Agent", "Boxy/3"),
            ],
            body,
            status: 200,
            ..Exchange::default()
        })
    }

    fn media(range: &str, whole: u64) -> Entry {
        let content_range = format!("{}/{whole}", range.replace("bytes=", "bytes "));
        Entry::Request(Exchange {
            method: "GET".into(),
            target: "/media/7".into(),
            fields: vec![field("Range", range)],
            status: 206,
            answer_fields: vec![
                field("Content-Type", "video/mp4"),
                field("Content-Range", &content_range),
            ],
            ..Exchange::default()
        })
    }

    #[test]
    fn habits_are_read_off_what_was_said() {
        let text = "M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nMAN: \"ssdp:discover\"\r\n\
                    MX: 3\r\nST: upnp:rootdevice\r\n\r\n";
        let heard = |at_ms| {
            let peer = std::net::SocketAddrV4::new(Ipv4Addr::LOCALHOST, 9);
            Entry::Heard(RecordedDatagram { at_ms, peer, text: text.into() })
        };
        let heading =
            Heading { conversation: EDITION, device: "Box".into(), server: "H".into(), from_ms: 0 };
        let entries = vec![
            heard(10),
            heard(900),
            heard(60_000),
            browse(16, "dc:title"),
            browse(64, "res"),
            browse(64, "res"),
            media("bytes=0-65535", 9_000_000),
            media("bytes=8900000-8999999", 9_000_000),
            media("bytes=65536-1114111", 9_000_000),
            media("bytes=1114112-2162687", 9_000_000),
        ];
        let persona =
            learn(&RecordedConversation { heading, entries }, Ipv4Addr::new(127, 0, 0, 30));
        assert_eq!((&*persona.name, &*persona.user_agent), ("Box", "Boxy/3"));
        let search = persona.search.clone().unwrap();
        assert_eq!((&*search.target, search.mx, search.times), ("upnp:rootdevice", 3, 2));
        assert_eq!((persona.browse.page, &*persona.browse.filter), (64, "res"));
        assert_eq!(persona.plays, ["video/mp4"]);
        let play = &persona.play;
        assert_eq!((play.first_bytes, play.tail_bytes, play.ask_bytes), (65536, 100_000, 1 << 20));
        // It can be written and read again.
        let text = toml::to_string(&persona).unwrap();
        let again: Persona = toml::from_str(&text).unwrap();
        assert_eq!(toml::to_string(&again).unwrap(), text);
    }

    #[test]
    fn of_a_conversation_without_words_little_is_known() {
        let heading =
            Heading { conversation: EDITION, device: "Box".into(), server: "H".into(), from_ms: 0 };
        let persona =
            learn(&RecordedConversation { heading, entries: vec![] }, Ipv4Addr::LOCALHOST);
        assert!(persona.search.is_none() && persona.plays.is_empty() && !persona.subscribes);
        assert_eq!((persona.browse.page, &*persona.browse.filter), (30, "*"));
    }
}
