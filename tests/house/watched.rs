//! State variables of things on the network, by subscription.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::{TcpListener, UdpSocket};
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::AtomicUsize;
use std::sync::atomic::Ordering::Relaxed;
use std::time::{Duration, Instant};

use mostra_tests::raw::{self, between, browse, media_path};
use mostra_tests::{House, in_a_house, in_a_house_timed, long_sound, until};
use serde_json::Value;

/// Where the state of a thing's service is read.
fn state_path(house: &House, name: &str, service: &str) -> String {
    until(10, "the thing with its services", || {
        let view = house.json(&["network", "list"]);
        let thing = view["things"].as_array()?.iter().find(|t| t["label"] == name)?.clone();
        let found = &thing["found"][0];
        let services = found["services"].as_array()?;
        let number = services.iter().position(|s| s["type"].as_str().unwrap().contains(service))?;
        Some(format!("/network/found/{}/services/{number}/state", found["id"]))
    })
}

fn value(state: &Value, name: &str) -> Option<String> {
    let variables = state["variables"].as_array()?;
    let variable = variables.iter().find(|v| v["name"] == name)?;
    Some(variable["value"].as_str()?.to_owned())
}

#[test]
fn what_a_speaker_tells_of_itself_is_followed_as_it_changes() {
    in_a_house_timed(|house| {
        let _service = house.begin();
        let _all = house.stand_ins(&["kitchen-speaker", "keepers-phone"]);
        let path = state_path(&house, "Kitchen speaker", "RenderingControl");
        // The client follows it in a terminal.
        let mut watching = house
            .client_command(&["network", "watch", "Kitchen speaker", "RenderingControl"])
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(watching.stdout.take().unwrap()).lines();
        let mut line = |wanted: &str| {
            let line = lines.by_ref().map_while(Result::ok).find(|line| line.contains(wanted));
            line.unwrap_or_else(|| panic!("no {wanted}"))
        };
        line("Volume = 20");
        // Another control point turns it up: nobody here asks for that.
        assert!(house.tell("127.0.0.16", &["volume", "Kitchen speaker", "55"]).0);
        let began = Instant::now();
        line("Volume = 55");
        assert!(began.elapsed() < Duration::from_secs(3), "{:?}", began.elapsed());
        watching.kill().unwrap();
        watching.wait().unwrap();
        let state = house.api("GET", &path);
        assert_eq!((&state["subscription"], &state["missed"]), (&"granted".into(), &0.into()));
        assert_eq!(value(&state, "Volume").unwrap(), "55");
        assert_eq!(value(&state, "Mute").unwrap(), "0");
        let why = house.mostra_fails(&["network", "watch", "Kitchen speaker", "Kettle"]);
        assert!(why.contains("It has AVTransport"), "{why}");
        // Things that come are shown as they come.
        let come = house.mostra(&["network", "watch", "--seconds", "1"]);
        assert!(come.contains("Kitchen speaker: renderer"), "{come}");
    });
}

/// A device of our own making: it announces itself, is described with one service, and takes
/// subscriptions as the test says.
struct Publisher {
    listener: TcpListener,
    /// How often its description was read.
    asked: Arc<AtomicUsize>,
}

impl Publisher {
    fn new(address: &str) -> Publisher {
        Publisher::announced_for(address, 1800)
    }

    /// One that says that it is there for this many seconds.
    fn announced_for(address: &str, seconds: u32) -> Publisher {
        let listener = TcpListener::bind(format!("{address}:4000")).unwrap();
        let own = UdpSocket::bind(format!("{address}:0")).unwrap();
        let socket = socket2::SockRef::from(&own);
        socket.set_multicast_if_v4(&"127.0.0.1".parse().unwrap()).unwrap();
        let kind = "urn:schemas-upnp-org:device:MediaRenderer:1";
        let text = format!(
            "NOTIFY * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nCACHE-CONTROL: max-age={seconds}\r\n\
             LOCATION: http://{address}:4000/d.xml\r\nNT: {kind}\r\nNTS: ssdp:alive\r\n\
             USN: uuid:watched-{address}::{kind}\r\n\r\n"
        );
        let asked: Arc<AtomicUsize> = Arc::default();
        let heard = asked.clone();
        // Until it was heard: the service may only be starting.
        std::thread::spawn(move || {
            while heard.load(Relaxed) == 0 {
                own.send_to(text.as_bytes(), "239.255.255.250:1900").unwrap();
                std::thread::sleep(Duration::from_millis(100));
            }
        });
        Publisher { listener, asked }
    }

    /// Answers requests until one of this method came and was answered; gives its head.
    fn serve_until(&self, method: &str, answer: &str) -> String {
        loop {
            let (mut stream, _) = self.listener.accept().unwrap();
            stream.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
            let mut head = Vec::new();
            let mut byte = [0; 1];
            while !head.ends_with(b"\r\n\r\n") && stream.read(&mut byte).unwrap_or(0) == 1 {
                head.push(byte[0]);
            }
            let head = String::from_utf8_lossy(&head).into_owned();
            if head.starts_with(method) {
                let _ = stream.write_all(answer.as_bytes());
                return head;
            }
            self.asked.fetch_add(1, Relaxed);
            let address = self.listener.local_addr().unwrap().ip();
            let body = format!(
                "<root xmlns='urn:schemas-upnp-org:device-1-0'><device>\
                 <deviceType>urn:schemas-upnp-org:device:MediaRenderer:1</deviceType>\
                 <friendlyName>Odd one</friendlyName><UDN>uuid:watched-{address}</UDN>\
                 <serviceList>\
                 <service><serviceType>urn:schemas-upnp-org:service:RenderingControl:1\
                 </serviceType><serviceId>x</serviceId><SCPDURL>/s.xml</SCPDURL>\
                 <controlURL>/c</controlURL><eventSubURL>/e</eventSubURL></service>\
                 </serviceList></device></root>"
            );
            let length = body.len();
            let head = format!("HTTP/1.1 200 OK\r\nContent-Length: {length}\r\n\r\n");
            let _ = stream.write_all(format!("{head}{body}").as_bytes());
        }
    }
}

const GRANTED: &str =
    "HTTP/1.1 200 OK\r\nSID: uuid:s1\r\nTIMEOUT: Second-infinite\r\nContent-Length: 0\r\n\r\n";

/// A NOTIFY to a callback; gives the status.
fn notify(from: &str, path: &str, sid: &str, seq: u32, volume: u32) -> u16 {
    let body = format!(
        "<e:propertyset xmlns:e=\"urn:schemas-upnp-org:event-1-0\"><e:property><LastChange>\
         &lt;Event&gt;&lt;InstanceID val=\"0\"&gt;&lt;Volume channel=\"Master\" val=\"{volume}\"/&gt;\
         &lt;/InstanceID&gt;&lt;/Event&gt;</LastChange></e:property></e:propertyset>"
    );
    let fields = format!(
        "NT: upnp:event\r\nNTS: upnp:propchange\r\nSID: {sid}\r\nSEQ: {seq}\r\n\
         Content-Length: {}\r\n",
        body.len()
    );
    let request =
        format!("NOTIFY {path} HTTP/1.1\r\nHost: {}\r\n{fields}\r\n{body}", mostra_tests::SERVER);
    raw::exchange(from, mostra_tests::SERVER, &request).unwrap().status
}

#[test]
fn events_count_only_from_whom_they_were_asked_of_and_are_ended_at_the_end() {
    in_a_house_timed(|house| {
        const ODD: &str = "127.0.0.61";
        let mut service = house.begin();
        let publisher = Publisher::new(ODD);
        let serving = std::thread::spawn(move || {
            let asked = publisher.serve_until("SUBSCRIBE", GRANTED);
            (publisher, asked)
        });
        let path = state_path(&house, "Odd one", "RenderingControl");
        assert_eq!(house.api("GET", &path)["events"], 0);
        let (publisher, asked) = serving.join().unwrap();
        let asked = asked.to_ascii_lowercase();
        assert!(asked.contains("nt: upnp:event") && asked.contains("timeout: second-1800"));
        let callback = between(&asked, "callback: <http://127.0.0.1:7640", ">").unwrap();
        assert!(callback.len() > 30, "nobody can guess {callback} (GENA-19)");
        until(5, "it to be granted", || {
            (house.api("GET", &path)["subscription"] == "granted").then_some(())
        });

        let status = |from: &str, path: &str, sid: &str, seq| notify(from, path, sid, seq, 11);
        assert_eq!(status(ODD, callback, "uuid:s1", 0), 200);
        assert_eq!(status("127.0.0.62", callback, "uuid:s1", 1), 403, "from another address");
        assert_eq!(status(ODD, "/heard/guess", "uuid:s1", 1), 412);
        assert_eq!(status(ODD, callback, "uuid:s2", 1), 412);
        let body = "x".repeat((256 << 10) + 1);
        let too_long = format!(
            "NOTIFY {callback} HTTP/1.1\r\nHost: {}\r\nNT: upnp:event\r\nNTS: upnp:propchange\r\n\
             SID: uuid:s1\r\nSEQ: 1\r\nContent-Length: {}\r\n\r\n{body}",
            mostra_tests::SERVER,
            body.len()
        );
        assert_eq!(raw::exchange(ODD, mostra_tests::SERVER, &too_long).unwrap().status, 413);
        let get = raw::ask(ODD, "GET", callback, "");
        assert_eq!(get.status, 405);
        let state = until(5, "the event to be told", || {
            let state = house.api("GET", &path);
            (state["events"] == 1).then_some(state)
        });
        assert_eq!(value(&state, "Volume").unwrap(), "11");
        // What it sent because it was asked to brings it nowhere near the door.
        assert!(house.device(ODD).is_none() && house.device("127.0.0.62").is_none());
        assert_eq!(notify(ODD, callback, "uuid:s1", 1, 12), 200);
        assert_eq!(notify(ODD, callback, "uuid:s1", 5, 15), 200);
        until(5, "the gap to be told", || {
            let state = house.api("GET", &path);
            (state["missed"] == 1 && value(&state, "Volume")? == "15").then_some(())
        });

        // The house leaves: the subscription is given back.
        let serving = std::thread::spawn(move || {
            publisher.serve_until("UNSUBSCRIBE", "HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n")
        });
        assert!(service.stop());
        let ended = serving.join().unwrap().to_ascii_lowercase();
        assert!(ended.contains("sid: uuid:s1"), "{ended}");
    });
}

#[test]
fn a_publisher_whose_events_do_not_come_is_told_of() {
    in_a_house(|house| {
        let _service = house.begin();
        let publisher = Publisher::new("127.0.0.63");
        let serving = std::thread::spawn(move || publisher.serve_until("SUBSCRIBE", GRANTED));
        let path = state_path(&house, "Odd one", "RenderingControl");
        house.api("GET", &path);
        serving.join().unwrap();
        until(15, "its silence to be told of", || {
            (house.api("GET", &path)["subscription"] == "silent").then_some(())
        });
        let said =
            house.client(&["network", "watch", "Odd one", "RenderingControl", "--seconds", "1"]);
        let said = String::from_utf8_lossy(&said.stderr).into_owned();
        assert!(said.contains("its events do not arrive"), "{said}");
    });
}

/// Requirement SCP-8: what plays is not given up without a question.
#[test]
fn one_that_plays_is_asked_before_it_counts_as_gone() {
    in_a_house_timed(|house| {
        const PLAYING: &str = "127.0.0.64";
        const SILENT: &str = "127.0.0.65";
        // The second search ends 34 s after the service began, and then both would be asked anyhow:
        // their time ends before that, as they are heard from the beginning.
        let [asked, _] = [PLAYING, SILENT].map(|address| {
            let publisher = Publisher::announced_for(address, 30);
            let asked = publisher.asked.clone();
            std::thread::spawn(move || publisher.serve_until("NOTHING", ""));
            asked
        });
        let _service = house.begin();
        let folder = tempfile::tempdir().unwrap();
        long_sound(&folder.path().join("Long watch.wav"));
        house.mostra(&["folder", "add", folder.path().to_str().unwrap(), "--label", "Sandbox"]);
        house.meet(PLAYING);
        house.admit(PLAYING);
        let sound = media_path(&browse(PLAYING, "music-all"), "Long watch");
        let mut stream = raw::connect_with(PLAYING, mostra_tests::SERVER, Some(4096)).unwrap();
        let request = format!("GET {sound} HTTP/1.1\r\nHost: {}\r\n\r\n", mostra_tests::SERVER);
        stream.write_all(request.as_bytes()).unwrap();
        let presence = |address: &str| {
            let view = house.json(&["network", "list"]);
            let things = view["things"].as_array()?.iter();
            let mut found = things.filter(|t| !t["found"].as_array().unwrap().is_empty());
            let thing = found.find(|t| t["address"] == address)?.clone();
            Some((thing["presence"].as_str()?.to_owned(), thing["away_why"].clone()))
        };
        until(10, "both to be found", || {
            (presence(PLAYING)?.0 == "here" && presence(SILENT)?.0 == "here").then_some(())
        });
        let before = asked.load(Relaxed);
        let (_, why) = until(40, "the silent one to be gone", || {
            // It plays on.
            assert!(stream.read(&mut [0; 65_536]).unwrap() > 0);
            presence(SILENT).filter(|(presence, _)| presence == "away")
        });
        assert_eq!(why, "it announced itself no more");
        until(5, "the one that plays to be asked", || (asked.load(Relaxed) > before).then_some(()));
        assert_eq!(presence(PLAYING).unwrap().0, "here");
    });
}
