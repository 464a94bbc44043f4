//! How long Browse takes for one of many clients while films are being watched.

use std::fmt::Write as _;
use std::io::{Read as _, Write as _};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use mostra_tests::{House, SERVER, raw};

const CLIENTS: u32 = 64;
const STREAMS: usize = 8;
const SECONDS: u64 = 5;
/// How long a client looks at a page before it asks for the next.
const LOOKS: Duration = Duration::from_millis(100);

pub(crate) fn measure(house: &House, report: &mut String) {
    let _ = writeln!(
        report,
        "## Browse of a 30-item page, {CLIENTS} clients each with a connection, a page and then \
         {} ms to look at it, {STREAMS} streams meanwhile\n\n\
         | streams | GiB/s in all | pages | median | 99th percentile |\n\
         | --- | --- | --- | --- | --- |",
        LOOKS.as_millis()
    );
    crate::browse::thirty(house);
    let path = crate::files::big(house);
    for (name, pace) in [
        ("none", None),
        ("as films are watched, 40 Mbit/s each", Some(5 << 20)),
        ("as fast as they go", Some(u64::MAX)),
    ] {
        let (pages, rate) = run(&path, pace);
        let at =
            |share: f64| pages[((pages.len() - 1) as f64 * share) as usize].as_secs_f64() * 1e3;
        let _ = writeln!(
            report,
            "| {name} | {rate:.2} | {} | {:.1} ms | {:.1} ms |",
            pages.len(),
            at(0.5),
            at(0.99)
        );
    }
    report.push('\n');
}

/// The pages' times, in order, and GiB a second that the streams took; `pace` is bytes a second.
fn run(path: &str, pace: Option<u64>) -> (Vec<Duration>, f64) {
    let (ended, taken) = (AtomicBool::new(false), AtomicU64::new(0));
    let pages: Mutex<Vec<Duration>> = Mutex::default();
    let began = Instant::now();
    let end = began + Duration::from_secs(SECONDS);
    std::thread::scope(|scope| {
        for _ in 0..pace.map_or(0, |_| STREAMS) {
            scope.spawn(|| {
                while !ended.load(Ordering::Relaxed) {
                    watch(path, pace.unwrap_or_default(), &ended, &taken);
                }
            });
        }
        let clients: Vec<_> = (0..CLIENTS)
            .map(|n| {
                let pages = &pages;
                scope.spawn(move || {
                    // Not all at the same moment.
                    std::thread::sleep(LOOKS * n / CLIENTS);
                    while Instant::now() < end {
                        let asked = Instant::now();
                        let answer = raw::call("127.0.0.1", "content", "Browse", PAGE);
                        let took = asked.elapsed();
                        assert_eq!(answer.status, 200);
                        pages.lock().expect("unpoisoned").push(took);
                        std::thread::sleep(LOOKS);
                    }
                })
            })
            .collect();
        clients.into_iter().for_each(|client| client.join().expect("a client"));
        ended.store(true, Ordering::Relaxed);
    });
    let rate = taken.load(Ordering::Relaxed) as f64 / began.elapsed().as_secs_f64();
    let mut pages = pages.into_inner().expect("unpoisoned");
    pages.sort();
    (pages, rate / f64::from(1 << 30))
}

const PAGE: &str = "<ObjectID>pictures-all</ObjectID><BrowseFlag>BrowseDirectChildren</BrowseFlag>\
    <Filter>*</Filter><StartingIndex>0</StartingIndex><RequestedCount>30</RequestedCount>\
    <SortCriteria></SortCriteria>";

fn watch(path: &str, pace: u64, ended: &AtomicBool, taken: &AtomicU64) {
    let mut stream = raw::connect("127.0.0.1", SERVER).expect("connected");
    let request = format!("GET {path} HTTP/1.1\r\nHost: {SERVER}\r\nConnection: close\r\n\r\n");
    stream.write_all(request.as_bytes()).expect("asked");
    let mut buffer = vec![0; 1 << 18];
    let (began, mut own) = (Instant::now(), 0u64);
    while !ended.load(Ordering::Relaxed) {
        match stream.read(&mut buffer) {
            Ok(0) | Err(_) => break,
            Ok(n) => {
                own += n as u64;
                taken.fetch_add(n as u64, Ordering::Relaxed);
            }
        }
        let due = Duration::from_secs_f64(own as f64 / pace as f64);
        std::thread::sleep(due.saturating_sub(began.elapsed()));
    }
}
