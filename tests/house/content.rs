//! The content directory over the wire: views, Search, art, subtitles, playlists.

use mostra_tests::raw::{self, ask, between, browse, call, unescaped};
use mostra_tests::{in_a_house, top, until};

const TV: &str = "127.0.0.66";
const OTHER: &str = "127.0.0.67";

fn search(from: &str, container: &str, criteria: &str, start: u32, count: u32) -> String {
    let criteria = criteria.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;");
    let arguments = format!(
        "<ContainerID>{container}</ContainerID><SearchCriteria>{criteria}</SearchCriteria>\
         <Filter>*</Filter><StartingIndex>{start}</StartingIndex>\
         <RequestedCount>{count}</RequestedCount><SortCriteria></SortCriteria>"
    );
    call(from, "content", "Search", &arguments).text()
}

fn titles(answer: &str) -> Vec<String> {
    let text = unescaped(answer);
    let parts = text.split("<dc:title>").skip(1);
    parts.map(|p| p.split("</dc:title>").next().unwrap().to_owned()).collect()
}

fn number(text: &str, name: &str) -> u32 {
    between(text, &format!("<{name}>"), &format!("</{name}>")).unwrap().parse().unwrap()
}

#[test]
fn a_player_searches_by_class_and_by_words() {
    in_a_house(|house| {
        let _service = house.begin();
        for folder in ["Films", "Sound", "Pictures"] {
            house.publish(folder);
        }
        house.meet(TV);
        assert!(search(TV, "0", "*", 0, 0).contains("<TotalMatches>0<"), "it waits");
        house.admit(TV);
        let audio = "upnp:class derivedfrom \"object.item.audioItem\" and @refID exists false";
        let found = search(TV, "0", audio, 0, 0);
        assert_eq!((number(&found, "NumberReturned"), number(&found, "TotalMatches")), (7, 7));
        assert!(!unescaped(&found).contains("refID"), "originals only");
        // Pages join, in one order.
        let pages: Vec<String> =
            (0..7).flat_map(|n| titles(&search(TV, "0", audio, n, 1))).collect();
        assert_eq!(pages, titles(&found));
        assert_eq!(pages[0], "Bell test");
        // In a menu, its own appearances.
        let found = search(TV, "video", "dc:title contains \"FOG\"", 0, 0);
        assert!(unescaped(&found).contains("refID=\""), "{found}");
        let albums = search(TV, "0", "upnp:class = \"object.container.album.musicAlbum\"", 0, 0);
        assert!(titles(&albums).contains(&"Slack Water".to_owned()));
        for wrong in ["dc:title contains water", "and", "x:mood = \"calm\"", "(dc:title = \"a\""] {
            assert!(search(TV, "0", wrong, 0, 0).contains("<errorCode>708<"), "{wrong}");
        }
        assert!(search(TV, "nowhere", "*", 0, 0).contains("<errorCode>710<"));
        // What a grant hides is not found.
        house.mostra(&["device", "admit", TV, "--kinds", "picture"]);
        assert!(search(TV, "0", audio, 0, 0).contains("<TotalMatches>0<"));
        assert!(search(TV, "music", audio, 0, 0).contains("<errorCode>710<"));
    });
}

#[test]
fn people_find_films_music_and_pictures_by_what_they_know() {
    in_a_house(|house| {
        let _service = house.begin();
        for folder in ["Films", "Sound", "Pictures"] {
            house.publish(folder);
        }
        let list = |way: &[&str]| {
            let mut id = "0".to_owned();
            for title in way {
                let page = house.json(&["catalogue", "list", &id]);
                let objects = page["objects"].as_array().unwrap().clone();
                let next = objects.iter().find(|o| o["title"] == *title);
                id = next.unwrap_or_else(|| panic!("{title} in {page}"))["id"]
                    .as_str()
                    .unwrap()
                    .to_owned();
            }
            let page = house.json(&["catalogue", "list", &id]);
            let objects = page["objects"].as_array().unwrap();
            objects.iter().map(|o| o["title"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
        };
        assert_eq!(list(&["Video", "Series"]), ["Fog signal"]);
        assert_eq!(list(&["Video", "Series", "Fog signal", "Season 1"]).len(), 3);
        assert_eq!(
            list(&["Music", "Artists", "Halyard Choir", "Slack Water"]),
            ["Slack Water", "Ebb", "Flood"]
        );
        assert_eq!(list(&["Pictures", "Albums"]), ["Keepers", "Storm", "Tides"]);
        assert!(list(&["Pictures", "By date taken"]).contains(&"2023".to_owned()));
        assert!(!list(&["Music"]).contains(&"Composers".to_owned()), "empty views are not shown");
        let found = house.mostra(&["catalogue", "search", "storm", "10"]);
        assert!(found.contains("Storm 10") && !found.contains("Storm 1 "), "{found}");
        assert!(
            house.mostra(&["catalogue", "search", "nothing", "such"]).contains("Nothing is found")
        );
        let pictures = house.json(&["catalogue", "list", "0", "--kinds", "picture"]);
        assert_eq!(pictures["total"], 2, "as a grant of pictures would show it");
        // Titles by file names, and back.
        house.mostra(&["house", "titles", "file-names"]);
        until(30, "titles by file names", || {
            (list(&["Music", "Albums", "Slack Water"])[0] == "01 Slack Water").then_some(())
        });
        house.mostra(&["house", "mime", "mp4", "video/x-m4v"]);
        let film = house.json(&["catalogue", "search", "Harbour"])["objects"][0].clone();
        assert_eq!(film["facts"]["mime"], "video/x-m4v");
        assert!(house.mostra_fails(&["house", "mime", "mp4", "film"]).contains("cannot be sent"));
    });
}

#[test]
fn art_and_subtitles_are_for_those_let_in() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.publish("Pictures");
        house.meet(TV);
        house.meet(OTHER);
        house.admit(TV);
        let pictures = unescaped(&browse(TV, "pictures-all").text());
        let at = &pictures[pictures.find("<dc:title>Storm 10</dc:title>").unwrap()..];
        let url =
            between(at, "dlna:profileID=\"JPEG_TN\">http://127.0.0.1:7640", "</upnp:albumArtURI>")
                .unwrap();
        let art = ask(TV, "GET", url, "getcontentFeatures.dlna.org: 1\r\n");
        assert_eq!((art.status, art.field("content-type")), (200, Some("image/jpeg")));
        let features = art.field("contentfeatures.dlna.org").unwrap();
        assert!(features.starts_with("DLNA.ORG_PN=JPEG_TN;") && features.contains("DLNA.ORG_CI=1"));
        let (width, height) = jpeg_size(&art.body);
        assert!(width <= 160 && height == 160, "upright: {width}x{height}");
        // The listing says the size that comes.
        let at = &at[at.find("JPEG_SM").unwrap()..];
        let said = between(at, "resolution=\"", "\"").unwrap().to_owned();
        let small = between(at, "http://127.0.0.1:7640", "<").unwrap();
        let (width, height) = jpeg_size(&ask(TV, "GET", small, "").body);
        assert_eq!(format!("{width}x{height}"), said);
        assert_eq!(ask(OTHER, "GET", url, "").status, 403);
        let films = unescaped(&browse(TV, "video-all").text());
        let at = &films[films.find("<dc:title>Lamp-room tour</dc:title>").unwrap()..];
        let captions = between(at, "http-get:*:text/srt:", "</res>").unwrap();
        let captions = &captions[captions.find("/captions/").unwrap()..];
        let text = ask(TV, "GET", captions, "");
        assert_eq!((text.status, text.field("content-type")), (200, Some("text/srt")));
        assert!(text.text().contains(" --> ") && text.text().contains("\r\n"));
        assert_eq!(ask(OTHER, "GET", captions, "").status, 403);
        // By the film's own name as well, for players that look for nothing else (IOP-38).
        let film = raw::media_path(&browse(TV, "video-all"), "Lamp-room tour");
        let beside = film.replace(".mp4", ".srt");
        assert_eq!(ask(TV, "GET", &beside, "").body, text.body);
        assert_eq!(ask(OTHER, "GET", &beside, "").status, 403);
        // In the other form too, made of the one that is there (CDS-61).
        let webvtt = ask(TV, "GET", &film.replace(".mp4", ".vtt"), "");
        assert_eq!((webvtt.status, webvtt.field("content-type")), (200, Some("text/vtt")));
        assert!(webvtt.text().starts_with("WEBVTT\n"));
        let bare = raw::media_path(&browse(TV, "video-all"), "Harbour at dawn");
        assert_eq!(ask(TV, "GET", &bare.replace(".mp4", ".srt"), "").status, 404);
        // A film's picture is taken from it.
        let url = between(at, "JPEG_TN\">http://127.0.0.1:7640", "<").unwrap();
        assert_eq!(jpeg_size(&ask(TV, "GET", url, "").body).0, 160);
        // Another MIME type is the same in the listing, in the answer and in the list of all.
        let film = raw::media_path(&browse(TV, "video-all"), "Lamp-room tour");
        house.mostra(&["house", "mime", "mp4", "video/x-m4v"]);
        assert!(unescaped(&browse(TV, "video-all").text()).contains("http-get:*:video/x-m4v:DLNA"));
        assert_eq!(ask(TV, "HEAD", &film, "").field("content-type"), Some("video/x-m4v"));
        assert!(call(TV, "connection", "GetProtocolInfo", "").text().contains("video/x-m4v"));
        for wrong in ["/art/x.0.tn.jpg", "/art/x", "/captions/x.9.srt", "/art/..%2f..%2fetc"] {
            assert_eq!(ask(TV, "GET", wrong, "").status, 404, "{wrong}");
        }
        house.mostra(&["device", "refuse", TV]);
        assert_eq!(ask(TV, "GET", url, "").status, 403);
    });
}

#[test]
fn people_read_what_a_container_is() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Sound");
        house.meet(TV);
        house.admit(TV);
        let root = unescaped(&browse(TV, "0").text());
        let containers = root.matches("<container ").count();
        assert_eq!(containers, 2, "Music and Folders; what is empty is not shown: {root}");
        assert_eq!(root.matches(" searchable=\"1\"").count(), containers);
        assert_eq!(root.matches(" restricted=\"1\"").count(), containers);
    });
}

/// Width and height from a baseline frame header.
fn jpeg_size(jpeg: &[u8]) -> (u32, u32) {
    let at = jpeg.windows(2).position(|w| w == [0xff, 0xc0]).expect("a baseline frame");
    let number = |n: usize| u32::from(jpeg[at + n]) << 8 | u32::from(jpeg[at + n + 1]);
    (number(7), number(5))
}

#[test]
fn playlists_are_containers_in_list_order() {
    in_a_house(|house| {
        let _service = house.begin();
        let folder = tempfile::tempdir().unwrap();
        let copied = std::process::Command::new("cp")
            .args(["-r", top().join("demo/media/Sound").to_str().unwrap()])
            .arg(folder.path().join("Sound"))
            .status()
            .unwrap();
        assert!(copied.success());
        let list = "#EXTM3U\r\nSound\\Night log.mp3\r\nSound/Orla Venn/Ropework/01 Bowline.mp3\r\n\
                    Sound/Night log.mp3\r\nnot/there.mp3\r\n/etc/passwd\r\n";
        std::fs::write(folder.path().join("Evening.m3u"), list).unwrap();
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Sandbox"]);
        house.meet(TV);
        house.admit(TV);
        let lists = unescaped(&browse(TV, "playlists").text());
        assert!(lists.contains("object.container.playlistContainer"), "{lists}");
        let id = between(&lists, "<container id=\"", "\"").unwrap().to_owned();
        let listed = browse(TV, &id).text();
        assert_eq!(titles(&listed), ["Night log", "Bowline", "Night log"]);
        let ids: std::collections::BTreeSet<String> = unescaped(&listed)
            .split("<item id=\"")
            .skip(1)
            .map(|p| p.split('"').next().unwrap().to_owned())
            .collect();
        assert_eq!(ids.len(), 3, "each appearance has its own id");
        let film = raw::media_path(&browse(TV, &id), "Night log");
        assert_eq!(ask(TV, "HEAD", &film, "").status, 200);
        let shown = house.mostra(&["folder", "show", "Sandbox"]);
        assert!(shown.contains("2 of its entries are not published"), "{shown}");
        // The list follows what happens to its files.
        std::fs::remove_file(folder.path().join("Sound/Night log.mp3")).unwrap();
        until(30, "the list without it", || {
            (titles(&browse(TV, &id).text()) == ["Bowline"]).then_some(())
        });
    });
}

/// A station: what it sends, and how often it was connected to.
fn station(
    at: &str,
    answer: String,
    sound: Vec<u8>,
) -> std::sync::Arc<std::sync::atomic::AtomicUsize> {
    use std::io::{Read, Write};
    let listener = std::net::TcpListener::bind(at).unwrap();
    let heard = std::sync::Arc::new(std::sync::atomic::AtomicUsize::new(0));
    let count = heard.clone();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { return };
            count.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
            let _ = stream.read(&mut [0; 4096]);
            let _ = stream.write_all(answer.as_bytes());
            let _ = stream.write_all(&sound);
        }
    });
    heard
}

#[test]
fn stations_are_passed_on_from_hosts_that_the_person_allowed() {
    in_a_house(|house| {
        let _service = house.begin();
        let folder = tempfile::tempdir().unwrap();
        let sound = |kind: &str| format!("HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\n\r\n");
        let heard = station("127.0.0.5:8000", sound("audio/mpeg"), vec![0xab; 50_000]);
        station(
            "127.0.0.5:8001",
            "HTTP/1.1 302 Found\r\nLocation: http://127.0.0.1:7641/\r\nContent-Length: 0\r\n\r\n"
                .into(),
            Vec::new(),
        );
        station("127.0.0.5:8002", sound("text/html"), vec![0xab; 50_000]);
        // One that sends titles between the sound though nobody asked for them.
        let titled = [&[0xcd; 1000][..], &[1], &[b'T'; 16]].concat().repeat(20);
        station(
            "127.0.0.5:8003",
            "HTTP/1.1 200 OK\r\nContent-Type: audio/mpeg\r\nicy-metaint: 1000\r\n\r\n".into(),
            titled,
        );
        std::fs::write(
            folder.path().join("harbour.pls"),
            "[playlist]\nFile1=http://127.0.0.5:8000/live\nTitle1=Harbour watch\n\
             File2=http://127.0.0.5:8001/away\nTitle2=Led astray\n\
             File3=http://127.0.0.5:8002/page\nTitle3=No sound\n\
             File4=http://radio.pellworth.example/x\nTitle4=Not allowed\n\
             File5=http://127.0.0.5:8000/live\nTitle5=Harbour watch\n\
             File6=http://127.0.0.5:8003/live\nTitle6=Ferry hour\n",
        )
        .unwrap();
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Radio"]);
        let shown = house.mostra(&["folder", "show", "Radio"]);
        assert!(shown.contains("127.0.0.5, radio.pellworth.example"), "{shown}");
        assert!(
            house.mostra_fails(&["house", "stations", "--allow", "http://x/"]).contains("no host")
        );
        house.mostra(&["house", "stations", "--allow", "127.0.0.5"]);
        until(30, "the stations", || (house.json(&["status"])["items"] == 4).then_some(()));
        let shown = house.mostra(&["folder", "show", "Radio"]);
        assert!(shown.contains("(radio.pellworth.example)"), "{shown}");
        assert!(
            shown.contains("on disk    0 films, 0 tracks, 0 pictures, 1 other file"),
            "{shown}"
        );

        house.meet("127.0.0.9");
        house.admit("127.0.0.9");
        let search = |class: &str| {
            let arguments = format!(
                "<ContainerID>0</ContainerID><SearchCriteria>upnp:class derivedfrom &quot;{class}&quot;</SearchCriteria>\
                 <Filter>*</Filter><StartingIndex>0</StartingIndex><RequestedCount>0</RequestedCount><SortCriteria></SortCriteria>"
            );
            raw::call("127.0.0.9", "content", "Search", &arguments).text()
        };
        let found = search("object.item.audioItem.audioBroadcast");
        assert!(found.contains("<TotalMatches>4<"), "{found}");
        assert!(found.contains("DLNA.ORG_OP=00;DLNA.ORG_CI=0;DLNA.ORG_FLAGS=8D100000"));
        assert!(!found.contains(" size=") && !found.contains("duration="), "{found}");
        assert!(search("object.item.audioItem.musicTrack").contains("<TotalMatches>0<"));
        assert!(search("object.item.audioItem").contains("<TotalMatches>4<"));

        let list = house.json(&["catalogue", "search", "Harbour watch"]);
        let of = |list: &serde_json::Value, title: &str| {
            let all = list["objects"].as_array().unwrap().iter();
            let mut all = all.filter(|o| o["title"] == title);
            all.next().map(|o| o["id"].as_str().unwrap().to_owned())
        };
        let id = of(&list, "Harbour watch").unwrap();
        let path = format!("/media/{id}.mp3");
        let head = raw::ask("127.0.0.9", "HEAD", &path, "");
        assert_eq!((head.status, head.field("accept-ranges")), (200, Some("none")));
        assert_eq!(head.field("content-length"), None);
        assert_eq!(head.field("realtimeinfo.dlna.org"), Some("DLNA.ORG_TLAG=*"));
        for (mode, status) in [("Streaming", 200), ("Background", 406), ("Interactive", 406)] {
            let field = format!("transferMode.dlna.org: {mode}\r\n");
            assert_eq!(raw::ask("127.0.0.9", "HEAD", &path, &field).status, status, "{mode}");
        }
        assert_eq!(heard.load(std::sync::atomic::Ordering::SeqCst), 0, "HEAD connects to nothing");
        let answer =
            raw::ask("127.0.0.9", "GET", &path, "Range: bytes=100-\r\nConnection: close\r\n");
        assert_eq!((answer.status, answer.field("content-type")), (200, Some("audio/mpeg")));
        assert_eq!(answer.field("content-length"), None);
        assert!(answer.body.windows(4).any(|w| w == [0xab; 4]));
        // Somebody who listens and does not read on holds up nobody else (HTTP-41).
        let mut stuck = raw::connect_with("127.0.0.9", mostra_tests::SERVER, Some(4096)).unwrap();
        let request = format!("GET {path} HTTP/1.1\r\nHost: {}\r\n\r\n", mostra_tests::SERVER);
        std::io::Write::write_all(&mut stuck, request.as_bytes()).unwrap();
        assert_eq!(raw::read_answer(&mut stuck, false).unwrap().status, 200);
        let other = raw::ask("127.0.0.9", "GET", &path, "Connection: close\r\n");
        assert_eq!(other.body.len(), answer.body.len(), "all of it");
        // Of unknown length: in chunks, but not to HTTP/1.0 (HTTP-33, HTTP-34).
        assert_eq!(other.field("transfer-encoding"), Some("chunked"));
        let old = format!("GET {path} HTTP/1.0\r\n\r\n");
        let old = raw::exchange("127.0.0.9", mostra_tests::SERVER, &old).unwrap();
        assert_eq!((old.status, old.field("transfer-encoding")), (200, None));
        assert_eq!(old.body, vec![0xab; 50_000]);
        house.mostra(&["device", "traits", "127.0.0.9", "ends-by-close=true"]);
        let odd = raw::ask("127.0.0.9", "GET", &path, "");
        assert_eq!(
            (odd.field("transfer-encoding"), odd.field("connection")),
            (None, Some("close"))
        );
        assert_eq!(odd.body, old.body, "no sizes in between");
        assert_eq!(heard.load(std::sync::atomic::Ordering::SeqCst), 5);
        drop(stuck);
        let ferry = of(&house.json(&["catalogue", "search", "Ferry hour"]), "Ferry hour").unwrap();
        let ferry =
            raw::ask("127.0.0.9", "GET", &format!("/media/{ferry}.mp3"), "Connection: close\r\n");
        assert!(ferry.body.windows(2000).any(|w| w == [0xcd; 2000]), "sound without a gap");
        assert!(!ferry.body.windows(16).any(|w| w == [b'T'; 16]), "no titles in it");
        assert_eq!(ferry.field("icy-metaint"), None);
        for (title, status) in [("Led astray", 404), ("No sound", 503)] {
            let id = of(&house.json(&["catalogue", "search", title]), title).unwrap();
            let answer = raw::ask("127.0.0.9", "GET", &format!("/media/{id}.mp3"), "");
            assert_eq!(answer.status, status, "{title}");
        }

        // The list is there too, and everything stays what it is.
        house.mostra(&["folder", "rescan", "Radio"]);
        let playlists = house.json(&["catalogue", "list", "playlists"]);
        let list = playlists["objects"][0]["id"].as_str().unwrap().to_owned();
        assert_eq!(house.json(&["catalogue", "list", &list])["total"], 5, "one of them twice");
        assert_eq!(house.json(&["status"])["items"], 4);
        assert_eq!(
            of(&house.json(&["catalogue", "search", "Harbour watch"]), "Harbour watch"),
            Some(id)
        );
        house.mostra(&["house", "stations", "--forbid", "127.0.0.5"]);
        until(30, "no station", || (house.json(&["status"])["items"] == 0).then_some(()));
        assert_eq!(raw::ask("127.0.0.9", "GET", &path, "").status, 404);
    });
}
