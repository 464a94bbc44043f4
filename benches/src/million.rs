//! The catalogue of a million items, in the core alone: memory, pages, search, changes.

use std::collections::VecDeque;
use std::fmt::Write as _;
use std::sync::Arc;
use std::time::{Duration, Instant};

use mostra_core::access::{Decision, Grant, Pass, Standing, decide};
use mostra_core::catalogue::{Catalogue, Change, Directory, File, Folder, Node};
use mostra_core::date::Date;
use mostra_core::facts::{AudioTrack, Episode, Facts, VideoCodec};
use mostra_core::format::Format;
use mostra_core::ids::{FileId, FolderId, UpdateId};
use mostra_core::{Kind, Kinds};
use mostra_protocol::model::{search, sort};

/// Items.
pub(crate) const ITEMS: u32 = 1_000_000;
/// Folders they lie in.
pub(crate) const FOLDERS: u32 = 20;
const WORDS: [&str; 16] = [
    "Harbour", "Tide", "Lamp", "Rope", "Fog", "Keeper", "Storm", "Bell", "Slack", "Ebb", "Quay",
    "Signal", "Mirela", "Anchor", "Salt", "Ferry",
];

fn word(n: u32) -> &'static str {
    WORDS[n as usize % WORDS.len()]
}

/// A number spread over its range, the same on every run.
fn spread(n: u32) -> u32 {
    n.wrapping_mul(2_654_435_761).rotate_left(13)
}

/// Folders and directories: 100 of the latter in each of the former.
pub(crate) fn places() -> Vec<Change> {
    let folder = |f: u32| {
        Change::PutFolder(Folder {
            serial: FolderId(f),
            label: format!("Folder {f}"),
            kinds: Kinds::ALL,
            root: format!("/srv/{f}"),
            container: 2_000_000 + f * 1000,
        })
    };
    let directory = |f: u32, d: u32| {
        Change::PutDirectory(Directory {
            serial: 2_000_000 + f * 1000 + d,
            folder: FolderId(f),
            parent: Some(2_000_000 + f * 1000),
            name: format!("{} {d}", word(d)),
        })
    };
    let directories = (1..=FOLDERS).flat_map(|f| (1..=100).map(move |d| directory(f, d)));
    (1..=FOLDERS).map(folder).chain(directories).collect()
}

/// The nth file: four tracks and five pictures to one video.
pub(crate) fn file(n: u32) -> File {
    let f = 1 + n % FOLDERS;
    // One folder in which all lies flat, as some people keep theirs.
    let d = if f == 1 { 0 } else { 1 + (n / FOLDERS) % 100 };
    let kind = match n / 2000 % 10 {
        0..4 => Kind::Music,
        4..9 => Kind::Picture,
        _ => Kind::Video,
    };
    let title = format!("{} {} {}", word(spread(n)), word(spread(n) / 16), n % 1000);
    let date = Date::parse(&format!("{}-{:02}-{:02}", 1995 + n % 30, 1 + n % 12, 1 + n % 28));
    let facts = match kind {
        Kind::Music => Facts {
            title: Some(title),
            artists: vec![format!("{} Choir {}", word(n / 240), n / 240 % 1500)],
            album: Some(format!("{} Water {}", word(n / 240), n / 24)),
            album_artist: Some(format!("{} Choir {}", word(n / 240), n / 240 % 1500)),
            track: (Some((n % 12) as u16), Some(12)),
            genres: vec![word(n / 5000).into()],
            date,
            duration_ms: Some(180_000 + u64::from(n % 90_000)),
            bit_rate: Some(192_000),
            tracks: vec![AudioTrack {
                codec: "mp3".into(),
                sample_rate: Some(44_100),
                channels: Some(2),
                ..AudioTrack::default()
            }],
            ..Facts::bare(Kind::Music, Format::Mp3, 4_000_000 + u64::from(n), i64::from(n) * 60_000)
        },
        Kind::Picture => Facts {
            date,
            resolution: Some((4000, 3000)),
            camera: Some("Pellworth P1".into()),
            orientation: Some(1),
            ..Facts::bare(
                Kind::Picture,
                Format::Jpeg,
                3_000_000 + u64::from(n),
                i64::from(n) * 60_000,
            )
        },
        Kind::Video => Facts {
            title: Some(title),
            date,
            duration_ms: Some(2_400_000 + u64::from(n)),
            resolution: Some((1920, 1080)),
            bit_rate: Some(5_000_000),
            video: Some(VideoCodec { name: "h264".into(), profile: Some(77), level: Some(40) }),
            tracks: vec![AudioTrack { codec: "aac-lc".into(), ..AudioTrack::default() }],
            episode: n.is_multiple_of(3).then(|| Episode {
                series: format!("{} Row {}", word(n / 100), n / 4000),
                season: (n / 500 % 8) as u16,
                number: (n % 20) as u16,
            }),
            ..Facts::bare(Kind::Video, Format::Matroska, 900_000_000, i64::from(n) * 60_000)
        },
    };
    let name = format!("{} {n:07}.{}", word(spread(n)), facts.format.extension());
    let directory = 2_000_000 + f * 1000 + d;
    File { serial: FileId(n), directory, name, facts: Arc::new(facts) }
}

fn pass(grant: &Grant) -> Pass {
    match decide(Standing::Admitted, grant) {
        Decision::Admitted(pass) => pass,
        _ => unreachable!("admitted"),
    }
}

fn percentile(times: &mut [Duration], share: f64) -> Duration {
    times.sort();
    times[((times.len() - 1) as f64 * share) as usize]
}

fn ms(time: Duration) -> String {
    format!("{:.3} ms", time.as_secs_f64() * 1000.0)
}

pub(crate) fn measure(report: &mut String) {
    let before = super::resident(std::process::id());
    let begin = Instant::now();
    let mut catalogue = Catalogue::new("q3v9d0", UpdateId(1));
    catalogue.apply(places());
    for from in (1..=ITEMS).step_by(50_000) {
        catalogue.apply((from..from + 50_000).map(|n| Change::PutFile(file(n))));
    }
    let filled = begin.elapsed();
    let memory = super::resident(std::process::id()) - before;
    let all = pass(&Grant::everything());
    let half = Grant {
        kinds: Kinds::of([Kind::Music, Kind::Picture]),
        folders: Some((1..=FOLDERS / 2).map(FolderId).collect()),
    };
    let half = pass(&half);
    // Containers large and small, everywhere in the tree.
    let mut containers: Vec<String> = Vec::new();
    let mut open = VecDeque::from(["0".to_owned()]);
    while let Some(id) = open.pop_front() {
        let page = catalogue.children(&all, &id, 0, 30, &[]).expect("a container");
        let inner = page.objects.iter().filter(|o| matches!(o.node, Node::Container { .. }));
        if containers.len() < 400 {
            open.extend(inner.map(|o| o.id.clone()));
        }
        containers.push(id);
    }
    let mut pages: Vec<Duration> = Vec::new();
    let mut slowest = (Duration::ZERO, String::new());
    let mut changes: Vec<Duration> = Vec::new();
    let orders = ["", "+dc:title", "-dc:date"].map(|o| sort::parse(o).expect("an order"));
    for (n, id) in containers.iter().enumerate() {
        // Changes go on meanwhile.
        if n % 4 == 0 {
            let mut changed = file(1 + spread(n as u32) % ITEMS);
            Arc::make_mut(&mut changed.facts).title = Some(format!("Changed {n}"));
            let begin = Instant::now();
            let mut next = catalogue.clone();
            next.apply([Change::PutFile(changed)]);
            changes.push(begin.elapsed());
            catalogue = next;
        }
        for pass in [&all, &half] {
            for order in &orders {
                let Some(total) = catalogue.children(pass, id, 0, 1, order).map(|p| p.total) else {
                    continue;
                };
                for start in [0, total / 2, total.saturating_sub(50)] {
                    let begin = Instant::now();
                    let page = catalogue.children(pass, id, start, 50, order).expect("a page");
                    let took = begin.elapsed();
                    assert_eq!(page.total, total);
                    pages.push(took);
                    if took > slowest.0 {
                        slowest = (took, format!("{} children, order {order:?}", page.total));
                    }
                }
            }
        }
    }
    let mut searches: Vec<Duration> = Vec::new();
    for text in ["keeper 77", "quay", "zzz", "a"] {
        let criteria = search::parse(&format!("dc:title contains \"{text}\"")).expect("criteria");
        for _ in 0..5 {
            let begin = Instant::now();
            catalogue.search(&all, "0", &criteria, 0, 50, &[]).expect("a page");
            searches.push(begin.elapsed());
        }
    }
    let class =
        search::parse("upnp:class derivedfrom \"object.item.audioItem\"").expect("criteria");
    let begin = Instant::now();
    catalogue.search(&half, "0", &class, 100_000, 50, &[]).expect("a page");
    let by_class = begin.elapsed();
    let artist = sort::parse("+upnp:artist,+dc:title").expect("an order");
    let begin = Instant::now();
    catalogue.children(&all, "music-all", 0, 50, &artist).expect("a page");
    let other = begin.elapsed();
    let count = pages.len();
    let _ = writeln!(
        report,
        "## A million items, in the core alone\n\n\
         {ITEMS} items in {FOLDERS} folders, {} directories deep and flat, filled in {:.1} s.\n\n\
         | what | measured | aim |\n| --- | --- | --- |\n\
         | memory an item, all views | {} B | 250 B |\n\
         | page of 50 of {} containers, first, middle, last, three orders, two grants, changes going on: median of {count} | {} | |\n\
         | the same, 99th percentile | {} | 1 ms |\n\
         | the same, slowest ({}) | {} | |\n\
         | `apply` of one changed file, 99th percentile of {} | {} | 5 ms |\n\
         | Search of a substring over all titles, slowest of {} | {} | 50 ms |\n\
         | Search by class, page in the middle, half of it hidden | {} | |\n\
         | another order (artist, then title) of 400,000 tracks, the first time | {} | 300 ms |\n",
        FOLDERS * 100,
        filled.as_secs_f64(),
        memory * 1024 / u64::from(ITEMS),
        containers.len(),
        ms(percentile(&mut pages, 0.5)),
        ms(percentile(&mut pages, 0.99)),
        slowest.1,
        ms(slowest.0),
        changes.len(),
        ms(percentile(&mut changes, 0.99)),
        searches.len(),
        ms(percentile(&mut searches, 1.0)),
        ms(by_class),
        ms(other),
    );
}
