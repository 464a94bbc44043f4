//! Views, and how things stand in them.

use super::*;

#[test]
fn people_find_music_by_what_they_know_of_it() {
    let catalogue = catalogue_with_views();
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
    let catalogue = catalogue_with_views();
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
    let options = CatalogueOptions {
        titles: Titles::FileNames,
        pictures: PictureOrder::Title,
        mimes: [("mkv".to_owned(), "video/x-mkv".to_owned())].into(),
        ..CatalogueOptions::default()
    };
    let other = catalogue.with_options(options);
    assert_eq!(at(&other, &["Pictures", "Albums", "Folder 1"]), ["a", "b", "c"]);
    assert_eq!(at(&other, &["Music", "Albums", "Estuary"]), ["high", "low", "engine"]);
    let object = other.object(&whole(), &ObjectId::File(4).id(EPOCH)).unwrap();
    let Node::Item(item) = object.node else { panic!() };
    assert_eq!(item.mime.as_deref(), Some("video/x-mkv"));
}

#[test]
fn names_stand_by_the_alphabet_of_the_house() {
    let mut catalogue = catalogue_with_views();
    for (serial, artist) in [(40, "Ärla"), (41, "Åsa"), (42, "Zeb"), (43, "Ása")] {
        catalogue.apply([put(serial, "x.mp3", track(1, artist, artist, 1))]);
    }
    let artists = |c: &Catalogue| at(c, &["Music", "Artists"]).split_off(1);
    let found = |c: &Catalogue, text: &str| {
        let criteria = criteria::parse(&format!("dc:title contains \"{text}\"")).unwrap();
        c.search(&whole(), "music-all", &criteria, 0, 0, &[]).unwrap().total
    };
    assert_eq!(
        artists(&catalogue),
        ["Ärla", "Ása", "Volt Nine", "Zeb"],
        "one artist, accents aside"
    );
    assert_eq!(found(&catalogue, "asa"), 2);
    let locale = Locale::from_word("sv").unwrap();
    let swedish =
        catalogue.with_options(CatalogueOptions { locale, ..CatalogueOptions::default() });
    assert_eq!(artists(&swedish), ["Ása", "Volt Nine", "Zeb", "Åsa", "Ärla"]);
    assert_eq!((found(&swedish, "asa"), found(&swedish, "åsa")), (1, 1));
}

#[test]
fn the_household_s_own_subtitles_come_first() {
    let mut catalogue = catalogue_with_views();
    let caption = |language: Option<&str>| Caption {
        name: format!("Fog.{}srt", language.map(|l| format!("{l}.")).unwrap_or_default()),
        language: language.map(str::to_owned),
        webvtt: false,
    };
    let captions = [Some("de"), Some("en"), None, Some("swe")].map(caption).to_vec();
    let facts = Facts { captions, ..Facts::bare(Kind::Video, Format::Mp4, 1, 1) };
    catalogue.apply([put(50, "Fog.mp4", facts)]);
    let first = |catalogue: &Catalogue| {
        let object = catalogue.object(&whole(), &ObjectId::File(50).id(EPOCH)).unwrap();
        let Node::Item(item) = object.node else { panic!() };
        let languages = item.facts.captions.into_iter().map(|c| c.language.unwrap_or_default());
        languages.collect::<Vec<_>>().join(" ")
    };
    assert_eq!(first(&catalogue), " en de swe");
    let locale = Locale::from_word("sv").unwrap();
    let swedish =
        catalogue.with_options(CatalogueOptions { locale, ..CatalogueOptions::default() });
    assert_eq!(first(&swedish), " swe de en");
}

#[test]
fn what_is_put_comes_back_as_it_was() {
    let catalogue = catalogue_with_views();
    let id = ObjectId::File(3).id(EPOCH);
    let Node::Item(item) = catalogue.object(&whole(), &id).unwrap().node else { panic!() };
    assert_eq!(item.facts, track(10, "Engine", "Volt Nine", 1));
}

#[test]
fn the_spelling_that_most_use_is_shown() {
    let mut catalogue = catalogue_with_views();
    catalogue.apply([put(30, "x.mp3", track(4, "Slack", "ANA BRISK", 9))]);
    assert_eq!(at(&catalogue, &["Music", "Artists"]), ["ANA BRISK", "Volt Nine"]);
    catalogue.apply([Change::RemoveFile(FileId(30))]);
    assert_eq!(at(&catalogue, &["Music", "Artists"])[0], "Ana Brisk", "a tie goes by text");
    catalogue.apply([Change::RemoveFile(FileId(1))]);
    assert_eq!(at(&catalogue, &["Music", "Artists"])[0], "ana brisk");
}

#[test]
fn pictures_come_with_smaller_ones_and_albums_with_art() {
    let catalogue = catalogue_with_views();
    let decision = decide(Standing::Admitted, &Grant::everything());
    let page = browsed(&catalogue, &decision, &browse("pictures-all", 0, 1), FORM).unwrap();
    let object = &didl::read(&page.result).unwrap()[0];
    let infos: Vec<&str> = object.resources.iter().map(|(_, info, _)| info.as_str()).collect();
    assert_eq!(infos.len(), 4);
    for (info, profile) in infos[1..].iter().zip(["JPEG_MED", "JPEG_SM", "JPEG_TN"]) {
        assert!(info.contains(profile) && info.contains("CI=1"), "{info}");
    }
    assert!(page.result.contains("resolution=\"576x768\""), "upright: {}", page.result);
    assert!(page.result.contains("<upnp:albumArtURI dlna:profileID=\"JPEG_TN\">http://192.0.2.21"));
    let albums = browsed(&catalogue, &decision, &browse("picture-albums", 0, 1), FORM);
    assert!(albums.unwrap().result.contains("albumArtURI"));
    // An album of music has the picture of the first of its tracks that has one.
    let art = |catalogue: &Catalogue| {
        let albums = browsed(catalogue, &decision, &browse("albums", 0, 0), FORM).unwrap();
        albums.result.matches("albumArtURI dlna").count()
    };
    assert_eq!(art(&catalogue), 0);
    let mut pictured = catalogue.clone();
    let facts = Facts { embedded_art: true, ..track(2, "High Water", "ana brisk", 1) };
    pictured.apply([put(2, "high.mp3", facts)]);
    assert_eq!(art(&pictured), 1);
}

#[test]
fn a_scan_finds_what_is_recorded_and_what_may_have_moved() {
    let mut catalogue = small();
    let sized = |size, name: &str, serial| {
        put(serial, name, Facts::bare(Kind::Music, Format::Mp3, size, 7))
    };
    catalogue.apply([sized(900, "a.mp3", 60), sized(900, "b.mp3", 61), sized(901, "d.mp3", 62)]);
    let inventory = Inventory::of(Arc::new(catalogue.clone()), FolderId(1));
    assert!(!inventory.is_bare());
    let alike = |name, size| inventory.alike(name, size, 7, 1).collect::<Vec<_>>();
    assert_eq!(alike("b.mp3", 900)[0], FileId(61), "that of its name first");
    assert_eq!(alike("d.mp3", 901)[0], FileId(62));
    assert_eq!(alike("c.mp3", 900).len(), 1, "no more than asked for");
    assert!(alike("b.mp3", 902).is_empty());
    let path = catalogue.path_below(FileId(61)).unwrap();
    let file = inventory.file(&path).unwrap();
    assert_eq!((file.serial, file.size, file.modified_ms), (FileId(61), 900, 7));
    assert_eq!((inventory.file("nowhere/b.mp3"), catalogue.path_below(FileId(99))), (None, None));
    let files = inventory.directories().map(|(_, directory)| inventory.files(directory).len());
    assert_eq!(files.sum::<usize>(), catalogue.item_count());
    assert!(Inventory::of(Arc::new(catalogue), FolderId(9)).is_bare());
}
