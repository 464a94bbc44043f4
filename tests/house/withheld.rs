//! Whoever is refused, limited or waits gets nothing of what it may not see, whatever it asks in
//! whatever order.

use std::collections::BTreeSet;

use mostra_tests::raw::{self, Answer, between, call, unescaped};
use mostra_tests::{House, SERVER, in_a_house};
use serde_json::Value;

const KNOWS: &str = "127.0.0.41";
const LIMITED: &str = "127.0.0.42";
const REFUSED: &str = "127.0.0.43";
const WAITING: &str = "127.0.0.44";
/// Requests of each device.
const REQUESTS: usize = 150;

/// What there is to ask for: ids and paths that one who sees all has learnt.
#[derive(Default)]
struct Learnt {
    ids: BTreeSet<String>,
    paths: BTreeSet<String>,
}

/// Walks all menus as somebody who sees everything.
fn learn(from: &str) -> Learnt {
    let mut learnt = Learnt::default();
    let mut open = vec!["0".to_owned()];
    while let Some(id) = open.pop() {
        let text = unescaped(&raw::browse(from, &id).text());
        for piece in text.split("<container ").skip(1) {
            let child = between(piece, "id=\"", "\"").unwrap().to_owned();
            if learnt.ids.insert(child.clone()) {
                open.push(child);
            }
        }
        for piece in text.split("<item ").skip(1) {
            learnt.ids.insert(between(piece, "id=\"", "\"").unwrap().to_owned());
        }
        let media = format!("http://{SERVER}");
        for piece in text.split(&media).skip(1) {
            let end = piece.find(['<', '"']).unwrap();
            learnt.paths.insert(piece[..end].to_owned());
        }
    }
    learnt
}

/// A number from a seed.
fn next(seed: &mut u64, below: usize) -> usize {
    *seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
    usize::try_from(*seed >> 33).unwrap() % below
}

/// Asks for something, as chance has it; gives what was asked and the answer.
fn ask(from: &str, learnt: &Learnt, seed: &mut u64) -> (String, Answer) {
    let ids: Vec<&String> = learnt.ids.iter().collect();
    let paths: Vec<&String> = learnt.paths.iter().collect();
    let id = ids[next(seed, ids.len())];
    let list = |flag: &str, id: &str| {
        let arguments = format!(
            "<ObjectID>{id}</ObjectID><BrowseFlag>{flag}</BrowseFlag><Filter>*</Filter>\
             <StartingIndex>0</StartingIndex><RequestedCount>0</RequestedCount>\
             <SortCriteria></SortCriteria>"
        );
        call(from, "content", "Browse", &arguments)
    };
    match next(seed, 6) {
        0 => (format!("children of {id}"), list("BrowseDirectChildren", id)),
        1 => (format!("metadata of {id}"), list("BrowseMetadata", id)),
        2 => ("the root".to_owned(), list("BrowseDirectChildren", "0")),
        3 => {
            let criteria = [
                "*",
                "dc:title contains &quot;a&quot;",
                "upnp:class derivedfrom &quot;object.item.videoItem&quot;",
            ];
            let criteria = criteria[next(seed, criteria.len())];
            let place = if next(seed, 2) == 0 { "0" } else { id };
            let arguments = format!(
                "<ContainerID>{place}</ContainerID><SearchCriteria>{criteria}</SearchCriteria>\
                 <Filter>*</Filter><StartingIndex>0</StartingIndex>\
                 <RequestedCount>0</RequestedCount><SortCriteria></SortCriteria>"
            );
            (
                format!("search in {place} for {criteria}"),
                call(from, "content", "Search", &arguments),
            )
        }
        4 => {
            let path = paths[next(seed, paths.len())];
            (format!("GET {path}"), raw::ask(from, "GET", path, "Range: bytes=0-99\r\n"))
        }
        _ => {
            let path = paths[next(seed, paths.len())];
            (format!("HEAD {path}"), raw::ask(from, "HEAD", path, ""))
        }
    }
}

/// The titles of a kind's items, as a person sees them.
fn titles(house: &House, menu: &str) -> Vec<String> {
    let page = house.json(&["catalogue", "list", menu]);
    let objects: Vec<Value> = page["objects"].as_array().cloned().unwrap_or_default();
    objects.iter().map(|o| o["title"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn no_request_in_any_order_gives_what_a_device_may_not_see() {
    in_a_house(|house| {
        let _service = house.begin();
        for name in ["Films", "Sound", "Pictures"] {
            house.publish(name);
        }
        for address in [KNOWS, LIMITED, REFUSED, WAITING] {
            house.meet(address);
        }
        for address in [KNOWS, LIMITED, REFUSED] {
            house.admit(address);
        }
        let learnt = learn(KNOWS);
        assert!(learnt.ids.len() > 30 && learnt.paths.len() > 20, "there is something to ask for");
        let films = titles(&house, "video-all");
        let music = titles(&house, "music-all");
        let pictures = titles(&house, "pictures-all");
        assert!(films.len() > 3 && music.len() > 3 && pictures.len() > 3);
        // What the limited one may fetch is told by what it is shown.
        house.mostra(&["device", "admit", LIMITED, "--kinds", "pictures"]);
        house.mostra(&["device", "refuse", REFUSED]);
        let allowed = learn(LIMITED);
        assert!(!allowed.paths.is_empty() && allowed.paths.is_subset(&learnt.paths));
        let hidden: Vec<&String> = films.iter().chain(&music).collect();
        let everything: Vec<&String> = hidden.iter().copied().chain(&pictures).collect();
        let cases = [(LIMITED, &hidden), (REFUSED, &everything), (WAITING, &everything)];
        for (address, withheld) in cases {
            let (mut seed, mut given) = (7, 0);
            for _ in 0..REQUESTS {
                let (asked, answer) = ask(address, &learnt, &mut seed);
                let text = unescaped(&answer.text());
                if let Some((_, path)) = asked.split_once(" /") {
                    let may = address == LIMITED && allowed.paths.contains(&format!("/{path}"));
                    let got = matches!(answer.status, 200 | 206);
                    assert_eq!(got, may, "{address}: {asked} is answered {}", answer.status);
                    assert!(may || answer.body.is_empty(), "{address}: {asked} gave bytes");
                    given += usize::from(got);
                    continue;
                }
                for title in withheld {
                    let shown = format!("<dc:title>{title}</dc:title>");
                    assert!(!text.contains(&shown), "{address}: {asked} tells of {title}");
                }
                if address != LIMITED {
                    assert!(!text.contains("<res "), "{address}: {asked} offers something");
                }
                for path in learnt.paths.difference(&allowed.paths) {
                    assert!(!text.contains(path.as_str()), "{address}: {asked} tells of {path}");
                }
            }
            assert_eq!(given > 0, address == LIMITED, "{address} got {given}");
        }
    });
}
