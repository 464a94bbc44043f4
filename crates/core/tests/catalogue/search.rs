//! Search.

use super::*;

#[test]
fn players_that_start_with_a_search_by_class_get_what_they_ask_for() {
    let catalogue = catalogue_with_views();
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
    let catalogue = catalogue_with_views();
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
    let pictures = criteria::parse("upnp:class derivedfrom \"object.item.imageItem\"").unwrap();
    let page = catalogue.search(&whole(), "0", &pictures, 1, 1, &keys).unwrap();
    assert_eq!((page.total, page.objects[0].title.as_str()), (3, "b"));
    assert_eq!(
        catalogue.search(&whole(), &ObjectId::File(1).id(EPOCH), &pictures, 0, 0, &[]),
        None
    );
}

/// Each operator on each searchable property, against what the standard says of it (SRCH-13,
/// SRCH-17): with several values, a positive test holds if one does, and a negative one only if
/// none does the opposite.
#[test]
fn every_operator_works_on_every_property() {
    let mut catalogue = catalogue_with_views();
    let station = Facts {
        station: Some("http://192.0.2.7:8000/live".into()),
        title: Some("Harbour watch".into()),
        ..Facts::bare(Kind::Music, Format::Mp3, 0, 0)
    };
    let duet = Facts {
        artists: vec!["Ana Brisk".into(), "Volt Nine".into()],
        ..track(7, "Duet", "Ana Brisk", 3)
    };
    // One that has every property there is.
    let whole_one = Facts {
        title: Some("Fog signal".into()),
        artists: vec!["Ana Brisk".into()],
        album: Some("Harbour watch".into()),
        genres: vec!["2018".into()],
        date: mostra_core::date::Date::parse("2018-03-03"),
        duration_ms: Some(3000),
        resolution: Some((640, 360)),
        track: (Some(3), None),
        ..Facts::bare(Kind::Video, Format::Mp4, 3, 1)
    };
    catalogue.apply([
        put(40, "harbour.pls#1", station),
        put(41, "duet.mp3", duet),
        put(42, "whole.mp4", whole_one),
    ]);
    let ids = |text: &str| -> BTreeSet<String> {
        let criteria = criteria::parse(text).unwrap_or_else(|e| panic!("{text}: {e:?}"));
        let page = catalogue.search(&whole(), "0", &criteria, 0, 5000, &[]).unwrap();
        page.objects.into_iter().map(|o| o.id).collect()
    };
    let all = ids("*");
    let capabilities = mostra_protocol::model::property::search_capabilities();
    let properties: Vec<&str> = capabilities.split(',').collect();
    assert!(properties.len() > 8, "{capabilities}");
    for property in properties {
        let all = match property.starts_with('@') {
            // Those ask for appearances, of which there are more than objects.
            true => ids(&format!("{property} != \"no such value\"")),
            false => all.clone(),
        };
        let having = ids(&format!("{property} exists true"));
        let lacking = ids(&format!("{property} exists false"));
        assert!(!having.is_empty(), "{property}: without a value nothing is tested");
        if !property.starts_with('@') {
            assert!(
                having.is_disjoint(&lacking) && having.len() + lacking.len() == all.len(),
                "{property}"
            );
        }
        for value in ["Ana Brisk", "Harbour watch", "2018", "3", "object.item", "0", "zzz"] {
            let test = |operator: &str| ids(&format!("{property} {operator} \"{value}\""));
            let (equal, other) = (test("="), test("!="));
            assert!(equal.is_disjoint(&other), "{property} = and != {value}");
            assert_eq!(&equal | &other, all, "{property} != {value}: also where it is absent");
            let (holding, without) = (test("contains"), test("doesNotContain"));
            assert!(holding.is_disjoint(&without), "{property} contains {value}");
            assert_eq!(&holding | &without, all, "{property} doesNotContain {value}");
            assert!(test("startsWith").is_subset(&holding), "{property} startsWith {value}");
            for operator in ["<", "<=", ">", ">=", "derivedfrom"] {
                assert!(test(operator).is_subset(&having), "{property} {operator} {value}");
            }
            assert!(
                test("<").is_subset(&test("<=")) && test(">").is_subset(&test(">=")),
                "{property}"
            );
        }
    }
    // Two artists: either is found, and the negation finds neither.
    let titles = |text: &str| found(&catalogue, &whole(), "0", text);
    for name in ["Ana Brisk", "volt nine"] {
        let one = format!("upnp:artist = \"{name}\" and upnp:class derivedfrom \"object.item\"");
        assert!(titles(&one).contains(&"Duet".to_owned()), "{name}");
        let none = format!("upnp:artist != \"{name}\" and upnp:class derivedfrom \"object.item\"");
        assert!(!titles(&none).contains(&"Duet".to_owned()), "{name}");
    }
    // A station is of its own class, and of the one above.
    let class = |name: &str| titles(&format!("upnp:class derivedfrom \"object.item.{name}\""));
    assert_eq!(class("audioItem.audioBroadcast"), ["Harbour watch"]);
    assert!(!class("audioItem.musicTrack").contains(&"Harbour watch".to_owned()));
    assert!(class("audioItem").contains(&"Harbour watch".to_owned()));
}

#[test]
fn a_search_that_nobody_waits_for_finds_nothing_more() {
    let catalogue = catalogue_with_views();
    let criteria = mostra_protocol::model::search::parse("dc:title exists true").unwrap();
    let window = mostra_core::catalogue::Window { start: 0, count: 0, sort: &[] };
    let stop = mostra_core::stop::Stop::default();
    let found =
        |stop| catalogue.search_until(stop, &whole(), "0", &criteria, window).unwrap().total;
    assert!(found(&stop) > 0);
    stop.set();
    assert_eq!(found(&stop), 0);
}

#[test]
fn every_property_that_one_can_sort_by_tells_two_values_apart() {
    let mut catalogue = small();
    let facts = |n: u64| Facts {
        title: Some(format!("Title {n}")),
        artists: vec![format!("Artist {n}")],
        album: Some(format!("Album {n}")),
        genres: vec![format!("Genre {n}")],
        track: (Some(n as u16), None),
        duration_ms: Some(n * 1000),
        date: mostra_core::date::Date::parse(&format!("200{n}-01-01")),
        ..Facts::bare(Kind::Music, Format::Mp3, n, 1)
    };
    catalogue.apply([put(901, "a.mp3", facts(2)), put(902, "b.mp3", facts(1))]);
    let films =
        "upnp:class derivedfrom \"object.item.audioItem\" and upnp:album contains \"album\"";
    let criteria = mostra_protocol::model::search::parse(films).unwrap();
    for name in mostra_protocol::model::property::sort_capabilities().split(',') {
        if name == "upnp:class" {
            continue; // Both are of one.
        }
        let titles = |sign: &str| {
            let sort = mostra_protocol::model::sort::parse(&format!("{sign}{name}")).unwrap();
            let page = catalogue.search(&whole(), "0", &criteria, 0, 0, &sort).unwrap();
            page.objects.into_iter().map(|object| object.title).collect::<Vec<_>>()
        };
        assert_eq!(titles("+"), ["Title 1", "Title 2"], "{name}");
        assert_eq!(titles("-"), ["Title 2", "Title 1"], "{name}");
    }
}
