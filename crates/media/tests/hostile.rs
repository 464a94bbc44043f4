//! Hostile files: playlists, subtitles and media headers, as they are and as a seeded mutator
//! changes them. Nothing may panic, loop or grow without bound.
// A test that cannot go on has failed: that is what unwrap says.
#![allow(clippy::unwrap_used)]

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use mostra_media::{playlist, probe, subtitle};

fn files(folder: &Path) -> Vec<PathBuf> {
    let mut all = Vec::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() { folders.push(path) } else { all.push(path) }
        }
    }
    all.sort();
    all
}

fn mutate(random: &mut fastrand::Rng, seed: &[u8]) -> Vec<u8> {
    let mut bytes = seed.to_vec();
    // Headers lie at the beginning, and an index may lie at the end.
    for _ in 0..random.usize(1..12) {
        if bytes.is_empty() {
            break;
        }
        let span = bytes.len().min(4096);
        let near = random.usize(0..span);
        let at = if random.u8(0..4) == 0 { bytes.len() - 1 - near } else { near };
        match random.u8(0..5) {
            0 => bytes[at] ^= 1 << random.u8(0..8),
            1 => bytes[at] = random.choice([0, 0xff, 0x7f, 0x80]).unwrap(),
            2 => bytes.truncate(at.max(1)),
            3 => {
                let end = (at + 4).min(bytes.len());
                bytes[at..end].fill(0xff);
            }
            _ => drop(bytes.remove(at)),
        }
    }
    bytes
}

/// Runs for `FUZZ_SECONDS`, or else so many times for each seed.
fn feed(seeds: &[PathBuf], times: usize, mut parse: impl FnMut(&Path, &[u8])) {
    let seconds = std::env::var("FUZZ_SECONDS").ok().and_then(|s| s.parse().ok());
    let seed = seconds.map_or(7, |_: u64| fastrand::u64(..));
    let mut random = fastrand::Rng::with_seed(seed);
    let begin = Instant::now();
    assert!(!seeds.is_empty());
    loop {
        for path in seeds {
            let bytes = std::fs::read(path).unwrap();
            parse(path, &bytes);
            for _ in 0..times {
                parse(path, &mutate(&mut random, &bytes));
            }
        }
        if seconds.is_none_or(|seconds| begin.elapsed() > Duration::from_secs(seconds)) {
            println!("seed {seed}");
            return;
        }
    }
}

fn corpus(target: &str) -> Vec<PathBuf> {
    files(&Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus").join(target))
}

#[test]
fn playlists() {
    feed(&corpus("playlist"), 1000, |path, bytes| {
        let extension = path.extension().unwrap().to_str().unwrap();
        if let Ok(entries) = playlist::read(bytes, extension) {
            assert!(entries.len() <= 20_000);
        }
    });
}

#[test]
fn subtitles() {
    feed(&corpus("subtitle"), 1000, |_, bytes| {
        for (is, wanted) in [(false, false), (false, true), (true, false), (true, true)] {
            let _ = subtitle::as_form(bytes, is, wanted);
        }
    });
}

#[test]
fn media_headers() {
    let media = files(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/media"));
    let media: Vec<PathBuf> = media
        .into_iter()
        .filter(|f| f.extension().is_some_and(|e| e != "srt" && e != "vtt" && e != "m3u"))
        .collect();
    let folder = tempfile::tempdir().unwrap();
    feed(&media, 12, |path, bytes| {
        let copy = folder.path().join(path.file_name().unwrap());
        std::fs::write(&copy, bytes).unwrap();
        let begin = Instant::now();
        let _ = probe::probe(&copy, bytes.len() as u64, 0);
        assert!(begin.elapsed() < Duration::from_secs(10), "{path:?}: {:?}", begin.elapsed());
    });
}

#[test]
fn a_title_of_many_megabytes_is_not_kept_whole() {
    let film = Path::new(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../demo/media/Films/Lamp-room tour.mp4"
    ));
    let film = std::fs::read(film).unwrap();
    let boxed = |kind: &[u8], body: &[u8]| {
        let mut all = (body.len() as u32 + 8).to_be_bytes().to_vec();
        all.extend(kind);
        all.extend(body);
        all
    };
    let mut data = vec![0; 8];
    data.extend(vec![b'x'; 60 << 20]);
    let list = boxed(b"ilst", &boxed(b"\xa9nam", &boxed(b"data", &data)));
    let user_data = boxed(b"udta", &boxed(b"meta", &[&[0; 4], &list[..]].concat()));
    // Into the index, wherever that lies.
    let at = film.windows(4).position(|w| w == b"moov").unwrap();
    let before = u32::from_be_bytes(film[at - 4..at].try_into().unwrap());
    let length = (before + user_data.len() as u32).to_be_bytes();
    let whole = [&film[..at - 4], &length, b"moov", &user_data, &film[at + 4..]].concat();
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("long.mp4");
    std::fs::write(&path, &whole).unwrap();
    let facts = probe::probe(&path, whole.len() as u64, 0).unwrap();
    assert_eq!(facts.title.map(|title| title.len()), Some(1000));
}

/// Text that the film program takes for a list of other files, dressed as a recording.
#[test]
fn a_list_of_other_files_dressed_as_a_recording_opens_none_of_them() {
    let film = Path::new(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../demo/media/Films/Lamp-room tour.mp4"
    ));
    let film = film.canonicalize().unwrap();
    let folder = tempfile::tempdir().unwrap();
    for (name, first, step) in [("a.m2ts", 4, 192), ("b.ts", 0, 188)] {
        let mut bytes = vec![b'.'; first + 3 * step];
        if first > 0 {
            bytes[..4].copy_from_slice(b"<!--");
        }
        for n in 0..3 {
            bytes[first + n * step] = b'G';
        }
        let manifest = format!(
            "--><MPD xmlns=\"urn:mpeg:dash:schema:mpd:2011\" \
             profiles=\"urn:mpeg:dash:profile:isoff-live:2011\" type=\"static\" \
             mediaPresentationDuration=\"PT40S\"><Period><AdaptationSet mimeType=\"video/mp4\">\
             <Representation id=\"1\" bandwidth=\"1\"><BaseURL>file://{0}</BaseURL></Representation>\
             </AdaptationSet></Period></MPD>",
            film.display()
        );
        bytes.extend(manifest.as_bytes());
        bytes.resize(8192, b' ');
        let path = folder.path().join(name);
        std::fs::write(&path, &bytes).unwrap();
        let read = probe::probe(&path, bytes.len() as u64, 0);
        let shown = read
            .as_ref()
            .is_ok_and(|facts| facts.resolution.is_some() || facts.duration_ms.is_some());
        assert!(!shown, "{name}: {read:?}");
        let facts = mostra_core::facts::Facts::bare(
            mostra_core::Kind::Video,
            mostra_core::format::Format::M2ts,
            bytes.len() as u64,
            0,
        );
        let source =
            mostra_media::art::PictureSource::of(&facts, std::fs::File::open(&path).unwrap(), None);
        let picture = mostra_media::art::make(source, mostra_core::profile::Rendition::Thumbnail);
        assert!(picture.is_empty(), "{name}: a picture of another film");
    }
}
