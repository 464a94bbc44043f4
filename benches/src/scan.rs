//! Scans of many small real files, against programs that only walk and read.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use mostra_tests::{House, top, until};

const FILES: usize = 100_000;

pub(crate) fn measure(house: &House, report: &mut String) {
    let folder = house.folders.path().join("many");
    generate(&folder);
    // What was just written goes to the disk before, and not meanwhile.
    nix::unistd::sync();
    // Both programs and the service find the same things in the page cache.
    let _ = walk_and_read(&folder);
    let (mut floors, mut firsts) = (Vec::new(), Vec::new());
    for round in 0..5 {
        if round > 0 {
            house.mostra(&["folder", "remove", "Many", "--yes"]);
        }
        floors.push(walk_and_read(&folder).as_secs_f64());
        let begin = Instant::now();
        let wish = serde_json::json!({ "path": folder, "label": "Many" }).to_string();
        let answer = house.api_with("POST", "/folders", &wish).expect("an answer");
        assert!(answer.status < 300, "{}", answer.text());
        until(600, "the scan", || done(house).then_some(()));
        firsts.push(begin.elapsed().as_secs_f64());
    }
    let items = house.json(&["folder", "list"]);
    let told = items.as_array().and_then(|all| all.iter().find(|f| f["label"] == "Many"));
    let published = told.map(|f| f["items"].to_string()).unwrap_or_default();
    let (mut finds, mut rescans) = (Vec::new(), Vec::new());
    for _ in 0..5 {
        finds.push(find(&folder).as_secs_f64());
        let before = scanned(house);
        let begin = Instant::now();
        let id = many(house)["id"].clone();
        let answer = house.api_with("POST", &format!("/folders/{id}/rescan"), "{}");
        assert!(answer.expect("an answer").status < 300);
        until(600, "the rescan", || (scanned(house) > before && done(house)).then_some(()));
        rescans.push(begin.elapsed().as_secs_f64());
    }
    let shown = (0..5).map(|n| until_shown(house, &folder, n).as_secs_f64()).collect();
    let shown = super::median(shown);
    let (floor, first) = (super::median(floors), super::median(firsts));
    let (find, rescan) = (super::median(finds), super::median(rescans));
    let _ = writeln!(
        report,
        "## Scans of {FILES} small real files (JPEG, MP3, MP4 in 500 directories), in the page cache\n\n\
         | what | seconds | ratio | aim |\n| --- | --- | --- | --- |\n\
         | two threads that only walk and read the first 64 KiB of each, median of 5 | {floor:.2} | | |\n\
         | first scan, from the call until all is read, recorded in PostgreSQL and shown ({published}), median of 5 | {first:.2} | {:.1} | 3 |\n\
         | `find` printing size and time, median of 5 | {find:.3} | | |\n\
         | unchanged rescan, from the call until the service says it is done, median of 5 | {rescan:.3} | {:.1} | 2 |\n\
         | one more file, from its last byte until it is published, median of 5 | {shown:.2} | | 2 s |\n",
        first / floor,
        rescan / find
    );
    house.mostra(&["folder", "remove", "Many", "--yes"]);
}

/// How long it takes until a file that was copied into a folder is published.
fn until_shown(house: &House, folder: &Path, n: usize) -> Duration {
    let items = || house.api("GET", "/status")["items"].as_u64();
    let before = items();
    let sound = top().join("demo/media/Sound/Night log.mp3");
    std::fs::copy(sound, folder.join(format!("Box {n}/One more.mp3"))).expect("a copy");
    let begin = Instant::now();
    until(60, "the new file", || (items() != before).then_some(()));
    begin.elapsed()
}

fn many(house: &House) -> serde_json::Value {
    // A client would be a process each time, which takes from what is measured.
    let folders = house.api("GET", "/folders");
    let all = folders.as_array().cloned().unwrap_or_default();
    all.into_iter().find(|f| f["label"] == "Many").unwrap_or_default()
}

fn done(house: &House) -> bool {
    std::thread::sleep(Duration::from_millis(10));
    let folder = many(house);
    folder["scan"].is_null() && !folder["scanned_ms"].is_null()
}

fn scanned(house: &House) -> u64 {
    many(house)["scanned_ms"].as_u64().unwrap_or(0)
}

/// Real files of the demo house, each with a name of its own; hard links would share a time.
fn generate(folder: &Path) {
    let media = top().join("demo/media");
    let picture =
        std::fs::read(media.join("Pictures/Tides/Low water mark.jpg")).expect("a picture");
    // It ends as a whole one does: one that is cut off is left out.
    let picture = [&picture[..picture.len().min(8_998)], b"\xff\xd9"].concat();
    let sound = std::fs::read(media.join("Sound/Night log.mp3")).expect("a sound");
    for n in 0..FILES {
        let directory = folder.join(format!("Box {}", n / 200));
        if n.is_multiple_of(200) {
            std::fs::create_dir_all(&directory).expect("a directory");
        }
        // Heads of real files: what a scan reads is there, and the disk is not filled.
        let (name, bytes) = match n % 4 {
            0 => (format!("Night log {n}.mp3"), &sound[..sound.len().min(20_000)]),
            _ => (format!("Negative {n}.jpg"), &picture[..]),
        };
        std::fs::write(directory.join(name), bytes).expect("a file");
    }
}

fn walk_and_read(folder: &Path) -> Duration {
    let begin = Instant::now();
    let mut directories: Vec<PathBuf> = vec![folder.to_owned()];
    let mut files: Vec<PathBuf> = Vec::new();
    while let Some(directory) = directories.pop() {
        for entry in std::fs::read_dir(directory).expect("a directory").flatten() {
            if entry.file_type().is_ok_and(|t| t.is_dir()) {
                directories.push(entry.path());
            } else {
                files.push(entry.path());
            }
        }
    }
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                let mut buffer = vec![0; 64 << 10];
                while let Some(path) = files.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let mut file = std::fs::File::open(path).expect("a file");
                    let _ = std::io::Read::read(&mut file, &mut buffer);
                }
            });
        }
    });
    begin.elapsed()
}

fn find(folder: &Path) -> Duration {
    let begin = Instant::now();
    let found = Command::new("find")
        .arg(folder)
        .args(["-printf", "%p %s %T@\n"])
        .stdout(Stdio::null())
        .status()
        .expect("find runs");
    assert!(found.success());
    begin.elapsed()
}
