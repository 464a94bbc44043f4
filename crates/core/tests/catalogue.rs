//! The catalogue under random changes, grants and pages.
// A test that cannot go on has failed: that is what unwrap says.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::sync::Arc;

use mostra_core::access::{Decision, Grant, Pass, Standing, decide};
use mostra_core::catalogue::{Catalogue, Change, Directory, File, Folder, Node, Place, View};
use mostra_core::facts::{Facts, Format};
use mostra_core::present;
use mostra_core::{Kind, Kinds};
use mostra_protocol::content_directory::{Browse, BrowseFlag};
use mostra_protocol::didl;
use mostra_protocol::object_filter::Filter;
use mostra_protocol::soap::Fault;
use mostra_protocol::sort;
use proptest::prelude::*;

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

fn file(serial: u32, directory: u32, title: &str) -> Change {
    let kind = Kind::ALL[serial as usize % 3];
    let format = [Format::Mp4, Format::Mp3, Format::Jpeg][serial as usize % 3];
    let facts = Facts {
        title: Some(title.into()),
        date: serial.is_multiple_of(2).then(|| format!("20{:02}-01-01", serial % 30)),
        ..Facts::bare(kind, format, 1000 + u64::from(serial), 0)
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
fn walk(catalogue: &Catalogue, pass: &Pass) -> Vec<(String, String, String)> {
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
            for object in &page.objects {
                assert_eq!(object.parent, id);
                if matches!(object.node, Node::Container { .. }) {
                    open.push(object.id.clone());
                }
                found.push((id.clone(), object.id.clone(), object.title.clone()));
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
    Directory(u32, u32),
    NoDirectory(u32),
    File(u32, u32, u8),
    NoFile(u32),
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        (1u32..3).prop_map(Step::Folder),
        (1u32..3).prop_map(Step::NoFolder),
        ((1u32..3), (1u32..6)).prop_map(|(f, d)| Step::Directory(f, d)),
        (1u32..12).prop_map(Step::NoDirectory),
        ((1u32..40), (0u32..14), 0u8..5).prop_map(|(s, d, t)| Step::File(s, d, t)),
        (1u32..40).prop_map(Step::NoFile),
    ];
    proptest::collection::vec(step, 0..60)
}

fn change(step: &Step) -> Change {
    match step {
        Step::Folder(f) => folder(*f),
        Step::NoFolder(f) => Change::RemoveFolder(*f),
        // Directories 1 to 5 lie in folder 1, 6 to 10 in folder 2, each inside its top.
        Step::Directory(f, d) => directory(d + 5 * (f - 1), *f, 100 * f),
        Step::NoDirectory(d) => Change::RemoveDirectory(*d),
        Step::File(s, d, t) => {
            file(*s, if *d < 11 { *d } else { 100 * (d - 10) }, &format!("Tide {t}"))
        }
        Step::NoFile(s) => Change::RemoveFile(*s),
    }
}

/// A plain model: what is there after the steps, to build a catalogue anew from.
#[derive(Default, Clone)]
struct Model {
    folders: BTreeSet<u32>,
    directories: std::collections::BTreeMap<u32, u32>,
    files: std::collections::BTreeMap<u32, (u32, Change)>,
}

impl Model {
    fn holds(&self, directory: u32) -> bool {
        (directory.is_multiple_of(100) && self.folders.contains(&(directory / 100)))
            || self.directories.contains_key(&directory)
    }

    fn step(&mut self, step: &Step) {
        match step {
            Step::Folder(f) => {
                self.folders.insert(*f);
            }
            Step::NoFolder(f) => {
                if self.folders.remove(f) {
                    self.directories.retain(|_, folder| folder != f);
                    let model = self.clone();
                    self.files.retain(|_, (d, _)| model.holds(*d));
                }
            }
            Step::Directory(f, d) => {
                if self.folders.contains(f) {
                    self.directories.insert(d + 5 * (f - 1), *f);
                }
            }
            Step::NoDirectory(d) => {
                self.directories.remove(d);
                let model = self.clone();
                self.files.retain(|_, (d, _)| model.holds(*d));
            }
            Step::File(s, ..) => {
                if let Change::PutFile(f) = change(step)
                    && self.holds(f.directory)
                {
                    self.files.insert(*s, (f.directory, change(step)));
                }
            }
            Step::NoFile(s) => {
                self.files.remove(s);
            }
        }
    }

    fn build(&self) -> Catalogue {
        let mut catalogue = Catalogue::new(EPOCH, 1);
        catalogue.apply(self.folders.iter().map(|f| folder(*f)));
        catalogue.apply(self.directories.iter().map(|(d, f)| directory(*d, *f, 100 * f)));
        catalogue.apply(self.files.values().map(|(_, c)| c.clone()));
        catalogue
    }
}

proptest! {
    #[test]
    fn incremental_equals_a_rebuild(steps in steps(), batch in 1usize..7) {
        let mut model = Model::default();
        let mut catalogue = Catalogue::new(EPOCH, 1);
        // Directories of a folder that is not there are dropped by whoever reports changes.
        let mut real = Vec::new();
        for step in &steps {
            let orphan = matches!(step, Step::Directory(f, _) if !model.folders.contains(f));
            model.step(step);
            if !orphan {
                real.push(change(step));
            }
        }
        for changes in real.chunks(batch) {
            catalogue.apply(changes.to_vec());
        }
        let rebuilt = model.build();
        for grant in [
            Grant::everything(),
            Grant { kinds: Kinds::of([Kind::Picture]), folders: None },
            Grant { kinds: Kinds::of([Kind::Video, Kind::Music]), folders: Some([2].into()) },
        ] {
            let pass = pass(grant);
            prop_assert_eq!(walk(&catalogue, &pass), walk(&rebuilt, &pass));
        }
        prop_assert_eq!(catalogue.item_count(), model.files.len());
    }

    #[test]
    fn what_a_pass_does_not_cover_does_not_exist(steps in steps()) {
        let mut model = Model::default();
        steps.iter().for_each(|s| model.step(s));
        let catalogue = model.build();
        let pictures = pass(Grant { kinds: Kinds::of([Kind::Picture]), folders: None });
        for serial in model.files.keys() {
            for view in View::all() {
                let id = Place::File(*serial, view).id(EPOCH);
                let picture = Kind::ALL[*serial as usize % 3] == Kind::Picture;
                if catalogue.object(&whole(), &id).is_some() {
                    prop_assert_eq!(catalogue.object(&pictures, &id).is_some(), picture);
                    prop_assert_eq!(catalogue.locate(&pictures, &id).is_some(), picture);
                }
            }
        }
    }

    #[test]
    fn the_update_id_moves_with_every_visible_change_and_only_then(steps in steps()) {
        let mut model = Model::default();
        let mut catalogue = Catalogue::new(EPOCH, 1);
        for step in &steps {
            if matches!(step, Step::Directory(f, _) if !model.folders.contains(f)) {
                continue;
            }
            model.step(step);
            let before = (walk(&catalogue, &whole()), catalogue.update_id());
            let snapshot = catalogue.clone();
            catalogue.apply([change(step)]);
            if walk(&catalogue, &whole()) != before.0 {
                prop_assert!(catalogue.update_id() > before.1);
            }
            prop_assert_eq!(walk(&snapshot, &whole()), before.0, "a snapshot keeps what it had");
        }
    }
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
    let page = catalogue.children(&whole(), "video", 0, 0, &[]).unwrap();
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
        let page = catalogue.children(&whole(), "video", 0, 0, &keys).unwrap();
        page.objects.into_iter().map(|o| o.title).collect::<Vec<_>>()
    };
    assert_eq!(titles("+dc:date"), ["tide 2", "Tide 10"]);
    assert_eq!(titles("-dc:date"), ["Tide 10", "tide 2"]);
    assert_eq!(titles("-dc:title"), ["Tide 10", "tide 2"]);
}

#[test]
fn a_locate_gives_the_path_inside_the_folder() {
    let catalogue = small();
    let located = catalogue.locate(&whole(), &Place::File(3, View::Folders).id(EPOCH)).unwrap();
    assert_eq!((located.root(), located.path()), ("/srv/1", "/srv/1/Reel 5/3.mp4"));
    assert_eq!(catalogue.locate(&whole(), "d1"), None);
}

#[test]
fn a_waiting_device_sees_a_notice_and_a_refused_one_nothing() {
    let catalogue = small();
    let at = |decision: &Decision, browse: &Browse| {
        present::browse(&catalogue, decision, browse, "http://192.0.2.21:7640", 3)
    };
    let root = at(&Decision::Waiting, &browse("0", 0, 0)).unwrap();
    let objects = didl::read(&root.result).unwrap();
    assert_eq!((objects.len(), root.total, root.items, root.update_id), (1, 1, 0, 14));
    assert!(objects[0].container && objects[0].title.contains("Not let in"));
    assert_eq!(at(&Decision::Waiting, &browse(&objects[0].id, 0, 0)).unwrap().total, 0);
    let root = at(&Decision::Refused, &browse("0", 0, 0)).unwrap();
    assert_eq!((root.returned, root.total), (0, 0));
    let known = Place::File(3, View::Folders).id(EPOCH);
    for decision in [Decision::Waiting, Decision::Refused] {
        assert_eq!(at(&decision, &browse("video", 0, 0)), Err(Fault::NoSuchObject));
        let metadata = Browse { flag: BrowseFlag::Metadata, ..browse(&known, 0, 0) };
        assert_eq!(at(&decision, &metadata), Err(Fault::NoSuchObject));
    }
}

#[test]
fn an_admitted_device_gets_urls_at_the_address_it_came_by() {
    let catalogue = small();
    let decision = decide(Standing::Admitted, &Grant::everything());
    let page =
        present::browse(&catalogue, &decision, &browse("video", 0, 1), "http://192.0.2.21:7640", 0)
            .unwrap();
    let objects = didl::read(&page.result).unwrap();
    assert_eq!((page.returned, page.total, page.items), (1, 2, 1));
    let (url, info, size) = &objects[0].resources[0];
    assert_eq!(
        url,
        &format!("http://192.0.2.21:7640/media/{}.mp4", Place::File(6, View::Folders).id(EPOCH))
    );
    assert!(info.starts_with("http-get:*:video/mp4:DLNA.ORG_OP=01;") && *size == Some(1006));
    let beyond = present::browse(&catalogue, &decision, &browse("video", 50, 10), "", 0).unwrap();
    assert_eq!((beyond.returned, beyond.total), (0, 2));
    assert_eq!(
        present::browse(&catalogue, &decision, &browse("nothing", 0, 0), "", 0),
        Err(Fault::NoSuchObject)
    );
    let item = Place::File(3, View::Folders).id(EPOCH);
    assert_eq!(
        present::browse(&catalogue, &decision, &browse(&item, 0, 0), "", 0),
        Err(Fault::NoSuchContainer)
    );
}
