use super::*;

fn at(seconds: u64) -> Moment {
    Moment::from_secs(1_000 + seconds)
}

fn found(udn: &str, last: u8, path: &str, heard: u64) -> FoundDevice {
    let address = Ipv4Addr::new(192, 0, 2, last);
    FoundDevice {
        udn: udn.to_owned(),
        link: 1,
        location: format!("http://{address}:80/{path}"),
        address,
        types: vec!["urn:schemas-upnp-org:device:MediaRenderer:1".into()],
        server: None,
        boot_id: None,
        config_id: None,
        heard: at(heard),
        expires: at(heard + 1800),
    }
}

fn described(udns: &[&str]) -> Described {
    Described {
        name: "Hall".into(),
        udns: udns.iter().map(|udn| (*udn).to_owned()).collect(),
        ..Described::default()
    }
}

/// Things as number, name, and whether they are there.
fn seen(book: &FoundBook) -> Vec<(u32, String, bool)> {
    book.things().map(|thing| (thing.id.0, thing.label(), thing.is_here())).collect()
}

#[test]
fn one_document_is_one_thing_whatever_it_announces() {
    let mut book = FoundBook::default();
    assert!(book.told(at(0), FoundEvent::New(found("uuid:root", 5, "d.xml", 0))));
    book.told(at(0), FoundEvent::New(found("uuid:inner", 5, "d.xml", 0)));
    book.told(at(0), FoundEvent::New(found("uuid:other", 5, "e.xml", 0)));
    assert_eq!(seen(&book).len(), 2);
    let reading = book.next_reading(at(0)).unwrap();
    assert_eq!(reading.location, "http://192.0.2.5:80/d.xml");
    let read = book.was_read(at(1), &reading, Ok(described(&["uuid:root", "uuid:inner"])));
    assert_eq!(read, None, "there as long as they announced, and no longer for being read");
    assert_eq!(seen(&book)[0], (1, "Hall".into(), true));
    // It is there as long as any of its devices is.
    book.told(at(2), FoundEvent::Gone(found("uuid:inner", 5, "d.xml", 0), Gone::ByeBye));
    assert!(book.get(FoundId(1)).unwrap().is_here());
    assert!(book.told(at(3), FoundEvent::Gone(found("uuid:root", 5, "d.xml", 0), Gone::ByeBye)));
    let away = ThingPresence::Away { since: at(3), why: Gone::ByeBye };
    assert_eq!(book.get(FoundId(1)).unwrap().presence, away);
    // Back at another address it is the same, and is read again.
    book.told(at(9), FoundEvent::New(found("uuid:root", 6, "d.xml", 9)));
    assert_eq!(seen(&book)[0], (1, "Hall".into(), true));
    let readings: Vec<DocumentReading> = std::iter::from_fn(|| book.next_reading(at(9))).collect();
    assert!(readings.iter().any(|r| r.location == "http://192.0.2.6:80/d.xml"), "{readings:?}");
}

#[test]
fn what_does_not_answer_a_search_is_asked_and_then_away() {
    let mut book = FoundBook::default();
    for (udn, last) in [("uuid:a", 5), ("uuid:b", 6)] {
        book.told(at(0), FoundEvent::New(found(udn, last, "d.xml", 0)));
        let reading = book.next_reading(at(0)).unwrap();
        book.was_read(at(0), &reading, Ok(described(&[udn])));
    }
    assert_eq!(book.next_reading(at(100)), None);
    book.searched(at(100));
    assert!(book.is_searching(at(103)));
    let heard = [found("uuid:a", 5, "d.xml", 101), found("uuid:b", 6, "d.xml", 0)];
    assert!(!book.end_search(at(103), heard.iter()));
    assert_eq!(book.next_deadline(), Some(at(104)));
    assert!(book.end_search(at(104), heard.iter()) && !book.is_searching(at(104)));
    let reading = book.next_reading(at(104)).unwrap();
    assert_eq!((reading.id, book.next_reading(at(104))), (FoundId(2), None), "the silent one");
    let result = book.was_read(at(107), &reading, Err(DocumentFailure::Silent));
    assert_eq!(result, Some((vec!["uuid:b".into()], false)));
    book.told(at(107), FoundEvent::Gone(found("uuid:b", 6, "d.xml", 0), Gone::NoAnswer));
    assert!(!book.get(FoundId(2)).unwrap().is_here());
    assert_eq!(book.next_deadline(), None, "what is away is not asked");
}

#[test]
fn documents_are_read_a_few_at_a_time_and_failures_ever_less_often() {
    let mut book = FoundBook::default();
    for n in 0..20 {
        book.told(at(0), FoundEvent::New(found(&format!("uuid:{n}"), n / 4, &n.to_string(), 0)));
    }
    let running: Vec<DocumentReading> = std::iter::from_fn(|| book.next_reading(at(0))).collect();
    assert_eq!(running.len(), 8);
    for reading in &running {
        let of_host = running.iter().filter(|other| other.address == reading.address).count();
        assert!(of_host <= 2, "{running:?}");
    }
    let mut book = FoundBook::default();
    book.told(at(0), FoundEvent::New(found("uuid:a", 5, "d.xml", 0)));
    let mut times = Vec::new();
    let mut now = at(0);
    while let Some(reading) = book.next_reading(now) {
        times.push(now.since(at(0)).as_secs());
        book.was_read(now, &reading, Err(DocumentFailure::Silent));
        now = book.next_deadline().unwrap_or(now + Duration::from_secs(9_999));
    }
    assert_eq!(times, [0, 5, 15, 35, 75, 155, 315, 615], "SCP-14, and then no more");
    assert_eq!(book.get(FoundId(1)).unwrap().documents, Documents::Failed(DocumentFailure::Silent));
}

#[test]
fn a_flood_of_announcements_is_bounded_and_what_is_away_goes_first() {
    let mut book = FoundBook::default();
    for n in 0..10_000_u32 {
        let udn = format!("uuid:{n}");
        let device = found(&udn, (n % 200) as u8, &n.to_string(), 0);
        book.told(at(n.into()), FoundEvent::New(device.clone()));
        if n < 100 {
            book.told(at(n.into()), FoundEvent::Gone(device, Gone::ByeBye));
        }
    }
    assert_eq!(book.things().count(), THINGS);
    assert!(book.things().all(Thing::is_here));
    assert_eq!(book.dropped(), 10_000 - 100 - THINGS as u64);
}

#[test]
fn whoever_announces_itself_by_ever_new_names_costs_no_more() {
    let mut book = FoundBook::default();
    for n in 0..10_000 {
        let mut device = found(&format!("uuid:{n}"), 5, "d.xml", 0);
        device.types = vec![format!("urn:x:device:{n}:1")];
        device.server = Some("x".repeat(60_000));
        book.told(at(0), FoundEvent::New(device.clone()));
        book.told(at(0), FoundEvent::Gone(device, Gone::ByeBye));
    }
    let thing = book.things().next().unwrap();
    assert_eq!((book.things().count(), thing.udns.len(), thing.types.len()), (1, NAMES, NAMES));
    assert!(book.by_udn.len() <= NAMES && thing.alive.len() <= NAMES);
    assert!(thing.server.as_ref().unwrap().len() < 1000);
}

#[test]
fn forged_farewells_have_a_thing_asked_now_and_then_at_most() {
    let mut book = FoundBook::default();
    let device = found("uuid:a", 5, "d.xml", 0);
    book.told(at(0), FoundEvent::New(device.clone()));
    let mut readings = 0;
    for second in 0..60 {
        book.told(at(second), FoundEvent::Doubtful(device.clone()));
        while let Some(reading) = book.next_reading(at(second)) {
            readings += 1;
            book.was_read(at(second), &reading, Ok(described(&["uuid:a"])));
        }
    }
    assert_eq!(readings, 12, "every five seconds");
}

#[test]
fn what_answers_when_it_is_in_doubt_is_there_and_is_not_in_doubt_any_more() {
    let mut book = FoundBook::default();
    let device = found("uuid:a", 5, "d.xml", 0);
    let mut read = |now, doubt: bool| {
        if doubt {
            book.told(now, FoundEvent::Doubtful(device.clone()));
        } else {
            book.told(now, FoundEvent::Moved(device.clone()));
        }
        let reading = book.next_reading(now).unwrap();
        book.was_read(now, &reading, Ok(described(&["uuid:a"])))
    };
    assert_eq!(read(at(0), false), None, "it is there as long as it announced (SCP-6)");
    assert_eq!(read(at(20), true), Some((vec!["uuid:a".into()], true)));
    assert_eq!(read(at(40), false), None);
    // An answer that is no document leaves it in doubt, and it is asked again.
    book.told(at(60), FoundEvent::Doubtful(device.clone()));
    let reading = book.next_reading(at(60)).unwrap();
    assert_eq!(book.was_read(at(60), &reading, Err(DocumentFailure::Status(503))), None);
    let reading = book.next_reading(at(66)).unwrap();
    let result = book.was_read(at(66), &reading, Ok(described(&["uuid:a"])));
    assert_eq!(result, Some((vec!["uuid:a".into()], true)));
}

#[test]
fn on_two_interfaces_it_is_one_and_the_other_place_is_tried_when_the_first_is_silent() {
    let mut book = FoundBook::default();
    let cable = found("uuid:root", 5, "d.xml", 0);
    let radio = FoundDevice { link: 2, ..found("uuid:root", 25, "d.xml", 1) };
    book.told(at(0), FoundEvent::New(cable));
    let first = book.next_reading(at(0)).unwrap();
    book.was_read(at(0), &first, Ok(described(&["uuid:root"])));
    book.told(at(1), FoundEvent::Moved(radio));
    assert_eq!(seen(&book).len(), 1, "it is shown once");
    let now = book.next_reading(at(40)).unwrap();
    assert_eq!(now.location, "http://192.0.2.25:80/d.xml", "the one confirmed last");
    assert_eq!(book.was_read(at(40), &now, Err(DocumentFailure::Silent)), None, "not away yet");
    let other = book.next_reading(at(400)).unwrap();
    assert_eq!(other.location, "http://192.0.2.5:80/d.xml");
    let read = book.was_read(at(400), &other, Ok(described(&["uuid:root"])));
    assert_eq!(read, Some((vec!["uuid:root".into()], true)));
    assert_eq!(book.get(FoundId(1)).unwrap().address, Ipv4Addr::new(192, 0, 2, 5));
    // With no other place left, silence is silence.
    book.searched(at(500));
    book.end_search(at(520), std::iter::empty());
    let last = book.next_reading(at(900)).unwrap();
    let read = book.was_read(at(900), &last, Err(DocumentFailure::Silent));
    assert_eq!(read, Some((vec!["uuid:root".into()], false)));
}

#[test]
fn the_udn_of_the_description_is_the_identity_whatever_form_it_has() {
    let mut book = FoundBook::default();
    book.told(at(0), FoundEvent::New(found("uuid:announced", 5, "d.xml", 0)));
    let id = FoundId(1);
    assert_eq!(book.get(id).unwrap().identity(), Some("uuid:announced"));
    assert!(book.only_announced(id).is_empty(), "nothing was read yet");
    let reading = book.next_reading(at(0)).unwrap();
    // Without `uuid:` and in no form of a UUID it is taken as it is.
    book.was_read(at(0), &reading, Ok(described(&["Hall-Box 7"])));
    assert_eq!(book.get(id).unwrap().identity(), Some("Hall-Box 7"));
    assert_eq!(book.only_announced(id), ["uuid:announced"]);
}
