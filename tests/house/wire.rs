//! The device listener on the wire, from raw sockets.

use mostra_tests::raw::{self, ask, between, browse, call, media_path};
use mostra_tests::{House, SERVER, in_a_house, in_a_house_timed, top, until};
use std::io::Write;

const TV: &str = "127.0.0.51";

fn ready(house: &House) {
    for folder in ["Films", "Sound", "Pictures"] {
        house.publish(folder);
    }
    ask(TV, "GET", "/about/device.xml", "");
    ask(TV, "GET", "/media/none", "");
    until(30, "the device", || house.device(TV));
    house.admit(TV);
}

#[test]
fn description_icons_and_service_documents() {
    in_a_house(|house| {
        let _service = house.begin();
        house.mostra(&["house", "name", "Salt & <Rope>"]);
        let device = ask(TV, "GET", "/about/device.xml", "");
        assert_eq!(device.field("content-type"), Some("text/xml; charset=\"utf-8\""));
        assert!(
            device.head.contains("Content-Length: ") && device.head.contains("Server: Linux/"),
            "{}",
            device.head
        );
        let text = device.text();
        assert!(text.starts_with("<?xml version=\"1.0\" encoding=\"utf-8\"?>"));
        assert!(text.contains("<friendlyName>Salt &amp; &lt;Rope&gt;</friendlyName>"));
        assert!(text.contains(">DMS-1.50</dlna:X_DLNADOC>") && !text.contains("URLBase"));
        let head = ask(TV, "HEAD", "/about/device.xml", "");
        assert_eq!(
            (head.status, head.field("content-length")),
            (200, device.field("content-length"))
        );
        // Every URL in it answers.
        for (from, to) in [("<SCPDURL>", "</SCPDURL>"), ("<url>", "</url>")] {
            let mut rest = text.as_str();
            while let Some(path) = between(rest, from, to) {
                let answer = ask(TV, "GET", path, "getcontentFeatures.dlna.org: 1\r\n");
                assert_eq!(answer.status, 200, "{path}");
                rest = &rest[rest.find(path).unwrap() + path.len()..];
                match path.rsplit('.').next() {
                    Some("png") => assert_eq!(&answer.body[..8], b"\x89PNG\r\n\x1a\n"),
                    Some("jpg") => assert_eq!(&answer.body[..3], b"\xff\xd8\xff"),
                    _ => assert!(
                        answer.text().contains("<scpd xmlns=\"urn:schemas-upnp-org:service-1-0\">")
                    ),
                }
            }
        }
        // Old players: HTTP/1.0, no Host, a query behind the path.
        let old = raw::exchange(TV, SERVER, "GET /about/device.xml?x=1 HTTP/1.0\r\n\r\n").unwrap();
        assert_eq!((old.status, old.body), (200, device.body));
        assert_eq!(ask(TV, "DELETE", "/about/device.xml", "").field("allow"), Some("GET, HEAD"));
    });
}

/// What stands between two tags, each time.
fn each<'a>(text: &'a str, tag: &str) -> Vec<&'a str> {
    let (open, close) = (format!("<{tag}>"), format!("</{tag}>"));
    text.split(&open).skip(1).map(|part| part.split(&close).next().unwrap()).collect()
}

#[test]
fn every_listed_action_answers_and_others_are_401() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.meet(TV);
        house.admit(TV);
        let given = |name: &str| match name {
            "ObjectID" | "ContainerID" | "StartingIndex" | "ConnectionID" => "0",
            "BrowseFlag" => "BrowseDirectChildren",
            "SearchCriteria" | "Filter" => "*",
            "RequestedCount" => "2",
            "DeviceID" | "RegistrationReqMsg" | "SortCriteria" => "",
            other => panic!("{other}"),
        };
        let mut count = 0;
        for service in ["content", "connection", "registrar"] {
            let document = ask(TV, "GET", &format!("/about/{service}.xml"), "").text();
            for action in each(&document, "action") {
                let name = each(action, "name")[0];
                let (mut sent, mut expected) = (String::new(), Vec::new());
                for argument in each(action, "argument") {
                    let name = each(argument, "name")[0];
                    match each(argument, "direction")[0] {
                        "in" => sent += &format!("<{name}>{}</{name}>", given(name)),
                        _ => expected.push(name),
                    }
                }
                let answer = call(TV, service, name, &sent);
                let text = answer.text();
                assert_eq!(answer.status, 200, "{service} {name}: {text}");
                let inside = text.split(&format!("{name}Response")).nth(1).unwrap();
                let inside = inside.split_once('>').unwrap().1;
                let tags = inside.split('<').skip(1).filter(|tag| !tag.starts_with('/'));
                let told: Vec<&str> =
                    tags.map(|tag| tag.split([' ', '>', '/']).next().unwrap()).collect();
                assert_eq!(told, expected, "{service} {name} (DESC-15, SOAP-8)");
                count += 1;
            }
            // Nothing can be changed (SEC-20), nor is anything else there.
            for other in [
                "CreateObject",
                "DestroyObject",
                "UpdateObject",
                "ImportResource",
                "ExportResource",
                "DeleteResource",
                "CreateReference",
                "PrepareForConnection",
                "ConnectionComplete",
                "X_Vendor",
            ] {
                assert!(!document.contains(other), "{service} {other}");
                let answer = call(TV, service, other, "<ObjectID>0</ObjectID>");
                assert_eq!(answer.status, 500);
                assert!(answer.text().contains("<errorCode>401</errorCode>"), "{service} {other}");
            }
        }
        assert!(count >= 10, "{count}");
        let info = call(TV, "connection", "GetProtocolInfo", "").text();
        assert!(info.contains("http-get:*:video/mp4:") && info.contains("<Sink></Sink>"));
        assert!(
            call(TV, "connection", "GetCurrentConnectionInfo", "<ConnectionID>7</ConnectionID>")
                .text()
                .contains("706")
        );
    });
}

#[test]
fn browse_pages_sorts_and_refuses_as_the_standard_says() {
    in_a_house(|house| {
        let _service = house.begin();
        ready(&house);
        let page = |id: &str, flag: &str, start: &str, count: &str, sort: &str| {
            call(TV, "content", "Browse", &format!(
                "<ObjectID>{id}</ObjectID><BrowseFlag>{flag}</BrowseFlag><Filter>dc:title</Filter>\
                 <StartingIndex>{start}</StartingIndex><RequestedCount>{count}</RequestedCount><SortCriteria>{sort}</SortCriteria>"
            )).text()
        };
        let number = |text: &str, name: &str| -> u32 {
            between(text, &format!("<{name}>"), &format!("</{name}>"))
                .unwrap_or_else(|| panic!("{text}"))
                .parse()
                .unwrap()
        };
        let children = "BrowseDirectChildren";
        let mut titles = Vec::new();
        for start in 0..10 {
            let text = page("pictures-all", children, &start.to_string(), "1", "+dc:title");
            assert_eq!((number(&text, "NumberReturned"), number(&text, "TotalMatches")), (1, 10));
            titles.push(between(&text, "&lt;dc:title&gt;", "&lt;").unwrap().to_owned());
        }
        let storms: Vec<_> = titles.iter().filter(|t| t.starts_with("Storm")).collect();
        assert_eq!(storms, ["Storm 1", "Storm 2", "Storm 10"], "numbers by value");
        let beyond = page("pictures-all", children, "50", "5", "");
        assert_eq!((number(&beyond, "NumberReturned"), number(&beyond, "TotalMatches")), (0, 10));
        assert_eq!(
            number(&page("pictures-all", children, "0", "4294967295", ""), "NumberReturned"),
            10
        );
        // What has no date comes first in falling order.
        let newest = page("pictures-all", children, "0", "1", "-dc:date");
        assert!(newest.contains("Tide table"), "{newest}");
        let newest = page("pictures-all", children, "1", "1", "-dc:date");
        assert!(newest.contains("The boat crew"), "{newest}");
        assert!(page("pictures-all", children, "0", "0", "+dc:mood").contains("<errorCode>709<"));
        assert!(page("nowhere", children, "0", "0", "").contains("<errorCode>701<"));
        assert!(page("0", "BrowseAll", "0", "0", "").contains("<errorCode>402<"));
        assert!(page("0", children, "x", "0", "").contains("<errorCode>402<"));
        let root = page("0", "BrowseMetadata", "0", "0", "");
        assert!(root.contains("parentID=&quot;-1&quot;") && number(&root, "TotalMatches") == 1);
        let capabilities = call(TV, "content", "GetSortCapabilities", "").text();
        for name in ["dc:title", "dc:date", "upnp:originalTrackNumber", "res@size"] {
            assert!(capabilities.contains(name), "{name} in {capabilities}");
            let sorted = page("pictures-all", children, "0", "1", &format!("+{name}"));
            assert_eq!(number(&sorted, "NumberReturned"), 1, "{name}");
        }
        let capabilities = call(TV, "content", "GetSearchCapabilities", "").text();
        assert!(capabilities.contains("<SearchCaps>@id,@parentID,@refID,dc:title,"));
    });
}

#[test]
fn hostile_control_requests_get_clean_answers() {
    in_a_house(|house| {
        let _service = house.begin();
        let post = |body: &str, fields: &str| {
            let request = format!(
                "POST /control/content HTTP/1.1\r\nHost: {SERVER}\r\n{fields}Content-Length: {}\r\n\r\n{body}",
                body.len()
            );
            raw::exchange(TV, SERVER, &request).unwrap().status
        };
        assert_eq!(post("<a><b></a>", ""), 400);
        assert_eq!(post("<!DOCTYPE a [<!ENTITY b 'c'>]><a>&b;</a>", ""), 400);
        assert_eq!(post(&"<a>".repeat(5000), ""), 400);
        assert_eq!(post(&" ".repeat(300 << 10), ""), 413);
        assert_eq!(post("<a/>", "Content-Type: text/xml; charset=ebcdic-fr\r\n"), 415);
        assert_eq!(post("<a/>", "Origin: http://evil.example\r\n"), 403);
        assert_eq!(ask(TV, "GET", "/control/content", "").status, 405);
        let rebound = raw::exchange(
            TV,
            SERVER,
            "GET /about/device.xml HTTP/1.1\r\nHost: evil.example\r\n\r\n",
        )
        .unwrap();
        assert_eq!(rebound.status, 421);
        // By whoever is let in, so that it is not for that that nothing comes (SEC-13).
        house.publish("Films");
        house.meet(TV);
        house.admit(TV);
        let film = raw::media_path(&browse(TV, "video-all"), "Harbour at dawn");
        assert_eq!(ask(TV, "HEAD", &film, "").status, 200, "what is published comes");
        let id = film.trim_start_matches("/media/").trim_end_matches(".mp4");
        for path in [
            "/media/../../etc/passwd".to_owned(),
            "/media/../../../../../../../../etc/passwd".to_owned(),
            "/media/%2e%2e%2f%2e%2e%2fetc%2fpasswd".to_owned(),
            "/media/..%00.mp4".to_owned(),
            format!("{film}/../../../../etc/passwd"),
            format!("/media/{id}%2f..%2f..%2fetc%2fpasswd"),
            format!("/art/{id}.0.tn.jpg/../../etc/passwd"),
            format!("/captions/{id}.0.srt%2f..%2f..%2fetc%2fpasswd"),
            format!("/captions/{id}.99999999999999999999.srt"),
            "/about/../../etc/passwd".to_owned(),
            "/nowhere".to_owned(),
            "/media/".to_owned(),
        ] {
            let answer = ask(TV, "GET", &path, "");
            assert!(matches!(answer.status, 400 | 404), "{path}: {}", answer.status);
            assert!(answer.body.is_empty(), "{path}: {}", answer.text());
        }
        // The service is alive and well after all that.
        assert_eq!(ask(TV, "GET", "/about/device.xml", "").status, 200);
    });
}

#[test]
fn ranges_conditions_and_dlna_fields() {
    in_a_house(|house| {
        let _service = house.begin();
        ready(&house);
        let path = media_path(&browse(TV, "video-all"), "Harbour at dawn");
        let file = std::fs::read(top().join("demo/media/Films/Harbour at dawn.mp4")).unwrap();
        let size = file.len();
        let whole = ask(TV, "GET", &path, "");
        assert_eq!((whole.status, whole.body == file), (200, true));
        assert_eq!(whole.field("content-type"), Some("video/mp4"));
        assert_eq!(whole.field("accept-ranges"), Some("bytes"));
        assert_eq!(whole.field("transfermode.dlna.org"), Some("Streaming"));
        let etag = whole.field("etag").unwrap().to_owned();
        let modified = whole.field("last-modified").unwrap().to_owned();

        for (range, first, last) in [
            ("bytes=0-", 0, size - 1),
            ("bytes=0-1", 0, 1),
            ("bytes=1000-1999", 1000, 1999),
            ("bytes=-500", size - 500, size - 1),
            ("bytes=5-99999999999", 5, size - 1),
        ] {
            let part = ask(TV, "GET", &path, &format!("Range: {range}\r\n"));
            assert_eq!(part.status, 206, "{range}");
            assert_eq!(
                part.field("content-range"),
                Some(format!("bytes {first}-{last}/{size}").as_str())
            );
            assert!(part.body == file[first..=last], "{range}");
        }
        let outside = ask(TV, "GET", &path, &format!("Range: bytes={size}-\r\n"));
        assert_eq!(
            (outside.status, outside.field("content-range")),
            (416, Some(format!("bytes */{size}").as_str()))
        );
        assert_eq!(ask(TV, "GET", &path, "Range: lines=1-2\r\n").status, 200);

        let head = ask(TV, "HEAD", &path, "getcontentFeatures.dlna.org: 1\r\n");
        assert_eq!(
            (head.status, head.field("content-length")),
            (200, Some(size.to_string().as_str()))
        );
        let features = head.field("contentfeatures.dlna.org").unwrap();
        assert!(
            features
                .starts_with("DLNA.ORG_PN=AVC_MP4_MP_SD_AAC_MULT5;DLNA.ORG_OP=01;DLNA.ORG_CI=0;"),
            "{features}"
        );
        assert!(browse(TV, "video-all").text().contains(features), "the same as in the listing");

        let status = |fields: &str| ask(TV, "GET", &path, fields).status;
        assert_eq!(status(&format!("If-None-Match: {etag}\r\n")), 304);
        assert_eq!(status(&format!("If-Modified-Since: {modified}\r\n")), 304);
        assert_eq!(status("If-Match: \"other\"\r\n"), 412);
        assert_eq!(status(&format!("If-Range: {etag}\r\nRange: bytes=0-9\r\n")), 206);
        assert_eq!(status("If-Range: \"other\"\r\nRange: bytes=0-9\r\n"), 200);
        assert_eq!(status("transferMode.dlna.org: Interactive\r\n"), 406);
        assert_eq!(status("transferMode.dlna.org: Sideways\r\n"), 400);
        assert_eq!(status("getcontentFeatures.dlna.org: 0\r\n"), 400);
        assert_eq!(status("TimeSeekRange.dlna.org: npt=10-\r\n"), 406);
        assert_eq!(status("TimeSeekRange.dlna.org: npt=20-10\r\n"), 400);
        assert_eq!(status("TimeSeekRange.dlna.org: soon\r\n"), 400);
        assert_eq!(status("PlaySpeed.dlna.org: speed=2\r\n"), 406);
        assert_eq!(
            ask(TV, "POST", &path, "Content-Length: 0\r\n").field("allow"),
            Some("GET, HEAD")
        );

        // Pipelined requests are answered in order on one connection.
        let mut stream = raw::connect(TV, SERVER).unwrap();
        for range in ["0-3", "4-7", "8-11"] {
            write!(stream, "GET {path} HTTP/1.1\r\nHost: {SERVER}\r\nRange: bytes={range}\r\n\r\n")
                .unwrap();
        }
        let mut joined = Vec::new();
        for _ in 0..3 {
            joined.extend(raw::read_answer(&mut stream, true).unwrap().body);
        }
        assert_eq!(joined, file[..12]);
    });
}

#[test]
fn search_answers_and_byebye_on_the_wire() {
    in_a_house_timed(|house| {
        let mut service = house.begin();
        let ear = raw::ear();

        let (answer, from) = raw::search(TV, 5).expect("an answer within MX");
        assert_eq!(from, "127.0.0.1:1900");
        assert!(
            answer.starts_with("HTTP/1.1 200 OK\r\n")
                && answer.contains(&format!("LOCATION: http://{SERVER}/about/device.xml\r\n"))
        );
        house.meet(TV);
        house.await_step(TV, "seen");

        service.ask_to_stop();
        let mut buffer = [0; 2048];
        let mut byebye = 0;
        let mut first = None;
        while byebye < 12 {
            let (length, _) = ear.recv_from(&mut buffer).expect("byebye");
            let leaving = String::from_utf8_lossy(&buffer[..length]).contains("NTS: ssdp:byebye");
            byebye += usize::from(leaving);
            if leaving && first.is_none() {
                first = Some(std::time::Instant::now());
                // Whoever comes while it is being said is still answered (SSDP-22).
                assert_eq!(ask(TV, "GET", "/about/device.xml", "").status, 200);
            }
        }
        assert!(first.unwrap().elapsed() < std::time::Duration::from_secs(1), "{first:?}");
        assert!(service.stop(), "a clean stop");
        assert!(raw::connect(TV, SERVER).is_err(), "the listener is closed");
    });
}

#[test]
fn a_refused_device_gets_no_search_answers() {
    in_a_house(|house| {
        let _service = house.begin();
        assert!(raw::search(TV, 5).is_some());
        house.meet(TV);
        house.await_step(TV, "seen");
        house.mostra(&["device", "refuse", TV]);
        assert!(raw::search(TV, 2).is_none(), "MX is 1");
        assert!(raw::search("127.0.0.52", 5).is_some(), "others do");
    });
}
