//! A whole file of 1 GiB against nginx with sendfile, one and eight readers.

use std::fmt::Write as _;
use std::io::{Read, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Instant;

use mostra_tests::{House, SERVER, raw, top, until};

const NGINX: &str = "127.0.0.1:7682";
const SIZE: u64 = 1 << 30;

pub(crate) fn measure(house: &House, report: &mut String) {
    let path = big(house);
    let folder = house.folders.path().join("big");
    let mut nginx = serve(house, &folder);
    until(10, "nginx", || {
        raw::exchange(
            "127.0.0.1",
            NGINX,
            &format!("HEAD /big.mp4 HTTP/1.1\r\nHost: {NGINX}\r\n\r\n"),
        )
        .ok()
    });
    let _ = writeln!(
        report,
        "## A whole file of 1 GiB, medians of 15 pairs with one reader and of 5 with eight\n\n\
         | readers | Mostra GiB/s | nginx (sendfile) GiB/s | ratio | processor s/GiB, Mostra | nginx | ratio |\n\
         | --- | --- | --- | --- | --- | --- | --- |"
    );
    // On which processor reader and server meet is luck, and tells most with one of each.
    for (readers, pairs) in [(1, 15), (8, 5)] {
        let mut columns: [Vec<f64>; 6] = Default::default();
        for _ in 0..pairs {
            let ours = run(SERVER, &path, readers, &super::processes("mostrad"));
            let peer = run(NGINX, "/big.mp4", readers, &super::processes("nginx"));
            let row = [ours.0, peer.0, ours.0 / peer.0, ours.1, peer.1, ours.1 / peer.1];
            columns.iter_mut().zip(row).for_each(|(column, value)| column.push(value));
        }
        let m = columns.map(super::median);
        let _ = writeln!(
            report,
            "| {readers} | {:.2} | {:.2} | {:.2} | {:.2} | {:.2} | {:.2} |",
            m[0], m[1], m[2], m[3], m[4], m[5]
        );
    }
    report.push('\n');
    ranges(&path, report);
    paused(&path, report);
    // Asked, not killed: its workers would stay behind.
    let _ = Command::new("kill").arg(nginx.id().to_string()).status();
    let _ = nginx.wait();
}

/// Publishes a film of 1 GiB, once; gives its path on the device listener.
pub(crate) fn big(house: &House) -> String {
    let folder = house.folders.path().join("big");
    if !folder.exists() {
        std::fs::create_dir(&folder).expect("a folder");
        make(&folder.join("big.mp4"));
        house.mostra(&["folder", "add", folder.to_str().expect("text")]);
        house.meet("127.0.0.1");
        house.admit("127.0.0.1");
    }
    raw::media_path(&raw::browse("127.0.0.1", "video-all"), "Lamp-room tour")
}

/// Ranges of 1 MiB one after the other on one connection, as players ask for them.
fn ranges(path: &str, report: &mut String) {
    let mut columns: [Vec<f64>; 3] = Default::default();
    for _ in 0..5 {
        let ours = run_ranges(SERVER, path);
        let peer = run_ranges(NGINX, "/big.mp4");
        let row = [ours, peer, ours / peer];
        columns.iter_mut().zip(row).for_each(|(column, value)| column.push(value));
    }
    let [ours, peer, ratio] = columns.map(super::median);
    let _ = writeln!(
        report,
        "Ranges of 1 MiB, 1024 in a row on one connection, median of 5 pairs: {ours:.2} GiB/s, \
         nginx {peer:.2} GiB/s, ratio {ratio:.2}.\n"
    );
}

fn run_ranges(server: &str, path: &str) -> f64 {
    let mut stream = raw::connect("127.0.0.1", server).expect("connected");
    let mut buffer = vec![0; 1 << 20];
    let begin = Instant::now();
    for n in 0..SIZE >> 20 {
        let (first, last) = (n << 20, (n << 20) + (1 << 20) - 1);
        // In one piece, or the kernel holds its parts back.
        let request =
            format!("GET {path} HTTP/1.1\r\nHost: {server}\r\nRange: bytes={first}-{last}\r\n\r\n");
        stream.write_all(request.as_bytes()).expect("asked");
        let head = raw::read_answer(&mut stream, false).expect("a head");
        assert_eq!(head.status, 206);
        stream.read_exact(&mut buffer).expect("a range");
    }
    1.0 / begin.elapsed().as_secs_f64()
}

/// Streams that nobody reads on with.
fn paused(path: &str, report: &mut String) {
    const STREAMS: usize = 1000;
    let service = super::processes("mostrad")[0];
    let pause = || -> Vec<_> {
        let begin = |_| {
            let mut stream = raw::connect_with("127.0.0.1", SERVER, Some(4096)).expect("connected");
            write!(stream, "GET {path} HTTP/1.1\r\nHost: {SERVER}\r\n\r\n").expect("asked");
            assert_eq!(raw::read_answer(&mut stream, false).expect("a head").status, 200);
            stream
        };
        (0..STREAMS).map(begin).collect()
    };
    // What was only needed for a moment goes back to the system after another.
    let settled = || {
        std::thread::sleep(std::time::Duration::from_secs(2));
        super::resident(service)
    };
    // Threads and their heaps come with the first of them and stay: they are counted too.
    let empty = settled();
    let streams = pause();
    let full = settled();
    let each = full.saturating_sub(empty) as f64 / STREAMS as f64;
    let _ = writeln!(
        report,
        "{STREAMS} paused streams: {each:.1} KiB of the service's own memory each (aim 64).\n"
    );
    drop(streams);
}

/// A film whose last box is as long as it takes to make 1 GiB.
fn make(path: &Path) {
    let mut bytes =
        std::fs::read(top().join("demo/media/Films/Lamp-room tour.mp4")).expect("a film");
    let rest = SIZE - bytes.len() as u64;
    bytes.extend(1u32.to_be_bytes());
    bytes.extend(b"free");
    bytes.extend(rest.to_be_bytes());
    let mut file = std::fs::File::create(path).expect("a file");
    file.write_all(&bytes).expect("written");
    let mut left = SIZE - bytes.len() as u64;
    let block: Vec<u8> =
        (0..1u32 << 18).flat_map(|n| n.wrapping_mul(2_654_435_761).to_le_bytes()).collect();
    while left > 0 {
        let n = left.min(block.len() as u64);
        file.write_all(&block[..n as usize]).expect("written");
        left -= n;
    }
}

fn serve(house: &House, folder: &Path) -> Child {
    let place = house.data.path();
    let text = format!(
        "daemon off; user root; worker_processes 2; pid {0}/nginx.pid; error_log {0}/nginx.log;\n\
         events {{ worker_connections 64; }}\n\
         http {{ access_log off; sendfile on; tcp_nopush on; keepalive_requests 100000; client_body_temp_path {0}/b; proxy_temp_path {0}/p;\n\
         fastcgi_temp_path {0}/f; uwsgi_temp_path {0}/u; scgi_temp_path {0}/s;\n\
         server {{ listen {NGINX}; root {1}; }} }}\n",
        place.display(),
        folder.display()
    );
    let config = place.join("nginx.conf");
    std::fs::write(&config, text).expect("a configuration");
    Command::new("nginx").arg("-c").arg(config).stderr(Stdio::null()).spawn().expect("nginx starts")
}

/// Reads the file with this many readers at once; gives GiB/s and the server's processor
/// seconds for each GiB.
fn run(server: &'static str, path: &str, readers: usize, processes: &[u32]) -> (f64, f64) {
    let (begin, used) = (Instant::now(), super::processor_seconds(processes));
    let threads: Vec<_> = (0..readers)
        .map(|_| {
            let request =
                format!("GET {path} HTTP/1.1\r\nHost: {server}\r\nConnection: close\r\n\r\n");
            std::thread::spawn(move || {
                let mut stream = raw::connect("127.0.0.1", server).expect("connected");
                stream.write_all(request.as_bytes()).expect("asked");
                let mut buffer = vec![0; 1 << 18];
                let mut total = 0u64;
                loop {
                    match stream.read(&mut buffer).expect("read") {
                        0 => break,
                        n => total += n as u64,
                    }
                }
                assert!(total > SIZE, "{total}");
            })
        })
        .collect();
    threads.into_iter().for_each(|t| t.join().expect("a reader"));
    let gib = readers as f64;
    (gib / begin.elapsed().as_secs_f64(), (super::processor_seconds(processes) - used) / gib)
}
