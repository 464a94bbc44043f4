//! What people find by words and dates.

use mostra_core::catalogue::{FoundGroup, TextQuery, Window};
use mostra_core::stop::Stop;

use super::*;

fn file(serial: u32, directory: u32, name: &str, kind: Kind) -> File {
    let format = match kind {
        Kind::Video => Format::Mp4,
        Kind::Music => Format::Mp3,
        Kind::Picture => Format::Jpeg,
    };
    let facts = Facts::bare(kind, format, 1000, 0);
    File { serial: FileId(serial), directory, name: name.into(), facts: facts.into() }
}

fn track(serial: u32, name: &str, artist: &str, album: &str) -> File {
    let mut file = file(serial, 2, name, Kind::Music);
    let facts = Arc::make_mut(&mut file.facts);
    facts.artists = vec![artist.into()];
    facts.album_artist = Some(artist.into());
    facts.album = Some(album.into());
    facts.title = Some(format!("Song {serial}"));
    file
}

fn dated(serial: u32, name: &str, date: &str) -> File {
    let mut file = file(serial, 3, name, Kind::Picture);
    Arc::make_mut(&mut file.facts).date = Date::parse(date);
    file
}

fn named(serial: u32, name: &str) -> Change {
    let (folder, name) = (FolderId(1), name.into());
    Change::PutDirectory(Directory { serial, folder, parent: Some(100), name })
}

fn house() -> Catalogue {
    let mut house = Catalogue::new(EPOCH, UpdateId(1));
    house.apply([
        folder(1),
        named(2, "Tracks"),
        named(3, "Storm"),
        Change::PutFile(track(1, "one.mp3", "Björk Ånd", "Fog horns")),
        Change::PutFile(track(2, "two.mp3", "Björk Ånd", "Fog horns")),
        Change::PutFile(track(3, "bjork-demo.mp3", "Other", "Harbour")),
        Change::PutFile(dated(4, "pier.jpg", "2024-03-15 10:00:00")),
        Change::PutFile(dated(5, "lamp.jpg", "2024-07-01")),
        Change::PutFile(dated(6, "fog 2024.jpg", "2019-01-01")),
        Change::PutFile(file(7, 3, "IMG_0042.jpg", Kind::Picture)),
    ]);
    house
}

/// Groups with the titles in them.
fn found(
    house: &Catalogue,
    pass: &Pass,
    container: &str,
    text: &str,
) -> Vec<(&'static str, Vec<String>)> {
    let query = TextQuery::read(text, house.options().locale);
    let window = Window { start: 0, count: 0, sort: &[] };
    let found = house.find(&Stop::default(), pass, container, &query, window).unwrap();
    let mut objects = found.objects.into_iter();
    let group = |(group, count): &(FoundGroup, u32)| {
        (group.word(), objects.by_ref().take(*count as usize).map(|o| o.title).collect())
    };
    found.groups.iter().map(group).collect()
}

#[test]
fn artists_albums_tracks_and_files_are_found_each_once() {
    let house = house();
    let all = |text: &str| found(&house, &whole(), "0", text);
    let texts = |all: &[&str]| all.iter().map(|t| (*t).to_owned()).collect::<Vec<_>>();
    assert_eq!(
        all("bjork"),
        [
            ("artists", texts(&["Björk Ånd"])),
            ("albums", texts(&["Fog horns"])),
            ("music", texts(&["Song 1", "Song 2", "Song 3"])),
        ]
    );
    assert_eq!(
        all("fog bjork"),
        [("albums", texts(&["Fog horns"])), ("music", texts(&["Song 1", "Song 2"])),]
    );
    assert_eq!(all("img_0042"), [("pictures", texts(&["IMG_0042"]))]);
    assert_eq!(all("storm"), [("albums", texts(&["Storm"]))], "not as a folder again");
    assert_eq!(all("nothing"), []);
    assert_eq!(all("  "), []);
}

#[test]
fn dates_find_what_was_taken_then_and_what_says_so() {
    let house = house();
    let pictures = |text: &str| {
        let all = found(&house, &whole(), "0", text).into_iter();
        let pictures = all.filter(|(group, _)| *group == "pictures");
        pictures.flat_map(|(_, titles)| titles).collect::<Vec<_>>()
    };
    assert_eq!(pictures("2024"), ["fog 2024", "lamp", "pier"]);
    assert_eq!(pictures("March 2024"), ["pier"]);
    assert_eq!(pictures("2024-07-01"), ["lamp"]);
    assert_eq!(pictures("lamp 2024"), ["lamp"]);
    assert_eq!(pictures("fog 2024"), ["fog 2024"]);
    assert_eq!(pictures("16 March 2024"), Vec::<String>::new());
}

#[test]
fn what_a_pass_does_not_cover_is_not_found_and_a_container_bounds_the_search() {
    let house = house();
    let only = pass(Grant { kinds: Kinds::of([Kind::Picture]), folders: None });
    assert_eq!(found(&house, &only, "0", "bjork"), []);
    assert_eq!(found(&house, &whole(), "pictures", "bjork"), []);
    assert_eq!(found(&house, &whole(), "music", "bjork").len(), 3);
    let query = TextQuery::read("bjork", house.options().locale);
    let page = |start, count| {
        let window = Window { start, count, sort: &[] };
        let found = house.find(&Stop::default(), &whole(), "0", &query, window).unwrap();
        assert_eq!(found.total, 5);
        found.objects.into_iter().map(|o| o.title).collect::<Vec<_>>()
    };
    let pages: Vec<String> = (0..5).flat_map(|start| page(start, 1)).collect();
    assert_eq!(pages, page(0, 0), "pages neither overlap nor skip");
}
