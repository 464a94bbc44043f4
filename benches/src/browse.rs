//! Browse of a 30-item page against a bare handler that returns the same bytes.

use std::fmt::Write as _;
use std::process::Command;

use actix_web::{App, HttpResponse, HttpServer, web};
use mostra_tests::{House, SERVER, raw, top, until};

const BARE: &str = "127.0.0.1:7681";

pub(crate) fn measure(house: &House, report: &mut String) {
    thirty(house);
    let answer = raw::browse("127.0.0.1", "pictures-all");
    assert!(answer.text().contains("<NumberReturned>30<"));
    serve_bare(answer.body.clone());
    until(10, "the bare handler", || raw::get(BARE, "/").ok());

    let mut ratios = Vec::new();
    let (mut ours, mut bare) = (Vec::new(), Vec::new());
    for _ in 0..5 {
        let (a, b) = (rate(house, SERVER), rate(house, BARE));
        ratios.push(a / b);
        ours.push(a);
        bare.push(b);
    }
    let _ = writeln!(
        report,
        "## Browse of a 30-item page ({} bytes), over HTTP, 8 connections, median of 5 pairs of 3 s\n\n\
         | what | requests a second |\n| --- | --- |\n| Browse | {:.0} |\n| bare Actix handler, the same bytes from memory | {:.0} |\n\
         | ratio | {:.2} |\n",
        answer.body.len(),
        super::median(ours),
        super::median(bare),
        super::median(ratios)
    );
}

/// Publishes thirty pictures, once.
pub(crate) fn thirty(house: &House) {
    let folder = house.folders.path().join("thirty");
    if folder.exists() {
        return;
    }
    std::fs::create_dir(&folder).expect("a folder");
    let picture = std::fs::read(top().join("demo/media/Pictures/Tides/Low water mark.jpg"))
        .expect("a picture");
    for n in 0..30 {
        std::fs::write(folder.join(format!("Low water {n}.jpg")), &picture).expect("a file");
    }
    house.mostra(&["folder", "add", folder.to_str().expect("text")]);
    house.meet("127.0.0.1");
    house.admit("127.0.0.1");
}

/// The bare handler, with as many workers as the device listener has.
fn serve_bare(body: Vec<u8>) {
    std::thread::spawn(move || {
        let body = web::Bytes::from(body);
        let runtime =
            tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
        runtime.block_on(async {
            let app = move || {
                let body = body.clone();
                App::new().default_service(web::to(move |_: web::Bytes| {
                    let body = body.clone();
                    async move {
                        HttpResponse::Ok().content_type("text/xml; charset=\"utf-8\"").body(body)
                    }
                }))
            };
            HttpServer::new(app)
                .workers(2)
                .bind(BARE)
                .expect("a port")
                .run()
                .await
                .expect("a server");
        });
    });
}

fn rate(house: &House, server: &str) -> f64 {
    let script = house.data.path().join("browse.lua");
    let body = "<s:Envelope xmlns:s=\\\"http://schemas.xmlsoap.org/soap/envelope/\\\"><s:Body>\
        <u:Browse xmlns:u=\\\"urn:schemas-upnp-org:service:ContentDirectory:1\\\"><ObjectID>pictures-all</ObjectID>\
        <BrowseFlag>BrowseDirectChildren</BrowseFlag><Filter>*</Filter><StartingIndex>0</StartingIndex>\
        <RequestedCount>30</RequestedCount><SortCriteria></SortCriteria></u:Browse></s:Body></s:Envelope>";
    let text = format!(
        "wrk.method = \"POST\"\nwrk.body = \"{body}\"\nwrk.headers[\"Content-Type\"] = \"text/xml\"\n"
    );
    std::fs::write(&script, text).expect("a script");
    let output = Command::new("wrk")
        .args(["-t1", "-c8", "-d3s", "-s"])
        .arg(&script)
        .arg(format!("http://{server}/control/content"))
        .output()
        .expect("wrk runs");
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(!said.contains("Non-2xx"), "{said}");
    let line =
        said.lines().find(|l| l.starts_with("Requests/sec:")).unwrap_or_else(|| panic!("{said}"));
    line.split_ascii_whitespace().nth(1).and_then(|n| n.parse().ok()).expect("a rate")
}
