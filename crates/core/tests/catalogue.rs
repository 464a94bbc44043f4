//! The catalogue under random changes, grants and pages.
// A test that cannot go on has failed: that is what unwrap says.
#![allow(clippy::unwrap_used)]

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mostra_core::access::{Decision, Grant, Pass, Standing, decide};
use mostra_core::catalogue::{
    Catalogue, Change, Directory, File, Folder, Node, Options, PictureOrder, Place, Playlist,
    Titles,
};
use mostra_core::date::Date;
use mostra_core::facts::{Episode, Facts, Format};
use mostra_core::present;
use mostra_core::{Kind, Kinds};
use mostra_protocol::content_directory::{Browse, BrowseFlag};
use mostra_protocol::didl;
use mostra_protocol::object_filter::Filter;
use mostra_protocol::search::{self, Criteria};
use mostra_protocol::soap::Fault;
use mostra_protocol::sort;
use proptest::prelude::*;

const FORM: present::Form<'_> =
    present::Form { base: "http://192.0.2.21:7640", offset: 3, films_pictured: true };

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
        serial,
        label: format!("Folder {serial}"),
        kinds: Kinds::ALL,
        root: format!("/srv/{serial}"),
        container: 100 * serial,
    })
}

fn directory(serial: u32, folder: u32, parent: u32) -> Change {
    Change::PutDirectory(Directory {
        serial,
        folder,
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
        serial,
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

/// Every object a pass sees, by walking the whole tree in pages of 3; checks on the way that
/// totals, child counts and parents agree.
fn walk(catalogue: &Catalogue, pass: &Pass) -> Vec<(String, u32, String, String)> {
    let mut found = Vec::new();
    let mut open = vec!["0".to_owned()];
    while let Some(id) = open.pop() {
        let Node::Container { children, .. } = catalogue.object(pass, &id).unwrap().node else {
            panic!("{id}")
        };
        let mut seen = 0;
        loop {
            let page = catalogue.children(pass, &id, seen, 3, &[]).unwrap();
            assert_eq!(page.total, children, "childCount is TotalMatches of {id}");
            for (at, object) in page.objects.iter().enumerate() {
                assert_eq!(object.parent, id);
                assert_eq!(catalogue.object(pass, &object.id).as_ref(), Some(object));
                if matches!(object.node, Node::Container { .. }) {
                    open.push(object.id.clone());
                }
                let place = seen + at as u32;
                found.push((id.clone(), place, object.id.clone(), object.title.clone()));
            }
            seen += page.objects.len() as u32;
            if page.objects.is_empty() {
                break;
            }
        }
        assert_eq!(seen, children, "pages join to the whole list of {id}");
    }
    found.sort();
    found
}

#[derive(Debug, Clone)]
enum Step {
    Folder(u32),
    NoFolder(u32),
    Directory { serial: u32, parent: u32, name: u8 },
    NoDirectory(u32),
    File { serial: u32, directory: u32, title: u8, seed: u32 },
    NoFile(u32),
    Playlist { serial: u32, directory: u32, entries: Vec<u32> },
    NoPlaylist(u32),
}

/// A directory to put something in: 1 to 6, or the top of folder 1 or 2.
fn place() -> impl Strategy<Value = u32> {
    prop_oneof![3 => 1u32..7, 1 => Just(100u32), 1 => Just(200u32)]
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let entries = proptest::collection::vec(1u32..25, 0..6);
    let step = prop_oneof![
        2 => (1u32..3).prop_map(Step::Folder),
        1 => (1u32..3).prop_map(Step::NoFolder),
        4 => (1u32..7, place(), 0u8..3)
            .prop_map(|(serial, parent, name)| Step::Directory { serial, parent, name }),
        1 => (1u32..7).prop_map(Step::NoDirectory),
        8 => (1u32..25, place(), 0u8..5, 0u32..64).prop_map(|(serial, directory, title, seed)| {
            Step::File { serial, directory, title, seed }
        }),
        2 => (1u32..25).prop_map(Step::NoFile),
        1 => (1u32..3, place(), entries).prop_map(|(serial, directory, entries)| {
            Step::Playlist { serial, directory, entries }
        }),
        1 => (1u32..3).prop_map(Step::NoPlaylist),
    ];
    proptest::collection::vec(step, 0..80)
}

fn change(step: &Step) -> Change {
    match step {
        Step::Folder(f) => folder(*f),
        Step::NoFolder(f) => Change::RemoveFolder(*f),
        Step::Directory { serial, parent, name } => Change::PutDirectory(Directory {
            serial: *serial,
            folder: 0,
            parent: Some(*parent),
            name: format!("Reel {name}"),
        }),
        Step::NoDirectory(d) => Change::RemoveDirectory(*d),
        Step::File { serial, directory, title, seed } => {
            facts_file(*serial, *directory, &format!("Tide {title}"), *seed)
        }
        Step::NoFile(s) => Change::RemoveFile(*s),
        Step::Playlist { serial, directory, entries } => Change::PutPlaylist(Playlist {
            serial: *serial,
            directory: *directory,
            name: format!("List {serial}.m3u"),
            entries: entries.clone(),
        }),
        Step::NoPlaylist(serial) => Change::RemovePlaylist(*serial),
    }
}

/// A plain model: what is there after the steps, to build a catalogue anew from.
#[derive(Default, Clone)]
struct Model {
    folders: BTreeSet<u32>,
    /// Parent, and the step that put it.
    directories: BTreeMap<u32, (u32, Step)>,
    files: BTreeMap<u32, (u32, Step)>,
    playlists: BTreeMap<u32, (u32, Step)>,
}

impl Model {
    fn holds(&self, directory: u32) -> bool {
        (directory.is_multiple_of(100) && self.folders.contains(&(directory / 100)))
            || self.directories.contains_key(&directory)
    }

    fn drop_orphans(&mut self) {
        loop {
            let model = self.clone();
            self.directories.retain(|_, (parent, _)| model.holds(*parent));
            if self.directories.len() == model.directories.len() {
                break;
            }
        }
        let model = self.clone();
        self.files.retain(|_, (d, _)| model.holds(*d));
        self.playlists.retain(|_, (d, _)| model.holds(*d));
    }

    fn step(&mut self, step: &Step) {
        match step {
            Step::Folder(f) => {
                self.folders.insert(*f);
            }
            Step::NoFolder(f) => {
                self.folders.remove(f);
                self.drop_orphans();
            }
            Step::Directory { serial, parent, .. } => {
                let mut at = Some(*parent);
                while let Some(around) = at {
                    if around == *serial {
                        return;
                    }
                    at = self.directories.get(&around).map(|(p, _)| *p);
                }
                if self.holds(*parent) {
                    self.directories.insert(*serial, (*parent, step.clone()));
                }
            }
            Step::NoDirectory(d) => {
                self.directories.remove(d);
                self.drop_orphans();
            }
            Step::File { serial, directory, .. } if self.holds(*directory) => {
                self.files.insert(*serial, (*directory, step.clone()));
            }
            Step::NoFile(s) => {
                self.files.remove(s);
            }
            Step::Playlist { serial, directory, .. } if self.holds(*directory) => {
                self.playlists.insert(*serial, (*directory, step.clone()));
            }
            Step::NoPlaylist(s) => {
                self.playlists.remove(s);
            }
            _ => {}
        }
    }

    fn build(&self) -> Catalogue {
        let mut catalogue = Catalogue::new(EPOCH, 1);
        catalogue.apply(self.folders.iter().map(|f| folder(*f)));
        // Parents before children.
        let mut rest: Vec<&(u32, Step)> = self.directories.values().collect();
        let mut put: BTreeSet<u32> = self.folders.iter().map(|f| 100 * f).collect();
        while !rest.is_empty() {
            rest.retain(|(parent, step)| {
                let ready = put.contains(parent);
                if let (true, Step::Directory { serial, .. }) = (ready, step) {
                    put.insert(*serial);
                    catalogue.apply([change(step)]);
                }
                !ready
            });
        }
        catalogue.apply(self.files.values().map(|(_, step)| change(step)));
        catalogue.apply(self.playlists.values().map(|(_, step)| change(step)));
        catalogue
    }
}

fn grants() -> [Grant; 3] {
    [
        Grant::everything(),
        Grant { kinds: Kinds::of([Kind::Picture]), folders: None },
        Grant { kinds: Kinds::of([Kind::Video, Kind::Music]), folders: Some([2].into()) },
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]
    #[test]
    fn incremental_equals_a_rebuild(steps in steps(), batch in 1usize..7) {
        let mut model = Model::default();
        let mut catalogue = Catalogue::new(EPOCH, 1);
        steps.iter().for_each(|step| model.step(step));
        for changes in steps.chunks(batch) {
            catalogue.apply(changes.iter().map(change));
        }
        let rebuilt = model.build();
        for grant in grants() {
            let pass = pass(grant);
            let all = walk(&rebuilt, &pass);
            prop_assert_eq!(walk(&catalogue, &pass), all.clone());
            // A search for everything finds each container and each file once.
            let found = catalogue.search(&pass, "0", &Criteria::Everything, 0, 1000, &[]).unwrap();
            let originals = all.iter().filter(|(_, _, id, _)| id.starts_with('i')).count();
            let containers = all.iter().filter(|(_, _, id, _)| !id.starts_with(['i', 'r'])).count();
            prop_assert_eq!(found.total as usize, originals + containers);
            prop_assert_eq!(found.objects.len() as u32, found.total);
        }
        prop_assert_eq!(catalogue.item_count(), model.files.len());
    }
}

proptest! {
    #[test]
    fn what_a_pass_does_not_cover_does_not_exist(steps in steps()) {
        let mut model = Model::default();
        steps.iter().for_each(|s| model.step(s));
        let catalogue = model.build();
        let pictures = pass(Grant { kinds: Kinds::of([Kind::Picture]), folders: None });
        for (_, _, id, _) in walk(&catalogue, &whole()) {
            let Some(kind) = catalogue.kind_of(&whole(), &id) else { continue };
            let picture = kind == Kind::Picture;
            prop_assert_eq!(catalogue.object(&pictures, &id).is_some(), picture);
            prop_assert_eq!(catalogue.locate(&pictures, &id).is_some(), picture);
        }
    }

    #[test]
    fn the_update_id_moves_with_every_visible_change_and_only_then(steps in steps()) {
        let mut catalogue = Catalogue::new(EPOCH, 1);
        for step in &steps {
            let before = (walk(&catalogue, &whole()), catalogue.update_id());
            let snapshot = catalogue.clone();
            let ids: BTreeMap<String, u32> = containers(&before.0)
                .into_iter()
                .map(|id| { let update = catalogue.object_update_id(&whole(), &id).unwrap(); (id, update) })
                .collect();
            let touched = catalogue.apply([change(step)]);
            let after = walk(&catalogue, &whole());
            if after != before.0 {
                prop_assert!(catalogue.update_id() > before.1);
            }
            // A container whose children are others has another update id, and is named.
            let children = |all: &[(String, u32, String, String)], id: &str| {
                all.iter().filter(|o| o.0 == id).cloned().collect::<Vec<_>>()
            };
            for (id, update) in ids {
                if id != "0" && catalogue.object(&whole(), &id).is_some() && children(&before.0, &id) != children(&after, &id) {
                    prop_assert!(catalogue.object_update_id(&whole(), &id).unwrap() > update, "{id}");
                    prop_assert!(touched.containers.iter().any(|(t, _)| *t == id), "{id}");
                }
            }
            prop_assert_eq!(walk(&snapshot, &whole()), before.0, "a snapshot keeps what it had");
        }
    }

    #[test]
    fn every_order_holds_the_same_objects(steps in steps(), start in 0u32..5) {
        let mut model = Model::default();
        steps.iter().for_each(|s| model.step(s));
        let catalogue = model.build();
        for id in containers(&walk(&catalogue, &whole())) {
            let mut plain: Vec<_> = catalogue.children(&whole(), &id, 0, 0, &[]).unwrap().objects;
            plain.sort_by(|a, b| a.id.cmp(&b.id));
            for criteria in ["+dc:title", "-dc:title", "+dc:date", "-dc:date", "+upnp:class,-dc:title", "+upnp:artist,+res@size"] {
                let keys = sort::parse(criteria).unwrap();
                let mut sorted = catalogue.children(&whole(), &id, 0, 0, &keys).unwrap().objects;
                let page = catalogue.children(&whole(), &id, start, 3, &keys).unwrap().objects;
                let part: Vec<_> = sorted.iter().skip(start as usize).take(3).cloned().collect();
                prop_assert_eq!(page, part);
                sorted.sort_by(|a, b| a.id.cmp(&b.id));
                prop_assert_eq!(&sorted, &plain);
            }
        }
    }
}

fn containers(all: &[(String, u32, String, String)]) -> BTreeSet<String> {
    all.iter().map(|(parent, ..)| parent.clone()).collect()
}

fn small() -> Catalogue {
    let mut catalogue = Catalogue::new(EPOCH, 10);
    catalogue.apply([
        folder(1),
        directory(5, 1, 100),
        file(3, 5, "Tide 10"),
        file(6, 5, "tide 2"),
        file(4, 100, "Log"),
    ]);
    catalogue
}

#[test]
fn the_same_file_in_two_views_is_one_item_and_a_reference() {
    let catalogue = small();
    let page = catalogue.children(&whole(), "video-all", 0, 0, &[]).unwrap();
    let titles: Vec<_> = page.objects.iter().map(|o| o.title.as_str()).collect();
    assert_eq!(titles, ["tide 2", "Tide 10"], "numbers by value, case aside");
    let Node::Item(item) = &page.objects[0].node else { panic!() };
    let original = item.reference.clone().unwrap();
    let original = catalogue.object(&whole(), &original).unwrap();
    let Node::Item(first) = original.node else { panic!() };
    assert_eq!((first.serial, first.reference), (item.serial, None));
}

#[test]
fn sorting_by_date_puts_the_absent_last_or_first() {
    let catalogue = small();
    let titles = |criteria: &str| {
        let keys = sort::parse(criteria).unwrap();
        let page = catalogue.children(&whole(), "video-all", 0, 0, &keys).unwrap();
        page.objects.into_iter().map(|o| o.title).collect::<Vec<_>>()
    };
    assert_eq!(titles("+dc:date"), ["tide 2", "Tide 10"]);
    assert_eq!(titles("-dc:date"), ["Tide 10", "tide 2"]);
    assert_eq!(titles("-dc:title"), ["Tide 10", "tide 2"]);
}

#[test]
fn a_locate_gives_the_path_inside_the_folder() {
    let catalogue = small();
    let located = catalogue.locate(&whole(), &Place::File(3).id(EPOCH)).unwrap();
    assert_eq!((located.root(), located.path()), ("/srv/1", "/srv/1/Reel 5/3.mp4"));
    assert_eq!(catalogue.locate(&whole(), "d1"), None);
}

#[test]
fn a_waiting_device_sees_a_notice_and_a_refused_one_nothing() {
    let catalogue = small();
    let at =
        |decision: &Decision, browse: &Browse| present::browse(&catalogue, decision, browse, FORM);
    let root = at(&Decision::Waiting, &browse("0", 0, 0)).unwrap();
    let objects = didl::read(&root.result).unwrap();
    assert_eq!((objects.len(), root.total, root.items, root.update_id), (1, 1, 0, 14));
    assert!(objects[0].container && objects[0].title.contains("Not let in"));
    assert_eq!(at(&Decision::Waiting, &browse(&objects[0].id, 0, 0)).unwrap().total, 0);
    let root = at(&Decision::Refused, &browse("0", 0, 0)).unwrap();
    assert_eq!((root.returned, root.total), (0, 0));
    let known = Place::File(3).id(EPOCH);
    for decision in [Decision::Waiting, Decision::Refused] {
        assert_eq!(at(&decision, &browse("video-all", 0, 0)), Err(Fault::NoSuchObject));
        let metadata = Browse { flag: BrowseFlag::Metadata, ..browse(&known, 0, 0) };
        assert_eq!(at(&decision, &metadata), Err(Fault::NoSuchObject));
    }
}

#[test]
fn an_admitted_device_gets_urls_at_the_address_it_came_by() {
    let catalogue = small();
    let decision = decide(Standing::Admitted, &Grant::everything());
    let page = present::browse(&catalogue, &decision, &browse("video-all", 0, 1), FORM).unwrap();
    let objects = didl::read(&page.result).unwrap();
    assert_eq!((page.returned, page.total, page.items), (1, 2, 1));
    let (url, info, size) = &objects[0].resources[0];
    assert_eq!(url, &format!("http://192.0.2.21:7640/media/{}.mp4", Place::File(6).id(EPOCH)));
    assert!(info.starts_with("http-get:*:video/mp4:DLNA.ORG_OP=01;") && *size == Some(1006));
    let beyond =
        present::browse(&catalogue, &decision, &browse("video-all", 50, 10), FORM).unwrap();
    assert_eq!((beyond.returned, beyond.total), (0, 2));
    assert_eq!(
        present::browse(&catalogue, &decision, &browse("nothing", 0, 0), FORM),
        Err(Fault::NoSuchObject)
    );
    let item = Place::File(3).id(EPOCH);
    assert_eq!(
        present::browse(&catalogue, &decision, &browse(&item, 0, 0), FORM),
        Err(Fault::NoSuchContainer)
    );
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
    Change::PutFile(File { serial, directory: 100, name: name.into(), facts: facts.into() })
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

fn views() -> Catalogue {
    let mut catalogue = Catalogue::new(EPOCH, 1);
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
            entries: vec![2, 1, 2, 4, 99],
        }),
    ]);
    catalogue
}

#[test]
fn people_find_music_by_what_they_know_of_it() {
    let catalogue = views();
    assert_eq!(at(&catalogue, &[]), ["Video", "Music", "Pictures", "Folders"]);
    assert_eq!(
        at(&catalogue, &["Music"]),
        [
            "All tracks",
            "Artists",
            "Album artists",
            "Albums",
            "Genres",
            "By year",
            "Composers",
            "Playlists",
            "Newest"
        ]
    );
    assert_eq!(at(&catalogue, &["Music", "Artists"]), ["Ana Brisk", "Volt Nine"]);
    assert_eq!(at(&catalogue, &["Music", "Artists", "Volt Nine", "Estuary"]), ["Engine"]);
    let album = ["High Water", "Low Water", "Engine"];
    assert_eq!(at(&catalogue, &["Music", "Albums", "Estuary"]), album, "by disc and track");
    assert_eq!(at(&catalogue, &["Music", "Album artists", "Ana Brisk", "Estuary"]), album);
    assert_eq!(at(&catalogue, &["Music", "Genres"]), ["Folk"]);
    assert_eq!(at(&catalogue, &["Music", "Composers", "Mara Quill"]).len(), 3);
    assert_eq!(at(&catalogue, &["Music", "By year"]), ["2018"]);
    assert_eq!(
        at(&catalogue, &["Music", "Playlists", "Evening"]),
        ["High Water", "Low Water", "High Water"],
        "in list order, duplicates kept"
    );
    assert_eq!(at(&catalogue, &["Video", "Playlists", "Evening"]), ["Lantern Row S01E10"]);
}

#[test]
fn series_stand_by_season_and_episode_and_pictures_by_date() {
    let catalogue = views();
    let row = ["Video", "Series", "Lantern Row"];
    assert_eq!(at(&catalogue, &row), ["Specials", "Season 1"]);
    assert_eq!(
        at(&catalogue, &["Video", "Series", "Lantern Row", "Season 1"]),
        ["Lantern Row S01E02", "Lantern Row S01E10"]
    );
    assert_eq!(at(&catalogue, &["Video"]), ["All videos", "Newest", "Series", "Playlists"]);
    assert_eq!(at(&catalogue, &["Pictures", "By date taken"]), ["2021", "2022"]);
    assert_eq!(at(&catalogue, &["Pictures", "By date taken", "2022"]), ["August"]);
    assert_eq!(at(&catalogue, &["Pictures", "By date taken", "2022", "August"]), ["b", "a"]);
    assert_eq!(at(&catalogue, &["Pictures", "Albums", "Folder 1"]), ["c", "b", "a"]);
    let options = Options {
        titles: Titles::FileNames,
        pictures: PictureOrder::Title,
        mimes: [("mkv".to_owned(), "video/x-mkv".to_owned())].into(),
    };
    let other = catalogue.with_options(options);
    assert_eq!(at(&other, &["Pictures", "Albums", "Folder 1"]), ["a", "b", "c"]);
    assert_eq!(at(&other, &["Music", "Albums", "Estuary"]), ["high", "low", "engine"]);
    let object = other.object(&whole(), &Place::File(4).id(EPOCH)).unwrap();
    let Node::Item(item) = object.node else { panic!() };
    assert_eq!(item.mime.as_deref(), Some("video/x-mkv"));
}

#[test]
fn what_is_put_comes_back_as_it_was() {
    let catalogue = views();
    let id = Place::File(3).id(EPOCH);
    let Node::Item(item) = catalogue.object(&whole(), &id).unwrap().node else { panic!() };
    assert_eq!(item.facts, track(10, "Engine", "Volt Nine", 1));
}

#[test]
fn the_spelling_that_most_use_is_shown() {
    let mut catalogue = views();
    catalogue.apply([put(30, "x.mp3", track(4, "Slack", "ANA BRISK", 9))]);
    assert_eq!(at(&catalogue, &["Music", "Artists"]), ["ANA BRISK", "Volt Nine"]);
    catalogue.apply([Change::RemoveFile(30)]);
    assert_eq!(at(&catalogue, &["Music", "Artists"])[0], "Ana Brisk", "a tie goes by text");
    catalogue.apply([Change::RemoveFile(1)]);
    assert_eq!(at(&catalogue, &["Music", "Artists"])[0], "ana brisk");
}

fn found(catalogue: &Catalogue, pass: &Pass, container: &str, criteria: &str) -> Vec<String> {
    let criteria = search::parse(criteria).unwrap();
    let page = catalogue.search(pass, container, &criteria, 0, 0, &[]).unwrap();
    assert_eq!(page.total as usize, page.objects.len());
    page.objects.into_iter().map(|o| o.title).collect()
}

#[test]
fn players_that_start_with_a_search_by_class_get_what_they_ask_for() {
    let catalogue = views();
    let class = |name: &str| format!("upnp:class derivedfrom \"object.{name}\"");
    let all = |name: &str| found(&catalogue, &whole(), "0", &class(name));
    assert_eq!(all("item.audioItem"), ["Engine", "High Water", "Low Water"]);
    assert_eq!(all("item.imageItem"), ["a", "b", "c"]);
    assert_eq!(all("item.videoItem").len(), 3);
    assert_eq!(all("item.videoItem.movie"), Vec::<String>::new());
    assert_eq!(all("container.person.musicArtist"), ["Ana Brisk", "Ana Brisk", "Volt Nine"]);
    assert_eq!(all("container.genre.musicGenre"), ["Folk"]);
    assert_eq!(all("container.playlistContainer"), ["Evening", "Evening"]);
    assert_eq!(all("container.album.musicAlbum").len(), 4);
    // Below a menu, with what they add to see nothing twice.
    let once = format!("({}) and (@refID exists false)", class("item.audioItem"));
    for container in ["0", "music", "music-all", "albums", "folders"] {
        let titles = found(&catalogue, &whole(), container, &once);
        assert_eq!(titles, ["Engine", "High Water", "Low Water"], "{container}");
    }
    assert_eq!(found(&catalogue, &whole(), "video", &once), Vec::<String>::new());
    let pictures = pass(Grant { kinds: Kinds::of([Kind::Picture]), folders: None });
    assert_eq!(found(&catalogue, &pictures, "0", &class("item.audioItem")), Vec::<String>::new());
    assert_eq!(catalogue.search(&pictures, "music", &Criteria::Everything, 0, 0, &[]), None);
}

#[test]
fn a_search_finds_the_original_once_or_each_appearance() {
    let catalogue = views();
    let originals = found(&catalogue, &whole(), "0", "dc:title contains \"WATER\"");
    assert_eq!(originals, ["High Water", "Low Water"]);
    let references = "dc:title = \"low water\" and @refID exists true";
    // All, artist, album artist, album, genre, year, composer, newest, playlist.
    assert_eq!(found(&catalogue, &whole(), "0", references).len(), 9);
    let by_artist = "upnp:artist = \"ana brisk\" and upnp:class derivedfrom \"object.item\"";
    assert_eq!(found(&catalogue, &whole(), "0", by_artist).len(), 3, "album artists count");
    let early = "dc:date < \"2022-08-16\" and dc:date >= \"2021\"";
    assert_eq!(found(&catalogue, &whole(), "0", early), ["b", "c"]);
    let keys = sort::parse("-dc:date").unwrap();
    let pictures = search::parse("upnp:class derivedfrom \"object.item.imageItem\"").unwrap();
    let page = catalogue.search(&whole(), "0", &pictures, 1, 1, &keys).unwrap();
    assert_eq!((page.total, page.objects[0].title.as_str()), (3, "b"));
    assert_eq!(catalogue.search(&whole(), &Place::File(1).id(EPOCH), &pictures, 0, 0, &[]), None);
}

#[test]
fn pictures_come_with_smaller_ones_and_albums_with_art() {
    let catalogue = views();
    let decision = decide(Standing::Admitted, &Grant::everything());
    let page = present::browse(&catalogue, &decision, &browse("pictures-all", 0, 1), FORM).unwrap();
    let object = &didl::read(&page.result).unwrap()[0];
    let infos: Vec<&str> = object.resources.iter().map(|(_, info, _)| info.as_str()).collect();
    assert_eq!(infos.len(), 4);
    for (info, profile) in infos[1..].iter().zip(["JPEG_MED", "JPEG_SM", "JPEG_TN"]) {
        assert!(info.contains(profile) && info.contains("CI=1"), "{info}");
    }
    assert!(page.result.contains("resolution=\"576x768\""), "upright: {}", page.result);
    assert!(page.result.contains("<upnp:albumArtURI dlna:profileID=\"JPEG_TN\">http://192.0.2.21"));
    let albums = present::browse(&catalogue, &decision, &browse("picture-albums", 0, 1), FORM);
    assert!(albums.unwrap().result.contains("albumArtURI"));
}

#[test]
fn a_large_batch_stands_as_many_small_ones() {
    let numbers: Vec<u32> = (1..5000).collect();
    let put = |n: &u32| facts_file(*n, 100, &format!("Tide {}", n % 700), n * 7);
    let mut large = Catalogue::new(EPOCH, 1);
    large.apply([folder(1)]);
    large.apply(numbers.iter().map(put));
    let mut small = Catalogue::new(EPOCH, 1);
    small.apply([folder(1)]);
    for numbers in numbers.chunks(50) {
        small.apply(numbers.iter().map(put));
    }
    assert_eq!(large.item_count(), small.item_count());
    for id in ["video-all", "music-all", "pictures-all", "pictures-newest", "albums", "series"] {
        for order in ["", "+dc:date", "-dc:title"] {
            let keys = sort::parse(order).unwrap();
            for start in (0..2000).step_by(400) {
                let page = |c: &Catalogue| c.children(&whole(), id, start, 50, &keys).unwrap();
                assert_eq!(page(&large).objects, page(&small).objects, "{id} {order} {start}");
            }
        }
    }
}
