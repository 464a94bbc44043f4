//! The catalogue: under random changes, grants and pages; its views, searches and what devices
//! are shown of it.
// A test that cannot go on has failed: that is what unwrap says.
#![allow(clippy::unwrap_used)]

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mostra_core::access::{Decision, Grant, Pass, Standing, decide};
use mostra_core::catalogue::{
    Catalogue, CatalogueOptions, Change, Directory, File, Folder, Inventory, Node, ObjectId,
    PictureOrder, Playlist, Titles,
};
use mostra_core::date::Date;
use mostra_core::facts::{Caption, Episode, Facts};
use mostra_core::format::Format;
use mostra_core::ids::{FileId, FolderId, UpdateId};
use mostra_core::present;
use mostra_core::stop::Stop;
use mostra_core::traits::{Alias, Features, PLAIN, Traits};
use mostra_core::{Kind, Kinds, Locale};
use mostra_protocol::model::didl;
use mostra_protocol::model::object_filter::Filter;
use mostra_protocol::model::search as criteria;
use mostra_protocol::model::search::Criteria;
use mostra_protocol::model::sort;
use mostra_protocol::model::xml_writer::Layer;
use mostra_protocol::server::Fault;
use mostra_protocol::server::content_directory::{Browse, BrowseFlag};
use proptest::prelude::*;

mod find;
mod presented;
mod random;
mod search;
mod test_pieces;
mod traits;
mod views;

/// Browses for somebody who waits for the answer.
fn browsed(
    catalogue: &Catalogue,
    decision: &Decision,
    asked: &Browse,
    form: present::AnswerForm<'_>,
) -> Result<present::ListAnswer, Fault> {
    present::browse(catalogue, decision, asked, form, &Stop::default())
}

const FORM: present::AnswerForm<'_> = present::AnswerForm {
    base: "http://192.0.2.21:7640",
    offset: 3,
    films_pictured: true,
    layer: Layer::Document,
    traits: &PLAIN,
    counts_files: false,
};

const EPOCH: &str = "q3v9d0";

fn pass(grant: Grant) -> Pass {
    match decide(Standing::Admitted, &grant) {
        Decision::Admitted(pass) => pass,
        _ => unreachable!("admitted"),
    }
}

fn whole() -> Pass {
    pass(Grant::everything())
}

fn folder(serial: u32) -> Change {
    Change::PutFolder(Folder {
        serial: FolderId(serial),
        label: format!("Folder {serial}"),
        kinds: Kinds::ALL,
        root: format!("/srv/{serial}"),
        container: 100 * serial,
    })
}

fn directory(serial: u32, folder: u32, parent: u32) -> Change {
    Change::PutDirectory(Directory {
        serial,
        folder: FolderId(folder),
        parent: Some(parent),
        name: format!("Reel {serial}"),
    })
}

/// A file whose facts follow from two numbers, so that they put it into all sorts of views.
fn file(serial: u32, directory: u32, title: &str) -> Change {
    facts_file(serial, directory, title, serial)
}

fn facts_file(serial: u32, directory: u32, title: &str, seed: u32) -> Change {
    let kind = Kind::ALL[serial as usize % 3];
    let format = [Format::Mp4, Format::Mp3, Format::Jpeg][serial as usize % 3];
    let pick = |names: &[&str], n: u32| {
        let at = (seed / n) as usize % (names.len() + 1);
        names.get(at).map(|n| (*n).to_owned())
    };
    let music = kind == Kind::Music;
    let artists = pick(&["Ana Brisk", "ana brisk", "Volt Nine", "ANA BRISK"], 1);
    let second = pick(&["Ana Brisk", "Volt nine"], 5);
    let facts = Facts {
        title: Some(title.into()),
        date: seed
            .is_multiple_of(2)
            .then(|| Date::parse(&format!("20{:02}-0{}-01", seed % 30, 1 + seed % 9)).unwrap()),
        added_ms: i64::from(seed % 7),
        artists: if music { artists.into_iter().chain(second).collect() } else { vec![] },
        album: if music { pick(&["Estuary", "estuary", "Tides"], 3) } else { None },
        album_artist: if music { pick(&["Ana Brisk"], 2) } else { None },
        genres: if music { pick(&["Folk", "folk"], 4).into_iter().collect() } else { vec![] },
        track: (Some((seed % 5) as u16), None),
        episode: (kind == Kind::Video && seed.is_multiple_of(4)).then(|| Episode {
            series: ["Lantern Row", "lantern row"][seed as usize / 4 % 2].into(),
            season: (seed % 3) as u16,
            number: (seed % 5) as u16,
        }),
        ..Facts::bare(kind, format, 1000 + u64::from(seed), 0)
    };
    Change::PutFile(File {
        serial: FileId(serial),
        directory,
        name: format!("{serial}.{}", format.extension()),
        facts: Arc::new(facts),
    })
}

fn browse(object: &str, start: u32, count: u32) -> Browse {
    Browse {
        object: object.into(),
        flag: BrowseFlag::DirectChildren,
        filter: Filter::ALL,
        start,
        count,
        sort: vec![],
    }
}

fn small() -> Catalogue {
    let mut catalogue = Catalogue::new(EPOCH, UpdateId(10));
    catalogue.apply([
        folder(1),
        directory(5, 1, 100),
        file(3, 5, "Tide 10"),
        file(6, 5, "tide 2"),
        file(4, 100, "Log"),
    ]);
    catalogue
}

/// The titles of a container's children, found by the titles on the way to it.
fn at(catalogue: &Catalogue, way: &[&str]) -> Vec<String> {
    let mut id = "0".to_owned();
    for title in way {
        let page = catalogue.children(&whole(), &id, 0, 0, &[]).unwrap();
        let next = page.objects.into_iter().find(|o| o.title == *title);
        id = next.unwrap_or_else(|| panic!("no {title}")).id;
    }
    let page = catalogue.children(&whole(), &id, 0, 0, &[]).unwrap();
    page.objects.into_iter().map(|o| o.title).collect()
}

fn put(serial: u32, name: &str, facts: Facts) -> Change {
    Change::PutFile(File {
        serial: FileId(serial),
        directory: 100,
        name: name.into(),
        facts: facts.into(),
    })
}

fn track(serial: u32, title: &str, artist: &str, number: u16) -> Facts {
    Facts {
        title: Some(title.into()),
        artists: vec![artist.into()],
        album: Some("Estuary".into()),
        album_artist: Some("Ana Brisk".into()),
        track: (Some(number), None),
        disc: (Some(1 + serial as u16 / 10), None),
        genres: vec!["Folk".into()],
        composers: vec!["Mara Quill".into()],
        date: Date::parse("2018"),
        ..Facts::bare(Kind::Music, Format::Mp3, 5000, 0)
    }
}

fn catalogue_with_views() -> Catalogue {
    let mut catalogue = Catalogue::new(EPOCH, UpdateId(1));
    let episode = |season, number| Facts {
        episode: Some(Episode { series: "Lantern Row".into(), season, number }),
        ..Facts::bare(Kind::Video, Format::Matroska, 9, i64::from(number))
    };
    let photo = |date| Facts {
        date: Date::parse(date),
        orientation: Some(6),
        resolution: Some((4000, 3000)),
        ..Facts::bare(Kind::Picture, Format::Jpeg, 7, 0)
    };
    catalogue.apply([
        folder(1),
        put(1, "low.mp3", track(1, "Low Water", "Ana Brisk", 2)),
        put(2, "high.mp3", track(2, "High Water", "ana brisk", 1)),
        put(3, "engine.mp3", track(10, "Engine", "Volt Nine", 1)),
        put(4, "Lantern Row S01E10.mkv", episode(1, 10)),
        put(5, "Lantern Row S01E02.mkv", episode(1, 2)),
        put(6, "Lantern Row S00E01.mkv", episode(0, 1)),
        put(7, "b.jpg", photo("2022-08-15")),
        put(8, "a.jpg", photo("2022-08-16T10:00:00+02:00")),
        put(9, "c.jpg", photo("2021-01-01")),
        Change::PutPlaylist(Playlist {
            serial: 20,
            directory: 100,
            name: "Evening.m3u".into(),
            entries: [2, 1, 2, 4, 99].map(FileId).to_vec(),
        }),
    ]);
    catalogue
}

fn found(catalogue: &Catalogue, pass: &Pass, container: &str, criteria: &str) -> Vec<String> {
    let criteria = criteria::parse(criteria).unwrap();
    let page = catalogue.search(pass, container, &criteria, 0, 0, &[]).unwrap();
    assert_eq!(page.total as usize, page.objects.len());
    page.objects.into_iter().map(|o| o.title).collect()
}
