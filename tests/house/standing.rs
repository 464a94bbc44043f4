//! Who is let in sees; who is not gets neither an item nor a byte.

use std::net::TcpListener;

use mostra_tests::raw::{self, between, browse, call, media_path};
use mostra_tests::subscriber::Subscriber;
use mostra_tests::{SERVER, in_a_house, until};

const ADMITTED: &str = "127.0.0.31";
const OTHER: &str = "127.0.0.32";

fn update_id(from: &str) -> u32 {
    let answer = call(from, "content", "GetSystemUpdateID", "");
    between(&answer.text(), "<Id>", "</Id>").unwrap().parse().unwrap()
}

fn total(from: &str, id: &str) -> u32 {
    between(&browse(from, id).text(), "<TotalMatches>", "</TotalMatches>").unwrap().parse().unwrap()
}

#[test]
fn a_device_waits_is_admitted_and_is_refused() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.meet(ADMITTED);
        let waiting = browse(ADMITTED, "0").text();
        assert!(waiting.contains("Not let in yet") && !waiting.contains("&lt;res"), "{waiting}");
        assert_eq!(total(ADMITTED, "0"), 1);
        assert_eq!(browse(ADMITTED, "video-all").status, 500, "the menus do not exist for it");

        house.admit(ADMITTED);
        assert_eq!(total(ADMITTED, "0"), 2, "Video and Folders; the empty menus are not shown");
        let film = media_path(&browse(ADMITTED, "video-all"), "Harbour at dawn");
        assert_eq!(raw::ask(ADMITTED, "HEAD", &film, "").status, 200);
        // The URL learnt by one device is worth nothing to another.
        house.meet(OTHER);
        for method in ["GET", "HEAD"] {
            assert_eq!(raw::ask(OTHER, method, &film, "").status, 403);
        }
        // Nor to the one that learnt it, once it is refused.
        house.mostra(&["device", "refuse", ADMITTED]);
        assert_eq!(raw::ask(ADMITTED, "GET", &film, "").status, 403);
        assert_eq!(total(ADMITTED, "0"), 0);
        assert_eq!(browse(ADMITTED, "video-all").status, 500);
        let item = film.trim_start_matches("/media/").trim_end_matches(".mp4");
        let metadata =
            format!("<ObjectID>{item}</ObjectID><BrowseFlag>BrowseMetadata</BrowseFlag>");
        assert!(call(ADMITTED, "content", "Browse", &metadata).text().contains("<errorCode>701<"));
    });
}

#[test]
fn a_grant_of_pictures_hides_films() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.publish("Pictures");
        house.meet(ADMITTED);
        house.admit(ADMITTED);
        let film = media_path(&browse(ADMITTED, "video-all"), "Lamp-room tour");
        house.mostra(&["device", "admit", ADMITTED, "--kinds", "picture"]);
        assert_eq!(total(ADMITTED, "pictures-all"), 10);
        assert_eq!(browse(ADMITTED, "video-all").status, 500, "what is not granted does not exist");
        assert_eq!(
            raw::ask(ADMITTED, "GET", &film, "").status,
            404,
            "what it may not see does not exist"
        );
        assert!(!browse(ADMITTED, "folders").text().contains("Films"));
    });
}

#[test]
fn a_grant_of_folders_shows_these_and_is_kept() {
    in_a_house(|house| {
        let service = house.begin();
        house.publish("Films");
        house.publish("Pictures");
        house.meet(ADMITTED);
        house.admit(ADMITTED);
        let film = media_path(&browse(ADMITTED, "video-all"), "Lamp-room tour");
        let told = house.mostra(&["device", "admit", ADMITTED, "--folders", "Pictures"]);
        assert!(told.contains("everything in Pictures"), "{told}");
        let only_pictures = || {
            assert_eq!(total(ADMITTED, "pictures-all"), 10);
            assert_eq!(browse(ADMITTED, "video-all").status, 500);
            assert_eq!(raw::ask(ADMITTED, "GET", &film, "").status, 404);
            assert!(house.mostra(&["device", "show", ADMITTED]).contains("in Pictures"));
        };
        only_pictures();
        // Nothing is lost by a folder that does not exist, or by none.
        assert!(
            house
                .mostra_fails(&["device", "admit", ADMITTED, "--folders", "Nowhere"])
                .contains("no folder is called")
        );
        let decision =
            format!("/devices/{}/decision", house.device(ADMITTED).expect("a device")["id"]);
        for folders in ["[]", "[1,99]"] {
            let body = format!(r#"{{"standing":"admitted","folders":{folders}}}"#);
            let answer = house.api_with("PUT", &decision, &body).expect("an answer");
            assert_eq!(answer.status, 422, "{}", answer.text());
        }
        only_pictures();
        drop(service);
        let _service = house.start();
        until(10, "the catalogue", || (total(ADMITTED, "0") > 0).then_some(()));
        only_pictures();
        house.admit(ADMITTED);
        only_pictures();
        house.mostra(&["device", "admit", ADMITTED, "--all-folders"]);
        assert_eq!(total(ADMITTED, "video-all"), 5);
    });
}

#[test]
fn the_user_agent_decides_nothing() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.meet(ADMITTED);
        house.admit(ADMITTED);
        let film = media_path(&browse(ADMITTED, "video-all"), "Harbour at dawn");
        // The admitted device under another name is the same device.
        assert_eq!(raw::ask(ADMITTED, "HEAD", &film, "User-Agent: Something/9\r\n").status, 200);
        // Another device under its name is another device.
        raw::ask(OTHER, "GET", "/about/device.xml", "User-Agent: Something/9\r\n");
        assert_eq!(raw::ask(OTHER, "HEAD", &film, "User-Agent: Something/9\r\n").status, 403);
    });
}

#[test]
fn an_open_doorway_admits_who_was_never_here() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.meet(OTHER);
        house.mostra(&["house", "doorway", "open"]);
        house.meet(ADMITTED);
        assert_eq!(total(ADMITTED, "video-all"), 5);
        assert_eq!(total(OTHER, "0"), 1, "who waits goes on waiting");
        house.mostra(&["device", "forget", OTHER, "--yes"]);
        assert_eq!(total(OTHER, "video-all"), 5, "forgotten, it is met as new");
    });
}

#[test]
fn a_decision_moves_one_devices_ids_and_nobody_elses() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.meet(ADMITTED);
        house.meet(OTHER);
        let (mine, other) = (Subscriber::new(ADMITTED), Subscriber::new(OTHER));
        for subscriber in [&mine, &other] {
            let (head, body) = subscriber.event(5).expect("an initial event");
            assert!(head.starts_with("NOTIFY /ev?k=1 HTTP/1.1\r\n"), "{head}");
            let lower = head.to_lowercase();
            for field in ["nt: upnp:event", "nts: upnp:propchange", "seq: 0", "sid: uuid:"] {
                assert!(lower.contains(field), "{field} in {head}");
            }
            for variable in ["SystemUpdateID", "ContainerUpdateIDs", "TransferIDs"] {
                assert!(body.contains(&format!("<{variable}>")), "{variable} in {body}");
            }
        }
        let (before, before_other) = (update_id(ADMITTED), update_id(OTHER));
        house.admit(ADMITTED);
        let (head, body) = mine.event(5).expect("an event for the admitted device");
        assert!(head.to_lowercase().contains("seq: 1"));
        assert_ne!(update_id(ADMITTED), before);
        let told = between(&body, "<SystemUpdateID>", "</SystemUpdateID>").unwrap();
        assert_eq!(told.parse::<u32>().unwrap(), update_id(ADMITTED));
        assert_eq!(update_id(OTHER), before_other);
        assert!(other.event(1).is_none(), "nobody else is told");

        // A change of the catalogue reaches who sees it, with the containers it touched.
        house.publish("Pictures");
        let (_, body) = mine.event(10).expect("an event for new pictures");
        let pairs = between(&body, "<ContainerUpdateIDs>", "</ContainerUpdateIDs>").unwrap();
        assert!(pairs.split(',').any(|p| p == "pictures" || p == "folders"), "{pairs}");
        assert!(other.event(1).is_none(), "who waits sees no change");
    });
}

#[test]
fn callbacks_elsewhere_are_refused_and_nothing_is_sent_there() {
    in_a_house(|house| {
        let _service = house.begin();
        let victim = TcpListener::bind(("127.0.0.77", 0)).unwrap();
        victim.set_nonblocking(true).unwrap();
        let fields =
            format!("CALLBACK: <http://{}/>\r\nNT: upnp:event\r\n", victim.local_addr().unwrap());
        assert_eq!(raw::ask(ADMITTED, "SUBSCRIBE", "/event/content", &fields).status, 412);
        let own = format!("CALLBACK: <http://{SERVER}/>\r\nNT: upnp:event\r\n");
        assert_eq!(raw::ask("127.0.0.1", "SUBSCRIBE", "/event/content", &own).status, 412);
        assert_eq!(
            raw::ask(ADMITTED, "SUBSCRIBE", "/event/content", "SID: uuid:x\r\nNT: upnp:event\r\n")
                .status,
            400
        );
        assert_eq!(
            raw::ask(ADMITTED, "UNSUBSCRIBE", "/event/content", "SID: uuid:x\r\n").status,
            412
        );
        // A subscription of another device, as a marker that events do flow meanwhile.
        assert!(Subscriber::new(OTHER).event(5).is_some());
        assert!(victim.accept().is_err(), "nobody connected to the victim");
    });
}
