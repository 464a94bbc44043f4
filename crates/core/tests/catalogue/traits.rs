//! What traits change for one device, and what they leave as it is.

use mostra_protocol::model::didl::ReadObject;
use mostra_protocol::server::content_directory::Search;

use mostra_core::ids::UpdateId;
use mostra_core::stop::Stop;

use super::*;

fn admitted() -> Decision {
    decide(Standing::Admitted, &Grant::everything())
}

fn shown(catalogue: &Catalogue, traits: &Traits, asked: &Browse) -> present::ListAnswer {
    browsed(catalogue, &admitted(), asked, present::AnswerForm { traits, ..FORM }).unwrap()
}

fn objects(catalogue: &Catalogue, traits: &Traits, id: &str) -> Vec<ReadObject> {
    didl::read(&shown(catalogue, traits, &browse(id, 0, 0)).result).unwrap()
}

fn search_in(container: &str, text: &str) -> Search {
    Search {
        container: container.into(),
        criteria: criteria::parse(text).unwrap(),
        filter: Filter::ALL,
        start: 0,
        count: 0,
        sort: vec![],
    }
}

/// Several thousand tracks in one folder.
fn many(count: u32) -> Catalogue {
    let mut catalogue = Catalogue::new(EPOCH, UpdateId(1));
    let file = |n: u32| put(n, &format!("{n}.mp3"), track(n, &format!("Tide {n}"), "Ana Brisk", 1));
    catalogue.apply([folder(1)].into_iter().chain((1..=count).map(file)));
    catalogue
}

#[test]
fn pages_are_cut_short_and_go_on_from_there() {
    let catalogue = many(6000);
    let pages = |traits: &Traits, count: u32, most: u32, bytes: usize| {
        let mut ids = BTreeSet::new();
        let mut start = 0;
        while start < 6000 {
            let page = shown(&catalogue, traits, &browse("music-all", start, count));
            assert_eq!(page.total, 6000, "the true total, however short the page");
            assert!(page.returned > 0 && page.returned <= most, "{} of {most}", page.returned);
            assert!(page.result.len() <= bytes || page.returned == 1, "{}", page.result.len());
            let marks = page.result.match_indices("<item id=\"");
            ids.extend(marks.map(|(at, _)| page.result[at + 10..at + 24].to_owned()));
            start += page.returned;
        }
        assert_eq!((start, ids.len()), (6000, 6000), "each once");
    };
    // By default (CDS-32, IOP-16), with counts as players send them (IOP-3).
    pages(&PLAIN, 0, 5000, 4 << 20);
    pages(&PLAIN, 999_999, 5000, 4 << 20);
    pages(&PLAIN, u32::MAX, 5000, 4 << 20);
    pages(&PLAIN, 2000, 1000, 200 << 10);
    pages(&Traits { page_objects: Some(700), ..Traits::default() }, 0, 700, 4 << 20);
    pages(&Traits { page_bytes: Some(60_000), ..Traits::default() }, 0, 5000, 60_000);
    let narrow = Traits { page_bytes: Some(10), ..Traits::default() };
    assert_eq!(shown(&catalogue, &narrow, &browse("music-all", 0, 0)).returned, 1);
    let tiny = shown(&catalogue, &PLAIN, &browse("music-all", 0, 7));
    assert_eq!(tiny.returned, 7);
}

#[test]
fn titles_are_as_a_device_wants_them() {
    let catalogue = catalogue_with_views();
    let album = &objects(&catalogue, &PLAIN, "albums")[0].id;
    let titles = |traits: Traits, id: &str| {
        objects(&catalogue, &traits, id).into_iter().map(|o| o.title).collect::<Vec<_>>()
    };
    let numbered = Traits { title_track: Some(true), ..Traits::default() };
    assert_eq!(
        titles(numbered.clone(), album),
        ["01 High Water", "02 Low Water", "2-01 Engine"],
        "the first disc goes unnamed where the files do not say how many there are"
    );
    assert_eq!(titles(numbered, "music-all"), ["Engine", "High Water", "Low Water"]);
    let named = Traits { title_extension: Some(true), ..Traits::default() };
    assert_eq!(titles(named, album)[0], "High Water.mp3");
    let short = Traits { title_bytes: Some(8), title_extension: Some(true), ..Traits::default() };
    assert_eq!(titles(short, album)[0], "High.mp3");
}

#[test]
fn resources_are_as_a_device_wants_them() {
    let catalogue = catalogue_with_views();
    let of = |traits: &Traits| {
        let mut all = objects(&catalogue, traits, "pictures-all");
        all.swap_remove(0).resources
    };
    let plain = of(&PLAIN);
    assert_eq!(plain.len(), 4, "the picture and three smaller ones");
    let jpeg = |r: &(String, String, Option<u64>)| r.1.contains("PN=JPEG_TN");
    assert!(plain.iter().any(jpeg));
    assert!(!of(&Traits { thumbnails: Some(false), ..Traits::default() }).iter().any(jpeg));
    assert_eq!(of(&Traits { one_resource: Some(true), ..Traits::default() }), plain[..1]);
    let any = of(&Traits { features: Some(Features::Any), ..Traits::default() });
    assert!(any.iter().all(|r| r.1 == "http-get:*:image/jpeg:*"));
    let small = of(&Traits { largest_size: Some(6), ..Traits::default() });
    assert_eq!((plain[0].2, small[0].2), (Some(7), None));

    let films = |traits: &Traits| objects(&catalogue, traits, "video-all").swap_remove(0).resources;
    let other = Traits {
        mimes: BTreeMap::from([("video/x-matroska".into(), "video/x-mkv".into())]),
        ..Traits::default()
    };
    assert!(films(&PLAIN)[0].1.starts_with("http-get:*:video/x-matroska:"));
    assert!(films(&other)[0].1.starts_with("http-get:*:video/x-mkv:"));
    assert!(films(&other)[0].0.ends_with(".mkv"), "the address stays");
    let infos = present::source_infos(&[], &other);
    assert!(infos.iter().any(|i| i.mime == "video/x-mkv"), "listed in Source as well");

    let tracks =
        |traits: &Traits| objects(&catalogue, traits, "music-all").swap_remove(0).resources;
    let nearest = tracks(&Traits { features: Some(Features::Nearest), ..Traits::default() });
    assert!(!tracks(&PLAIN)[0].1.contains("PN=") && nearest[0].1.contains("PN=MP3;"));
}

#[test]
fn the_wanted_form_comes_first() {
    let mut catalogue = Catalogue::new(EPOCH, UpdateId(1));
    let png =
        Facts { resolution: Some((900, 600)), ..Facts::bare(Kind::Picture, Format::Png, 7, 0) };
    catalogue.apply([folder(1), put(1, "a.png", png)]);
    let first =
        |traits: &Traits| objects(&catalogue, traits, "pictures-all")[0].resources[0].1.clone();
    assert!(first(&PLAIN).contains("image/png"));
    let jpeg = Traits { first: vec!["image/jpeg".into()], ..Traits::default() };
    assert!(first(&jpeg).contains("image/jpeg"));
}

#[test]
fn fixed_ids_stand_for_containers_of_ours() {
    let catalogue = catalogue_with_views();
    let alias = |container: &str, class: Option<&str>| Alias {
        container: container.into(),
        class: class.map(str::to_owned),
    };
    let traits = Traits {
        aliases: BTreeMap::from([
            ("4".into(), alias("music-all", None)),
            ("9".into(), alias("taken", Some("object.item.imageItem"))),
            ("14".into(), alias("music", Some("object.container"))),
        ]),
        ..Traits::default()
    };
    let ids = |objects: Vec<ReadObject>| objects.into_iter().map(|o| o.id).collect::<Vec<_>>();
    let tracks = objects(&catalogue, &traits, "4");
    assert!(tracks.iter().all(|o| o.parent == "4"), "parentID is the asked id");
    assert_eq!(ids(tracks), ids(objects(&catalogue, &PLAIN, "music-all")));
    let metadata = Browse { flag: BrowseFlag::Metadata, ..browse("14", 0, 0) };
    let object = &didl::read(&shown(&catalogue, &traits, &metadata).result).unwrap()[0];
    let children = shown(&catalogue, &traits, &browse("14", 0, 2));
    assert_eq!((object.id.as_str(), object.child_count), ("14", Some(children.total)));
    assert_eq!(children.returned, 2);

    let search = |traits: &Traits, container: &str, text: &str| {
        let form = present::AnswerForm { traits, ..FORM };
        present::search(
            &catalogue,
            &admitted(),
            &search_in(container, text),
            form,
            &Stop::default(),
        )
    };
    let audio = "upnp:class derivedfrom \"object.item.audioItem\"";
    let here = search(&traits, "4", audio).unwrap();
    assert_eq!(here.total, search(&PLAIN, "music-all", audio).unwrap().total);
    assert_eq!(here.total, shown(&catalogue, &traits, &browse("4", 0, 0)).total);
    assert!(didl::read(&here.result).unwrap().iter().all(|o| o.title != "Folders"));
    assert_eq!(search(&traits, "9", "*").unwrap().total, 3, "only the class that it adds");
    assert_eq!(search(&traits, "77", audio).unwrap().total, 3, "an unknown one is the root");

    // All other devices are told that there is nothing of the kind (REG-7).
    assert_eq!(search(&PLAIN, "4", audio), Err(Fault::NoSuchContainer));
    let plain = browsed(&catalogue, &admitted(), &browse("4", 0, 0), FORM);
    assert_eq!(plain, Err(Fault::NoSuchObject));
    let unknown = present::AnswerForm { traits: &traits, ..FORM };
    let unknown = browsed(&catalogue, &admitted(), &browse("77", 0, 0), unknown);
    assert_eq!(unknown, Err(Fault::NoSuchObject));
}

#[test]
fn a_large_container_is_shown_in_parts() {
    let catalogue = many(1234);
    let parts = |most| Traits { container_objects: Some(most), ..Traits::default() };
    /// Walks all that is below an id; gives the titles of items in order.
    fn walk(catalogue: &Catalogue, traits: &Traits, id: &str, most: u32) -> Vec<String> {
        let mut titles = Vec::new();
        let mut start = 0;
        loop {
            let page = shown(catalogue, traits, &browse(id, start, 7));
            assert!(page.total <= most, "{} objects in {id}", page.total);
            for object in didl::read(&page.result).unwrap() {
                assert_eq!(object.parent, id);
                let Some(count) = object.child_count else {
                    titles.push(object.title);
                    continue;
                };
                let asked = Browse { flag: BrowseFlag::Metadata, ..browse(&object.id, 0, 0) };
                let alone = shown(catalogue, traits, &asked);
                assert_eq!(didl::read(&alone.result).unwrap()[0], object, "as it was listed");
                assert_eq!(count, shown(catalogue, traits, &browse(&object.id, 0, 1)).total);
                titles.extend(walk(catalogue, traits, &object.id, most));
            }
            start += page.returned;
            if start >= page.total {
                return titles;
            }
        }
    }
    let whole: Vec<String> = (1..=1234).map(|n| format!("Tide {n}")).collect();
    for most in [10, 12, 100, 617, 1233] {
        assert_eq!(walk(&catalogue, &parts(most), "music-all", most), whole, "{most}");
    }
    let titles = |most| {
        let all = objects(&catalogue, &parts(most), "music-all").into_iter();
        all.map(|o| o.title).collect::<Vec<_>>()
    };
    assert_eq!(titles(617), ["0001-0617 Tide 1 … Tide 617", "0618-1234 Tide 618 … Tide 1234"]);
    assert_eq!(titles(1234).len(), 1000, "whole, and cut by the page");
    // Ids stay while the container grows; other devices know nothing of them.
    let ids = |catalogue: &Catalogue| -> Vec<String> {
        objects(catalogue, &parts(100), "music-all").into_iter().map(|o| o.id).collect()
    };
    let before = ids(&catalogue);
    assert_eq!(ids(&many(1300))[..13], before);
    let plain = browsed(&catalogue, &admitted(), &browse(&before[0], 0, 0), FORM);
    assert_eq!(plain, Err(Fault::NoSuchObject));
    let traits = parts(100);
    let form = present::AnswerForm { traits: &traits, ..FORM };
    for gone in ["p1_13_music-all", "p2_0_music-all", "p0_0_music-all", "p1_0_music", "p1_00_x"] {
        let none = browsed(&catalogue, &admitted(), &browse(gone, 0, 0), form);
        assert_eq!(none, Err(Fault::NoSuchObject), "{gone}");
    }
    let search = search_in(&before[0], "*");
    let search = present::search(&catalogue, &admitted(), &search, form, &Stop::default());
    assert_eq!(search, Err(Fault::NoSuchContainer), "a part says that it is not searchable");
    let listed = shown(&catalogue, &traits, &browse("music-all", 0, 1)).result;
    assert!(listed.contains("searchable=\"0\""), "{listed}");
    assert_eq!(present::ids_of_parts(&catalogue, &super::whole(), "music-all", &traits), before);
}

#[test]
fn traits_never_change_an_id() {
    let catalogue = catalogue_with_views();
    let odd = Traits {
        title_bytes: Some(10),
        title_track: Some(true),
        one_resource: Some(true),
        features: Some(Features::Any),
        first: vec!["image/jpeg".into()],
        ..Traits::default()
    };
    for id in ["0", "music", "albums", "pictures-all", "video-all", "series"] {
        let keys = |traits| {
            let all = objects(&catalogue, traits, id).into_iter();
            all.map(|o| (o.id, o.parent, o.reference, o.child_count)).collect::<Vec<_>>()
        };
        assert_eq!(keys(&PLAIN), keys(&odd), "{id}");
    }
}

#[test]
fn properties_follow_the_class_table() {
    let catalogue = catalogue_with_views();
    let all = shown(&catalogue, &PLAIN, &browse("music-all", 0, 0)).result;
    for part in [
        // Plain artist first, roles after it (CDS-14); creator beside it (CDS-17).
        "<dc:creator>ana brisk</dc:creator><upnp:artist>ana brisk</upnp:artist>\
         <upnp:artist role=\"AlbumArtist\">Ana Brisk</upnp:artist>\
         <upnp:artist role=\"Composer\">Mara Quill</upnp:artist>",
        "<upnp:class>object.item.audioItem.musicTrack</upnp:class>",
        "<upnp:album>Estuary</upnp:album>",
        "<upnp:genre>Folk</upnp:genre>",
        "<upnp:originalTrackNumber>1</upnp:originalTrackNumber>",
        "<dc:date>2018-01-01</dc:date>",
    ] {
        assert!(all.contains(part), "{part}: {all}");
    }
    let albums = shown(&catalogue, &PLAIN, &browse("albums", 0, 0)).result;
    assert!(albums.contains("object.container.album.musicAlbum"));
    assert!(albums.contains("<upnp:artist>Ana Brisk</upnp:artist>"), "{albums}");
    let classes = |id: &str| objects(&catalogue, &PLAIN, id).swap_remove(0).class;
    assert_eq!(classes("artists"), "object.container.person.musicArtist");
    assert_eq!(classes("genres"), "object.container.genre.musicGenre");
    assert_eq!(classes("playlists"), "object.container.playlistContainer");
    assert_eq!(classes("pictures-all"), "object.item.imageItem.photo");
    assert_eq!(classes("folders"), "object.container.storageFolder");
    assert_eq!(classes("0"), "object.container");
    let folders = shown(&catalogue, &PLAIN, &browse("folders", 0, 0)).result;
    assert!(folders.contains("<upnp:storageUsed>-1</upnp:storageUsed>"));
    // What is unknown is left out.
    let films = shown(&catalogue, &PLAIN, &browse("video-all", 0, 0)).result;
    for absent in ["dc:date", "upnp:genre", "upnp:artist", "duration=", "resolution="] {
        assert!(!films.contains(absent), "{absent}: {films}");
    }
}
