//! What one device needs done differently: on the wire, for it alone.

use mostra_tests::raw::{self, ask, between, browse, call};
use mostra_tests::{House, in_a_house, until};

const OLD: &str = "127.0.0.61";
const NEW: &str = "127.0.0.62";

fn ready(house: &House) {
    house.publish("Sound");
    for player in [OLD, NEW] {
        house.meet(player);
        house.admit(player);
    }
}

/// MIME type and path of the first `res` of an item in a list.
fn first_resource(listing: &str) -> (String, String) {
    let info = between(listing, "protocolInfo=\"http-get:*:", ":").unwrap().to_owned();
    let after = &listing[listing.find("<res ").unwrap()..];
    let url = between(after, "http://", "<").unwrap();
    (info, url[url.find('/').unwrap()..].to_owned())
}

fn listing(player: &str, id: &str) -> String {
    raw::unescaped(&browse(player, id).text())
}

fn update_id(player: &str) -> u32 {
    let answer = call(player, "content", "GetSystemUpdateID", "").text();
    between(&answer, "<Id>", "</Id>").unwrap().parse().unwrap()
}

#[test]
fn a_mime_type_is_the_same_in_listing_answer_and_source_and_for_one_device_only() {
    in_a_house(|house| {
        let _service = house.begin();
        ready(&house);
        let (mime, path) = first_resource(&listing(OLD, "music-all"));
        assert_eq!(mime, "audio/wav");
        let before = (update_id(OLD), update_id(NEW));
        house.mostra(&["device", "traits", OLD, r#"mimes={"audio/wav":"audio/x-wav"}"#]);
        for (player, expected) in [(OLD, "audio/x-wav"), (NEW, "audio/wav")] {
            let (mime, same) = first_resource(&listing(player, "music-all"));
            assert_eq!((mime.as_str(), &same), (expected, &path));
            let answer = ask(player, "HEAD", &path, "");
            assert_eq!(answer.field("content-type"), Some(expected));
            let source = call(player, "connection", "GetProtocolInfo", "").text();
            assert_eq!(source.contains("audio/x-wav"), player == OLD);
        }
        assert!(update_id(OLD) > before.0, "it reads its listings again");
        assert_eq!(update_id(NEW), before.1, "nobody else does");

        let shown = house.json(&["device", "traits", OLD]);
        assert_eq!(shown["traits"]["mimes"]["audio/wav"], "audio/x-wav");
        for (wrong, word) in [
            ("page-objects=0", "at least one"),
            ("mood=calm", "mood"),
            ("mimes={\"a\":\"b\"}", "MIME"),
            ("page-objects", "NAME=VALUE"),
        ] {
            let said = house.mostra_fails(&["device", "traits", OLD, wrong]);
            assert!(said.contains(word), "{wrong}: {said}");
        }
        house.mostra(&["device", "traits", OLD, "--clear", "mimes"]);
        assert_eq!(first_resource(&listing(OLD, "music-all")).0, "audio/wav");
    });
}

#[test]
fn a_rule_holds_once_matched_also_after_a_restart() {
    in_a_house(|house| {
        let rules = "[[rule]]\nname = \"small pages\"\nwhen = { user-agent = \"oldplayer\" }\n\
                     traits = { page-objects = 1, pass-over-sort = true }\n";
        std::fs::write(house.data.path().join("traits.toml"), rules).unwrap();
        let mut service = house.begin();
        ready(&house);
        let returned = |player: &str| {
            let text = browse(player, "0").text();
            between(&text, "<NumberReturned>", "<").unwrap().parse::<u32>().unwrap()
        };
        assert!(returned(OLD) > 1);
        // It says what it is in one request, and nothing in the next.
        ask(OLD, "GET", "/about/device.xml", "User-Agent: ExampleOS/1 OldPlayer/3\r\n");
        assert_eq!((returned(OLD), returned(NEW) > 1), (1, true));
        let sorted = "<ObjectID>0</ObjectID><BrowseFlag>BrowseDirectChildren</BrowseFlag>\
                      <Filter>*</Filter><StartingIndex>0</StartingIndex>\
                      <RequestedCount>0</RequestedCount><SortCriteria>+x:mood</SortCriteria>";
        assert_eq!(call(OLD, "content", "Browse", sorted).status, 200);
        assert!(call(NEW, "content", "Browse", sorted).text().contains("<errorCode>709<"));
        until(10, "the rule to be noted", || {
            let rules = house.json(&["device", "show", OLD])["rules"].clone();
            (rules == serde_json::json!(["small pages"])).then_some(())
        });
        assert!(service.stop());
        let _service = house.begin();
        until(10, "one object in a page", || (returned(OLD) == 1).then_some(()));
    });
}

#[test]
fn who_asks_the_registrar_may_open_menus_by_fixed_ids() {
    in_a_house(|house| {
        let _service = house.begin();
        ready(&house);
        let total = |player: &str, id: &str| {
            let text = browse(player, id).text();
            between(&text, "<TotalMatches>", "<").map(str::to_owned)
        };
        let audio = "<ContainerID>7</ContainerID><SearchCriteria>upnp:class derivedfrom \
                     &quot;object.container.album.musicAlbum&quot;</SearchCriteria>";
        assert_eq!(total(OLD, "4"), None);
        assert!(call(OLD, "content", "Search", audio).text().contains("<errorCode>710<"));
        let answer = call(OLD, "registrar", "IsAuthorized", "<DeviceID></DeviceID>").text();
        assert!(answer.contains("<Result>1</Result>"), "{answer}");
        assert!(total(OLD, "4").is_some());
        assert_eq!(total(OLD, "4"), total(OLD, "music-all"));
        assert!(listing(OLD, "4").contains("parentID=\"4\""));
        let found = call(OLD, "content", "Search", audio).text();
        let albums = between(&found, "<TotalMatches>", "<").map(str::to_owned);
        assert_eq!(albums, total(OLD, "albums"));
        assert_eq!(total(NEW, "4"), None, "for all others there is no such object");
        assert!(call(NEW, "content", "Search", audio).text().contains("<errorCode>710<"));
    });
}

#[test]
fn a_device_is_told_of_subtitles_in_the_field_it_knows() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        for player in [OLD, NEW] {
            house.meet(player);
            house.admit(player);
        }
        let path = raw::media_path(&browse(OLD, "video-all"), "Lamp-room tour");
        let wish = r#"caption-field={"asked":"getCaptions.example","answer":"Captions.example"}"#;
        house.mostra(&["device", "traits", OLD, wish]);
        let asking = "getCaptions.example: 1\r\n";
        let told = |player: &str, method: &str, fields: &str| {
            let answer = ask(player, method, &path, fields);
            answer.field("captions.example").map(str::to_owned)
        };
        let url = told(OLD, "HEAD", asking).expect("where they are");
        assert_eq!(told(OLD, "GET", asking).as_ref(), Some(&url));
        assert_eq!(told(OLD, "GET", ""), None, "it did not ask");
        assert_eq!(told(NEW, "HEAD", asking), None, "for that device alone");
        let place = url.strip_prefix(&format!("http://{}", mostra_tests::SERVER)).unwrap();
        let captions = ask(OLD, "GET", place, "");
        assert_eq!((captions.status, captions.field("content-type")), (200, Some("text/srt")));
        // And in an element of the listing.
        let wish = r#"caption-element={"namespace":"http://example.com/ns","name":"ex:captions",
            "attributes":{"ex:form":"{form}"}}"#;
        house.mostra(&["device", "traits", OLD, wish]);
        let element = format!(
            "<ex:captions xmlns:ex=\"http://example.com/ns\" ex:form=\"srt\">{url}</ex:captions>"
        );
        let listing = |player: &str| raw::unescaped(&browse(player, "video-all").text());
        assert!(listing(OLD).contains(&element), "{}", listing(OLD));
        assert!(!listing(NEW).contains("ex:captions"));
        // A film without subtitles has none to tell of.
        let dawn = raw::media_path(&browse(OLD, "video-all"), "Harbour at dawn");
        assert_eq!(ask(OLD, "HEAD", &dawn, asking).field("captions.example"), None);
        let wrong = r#"caption-field={"answer":"Content-Length"}"#;
        assert!(house.mostra_fails(&["device", "traits", OLD, wrong]).contains("X-"));
    });
}
