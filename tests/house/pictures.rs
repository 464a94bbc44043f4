//! Pictures are made apart from the service, within bounds, and hold up nothing else.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::DirEntryExt as _;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use mostra_tests::raw::{ask, browse, media_path, unescaped};
use mostra_tests::{House, in_a_house, in_a_house_timed, media, until};

const PLAYER: &str = "127.0.0.44";

/// The most memory that a process ever had, in MiB.
fn peak(process: u32) -> u64 {
    let status = fs::read_to_string(format!("/proc/{process}/status")).unwrap();
    let line = status.lines().find(|l| l.starts_with("VmHWM:")).unwrap();
    line.split_ascii_whitespace().nth(1).unwrap().parse::<u64>().unwrap() / 1024
}

/// A picture with nothing but holes behind it.
fn sparse(path: &Path, length: u64) {
    fs::copy(media("Pictures/Storm/Storm 1.jpg"), path).unwrap();
    fs::OpenOptions::new().write(true).open(path).unwrap().set_len(length).unwrap();
}

/// The URL of the small form of a picture, or of the art of a sound.
fn art(id: &str, title: &str) -> String {
    let text = unescaped(&browse(PLAYER, id).text());
    let item =
        text.split("<item ").find(|item| item.contains(&format!("<dc:title>{title}<"))).unwrap();
    let at = item.find("/art/").unwrap_or_else(|| panic!("no art: {item}"));
    item[at..].split(['<', '"', '&']).next().unwrap().to_owned()
}

fn makers() -> Vec<u32> {
    let found = Command::new("pgrep").args(["-f", "make-picture"]).output().unwrap().stdout;
    let all = String::from_utf8_lossy(&found)
        .lines()
        .filter_map(|l| l.parse().ok())
        .collect::<Vec<u32>>();
    // Those of other tests run elsewhere.
    let here = fs::read_link("/proc/thread-self/ns/net").unwrap();
    all.into_iter()
        .filter(|id| fs::read_link(format!("/proc/{id}/ns/net")).is_ok_and(|n| n == here))
        .collect()
}

fn signal(processes: &[u32], name: &str) {
    for process in processes {
        let _ = Command::new("kill").args([name, &process.to_string()]).status();
    }
}

fn published(house: &House, folder: &Path) {
    house.mostra(&["folder", "add", folder.to_str().unwrap(), "--label", "Sandbox"]);
    house.meet(PLAYER);
    house.admit(PLAYER);
}

#[test]
fn huge_pictures_and_covers_cost_no_memory() {
    in_a_house(|house| {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        sparse(&at("huge.jpg"), 3 << 30);
        sparse(&at("large.jpg"), 200 << 20);
        fs::copy(media("Pictures/Storm/Storm 2.jpg"), at("usual.jpg")).unwrap();
        fs::create_dir(at("Album")).unwrap();
        fs::copy(media("Sound/Bell test.wav"), at("Album/bell.wav")).unwrap();
        sparse(&at("Album/cover.jpg"), 3 << 30);
        let service = house.begin();
        published(&house, folder.path());
        let began = Instant::now();
        for (container, title, status) in [
            ("pictures-all", "huge", 404),
            ("pictures-all", "usual", 200),
            ("music-all", "bell", 404),
        ] {
            let url = art(container, title);
            assert_eq!(ask(PLAYER, "GET", &url, "").status, status, "{title} {url}");
        }
        // What is behind the picture is not read as a picture: it shows, or it does not.
        let large = ask(PLAYER, "GET", &art("pictures-all", "large"), "").status;
        assert!(large == 200 || large == 404, "{large}");
        assert!(began.elapsed() < Duration::from_secs(30), "{:?}", began.elapsed());
        assert!(peak(service.id()) < 250, "{} MiB", peak(service.id()));
    });
}

#[test]
fn making_pictures_slowly_ends_no_stream_and_a_crash_costs_one_picture() {
    in_a_house_timed(|house| {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        for n in 1..=9 {
            fs::copy(media("Pictures/Storm/Storm 2.jpg"), at(&format!("p{n}.jpg"))).unwrap();
        }
        // Much work, so that it can be stopped in the middle.
        sparse(&at("slow.jpg"), 200 << 20);
        sparse(&at("slower.jpg"), 200 << 20);
        fs::copy(media("Sound/Night log.mp3"), at("log.mp3")).unwrap();
        let _service = house.begin();
        published(&house, folder.path());
        let urls: Vec<String> =
            ["slow", "slower"].iter().map(|title| art("pictures-all", title)).collect();
        let sound = media_path(&browse(PLAYER, "music-all"), "Night log");
        let whole = fs::metadata(at("log.mp3")).unwrap().len() as usize;
        std::thread::scope(|scope| {
            let asked: Vec<_> = urls
                .iter()
                .map(|url| scope.spawn(move || ask(PLAYER, "GET", url, "").status))
                .collect();
            let stopped = until(10, "makers to stop", || {
                let all = makers();
                signal(&all, "-STOP");
                (all.len() == 2).then_some(all)
            });
            // Both makers of this drive stand still; what streams from it does not.
            let began = Instant::now();
            for _ in 0..20 {
                assert_eq!(ask(PLAYER, "GET", &sound, "").body.len(), whole);
            }
            assert!(began.elapsed() < Duration::from_secs(4), "{:?}", began.elapsed());
            // One is killed, as by its own fault: that picture is not to be had, all else is.
            signal(&stopped[..1], "-KILL");
            signal(&stopped[1..], "-CONT");
            let told: Vec<u16> = asked.into_iter().map(|one| one.join().unwrap()).collect();
            assert!(told.contains(&404), "{told:?}");
        });
        for n in 1..=9 {
            assert_eq!(ask(PLAYER, "GET", &art("pictures-all", &format!("p{n}")), "").status, 200);
        }
        until(10, "the makers to be gone", || makers().is_empty().then_some(()));
    });
}

/// A photograph of a size that cameras make.
fn photograph(path: &Path, seed: u64) {
    let source = format!("testsrc2=size=4000x3000:rate=1,hue=h={}", seed * 31 % 360);
    let made = Command::new("ffmpeg")
        .args(["-v", "error", "-nostdin", "-f", "lavfi", "-i", &source, "-frames:v", "1"])
        .args(["-q:v", "4"])
        .arg(path)
        .status();
    assert!(made.unwrap().success());
}

#[test]
fn pictures_are_made_ahead_all_sizes_at_once() {
    in_a_house(|house| {
        let folder = tempfile::tempdir().unwrap();
        for n in 1..=4 {
            photograph(&folder.path().join(format!("p{n}.jpg")), n);
        }
        let _service = house.begin_with(&["--pictures", "ahead"]);
        published(&house, folder.path());
        // Each with its inode: one that is made anew is another file.
        let kept = || {
            let around = fs::read_dir(house.data.path().join("art")).unwrap().flatten();
            let files = around.flat_map(|d| fs::read_dir(d.path()).unwrap().flatten());
            let made = files.filter(|f| f.path().extension().is_some_and(|e| e == "jpg"));
            made.map(|f| (f.path(), f.ino())).collect::<BTreeSet<_>>()
        };
        let made = until(60, "three sizes of each", || Some(kept()).filter(|k| k.len() == 12));
        for n in 1..=4 {
            assert_eq!(ask(PLAYER, "GET", &art("pictures-all", &format!("p{n}")), "").status, 200);
        }
        assert_eq!(kept(), made);
        until(10, "the makers to be gone", || makers().is_empty().then_some(()));
    });
}
