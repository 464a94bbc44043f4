//! All sizes of photographs, made by the service and by vipsthumbnail, and the first one of an album
//! that nobody has seen.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Instant;

use mostra_tests::{House, raw, until};

const PICTURES: usize = 500;
/// Those that differ; the others are copies.
const SEEDS: usize = 20;
/// First pictures, each of an album of its own.
const FIRST: usize = 15;
const PLAYER: &str = "127.0.0.47";
const PAIRS: usize = 1;

pub(crate) fn measure(house: &House, report: &mut String) {
    let folder = house.folders.path().join("photographs");
    let pictures = photographs(&folder);
    house.mostra(&["folder", "add", folder.to_str().expect("text"), "--label", "Photographs"]);
    house.meet(PLAYER);
    house.admit(PLAYER);
    let stems = until(60, "the pictures", || {
        let stems = stems();
        (stems.len() == PICTURES + FIRST).then_some(stems)
    });
    // The last ones by title are for the cold look.
    let (all, cold) = stems.split_at(PICTURES);
    let first = super::median(
        cold.iter()
            .map(|stem| {
                let begin = Instant::now();
                asked(&format!("{stem}.tn.jpg"));
                begin.elapsed().as_secs_f64() * 1000.0
            })
            .collect(),
    );
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for _ in 0..PAIRS {
        let kept = house.data.path().join("art");
        let _ = std::fs::remove_dir_all(&kept);
        std::fs::create_dir(&kept).expect("a directory");
        ours.push(all_sizes(all));
        theirs.push(vipsthumbnail(house, &pictures));
    }
    house.mostra(&["folder", "remove", "Photographs", "--yes"]);
    let _ = std::fs::remove_dir_all(&folder);
    let ratios = ours.iter().zip(&theirs).map(|(ours, theirs)| theirs / ours).collect();
    let (ours, theirs, ratio) = (super::median(ours), super::median(theirs), super::median(ratios));
    let _ = writeln!(
        report,
        "## Three sizes of {PICTURES} photographs of 12 megapixels, in the page cache, one run of each\n\n\
         | what | seconds | ratio | aim |\n| --- | --- | --- | --- |\n\
         | two processes of vipsthumbnail, a pass for each size | {theirs:.1} | | |\n\
         | the service, asked by two connections; each picture in a process of its own | {ours:.1} | {ratio:.2} | 1.0 |\n\
         | the first look at a picture of which nothing is kept, its thumbnail, median of {FIRST} | {:.3} | | 0.150 s |\n",
        first / 1000.0,
    );
}

/// Writes the photographs, those for the cold look last by name; gives all but these.
fn photographs(folder: &Path) -> Vec<PathBuf> {
    std::fs::create_dir(folder).expect("a folder");
    let place = |n: usize| folder.join(format!("photograph {n:04}.jpg"));
    for n in 0..SEEDS {
        let source =
            format!("testsrc2=size=4000x3000:rate=1,hue=h={},noise=alls=14:all_seed={n}", n * 18);
        let made = Command::new("ffmpeg")
            .args(["-v", "error", "-nostdin", "-f", "lavfi", "-i", &source, "-frames:v", "1"])
            .args(["-pix_fmt", "yuvj420p", "-q:v", "5"])
            .arg(place(n))
            .status();
        assert!(made.expect("ffmpeg runs").success());
    }
    for n in SEEDS..PICTURES + FIRST {
        std::fs::copy(place(n % SEEDS), place(n)).expect("a copy");
    }
    (0..PICTURES).map(place).collect()
}

/// The paths of the pictures' smaller forms without size and ending, by title.
fn stems() -> Vec<String> {
    let (mut stems, mut start) = (Vec::new(), 0);
    loop {
        let arguments = format!(
            "<ObjectID>pictures-all</ObjectID><BrowseFlag>BrowseDirectChildren</BrowseFlag>\
             <Filter>*</Filter><StartingIndex>{start}</StartingIndex>\
             <RequestedCount>200</RequestedCount><SortCriteria>+dc:title</SortCriteria>"
        );
        let text = raw::unescaped(&raw::call(PLAYER, "content", "Browse", &arguments).text());
        let items: Vec<&str> = text.split("<item ").skip(1).collect();
        if items.is_empty() {
            return stems;
        }
        start += items.len();
        let ours = items.iter().filter(|item| item.contains("<dc:title>photograph "));
        stems.extend(ours.filter_map(|item| {
            let at = item.find("/art/")?;
            let path = item[at..].split(['<', '"']).next()?;
            Some(path.rsplitn(3, '.').nth(2)?.to_owned())
        }));
    }
}

fn asked(path: &str) {
    let answer = raw::ask(PLAYER, "GET", path, "");
    assert_eq!(answer.status, 200, "{path}");
}

/// Seconds until all sizes of all pictures are there.
fn all_sizes(stems: &[String]) -> f64 {
    let next = AtomicUsize::new(0);
    let begin = Instant::now();
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while let Some(stem) = stems.get(next.fetch_add(1, Ordering::Relaxed)) {
                    ["med", "sm", "tn"]
                        .iter()
                        .for_each(|size| asked(&format!("{stem}.{size}.jpg")));
                }
            });
        }
    });
    begin.elapsed().as_secs_f64()
}

/// Seconds that two processes of vipsthumbnail take for the same.
fn vipsthumbnail(house: &House, pictures: &[PathBuf]) -> f64 {
    let made = house.folders.path().join("made");
    std::fs::create_dir_all(&made).expect("a directory");
    let begin = Instant::now();
    std::thread::scope(|scope| {
        for half in pictures.chunks(pictures.len().div_ceil(2)) {
            let made = &made;
            scope.spawn(move || {
                for size in ["1024x768", "640x480", "160x160"] {
                    let output = format!("{}/%s-{size}.jpg[Q=82]", made.display());
                    let status = Command::new("vipsthumbnail")
                        .args(["--vips-concurrency=1", "-s", size, "-o", &output])
                        .args(half)
                        .status();
                    assert!(status.expect("vipsthumbnail runs").success());
                }
            });
        }
    });
    begin.elapsed().as_secs_f64()
}
