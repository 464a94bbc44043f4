//! Description, control and eventing to the letter (requirements 3, 4.1, 7, 8.1), from raw
//! sockets.

use std::io::Write;
use std::time::{Duration, Instant};

use mostra_tests::raw::{self, ask, between, browse, call, unescaped};
use mostra_tests::subscriber::Subscriber;
use mostra_tests::{SERVER, in_a_house, in_a_house_timed, until};

const TV: &str = "127.0.0.81";
const OTHER: &str = "127.0.0.82";
const CONTENT: &str = "urn:schemas-upnp-org:service:ContentDirectory:1";

/// The names of a document's elements in the order in which they begin.
fn elements(text: &str) -> Vec<String> {
    let begins = text.split('<').skip(1).filter(|t| !t.starts_with(['/', '?']));
    begins.map(|t| t.split([' ', '>', '/']).next().unwrap_or_default().to_owned()).collect()
}

#[test]
fn the_description_is_as_the_standard_has_it_and_the_same_for_all() {
    in_a_house_timed(|house| {
        let mut service = house.begin();
        let path = "/about/device.xml";
        let first = ask(TV, "GET", path, "");
        let text = first.text();
        let udn = between(&text, "<UDN>", "</UDN>").unwrap().to_owned();
        assert!(udn.starts_with("uuid:") && udn.len() == 41, "{udn}");
        assert!(text.starts_with("<?xml version=\"1.0\" encoding=\"utf-8\"?>"));
        assert!(text.contains("<specVersion><major>1</major><minor>0</minor></specVersion>"));
        assert!(text.len() < 20 << 10);
        let order = [
            "root",
            "specVersion",
            "device",
            "deviceType",
            "friendlyName",
            "manufacturer",
            "modelDescription",
            "modelName",
            "modelNumber",
            "UDN",
            "iconList",
            "serviceList",
            "presentationURL",
        ];
        let names = elements(&text);
        let places: Vec<usize> =
            order.iter().map(|n| names.iter().position(|e| e == n).expect(n)).collect();
        assert!(places.is_sorted(), "{names:?}");
        // No element is there that has nothing in it (DESC-8).
        let tags: Vec<&str> = text.split('<').collect();
        assert!(tags.len() > 40, "{text}");
        for pair in tags.windows(2) {
            let opens = pair[0].ends_with('>') && !pair[0].starts_with('/');
            assert!(!opens || !pair[1].starts_with('/'), "nothing is empty: {pair:?}");
        }
        // The same bytes for everybody, whatever they say.
        let same = ask(OTHER, "GET", path, "User-Agent: ExamplePlayer/9\r\nX-AV: 1\r\n");
        assert_eq!(first.body, same.body);
        // GET and HEAD of every document; one type of content, a true length, no chunks.
        let mut paths = vec![path.to_owned()];
        let mut rest = text.as_str();
        while let Some(found) = between(rest, "<SCPDURL>", "</SCPDURL>") {
            paths.push(found.to_owned());
            rest = &rest[rest.find(found).unwrap() + found.len()..];
        }
        assert_eq!(paths.len(), 4);
        for path in &paths {
            let (get, head) = (ask(TV, "GET", path, ""), ask(TV, "HEAD", path, ""));
            for answer in [&get, &head] {
                assert_eq!(answer.status, 200);
                assert_eq!(answer.field("content-type"), Some("text/xml; charset=\"utf-8\""));
                let length = get.body.len().to_string();
                assert_eq!(answer.field("content-length"), Some(length.as_str()));
                assert_eq!(answer.field("transfer-encoding"), None);
            }
            assert!(get.body.len() < 64 << 10 && !get.body.starts_with(b"\xef\xbb\xbf"));
        }
        // Who opens its page on the host is led to the console.
        let page = between(&text, "<presentationURL>", "</presentationURL>").unwrap();
        let page = ask(TV, "GET", page, "");
        assert_eq!((page.status, page.field("location")), (302, Some("http://127.0.0.1:7641/")));
        // Icons: each true to its size, below 32 KiB, named when asked.
        for (name, size, profile) in [
            ("png", 120, "PNG_LRG_ICO"),
            ("jpg", 120, "JPEG_LRG_ICO"),
            ("png", 48, "PNG_SM_ICO"),
            ("jpg", 48, "JPEG_SM_ICO"),
        ] {
            let kind = if name == "png" { "image/png" } else { "image/jpeg" };
            let entry = format!("<icon><mimetype>{kind}</mimetype><width>{size}</width>");
            let url =
                between(&text[text.find(&entry).expect(&entry)..], "<url>", "</url>").unwrap();
            let icon = ask(TV, "GET", url, "getcontentFeatures.dlna.org: 1\r\n");
            assert!(icon.body.len() < 32 << 10);
            let features = icon.field("contentfeatures.dlna.org").unwrap_or_default();
            assert!(features.contains(profile), "{profile}: {}", icon.head);
            if name == "jpg" {
                // Baseline, 8 bits of each of three colours.
                let frame = icon.body.windows(2).position(|w| w == [0xff, 0xc0]).unwrap();
                let frame = &icon.body[frame + 4..frame + 10];
                let side = (size as u16).to_be_bytes();
                assert_eq!(frame, [8, side[0], side[1], side[0], side[1], 3], "{size}");
            }
            if name == "png" {
                let side =
                    |at: usize| u32::from_be_bytes(icon.body[at..at + 4].try_into().unwrap());
                assert_eq!((side(16), side(20), icon.body[24]), (size, size, 8), "8 bits a colour");
                assert_eq!(icon.body[25], 2, "colours without transparency: 24 bits");
            }
        }
        // Twenty at once, each within a second.
        let begin = Instant::now();
        std::thread::scope(|scope| {
            for _ in 0..20 {
                scope.spawn(|| assert_eq!(ask(TV, "GET", path, "").status, 200));
            }
        });
        assert!(begin.elapsed() < Duration::from_secs(1), "{:?}", begin.elapsed());
        // The same UDN after a restart and under another name.
        house.mostra(&["house", "name", "Harbour house"]);
        assert!(service.stop());
        let _service = house.start();
        let again = ask(TV, "GET", path, "").text();
        assert_eq!(between(&again, "<UDN>", "</UDN>"), Some(udn.as_str()));
        assert!(again.contains("<friendlyName>Harbour house</friendlyName>"));
    });
}

/// A control request written by hand.
fn post(fields: &str, body: &str) -> String {
    format!("POST /control/content HTTP/1.1\r\nHost: {SERVER}\r\n{fields}\r\n{body}")
}

fn envelope(action: &str, version: u8) -> String {
    format!(
        "<?xml version=\"1.0\"?><s:Envelope xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\">\
         <s:Body><u:{action} xmlns:u=\"urn:schemas-upnp-org:service:ContentDirectory:{version}\"/>\
         </s:Body></s:Envelope>"
    )
}

#[test]
fn control_is_read_tolerantly_and_written_strictly() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        house.publish("Sound");
        house.meet(TV);
        house.admit(TV);
        let body = envelope("GetSystemUpdateID", 1);
        let length = format!("Content-Length: {}\r\n", body.len());
        let send = |fields: &str, body: &str| {
            raw::exchange(TV, SERVER, &post(fields, body))
                .unwrap_or_else(|e| panic!("{fields}: {e}"))
        };
        // SOAPACTION quoted, bare, absent, at odds with the body (SOAP-1, SOAP-2).
        for action in [
            format!("SOAPACTION: \"{CONTENT}#GetSystemUpdateID\"\r\n"),
            format!("SOAPACTION: {CONTENT}#GetSystemUpdateID\r\n"),
            String::new(),
            format!("SOAPACTION: \"{CONTENT}#Browse\"\r\n"),
        ] {
            let answer = send(&format!("{action}{length}"), &body);
            assert_eq!(answer.status, 200, "{action}");
            let text = answer.text();
            assert!(text.contains(&format!("<u:GetSystemUpdateIDResponse xmlns:u=\"{CONTENT}\">")));
            assert!(text.contains("<Id>") && text.contains("</s:Body></s:Envelope>"));
            // Names go out capitalised, with all that an answer needs (SOAP-8, SOAP-19).
            for field in ["Content-Type: text/xml; charset=\"utf-8\"", "Ext:", "Date: ", "Server: "]
            {
                assert!(answer.head.contains(field), "{field} in {}", answer.head);
            }
            let sent = answer.body.len().to_string();
            assert_eq!(answer.field("content-length"), Some(sent.as_str()), "never chunked");
            assert_eq!(answer.field("transfer-encoding"), None);
        }
        // A later version is served under its own name (SOAP-3).
        let later = envelope("GetSystemUpdateID", 2);
        let answer = send(&format!("Content-Length: {}\r\n", later.len()), &later);
        assert!(answer.text().contains("ContentDirectory:2\">"), "{}", answer.text());
        // Faults as the standard writes them; old queries and vendor actions are 401 (SOAP-9,
        // SOAP-10).
        for action in ["QueryStateVariable", "X_GetBookmark", "CreateObject", "DestroyObject"] {
            let body = envelope(action, 1);
            let answer = send(&format!("Content-Length: {}\r\n", body.len()), &body);
            let text = answer.text();
            assert_eq!(answer.status, 500);
            assert!(
                text.contains(
                    "<faultcode>s:Client</faultcode><faultstring>UPnPError</faultstring>"
                )
            );
            assert!(text.contains("<UPnPError xmlns=\"urn:schemas-upnp-org:control-1-0\">"));
            assert!(text.contains("<errorCode>401</errorCode><errorDescription>"));
            // Nothing of where the service and its media are (SEC-19).
            for path in [house.data.path(), &mostra_tests::top()] {
                assert!(!text.contains(path.to_str().unwrap()), "{text}");
            }
        }
        // Chunked bodies work; a contradiction does not (SOAP-14).
        let chunked = format!(
            "{:x}\r\n{}\r\n{:x}\r\n{}\r\n0\r\n\r\n",
            20,
            &body[..20],
            body.len() - 20,
            &body[20..]
        );
        assert_eq!(send("Transfer-Encoding: chunked\r\n", &chunked).status, 200);
        let both = send(&format!("Transfer-Encoding: chunked\r\n{length}"), &chunked);
        assert_eq!(both.status, 400);
        // Expect: 100-continue (SOAP-15).
        let mut stream = raw::connect(TV, SERVER).unwrap();
        stream
            .write_all(post(&format!("Expect: 100-continue\r\n{length}"), "").as_bytes())
            .unwrap();
        assert_eq!(raw::read_answer(&mut stream, false).unwrap().status, 100);
        stream.write_all(body.as_bytes()).unwrap();
        assert_eq!(raw::read_answer(&mut stream, true).unwrap().status, 200);
        // A hundred requests on one connection, some of them ahead of their answers (SOAP-16).
        let request = post(&length, &body);
        for _ in 0..20 {
            stream.write_all(request.repeat(5).as_bytes()).unwrap();
            for _ in 0..5 {
                assert_eq!(raw::read_answer(&mut stream, true).unwrap().status, 200);
            }
        }
        // Head and body in two segments (IOP-25).
        let mut stream = raw::connect(TV, SERVER).unwrap();
        stream.set_nodelay(true).unwrap();
        stream.write_all(post(&length, "").as_bytes()).unwrap();
        std::thread::sleep(Duration::from_millis(50));
        stream.write_all(body.as_bytes()).unwrap();
        assert_eq!(raw::read_answer(&mut stream, true).unwrap().status, 200);
        // 32 calls at once, while one never ends (SOAP-18).
        let mut slow = raw::connect(OTHER, SERVER).unwrap();
        slow.write_all(post("Content-Length: 500\r\n", "<a>").as_bytes()).unwrap();
        let begin = Instant::now();
        std::thread::scope(|scope| {
            for _ in 0..32 {
                scope.spawn(|| assert_eq!(browse(TV, "music-all").status, 200));
            }
        });
        assert!(begin.elapsed() < Duration::from_secs(2), "{:?}", begin.elapsed());
        // Right before playing, a player compares what it is told with the listing (IOP-34).
        let listed = unescaped(&browse(TV, "music-all").text());
        let item = &listed[listed.find("<item").unwrap()..listed.find("</item>").unwrap() + 7];
        let id = between(item, "id=\"", "\"").unwrap();
        let metadata = call(
            TV,
            "content",
            "Browse",
            &format!(
                "<ObjectID>{id}</ObjectID><BrowseFlag>BrowseMetadata</BrowseFlag><Filter>*</Filter>\
             <StartingIndex>0</StartingIndex><RequestedCount>0</RequestedCount><SortCriteria/>"
            ),
        );
        assert!(unescaped(&metadata.text()).contains(item), "{item}");
        // Arguments missing or too many (IOP-24).
        let bare =
            "<BrowseFlag>BrowseDirectChildren</BrowseFlag><Colour>7</Colour><ObjectID>0</ObjectID>";
        assert_eq!(call(TV, "content", "Browse", bare).status, 200);
    });
}

#[test]
fn connection_manager_and_registrar_keep_their_word() {
    in_a_house(|house| {
        let _service = house.begin();
        house.meet(TV);
        house.admit(TV);
        house.meet(OTHER);
        let source = || {
            let text = call(TV, "connection", "GetProtocolInfo", "").text();
            between(&text, "<Source>", "</Source>").unwrap().to_owned()
        };
        let first = source();
        assert!(first.len() < 16 << 10 && !first.contains(", "));
        let entries: Vec<&str> = first.split(',').collect();
        let once: std::collections::BTreeSet<&&str> = entries.iter().collect();
        assert_eq!(once.len(), entries.len(), "each once");
        house.publish("Films");
        assert_eq!(source(), first, "from the profiles, not from the files that are there");
        // All three variables in the first event, the list as in the action (CM-7, CM-8).
        let (_, event) = Subscriber::to(TV, "connection").event(5).unwrap();
        for variable in ["SourceProtocolInfo", "SinkProtocolInfo", "CurrentConnectionIDs"] {
            assert!(event.contains(&format!("<{variable}>")), "{variable}: {event}");
        }
        assert_eq!(between(&event, "<SourceProtocolInfo>", "</").unwrap(), first);
        // What is listed matches an entry (CM-4).
        let listed = unescaped(&browse(TV, "video-all").text());
        for info in listed.split("protocolInfo=\"").skip(1) {
            let info = info.split('"').next().unwrap();
            assert!(entries.contains(&info), "{info}");
        }
        // The registrar, by standing (REG-2, REG-3, REG-4).
        let ask_for = |from: &str, action: &str, argument: &str| {
            let text = call(from, "registrar", action, argument).text();
            between(&text, "<Result>", "<").map(str::to_owned)
        };
        for action in ["IsAuthorized", "IsValidated"] {
            for argument in ["<DeviceID>x</DeviceID>", "<DeviceID></DeviceID>", ""] {
                assert_eq!(ask_for(TV, action, argument).as_deref(), Some("1"));
                assert_eq!(ask_for(OTHER, action, argument).as_deref(), Some("1"), "waiting");
            }
        }
        let message = "<RegistrationReqMsg>aGVsbG8=</RegistrationReqMsg>";
        let answer = call(TV, "registrar", "RegisterDevice", message).text();
        assert_eq!(between(&answer, "<RegistrationRespMsg>", "</"), Some(""));
        let registrar = Subscriber::to(TV, "registrar");
        let (_, event) = registrar.event(5).unwrap();
        for variable in [
            "AuthorizationGrantedUpdateID",
            "AuthorizationDeniedUpdateID",
            "ValidationSucceededUpdateID",
            "ValidationRevokedUpdateID",
        ] {
            assert!(event.contains(&format!("<{variable}>")), "{variable}: {event}");
        }
        house.mostra(&["device", "refuse", OTHER]);
        assert_eq!(ask_for(OTHER, "IsAuthorized", "").as_deref(), Some("0"));
    });
}

#[test]
fn subscriptions_are_renewed_ended_and_forgotten() {
    in_a_house(|house| {
        let mut service = house.begin();
        for device in [TV, OTHER] {
            house.meet(device);
            house.admit(device);
        }
        let tv = Subscriber::new(TV);
        let (head, body) = tv.event(5).unwrap();
        for line in ["NT: upnp:event", "NTS: upnp:propchange", "SEQ: 0"] {
            assert!(head.lines().any(|l| l.eq_ignore_ascii_case(line)), "{line}: {head}");
        }
        assert!(head.starts_with("NOTIFY /ev?k=1 HTTP/1."), "path and query as given: {head}");
        assert!(head.contains(&tv.sid));
        assert!(body.contains("<e:propertyset xmlns:e=\"urn:schemas-upnp-org:event-1-0\">"));
        assert_eq!(body.matches("<e:property>").count(), 3, "one property each: {body}");
        // A renewal keeps SID and SEQ, and brings no second initial event (GENA-4).
        let renewed = tv.renew("content");
        assert_eq!((renewed.status, renewed.field("sid")), (200, Some(tv.sid.as_str())));
        assert_eq!(renewed.field("timeout"), Some("Second-900"));
        house.publish("Films");
        let (head, body) = tv.event(10).unwrap();
        assert!(head.to_uppercase().contains("SEQ: 1"), "{head}");
        assert!(!body.contains("TransferIDs"), "only what changed (GENA-12): {body}");
        // A dead subscriber, one that redirects and one that answers 412 delay nobody.
        let dead = Subscriber::new(OTHER);
        drop(dead.event(5));
        let gone = Subscriber::new(TV);
        gone.event_answered(5, "412 Precondition Failed").unwrap();
        let moved = Subscriber::new(TV);
        let away = std::net::TcpListener::bind((OTHER, 0)).unwrap();
        let redirect = format!("302 Found\r\nLocation: http://{}/", away.local_addr().unwrap());
        moved.event_answered(5, &redirect).unwrap();
        drop(dead);
        while tv.event(1).is_some() {}
        house.publish("Sound");
        assert!(tv.event(5).is_some());
        assert_eq!(gone.renew("content").status, 412, "412 ends it (GENA-15)");
        away.set_nonblocking(true).unwrap();
        assert!(away.accept().is_err(), "no redirect is followed (GENA-18)");
        // One that answers without end is not listened to (GENA-18).
        let endless = Subscriber::new(OTHER);
        endless.event_answered_without_end(5).expect("cut off");
        // Ended: nothing more comes (GENA-5).
        assert_eq!(tv.end("content").status, 200);
        while tv.event(1).is_some() {}
        house.publish("Pictures");
        assert!(tv.event(2).is_none());
        assert_eq!(tv.renew("content").status, 412);
        // None is kept over a restart (GENA-17).
        let last = Subscriber::new(TV);
        assert!(service.stop());
        let _service = house.start();
        until(10, "the service", || (last.renew("content").status == 412).then_some(()));
    });
}

#[test]
fn limits_hold_and_the_house_stays_quick() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.meet(TV);
        house.admit(TV);
        // 500 idle connections leave browsing as it is (SEC-12).
        let idle: Vec<_> = (0..500).map(|_| raw::connect(OTHER, SERVER).unwrap()).collect();
        let begin = Instant::now();
        assert_eq!(browse(TV, "0").status, 200);
        assert_eq!(ask(TV, "GET", "/about/device.xml", "").status, 200);
        assert!(begin.elapsed() < Duration::from_secs(1), "{:?}", begin.elapsed());
        drop(idle);
        // Eight subscriptions of one address, then 503 (GENA-9, GENA-6).
        let kept: Vec<Subscriber> = (0..8).map(|_| Subscriber::new(TV)).collect();
        let fields = format!("CALLBACK: <http://{TV}:50000/>\r\nNT: upnp:event\r\n");
        assert_eq!(ask(TV, "SUBSCRIBE", "/event/content", &fields).status, 503);
        drop(kept);
        // Names that are not ours are refused on every path (SEC-5).
        for host in ["evil.example", "192.0.2.1:7640", "127.0.0.1.evil.example", "[::1]:7640"] {
            for path in ["/about/device.xml", "/media/x.mp4", "/control/content", "/"] {
                let request = format!("GET {path} HTTP/1.1\r\nHost: {host}\r\n\r\n");
                let answer = raw::exchange(TV, SERVER, &request).unwrap();
                assert_eq!(answer.status, 421, "{host} {path}");
            }
        }
        assert_eq!(ask(TV, "GET", "/about/device.xml", "").status, 200);
        // A page elsewhere can make no browser act here, and reads nothing (SEC-6).
        let foreign = "Origin: http://evil.example\r\n";
        assert_eq!(ask(TV, "SUBSCRIBE", "/event/content", foreign).status, 403);
        let read = ask(TV, "GET", "/about/device.xml", foreign);
        assert_eq!(read.field("access-control-allow-origin"), None);
        // Text that devices say of themselves is tamed wherever it is shown (SEC-16).
        let odd = format!("User-Agent: {}\r\n", "x<b>".repeat(200));
        ask(OTHER, "GET", "/about/device.xml", &odd);
        ask(OTHER, "GET", "/media/none", &odd);
        let shown = until(10, "the device", || {
            let device = house.device(OTHER)?;
            device["user_agent"].as_str().map(str::to_owned)
        });
        assert!(shown.chars().count() <= 256, "{shown:?}");
        // Control characters do not even come in.
        let request = format!(
            "GET /about/device.xml HTTP/1.1\r\nHost: {SERVER}\r\nUser-Agent: a\u{1b}[31m\r\n\r\n"
        );
        assert_eq!(raw::exchange(OTHER, SERVER, &request).unwrap().status, 400);
    });
}
