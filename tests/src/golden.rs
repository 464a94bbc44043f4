//! What the demo house answers, written to files, so that two builds of the service can be
//! compared: `golden DIRECTORY`. The first run makes a house and keeps its records in
//! `target/golden`; every later one answers from the same records. `scripts/golden` compares.

use std::collections::{BTreeSet, VecDeque};
use std::fmt::Write as _;
use std::fs;
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::path::{Path, PathBuf};
use std::process::Command;

use mostra_tests::subscriber::Subscriber;
use mostra_tests::{House, in_a_house, psql, raw, top, until};
use serde_json::Value;

/// Sees everything; sees pictures only; waits; is refused.
const DEVICES: [&str; 4] = ["127.0.0.11", "127.0.0.12", "127.0.0.13", "127.0.0.14"];

fn main() {
    let out = PathBuf::from(std::env::args().nth(1).expect("a directory to write to"));
    fs::create_dir_all(&out).expect("the directory");
    let dump = top().join("target/golden/house.sql");
    if !dump.exists() {
        fs::create_dir_all(dump.parent().expect("a directory")).expect("target/golden");
        let dump = dump.clone();
        in_a_house(move |house| make(&house, &dump));
    }
    in_a_house(move |house| {
        let restored = psql(&house.database_url).args(["-q", "-f"]).arg(&dump).output();
        assert!(restored.expect("psql runs").status.success());
        record(&house, &out);
    });
}

/// Makes the house and keeps its records.
fn make(house: &House, dump: &Path) {
    let mut running = house.begin();
    ["Films", "Sound", "Pictures"].into_iter().for_each(|folder| house.publish(folder));
    until(60, "the scans", || {
        let folders = house.json(&["folder", "list"]);
        folders
            .as_array()?
            .iter()
            .all(|f| !f["scanned_ms"].is_null() && f["scan"].is_null())
            .then_some(())
    });
    DEVICES.into_iter().for_each(|device| house.meet(device));
    house.admit(DEVICES[0]);
    house.mostra(&["device", "admit", DEVICES[1], "--kinds", "picture"]);
    house.mostra(&["device", "refuse", DEVICES[3]]);
    assert!(running.stop());
    let mut command = Command::new("pg_dump");
    for (name, value) in psql(&house.database_url).get_envs() {
        command.env(name, value.expect("a value"));
    }
    let made = command.args(["--no-owner", "--file"]).arg(dump).output().expect("pg_dump runs");
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
}

fn record(house: &House, out: &Path) {
    let _running = house.begin();
    until(60, "the catalogue", || {
        let items = house.json(&["status"])["items"].as_u64()?;
        (items > 0).then_some(())
    });
    // What a scan at the start says comes after it.
    until(60, "the scans", || {
        let folders = house.json(&["folder", "list"]);
        folders
            .as_array()?
            .iter()
            .all(|f| !f["scanned_ms"].is_null() && f["scan"].is_null())
            .then_some(())
    });
    for device in DEVICES {
        fs::write(out.join(format!("{device}.txt")), of_device(device)).expect("written");
    }
    let mut found = raw::search_all(DEVICES[0], 2);
    found.sort();
    fs::write(out.join("search.txt"), without(&found.join("\n"), &["DATE:"])).expect("written");
    let mut api = String::new();
    for path in ["/house", "/status", "/config", "/folders", "/devices", "/accounts"] {
        let mut value = house.api("GET", path);
        timeless(&mut value);
        let _ = writeln!(api, "{path}\n{value:#}");
    }
    let mut open: VecDeque<String> = VecDeque::from(["0".to_owned()]);
    let mut seen = BTreeSet::new();
    while let Some(id) = open.pop_front() {
        let page = house.api("GET", &format!("/catalogue/{id}/children?count=500"));
        for object in page["objects"].as_array().into_iter().flatten() {
            let child = object["id"].as_str().expect("an id").to_owned();
            if !object["children"].is_null() && seen.insert(child.clone()) {
                open.push_back(child);
            }
        }
        let _ = writeln!(api, "{id}\n{page:#}");
    }
    fs::write(out.join("api.txt"), api).expect("written");
}

/// All that one device is answered.
fn of_device(device: &str) -> String {
    let mut out = String::new();
    let mut put = |what: &str, answer: &raw::Answer| {
        // The fields come in any order.
        let head = without(&answer.head, &["date:"]);
        let (start, fields) = head.split_once('\n').unwrap_or((&head, ""));
        let mut fields: Vec<&str> = fields.lines().collect();
        fields.sort_unstable();
        let head = format!("{start}\n{}", fields.join("\n"));
        let text = String::from_utf8(answer.body.clone());
        let body = text.unwrap_or_else(|error| {
            let mut hasher = DefaultHasher::new();
            error.as_bytes().hash(&mut hasher);
            format!("{} bytes, {:x}", error.as_bytes().len(), hasher.finish())
        });
        let _ = writeln!(out, "### {what}\n{head}\n{body}\n");
    };
    for path in ["device", "content", "connection", "registrar"] {
        put(path, &raw::ask(device, "GET", &format!("/about/{path}.xml"), ""));
    }
    for path in ["/", "/about/house-120.png", "/about/nothing", "/media/nothing.mp4"] {
        put(path, &raw::ask(device, "GET", path, ""));
    }
    for (service, action, arguments) in [
        ("content", "GetSearchCapabilities", ""),
        ("content", "GetSortCapabilities", ""),
        ("content", "GetSystemUpdateID", ""),
        ("content", "Nothing", ""),
        ("content", "Browse", "<ObjectID>0</ObjectID>"),
        ("connection", "GetProtocolInfo", ""),
        ("connection", "GetCurrentConnectionIDs", ""),
        ("connection", "GetCurrentConnectionInfo", "<ConnectionID>0</ConnectionID>"),
        ("connection", "GetCurrentConnectionInfo", "<ConnectionID>7</ConnectionID>"),
        ("registrar", "IsAuthorized", "<DeviceID>a</DeviceID>"),
        ("registrar", "IsValidated", "<DeviceID>a</DeviceID>"),
        ("registrar", "RegisterDevice", "<RegistrationReqMsg></RegistrationReqMsg>"),
    ] {
        put(action, &raw::call(device, service, action, arguments));
    }
    let mut open: VecDeque<String> = VecDeque::from(["0".to_owned()]);
    let (mut seen, mut urls) = (BTreeSet::new(), BTreeSet::new());
    while let Some(id) = open.pop_front() {
        let page = raw::browse(device, &id);
        let text = raw::unescaped(&page.text());
        for piece in text.split("<container id=\"").skip(1) {
            let child = piece.split('"').next().unwrap_or_default().to_owned();
            if seen.insert(child.clone()) {
                open.push_back(child);
            }
        }
        let here = format!("http://{}", mostra_tests::SERVER);
        urls.extend(text.split(&here).skip(1).map(|rest| {
            let end = rest.find(['<', '"', ' ', ',']).unwrap_or(rest.len());
            rest[..end].to_owned()
        }));
        put(&format!("children of {id}"), &page);
        let meta = format!(
            "<ObjectID>{id}</ObjectID><BrowseFlag>BrowseMetadata</BrowseFlag><Filter>*</Filter>\
             <StartingIndex>0</StartingIndex><RequestedCount>0</RequestedCount><SortCriteria></SortCriteria>"
        );
        put(&format!("metadata of {id}"), &raw::call(device, "content", "Browse", &meta));
        for (criteria, filter, sort) in [
            ("*", "*", ""),
            ("upnp:class derivedfrom \"object.item\"", "dc:title,res@size", "-dc:title"),
            ("dc:title contains \"e\"", "", "+dc:date,+dc:title"),
        ] {
            let criteria = criteria.replace('"', "&quot;");
            let search = format!(
                "<ContainerID>{id}</ContainerID><SearchCriteria>{criteria}</SearchCriteria><Filter>{filter}</Filter>\
                 <StartingIndex>0</StartingIndex><RequestedCount>0</RequestedCount><SortCriteria>{sort}</SortCriteria>"
            );
            let what = format!("search of {id} for {criteria}");
            put(&what, &raw::call(device, "content", "Search", &search));
        }
    }
    for url in &urls {
        let fields = "getcontentFeatures.dlna.org: 1\r\ntransferMode.dlna.org: Background\r\n";
        put(url, &raw::ask(device, "HEAD", url, fields));
        put(url, &raw::ask(device, "HEAD", url, "TimeSeekRange.dlna.org: npt=1-\r\n"));
        put(url, &raw::ask(device, "GET", url, "Range: bytes=10-49\r\n"));
        put(url, &raw::ask(device, "GET", url, "Range: bytes=999999999-\r\n"));
    }
    for service in ["content", "connection", "registrar"] {
        if device != DEVICES[3] {
            let event = Subscriber::to(device, service).event(10).expect("an initial event");
            let head = without(&event.0, &["sid:", "host:", "NOTIFY"]);
            let _ = writeln!(out, "### event of {service}\n{head}\n{}\n", event.1);
        }
    }
    out
}

/// Text without the lines that differ each time.
fn without(text: &str, starts: &[&str]) -> String {
    let differs = |line: &&str| {
        let line = line.to_lowercase();
        !starts.iter().any(|start| line.starts_with(&start.to_lowercase()))
    };
    text.lines().filter(differs).map(|line| format!("{line}\n")).collect()
}

/// Takes out what differs each time.
fn timeless(value: &mut Value) {
    match value {
        Value::Object(fields) => {
            fields.retain(|name, value| {
                timeless(value);
                let varies = ["host", "value", "sessions", "uptime_ms", "memory"];
                !name.ends_with("_ms") && !varies.contains(&name.as_str())
            });
        }
        Value::Array(list) => list.iter_mut().for_each(timeless),
        _ => {}
    }
}
