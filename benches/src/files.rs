//! A whole file of 1 GiB against nginx with sendfile, one and eight readers.

use std::fmt::Write as _;
use std::io::{Read, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Instant;

use mostra_tests::{House, SERVER, raw, top, until};

const NGINX: &str = "127.0.0.1:7682";
const SIZE: u64 = 1 << 30;

pub fn measure(house: &House, report: &mut String) {
    let folder = house.data.path().join("big");
    std::fs::create_dir(&folder).expect("a folder");
    make(&folder.join("big.mp4"));
    house.mostra(&["folder", "add", folder.to_str().expect("text")]);
    let path = raw::media_path(&raw::browse("127.0.0.1", "video-all"), "Lamp-room tour");
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
        "## A whole file of 1 GiB, median of 5 pairs\n\n\
         | readers | Mostra GiB/s | nginx (sendfile) GiB/s | ratio | processor s/GiB, Mostra | nginx | ratio |\n\
         | --- | --- | --- | --- | --- | --- | --- |"
    );
    for readers in [1, 8] {
        let mut columns: [Vec<f64>; 6] = Default::default();
        for _ in 0..5 {
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
    // Asked, not killed: its workers would stay behind.
    let _ = Command::new("kill").arg(nginx.id().to_string()).status();
    let _ = nginx.wait();
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
         http {{ access_log off; sendfile on; tcp_nopush on; client_body_temp_path {0}/b; proxy_temp_path {0}/p;\n\
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
