use super::*;

const TV: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 60);
const CDS: OwnService = OwnService::ContentDirectory;

fn at(ms: u64) -> Moment {
    Moment::from_millis(ms)
}

fn subscriber(port: u16) -> Receiver {
    let callbacks = vec![(SocketAddrV4::new(TV, port), "/".into())];
    Receiver { source: TV, callbacks, admitted: true }
}

fn one() -> Publisher {
    let mut publisher = Publisher::new();
    let variables = vec![("SystemUpdateID", "1".to_owned())];
    publisher
        .subscribe(
            at(0),
            "uuid:a".into(),
            CDS,
            subscriber(5000),
            Duration::from_secs(300),
            variables,
        )
        .unwrap();
    publisher
}

#[test]
fn many_containers_come_in_several_events_each_once() {
    let mut publisher = one();
    publisher.poll_output(at(100)).unwrap();
    publisher.delivered("uuid:a", DeliveryOutcome::Done);
    let pairs = |update: u32| (0..1200).map(move |n| (format!("c{n:04}"), update));
    publisher.change_containers(TV, pairs(7));
    publisher.change_containers(TV, pairs(8).take(3));
    publisher.change(CDS, TV, &[("SystemUpdateID", "8".into())]);
    let mut told = Vec::new();
    let mut sizes = Vec::new();
    for step in 1..9 {
        let Some(event) = publisher.poll_output(at(100 + step * 250)) else { break };
        publisher.delivered("uuid:a", DeliveryOutcome::Done);
        let (_, value) = event.variables.iter().find(|(n, _)| n == "ContainerUpdateIDs").unwrap();
        let parts: Vec<&str> = value.split(',').collect();
        sizes.push(parts.len() / 2);
        told.extend(parts.chunks(2).map(|p| (p[0].to_owned(), p[1].to_owned())));
    }
    assert_eq!(sizes, [500, 500, 200]);
    assert_eq!(told.len(), 1200, "each once");
    assert_eq!(told[0], ("c0000".into(), "8".into()), "with its latest id");
    assert_eq!(told[5], ("c0005".into(), "7".into()));
}

#[test]
fn the_initial_event_comes_first_and_changes_merge() {
    let mut publisher = one();
    assert_eq!(publisher.poll_output(at(0)), None, "not before the answer");
    let first = publisher.poll_output(at(100)).unwrap();
    assert_eq!((first.seq, first.variables.len()), (0, 1));
    publisher.delivered("uuid:a", DeliveryOutcome::Done);
    publisher.change(CDS, TV, &[("SystemUpdateID", "2".into())]);
    publisher.change(CDS, TV, &[("SystemUpdateID", "3".into())]);
    assert_eq!(publisher.poll_output(at(250)), None, "moderated");
    let second = publisher.poll_output(at(300)).unwrap();
    assert_eq!((second.seq, second.variables[0].1.as_str()), (1, "3"));
}

#[test]
fn containers_are_told_beside_the_rest_and_too_many_as_the_root() {
    let mut publisher = Publisher::new();
    let variables = vec![("SystemUpdateID", "1".to_owned()), ("ContainerUpdateIDs", "".into())];
    publisher
        .subscribe(
            at(0),
            "uuid:a".into(),
            CDS,
            subscriber(5000),
            Duration::from_secs(300),
            variables,
        )
        .unwrap();
    publisher.change_containers(TV, [("c1".to_owned(), 5)]);
    let mut event = publisher.poll_output(at(100)).unwrap().variables;
    event.sort();
    let expected = [("ContainerUpdateIDs", "c1,5"), ("SystemUpdateID", "1")];
    assert_eq!(event, expected.map(|(name, value)| (name.to_owned(), value.to_owned())));
    publisher.delivered("uuid:a", DeliveryOutcome::Done);
    let many = (0..MOST_CONTAINERS as u32 + 7).map(|n| (format!("c{n}"), n));
    publisher.change_containers(TV, many);
    let event = publisher.poll_output(at(1000)).unwrap().variables;
    assert_eq!(event[0].1, format!("0,{}", MOST_CONTAINERS + 6));
}

#[test]
fn a_slow_subscriber_has_one_event_in_flight() {
    let mut publisher = one();
    publisher.poll_output(at(100)).unwrap();
    publisher.change(CDS, TV, &[("SystemUpdateID", "2".into())]);
    assert_eq!(publisher.poll_output(at(10_000)), None);
    publisher.delivered("uuid:a", DeliveryOutcome::Failed);
    assert_eq!(publisher.poll_output(at(10_000)).unwrap().seq, 1);
}

#[test]
fn subscriptions_end() {
    let mut publisher = one();
    assert_eq!(publisher.poll_output(at(300_000)), None);
    assert!(publisher.is_empty(), "expired");
    let mut publisher = one();
    publisher.delivered("uuid:a", DeliveryOutcome::Gone);
    assert!(publisher.is_empty(), "412");
    let mut publisher = one();
    assert_eq!(
        publisher.unsubscribe(at(1), "uuid:a", Ipv4Addr::LOCALHOST),
        Err(Refusal::Precondition)
    );
    assert_eq!(
        publisher.renew(at(1), "uuid:a", Ipv4Addr::LOCALHOST, Duration::from_millis(1)),
        Err(Refusal::Precondition)
    );
    assert!(publisher.renew(at(1), "uuid:a", TV, Duration::from_secs(300)).is_ok());
    assert!(!publisher.is_empty());
    assert_eq!(publisher.unsubscribe(at(1), "uuid:a", TV), Ok(()));
    assert_eq!(
        publisher.renew(at(1), "uuid:a", TV, Duration::from_millis(1)),
        Err(Refusal::Precondition)
    );
}

#[test]
fn five_failures_in_a_row_end_it() {
    let mut publisher = one();
    let mut now = 100;
    let mut fail = |publisher: &mut Publisher, outcome: DeliveryOutcome| {
        publisher.change(CDS, TV, &[("SystemUpdateID", now.to_string())]);
        assert!(publisher.poll_output(at(now)).is_some());
        publisher.delivered("uuid:a", outcome);
        now += 200;
    };
    (0..4).for_each(|_| fail(&mut publisher, DeliveryOutcome::Failed));
    fail(&mut publisher, DeliveryOutcome::Done);
    (0..4).for_each(|_| fail(&mut publisher, DeliveryOutcome::Failed));
    assert_eq!(publisher.len(), 1, "one that came through counts for all before");
    fail(&mut publisher, DeliveryOutcome::Failed);
    assert!(publisher.is_empty(), "GENA-15");
}

#[test]
fn what_expires_is_looked_at_in_time() {
    let mut publisher = one();
    publisher.poll_output(at(100)).unwrap();
    publisher.delivered("uuid:a", DeliveryOutcome::Done);
    // Nothing else is due: whoever sleeps until then is awake when it expires (GENA-16).
    assert_eq!(publisher.next_deadline(), Some(at(300_000)));
    publisher.change(CDS, TV, &[("SystemUpdateID", "2".into())]);
    assert_eq!(publisher.poll_output(at(300_000)), None, "nothing is sent after it");
    assert!(publisher.is_empty());
}

#[test]
fn numbers_are_bounded_and_the_same_callback_replaces() {
    let mut publisher = Publisher::new();
    let mut add = |port: u16, sid: &str| {
        publisher
            .subscribe(at(0), sid.into(), CDS, subscriber(port), Duration::from_secs(300), vec![])
            .map(|_| ())
    };
    for n in 0..8 {
        add(5000 + n, &format!("uuid:{n}")).unwrap();
    }
    assert_eq!(add(6000, "uuid:x"), Err(Refusal::TooMany));
    assert_eq!(add(5000, "uuid:y"), Ok(()), "replaces uuid:0");
    assert_eq!(publisher.len(), 8 + 1, "which stays until the new initial event is out");
    assert_eq!(publisher.unsubscribe(at(1), "uuid:0", TV), Ok(()));
    assert_eq!(publisher.len(), 8);
}

#[test]
fn what_is_replaced_gets_events_until_the_new_initial_event_is_out() {
    let mut publisher = one();
    publisher.poll_output(at(100)).unwrap();
    publisher.delivered("uuid:a", DeliveryOutcome::Done);
    let variables = vec![("SystemUpdateID", "2".to_owned())];
    let mut again = |sid: &str, variables: &[(&'static str, String)]| {
        let (variables, timeout) = (variables.to_vec(), Duration::from_secs(300));
        publisher.subscribe(at(400), sid.into(), CDS, subscriber(5000), timeout, variables)
    };
    again("uuid:b", &variables).unwrap();
    // Asked for once more before that: the first one is still to be replaced.
    again("uuid:c", &variables).unwrap();
    publisher.change(CDS, TV, &[("SystemUpdateID", "3".into())]);
    assert_eq!(publisher.poll_output(at(450)).unwrap().sid, "uuid:a", "nothing is missed");
    publisher.delivered("uuid:a", DeliveryOutcome::Done);
    let initial = publisher.poll_output(at(500)).unwrap();
    assert_eq!((initial.sid.as_str(), initial.seq), ("uuid:c", 0));
    assert_eq!(publisher.len(), 1);
    assert_eq!(
        publisher.renew(at(500), "uuid:a", TV, Duration::from_millis(1)),
        Err(Refusal::Precondition)
    );
}

#[test]
fn those_outside_take_no_places_from_those_let_in() {
    let mut publisher = Publisher::new();
    let mut add = |n: u8, admitted: bool| {
        let source = Ipv4Addr::new(192, 0, 2, n);
        let callbacks = vec![(SocketAddrV4::new(source, 5000), "/".into())];
        let subscriber = Receiver { source, callbacks, admitted };
        let sid = format!("uuid:{n}");
        publisher.subscribe(at(0), sid, CDS, subscriber, Duration::from_secs(300), vec![]).is_ok()
    };
    let outside = (1..=60).filter(|n| add(*n, false)).count();
    assert_eq!(outside, 16);
    let inside = (61..=160).filter(|n| add(*n, true)).count();
    assert_eq!(inside, 64, "every place, whoever has it");
    assert!(!add(200, false) && !add(201, true));
    let refused = Ipv4Addr::new(192, 0, 2, 61);
    publisher.decide(|source| (source != refused).then_some(false));
    assert_eq!(publisher.len(), 63);
    assert!(publisher.subscriptions.values().all(|s| !s.subscriber.admitted));
}

#[test]
fn seq_wraps_to_one() {
    let mut publisher = one();
    publisher.subscriptions.get_mut("uuid:a").unwrap().seq = u32::MAX;
    assert_eq!(publisher.poll_output(at(100)).unwrap().seq, u32::MAX);
    assert_eq!(publisher.subscriptions["uuid:a"].seq, 1);
}
