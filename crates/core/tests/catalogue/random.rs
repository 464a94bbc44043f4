//! Random changes, grants and pages.

use super::*;

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
        Step::NoFolder(f) => Change::RemoveFolder(FolderId(*f)),
        Step::Directory { serial, parent, name } => Change::PutDirectory(Directory {
            serial: *serial,
            folder: FolderId(0),
            parent: Some(*parent),
            name: format!("Reel {name}"),
        }),
        Step::NoDirectory(d) => Change::RemoveDirectory(*d),
        Step::File { serial, directory, title, seed } => {
            facts_file(*serial, *directory, &format!("Tide {title}"), *seed)
        }
        Step::NoFile(s) => Change::RemoveFile(FileId(*s)),
        Step::Playlist { serial, directory, entries } => Change::PutPlaylist(Playlist {
            serial: *serial,
            directory: *directory,
            name: format!("List {serial}.m3u"),
            entries: entries.iter().copied().map(FileId).collect(),
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
        let mut catalogue = Catalogue::new(EPOCH, UpdateId(1));
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
        Grant { kinds: Kinds::of([Kind::Video, Kind::Music]), folders: Some([FolderId(2)].into()) },
    ]
}

/// However changes are put together, the catalogue is as if it had been built anew.
fn is_as_rebuilt(steps: &[Step], batch: usize) -> Result<(), TestCaseError> {
    let mut model = Model::default();
    let mut catalogue = Catalogue::new(EPOCH, UpdateId(1));
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
    Ok(())
}

proptest! {
    // Six times as many each as elsewhere: 1536, where PROPTEST_CASES does not say otherwise. Two
    // tests, which run at one time.
    #![proptest_config(ProptestConfig::with_cases(6 * ProptestConfig::default().cases))]
    #[test]
    fn incremental_equals_a_rebuild(steps in steps(), batch in 1usize..4) {
        is_as_rebuilt(&steps, batch)?;
    }

    #[test]
    fn incremental_in_larger_batches_equals_a_rebuild(steps in steps(), batch in 4usize..7) {
        is_as_rebuilt(&steps, batch)?;
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
        let mut catalogue = Catalogue::new(EPOCH, UpdateId(1));
        for step in &steps {
            let before = (walk(&catalogue, &whole()), catalogue.update_id());
            let snapshot = catalogue.clone();
            let ids: BTreeMap<String, UpdateId> = containers(&before.0)
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

#[test]
fn a_large_batch_stands_as_many_small_ones() {
    let numbers: Vec<u32> = (1..5000).collect();
    let put = |n: &u32| facts_file(*n, 100, &format!("Tide {}", n % 700), n * 7);
    let mut large = Catalogue::new(EPOCH, UpdateId(1));
    large.apply([folder(1)]);
    large.apply(numbers.iter().map(put));
    let mut small = Catalogue::new(EPOCH, UpdateId(1));
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
