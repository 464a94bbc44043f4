//! What devices are shown.

use super::*;

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
    let located = catalogue.locate(&whole(), &ObjectId::File(3).id(EPOCH)).unwrap();
    assert_eq!((located.root(), located.path()), ("/srv/1", "/srv/1/Reel 5/3.mp4"));
    assert_eq!(catalogue.locate(&whole(), "d1"), None);
}

#[test]
fn a_waiting_device_sees_a_notice_and_a_refused_one_nothing() {
    let catalogue = small();
    let at = |decision: &Decision, browse: &Browse| browsed(&catalogue, decision, browse, FORM);
    let root = at(&Decision::Waiting, &browse("0", 0, 0)).unwrap();
    let objects = didl::read(&root.result).unwrap();
    assert_eq!((objects.len(), root.total, root.items, root.update_id.0), (1, 1, 0, 14));
    assert!(objects[0].container && objects[0].title.contains("Not let in"));
    assert_eq!(at(&Decision::Waiting, &browse(&objects[0].id, 0, 0)).unwrap().total, 0);
    let root = at(&Decision::Refused, &browse("0", 0, 0)).unwrap();
    assert_eq!((root.returned, root.total), (0, 0));
    let known = ObjectId::File(3).id(EPOCH);
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
    let page = browsed(&catalogue, &decision, &browse("video-all", 0, 1), FORM).unwrap();
    let objects = didl::read(&page.result).unwrap();
    assert_eq!((page.returned, page.total, page.items), (1, 2, 1));
    let (url, info, size) = &objects[0].resources[0];
    assert_eq!(url, &format!("http://192.0.2.21:7640/media/{}.mp4", ObjectId::File(6).id(EPOCH)));
    assert!(info.starts_with("http-get:*:video/mp4:DLNA.ORG_OP=01;") && *size == Some(1006));
    let beyond = browsed(&catalogue, &decision, &browse("video-all", 50, 10), FORM).unwrap();
    assert_eq!((beyond.returned, beyond.total), (0, 2));
    assert_eq!(
        browsed(&catalogue, &decision, &browse("nothing", 0, 0), FORM),
        Err(Fault::NoSuchObject)
    );
    let item = ObjectId::File(3).id(EPOCH);
    assert_eq!(
        browsed(&catalogue, &decision, &browse(&item, 0, 0), FORM),
        Err(Fault::NoSuchContainer)
    );
}
