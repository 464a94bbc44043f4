//! The test pieces: first in the root of a device that is walked through, and nowhere else.

use super::*;

fn with_pieces() -> Catalogue {
    let mut catalogue = small();
    let serial = FolderId::TEST_PIECES;
    let (label, root) = ("Test pieces".to_owned(), "/var/lib/pieces".to_owned());
    let folder = Folder { serial, label, kinds: Kinds::ALL, root, container: 900 };
    // By kind: video, music, picture.
    let pieces = [file(903, 900, "Flash"), file(904, 900, "Notes"), file(905, 900, "Arrow")];
    catalogue.apply(std::iter::once(Change::PutFolder(folder)).chain(pieces));
    catalogue
}

fn titles(catalogue: &Catalogue, pass: &Pass, id: &str) -> Vec<String> {
    let page = catalogue.children(pass, id, 0, 0, &[]);
    page.map(|page| page.objects.into_iter().map(|o| o.title).collect()).unwrap_or_default()
}

#[test]
fn only_who_is_walked_through_sees_them_first_in_the_root_and_in_no_view() {
    let catalogue = with_pieces();
    let plain = titles(&small(), &whole(), "0");
    assert_eq!(titles(&catalogue, &whole(), "0"), plain, "others see what they saw");
    let walked = whole().with_test_pieces();
    let seen = titles(&catalogue, &walked, "0");
    assert_eq!((seen[0].as_str(), &seen[1..]), ("Test pieces", plain.as_slice()));
    let root = catalogue.children(&walked, "0", 0, 0, &[]).unwrap();
    assert_eq!(root.total as usize, seen.len());
    let id = root.objects[0].id.clone();
    assert_eq!(titles(&catalogue, &walked, &id), ["Arrow", "Flash", "Notes"]);
    assert!(catalogue.object(&whole(), &id).is_none());
    // They are in no view, and not counted.
    for view in ["video-all", "music-all", "pictures-all", "folders", "video-newest"] {
        assert_eq!(titles(&catalogue, &walked, view), titles(&catalogue, &whole(), view), "{view}");
    }
    for kind in Kind::ALL {
        assert_eq!(catalogue.count_of(&walked, kind), catalogue.count_of(&whole(), kind));
    }
    assert!(catalogue.folders().iter().all(|folder| folder.serial != FolderId::TEST_PIECES));
    assert_eq!(catalogue.test_piece_files().len(), 3);
    assert!(small().test_piece_files().is_empty());
    assert_eq!(catalogue.all_folders().len(), catalogue.folders().len() + 1);
}

#[test]
fn of_a_grant_only_its_kinds_are_shown() {
    let catalogue = with_pieces();
    let music = Grant { kinds: Kinds::of([Kind::Music]), folders: Some([FolderId(1)].into()) };
    let walked = pass(music.clone()).with_test_pieces();
    let root = catalogue.children(&walked, "0", 0, 0, &[]).unwrap();
    assert_eq!(titles(&catalogue, &walked, &root.objects[0].id), ["Notes"]);
    assert!(!titles(&catalogue, &pass(music), "0").contains(&"Test pieces".to_owned()));
}

#[test]
fn who_looks_for_a_class_finds_them_in_a_walkthrough() {
    let catalogue = with_pieces();
    let criteria = criteria::parse("upnp:class derivedfrom \"object.item.videoItem\"").unwrap();
    let found = |pass: &Pass| -> Vec<String> {
        let page = catalogue.search(pass, "0", &criteria, 0, 0, &[]).unwrap();
        page.objects.into_iter().map(|object| object.title).collect()
    };
    assert!(!found(&whole()).contains(&"Flash".to_owned()));
    let walked = found(&whole().with_test_pieces());
    assert!(walked.contains(&"Flash".to_owned()) && !walked.contains(&"Notes".to_owned()));
}
