//! More connections than there is room for, odd expectations and charsets, idle connections.

use std::io::{Read, Write};
use std::net::{Ipv4Addr, TcpStream, UdpSocket};
use std::time::{Duration, Instant};

use mostra_tests::raw::{self, ask, browse, media_path, soap};
use mostra_tests::{SERVER, in_a_house, in_a_house_timed, until};

const TV: &str = "127.0.0.91";
const OTHER: &str = "127.0.0.92";
const THIRD: &str = "127.0.0.93";

/// Connections that have been answered once, and so have a place.
fn seated(from: &str, count: usize) -> Vec<TcpStream> {
    let seat = |_| {
        let mut stream = raw::connect(from, SERVER).unwrap();
        let request = format!("GET /about/device.xml HTTP/1.1\r\nHost: {SERVER}\r\n\r\n");
        stream.write_all(request.as_bytes()).unwrap();
        assert_eq!(raw::read_answer(&mut stream, true).unwrap().status, 200);
        stream
    };
    (0..count).map(seat).collect()
}

#[test]
fn beyond_its_room_the_house_says_so_and_no_device_takes_it_all() {
    in_a_house(|house| {
        let _service = house.begin_with(&["--connections", "16"]);
        // Let in, all of them: half of the room is kept for those.
        house.mostra(&["house", "doorway", "open"]);
        for device in [TV, OTHER, THIRD, "127.0.0.94", "127.0.0.95"] {
            house.meet(device);
        }
        let first = seated(TV, 5);
        let turned_away = |from: &str| {
            let answer = ask(from, "GET", "/about/device.xml", "");
            assert_eq!(answer.status, 503, "{from}");
            assert_eq!(answer.field("retry-after"), Some("5"));
            assert_eq!(answer.field("connection"), Some("close"));
        };
        turned_away(TV);
        let mut others = seated(OTHER, 4);
        turned_away(OTHER);
        others.extend(seated("127.0.0.94", 4));
        others.extend(seated("127.0.0.95", 3));
        turned_away(THIRD);
        // A request with a body is told as well, and not cut off in the middle.
        let long = soap("content", "Browse", &"<A>1</A>".repeat(2000));
        assert_eq!(raw::exchange(THIRD, SERVER, &long).unwrap().status, 503);
        // Those who have a place keep it, and one that goes makes room.
        drop(first);
        until(10, "room", || {
            (ask(THIRD, "GET", "/about/device.xml", "").status == 200).then_some(())
        });
        drop(others);
        until(10, "room for more", || {
            (ask(TV, "GET", "/about/device.xml", "").status == 200).then_some(())
        });
    });
}

#[test]
fn idle_connections_stay_for_half_a_minute() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.meet(TV);
        house.admit(TV);
        let path = media_path(&browse(TV, "video-all"), "Lamp-room tour");
        // One that asked control, one that took media, one that has asked nothing yet.
        let asked = [
            soap("content", "GetSystemUpdateID", ""),
            format!("HEAD {path} HTTP/1.1\r\nHost: {SERVER}\r\n\r\n"),
        ];
        let mut streams: Vec<(TcpStream, &String)> = asked
            .iter()
            .map(|request| {
                let mut stream = raw::connect(TV, SERVER).unwrap();
                stream.write_all(request.as_bytes()).unwrap();
                let body = !request.starts_with("HEAD");
                assert_eq!(raw::read_answer(&mut stream, body).unwrap().status, 200);
                (stream, request)
            })
            .collect();
        // The time itself is what is tested (SOAP-16, HTTP-36).
        std::thread::sleep(Duration::from_secs(31));
        for (stream, request) in &mut streams {
            stream.write_all(request.as_bytes()).unwrap();
            let body = !request.starts_with("HEAD");
            assert_eq!(raw::read_answer(stream, body).unwrap().status, 200, "{request}");
        }
    });
}

#[test]
fn a_body_that_does_not_come_is_not_waited_for() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        let began = Instant::now();
        let mut slow: Vec<TcpStream> = ["GET", "POST"]
            .iter()
            .map(|method| {
                let mut stream = raw::connect(TV, SERVER).unwrap();
                let head = format!(
                    "{method} /control/content HTTP/1.1\r\nHost: {SERVER}\r\n\
                     Content-Length: 500\r\n\r\n<a>"
                );
                stream.write_all(head.as_bytes()).unwrap();
                stream
            })
            .collect();
        for stream in &mut slow {
            assert_eq!(raw::read_answer(stream, true).unwrap().status, 408);
        }
        let took = began.elapsed();
        assert!((8..15).contains(&took.as_secs()), "{took:?}");
    });
}

#[test]
fn expectations_and_charsets_are_known_or_refused() {
    in_a_house(|house| {
        let _service = house.begin();
        house.meet(TV);
        house.admit(TV);
        let body = "<?xml version=\"1.0\"?><s:Envelope \
                    xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\"><s:Body>\
                    <u:GetSystemUpdateID \
                    xmlns:u=\"urn:schemas-upnp-org:service:ContentDirectory:1\"/>\
                    </s:Body></s:Envelope>";
        let send = |fields: &str, body: &[u8]| {
            let mut stream = raw::connect(TV, SERVER).unwrap();
            let head = format!(
                "POST /control/content HTTP/1.1\r\nHost: {SERVER}\r\n{fields}\
                 Content-Length: {}\r\n\r\n",
                body.len()
            );
            stream.write_all(&[head.as_bytes(), body].concat()).unwrap();
            raw::read_answer(&mut stream, true).unwrap()
        };
        // An expectation that nobody knows (SOAP-15).
        assert_eq!(send("Expect: a-miracle\r\n", body.as_bytes()).status, 417);
        let media = format!("GET /media/x.mp4 HTTP/1.1\r\nHost: {SERVER}\r\nExpect: magic\r\n\r\n");
        assert_eq!(raw::exchange(TV, SERVER, &media).unwrap().status, 417);
        // The charset by parameter, by byte-order mark, by declaration (SOAP-12).
        let utf16: Vec<u8> = body.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let marked = [vec![0xff, 0xfe], utf16.clone()].concat();
        let latin = body.replace("version=\"1.0\"", "version=\"1.0\" encoding=\"iso-8859-1\"");
        for (fields, body) in [
            ("Content-Type: text/xml; charset=utf-16le\r\n", utf16.as_slice()),
            ("Content-Type: application/soap+xml\r\n", &marked),
            ("", latin.as_bytes()),
            ("Content-Type: application/xml; charset=\"ISO-8859-15\"\r\n", body.as_bytes()),
        ] {
            let answer = send(fields, body);
            assert_eq!(answer.status, 200, "{fields}");
            assert_eq!(answer.field("content-type"), Some("text/xml; charset=\"utf-8\""));
        }
        let unknown = "Content-Type: text/xml; charset=klingon\r\n";
        assert_eq!(send(unknown, body.as_bytes()).status, 415);
    });
}

#[test]
fn small_answers_come_in_one_segment() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        house.meet(TV);
        house.admit(TV);
        // What has arrived when the first byte has is all there is (IOP-26).
        for _ in 0..20 {
            let mut stream = raw::connect(TV, SERVER).unwrap();
            stream.write_all(soap("content", "GetSystemUpdateID", "").as_bytes()).unwrap();
            let mut bytes = vec![0; 16 << 10];
            let began = Instant::now();
            let count = stream.read(&mut bytes).unwrap();
            let text = String::from_utf8_lossy(&bytes[..count]).into_owned();
            assert!(text.ends_with("</s:Envelope>"), "{:?} {text}", began.elapsed());
        }
    });
}

#[test]
fn a_flood_of_searches_is_bounded_and_so_is_what_is_logged() {
    in_a_house_timed(|house| {
        let _service = house.start();
        // Searches within a second, from twenty sources with twenty ports each: no two are the
        // same search said again, and each asks for all there is, which would be some three
        // thousand answers (SEC-8).
        let sources: Vec<UdpSocket> = (0..400_u16)
            .map(|n| {
                let socket =
                    UdpSocket::bind((Ipv4Addr::new(127, 0, 3, (n % 20) as u8 + 1), 0)).unwrap();
                socket.set_nonblocking(true).unwrap();
                socket
            })
            .collect();
        let search = b"M-SEARCH * HTTP/1.1\r\nHOST: 127.0.0.1:1900\r\n\
            MAN: \"ssdp:discover\"\r\nMX: 1\r\nST: ssdp:all\r\n\r\n";
        let began = Instant::now();
        let mut times = Vec::new();
        let mut hear = |until: Duration| {
            while began.elapsed() < until {
                for socket in &sources {
                    while socket.recv(&mut [0; 2048]).is_ok() {
                        times.push(began.elapsed());
                    }
                }
                std::thread::sleep(Duration::from_millis(1));
            }
        };
        // Each source in turn, and again after a while: all at once would be dropped as they
        // come, and it is what goes out that is to be seen.
        for (round, sockets) in sources.chunks(20).enumerate() {
            for socket in sockets {
                socket.send_to(search, "127.0.0.1:1900").unwrap();
            }
            hear(Duration::from_millis(100 * round as u64 + 100));
        }
        hear(Duration::from_secs(5));
        let second = Duration::from_secs(1);
        let most =
            times.iter().map(|t| times.iter().filter(|u| **u >= *t && **u < *t + second).count());
        let most = most.max().unwrap_or(0);
        // As many as may be, so that it is the limit that is seen: 200 are sent in a second (SEC-8).
        // When they are read here depends on processors that other tests use as well, so that some
        // of the second before may come along.
        assert!((100..=240).contains(&most), "{most} answers in one second");
        // And a thousand requests that are none.
        for n in 0..1000 {
            let request = format!("GET /nowhere/{n} HTTP/1.1\r\nHost: evil.example\r\n\r\n");
            assert_eq!(raw::exchange(OTHER, SERVER, &request).unwrap().status, 421);
        }
        let lines = house.log().lines().count();
        assert!(lines < 100, "{lines} lines in the log (SEC-12):\n{}", house.log());
    });
}

#[test]
fn answers_to_bad_requests_tell_nothing_of_the_host() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.meet(TV);
        let data = house.data.path().to_str().unwrap().to_owned();
        let waiting = ask(TV, "GET", "/media/x.mp4", "");
        house.admit(TV);
        let answers = [
            waiting,
            ask(TV, "GET", "/media/x.mp4", ""),
            ask(TV, "GET", "/media/../../etc/passwd", ""),
            ask(TV, "GET", "/art/x.0.tn.jpg", ""),
            ask(TV, "GET", "/captions/x.0.srt", ""),
            ask(TV, "DELETE", "/media/x.mp4", ""),
            ask(TV, "PUT", "/about/device.xml", "Content-Length: 0\r\n"),
            ask(TV, "SUBSCRIBE", "/event/content", ""),
            ask(TV, "GET", "/nowhere", ""),
            raw::call(TV, "content", "Browse", "<ObjectID>x</ObjectID>"),
            raw::call(TV, "content", "Search", "<ContainerID>0</ContainerID>"),
            raw::exchange(TV, SERVER, "nonsense\r\n\r\n").unwrap(),
        ];
        for answer in answers {
            assert!(answer.status >= 400, "{}", answer.head);
            let text = answer.text();
            // Nothing at all, or a fault (SEC-19).
            assert!(text.is_empty() || text.contains("<s:Fault>"), "{}{text}", answer.head);
            let published = mostra_tests::top();
            let published = published.to_str().unwrap();
            for told in [data.as_str(), published, "/etc", "root", ".rs", "actix"] {
                assert!(!text.contains(told) && !answer.head.contains(told), "{told}: {text}");
            }
        }
    });
}
