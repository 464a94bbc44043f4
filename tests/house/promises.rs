//! What a listing promises of each resource, the answer keeps: every `res` of the demo house.

use std::collections::BTreeSet;

use mostra_tests::raw::{self, Answer, ask, browse, unescaped};
use mostra_tests::{House, in_a_house, media};

const PLAYER: &str = "127.0.0.47";
const HOST: &str = "http://127.0.0.1:7640";

/// A `res` as listed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Listed {
    url: String,
    mime: String,
    features: String,
    size: Option<u64>,
}

fn listed(text: &str) -> Vec<Listed> {
    let text = unescaped(text);
    let parts = text.split("<res ").skip(1);
    let read = parts.map(|part| {
        let (attributes, rest) = part.split_once('>').unwrap();
        let url = rest.split("</res>").next().unwrap().replace("&amp;", "&");
        let attribute = |name: &str| {
            let value = attributes.split(&format!("{name}=\"")).nth(1)?;
            Some(value.split('"').next().unwrap().to_owned())
        };
        let info = attribute("protocolInfo").unwrap();
        let mut fields = info.splitn(4, ':').skip(2);
        let (mime, features) = (fields.next().unwrap(), fields.next().unwrap());
        Listed {
            url: url.strip_prefix(HOST).unwrap_or_else(|| panic!("{url}")).to_owned(),
            mime: mime.to_owned(),
            features: features.to_owned(),
            size: attribute("size").map(|size| size.parse().unwrap()),
        }
    });
    read.collect()
}

/// Every `res` that any container shows.
fn all(house: &House) -> BTreeSet<Listed> {
    let mut found = BTreeSet::new();
    let (mut open, mut known) = (vec!["0".to_owned()], BTreeSet::new());
    while let Some(id) = open.pop().filter(|_| known.len() < 500) {
        if !known.insert(id.clone()) {
            continue;
        }
        let text = browse(PLAYER, &id).text();
        found.extend(listed(&text));
        let text = unescaped(&text);
        let containers = text.split("<container id=\"").skip(1);
        open.extend(containers.map(|c| c.split('"').next().unwrap().to_owned()));
    }
    let _ = house;
    found
}

fn get(url: &str, fields: &str) -> Answer {
    ask(PLAYER, "GET", url, fields)
}

fn keeps_its_promise(one: &Listed) {
    let what = format!("{one:?}");
    let whole = get(&one.url, "getcontentFeatures.dlna.org: 1\r\n");
    assert_eq!(whole.status, 200, "{what}");
    assert_eq!(whole.field("content-type"), Some(one.mime.as_str()), "{what} (HTTP-2)");
    assert_eq!(whole.field("contentfeatures.dlna.org"), Some(one.features.as_str()), "{what}");
    let length: u64 = whole.field("content-length").unwrap().parse().unwrap();
    assert_eq!(length, whole.body.len() as u64, "{what}");
    assert!(one.size.is_none_or(|size| size == length), "{what}: {length} (CDS-26)");
    let head = ask(PLAYER, "HEAD", &one.url, "getcontentFeatures.dlna.org: 1\r\n");
    for name in
        ["content-type", "content-length", "contentfeatures.dlna.org", "accept-ranges", "etag"]
    {
        assert_eq!(head.field(name), whole.field(name), "{what}: {name}");
    }
    // Ranges where OP says so (PROF-4, HTTP-10, IOP-11), and only there.
    assert!(one.features.contains("DLNA.ORG_OP=01"), "{what}: every file and what is made of it");
    assert_eq!(whole.field("accept-ranges"), Some("bytes"), "{what}");
    let last = length - 1;
    for (range, first, end) in [
        ("bytes=0-".to_owned(), 0, last),
        ("bytes=0-1".to_owned(), 0, 1),
        (format!("bytes={}-{}", last / 2, last + 1000), last / 2, last),
        ("bytes=-5".to_owned(), last - 4, last),
    ] {
        let part = get(&one.url, &format!("Range: {range}\r\n"));
        assert_eq!(part.status, 206, "{what} {range}");
        assert_eq!(part.field("content-range"), Some(&*format!("bytes {first}-{end}/{length}")));
        assert!(part.body == whole.body[first as usize..=end as usize], "{what} {range}");
    }
    let beyond = get(&one.url, &format!("Range: bytes={length}-\r\n"));
    assert_eq!(beyond.status, 416, "{what}");
    assert_eq!(beyond.field("content-range"), Some(&*format!("bytes */{length}")));
    // Conditions (HTTP-14), which come before ranges.
    let etag = whole.field("etag").unwrap();
    let range = "Range: bytes=0-1\r\n";
    assert_eq!(get(&one.url, &format!("If-None-Match: {etag}\r\n{range}")).status, 304, "{what}");
    assert_eq!(get(&one.url, &format!("If-Match: \"other\"\r\n{range}")).status, 412, "{what}");
    assert_eq!(get(&one.url, &format!("If-Range: {etag}\r\n{range}")).status, 206, "{what}");
    assert_eq!(get(&one.url, &format!("If-Range: \"other\"\r\n{range}")).status, 200, "{what}");
    let later = "If-Unmodified-Since: Thu, 01 Jan 2099 00:00:00 GMT\r\n";
    assert_eq!(get(&one.url, later).status, 200, "{what}");
    if let Some(date) = whole.field("last-modified") {
        assert_eq!(get(&one.url, &format!("If-Modified-Since: {date}\r\n")).status, 304, "{what}");
        let early = "Thu, 01 Jan 1998 00:00:00 GMT";
        assert_eq!(get(&one.url, &format!("If-Modified-Since: {early}\r\n")).status, 200);
        assert_eq!(get(&one.url, &format!("If-Unmodified-Since: {early}\r\n")).status, 412);
        let later = "If-Modified-Since: Thu, 01 Jan 2099 00:00:00 GMT\r\n";
        assert_eq!(get(&one.url, later).status, 304, "{what}");
        assert_eq!(get(&one.url, "If-Modified-Since: lately\r\n").status, 200);
    }
    // Transfer modes by the flags (HTTP-18), time and speed not at all (HTTP-22, HTTP-24).
    let flags = one.features.split("DLNA.ORG_FLAGS=").nth(1).unwrap();
    let flags = u32::from_str_radix(&flags[..8], 16).unwrap();
    let modes = [("Streaming", 1 << 24), ("Interactive", 1 << 23), ("Background", 1 << 22)];
    for (mode, bit) in modes {
        let answer = ask(PLAYER, "HEAD", &one.url, &format!("transferMode.dlna.org: {mode}\r\n"));
        let expected = if flags & bit != 0 { 200 } else { 406 };
        assert_eq!(answer.status, expected, "{what} {mode}");
        if expected == 200 {
            assert_eq!(answer.field("transfermode.dlna.org"), Some(mode), "{what}");
        }
    }
    for (field, status) in [
        ("transferMode.dlna.org: Sideways", 400),
        ("getcontentFeatures.dlna.org: 2", 400),
        ("TimeSeekRange.dlna.org: npt=1-", 406),
        ("TimeSeekRange.dlna.org: soon", 400),
        ("PlaySpeed.dlna.org: speed=2", 406),
        ("PlaySpeed.dlna.org: speed=1", 200),
    ] {
        let answer = ask(PLAYER, "HEAD", &one.url, &format!("{field}\r\n"));
        assert_eq!(answer.status, status, "{what} {field}");
    }
}

#[test]
fn every_resource_of_the_demo_house_is_answered_as_it_is_listed() {
    in_a_house(|house| {
        let _service = house.begin();
        for folder in ["Films", "Sound", "Pictures"] {
            house.publish(folder);
        }
        house.meet(PLAYER);
        house.admit(PLAYER);
        let all = all(&house);
        let kinds: BTreeSet<&str> = all.iter().map(|one| one.mime.as_str()).collect();
        for kind in [
            "video/mp4",
            "audio/mpeg",
            "audio/flac",
            "audio/wav",
            "image/jpeg",
            "image/png",
            "text/srt",
        ] {
            assert!(kinds.contains(kind), "{kind} of {kinds:?}");
        }
        // Smaller forms of pictures and subtitles among them.
        assert!(all.iter().any(|one| one.url.starts_with("/art/")), "{all:?}");
        assert!(all.iter().any(|one| one.url.starts_with("/captions/")), "{all:?}");
        assert!(all.len() > 40, "{}", all.len());
        for one in &all {
            keeps_its_promise(one);
        }
    });
}

#[test]
fn the_size_listed_is_that_of_the_file_as_it_is_now() {
    in_a_house(|house| {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("log.mp3");
        std::fs::copy(media("Sound/Night log.mp3"), &path).unwrap();
        let _service = house.begin();
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Sandbox"]);
        house.meet(PLAYER);
        house.admit(PLAYER);
        let size = || listed(&browse(PLAYER, "music-all").text())[0].size.unwrap();
        let before = size();
        assert_eq!(before, std::fs::metadata(&path).unwrap().len());
        let mut bytes = std::fs::read(&path).unwrap();
        bytes.extend_from_within(2000..);
        std::fs::write(&path, &bytes).unwrap();
        mostra_tests::until(20, "the new size", || (size() == bytes.len() as u64).then_some(()));
        let now = &listed(&browse(PLAYER, "music-all").text())[0];
        assert_eq!(get(&now.url, "").field("content-length"), Some(&*bytes.len().to_string()));
    });
}

#[test]
fn a_station_is_sent_as_the_type_that_is_listed() {
    in_a_house(|house| {
        let _service = house.begin();
        let listener = std::net::TcpListener::bind("127.0.0.5:8000").unwrap();
        std::thread::spawn(move || {
            use std::io::{Read as _, Write as _};
            for mut stream in listener.incoming().flatten() {
                let _ = stream.read(&mut [0; 4096]);
                let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Type: audio/aac\r\n\r\n");
                let _ = stream.write_all(&[0xab; 10_000]);
            }
        });
        let folder = tempfile::tempdir().unwrap();
        let list = "[playlist]\nFile1=http://127.0.0.5:8000/live.aac\nTitle1=Harbour watch\n";
        std::fs::write(folder.path().join("harbour.pls"), list).unwrap();
        house.mostra(&["house", "stations", "--allow", "127.0.0.5"]);
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Radio"]);
        house.meet(PLAYER);
        house.admit(PLAYER);
        let one = || listed(&browse(PLAYER, "music-all").text()).remove(0);
        let agree = |expected: &str| {
            let one = one();
            assert_eq!(one.mime, expected);
            let fields = "getcontentFeatures.dlna.org: 1\r\nConnection: close\r\n";
            for method in ["HEAD", "GET"] {
                let answer = ask(PLAYER, method, &one.url, fields);
                assert_eq!(answer.status, 200);
                assert_eq!(answer.field("content-type"), Some(expected), "{method}");
                assert_eq!(answer.field("contentfeatures.dlna.org"), Some(&*one.features));
                assert_eq!(answer.field("accept-ranges"), Some("none"));
            }
        };
        agree("audio/vnd.dlna.adts");
        house.mostra(&[
            "device",
            "traits",
            PLAYER,
            "mimes={\"audio/vnd.dlna.adts\":\"audio/aac\"}",
        ]);
        agree("audio/aac");
    });
}

#[test]
fn the_consoles_own_files_are_kept_by_browsers() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        let film = house.items()["Harbour at dawn"].clone();
        let token = std::fs::read_to_string(house.data.path().join("token")).unwrap();
        let ask = |fields: &str| {
            let request = format!(
                "GET /api/v1/catalogue/{film}/file HTTP/1.1\r\nHost: 127.0.0.1:7641\r\n\
                 Authorization: Bearer {}\r\n{fields}\r\n",
                token.trim()
            );
            raw::exchange("127.0.0.1", "127.0.0.1:7641", &request).unwrap()
        };
        let whole = ask("");
        assert_eq!(whole.status, 200);
        let etag = whole.field("etag").unwrap();
        let same = ask(&format!("If-None-Match: {etag}\r\n"));
        assert_eq!((same.status, same.body.len()), (304, 0));
        assert_eq!(ask("If-None-Match: \"other\"\r\n").status, 200);
        let date = whole.field("last-modified").unwrap();
        assert_eq!(ask(&format!("If-Modified-Since: {date}\r\n")).status, 304);
        assert_eq!(ask("Range: bytes=5-9\r\n").body, whole.body[5..10]);
    });
}

#[test]
fn an_untouched_container_keeps_its_update_id() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.meet(PLAYER);
        house.admit(PLAYER);
        let id_of = |container: &str| -> u32 {
            let text = browse(PLAYER, container).text();
            raw::between(&text, "<UpdateID>", "</UpdateID>").unwrap().parse().unwrap()
        };
        let system = || -> u32 {
            let text = raw::call(PLAYER, "content", "GetSystemUpdateID", "").text();
            raw::between(&text, "<Id>", "</Id>").unwrap().parse().unwrap()
        };
        let (films, before) = (id_of("video-all"), system());
        house.publish("Sound");
        assert!(system() > before, "the whole has changed (CDS-45)");
        assert_eq!(id_of("video-all"), films, "this part has not (CDS-46, CDS-47)");
        assert_ne!(id_of("video-all"), system());
        assert_eq!(id_of("0"), system(), "the root's is that of the whole (CDS-47)");
        assert!(id_of("music-all") > films);
    });
}
