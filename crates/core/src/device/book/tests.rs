use super::*;
use crate::access::Decision;
use crate::proof::{Evidence, Proof, Step};

const A: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 60);
const B: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 61);
const TV: Option<Hardware> = Some(Hardware([2, 0, 0, 0, 0, 1]));
const OTHER: Option<Hardware> = Some(Hardware([2, 0, 0, 0, 0, 2]));

fn at(seconds: u64) -> Moment {
    Moment::from_secs(seconds)
}

fn meet(
    book: &mut DeviceBook,
    second: u64,
    address: Ipv4Addr,
    hardware: Option<Hardware>,
    doorway: Doorway,
) -> (DeviceId, bool) {
    let met = book.meet(at(second), address, hardware).expect("room");
    book.ask(at(second), met.id, doorway);
    (met.id, met.new)
}

#[test]
fn standing_follows_the_hardware_address() {
    let mut book = DeviceBook::default();
    let (tv, new) = meet(&mut book, 1, A, TV, Doorway::Ask);
    assert!(new);
    book.decide(tv, Standing::Admitted, Grant::everything());
    assert_eq!(
        meet(&mut book, 2, B, TV, Doorway::Ask),
        (tv, false),
        "a new address, the same device"
    );
    let (other, new) = meet(&mut book, 3, B, OTHER, Doorway::Ask);
    assert!(new && other != tv);
    assert_eq!(book.get(other).unwrap().standing, Standing::Waiting, "inherits nothing");
    assert_eq!(book.at(B).unwrap().id, other);
}

#[test]
fn an_address_learns_its_hardware_once() {
    let mut book = DeviceBook::default();
    let (tv, _) = meet(&mut book, 1, A, None, Doorway::Ask);
    assert_eq!(meet(&mut book, 2, A, TV, Doorway::Ask).0, tv);
    // By its address alone it is not met any more, though a datagram may still be of it.
    assert_eq!(book.meet(at(3), A, None), None);
    assert_eq!(book.find(A, None), Some(tv));
    assert_ne!(meet(&mut book, 4, A, OTHER, Doorway::Ask).0, tv);
}

#[test]
fn a_decision_moves_only_that_devices_ids() {
    let mut book = DeviceBook::default();
    let (a, _) = meet(&mut book, 1, A, None, Doorway::Ask);
    let (b, _) = meet(&mut book, 1, B, None, Doorway::Ask);
    book.decide(a, Standing::Admitted, Grant::everything());
    book.decide(a, Standing::Admitted, Grant::everything());
    assert_eq!(book.get(a).unwrap().update_offset, 1, "deciding the same again moves nothing");
    assert_eq!(book.get(b).unwrap().update_offset, 0);
}

#[test]
fn a_rule_once_matched_holds_and_a_person_has_the_last_word() {
    use crate::traits::{Rule, When};
    let traits = Traits { page_objects: Some(10), ..Traits::default() };
    let when = When { user_agent: Some("old".into()), ..When::default() };
    let rules = Rules { rules: vec![Rule { name: "old ones".into(), when, traits }] };
    let mut book = DeviceBook::load([], rules.clone());
    let (tv, _) = meet(&mut book, 1, A, TV, Doorway::Open);
    let seen =
        |agent| Observed { address: A, user_agent: agent, field: &|_| false, registrar: false };
    assert!(!book.observe(tv, &seen(Some("New/2"))));
    assert!(book.observe(tv, &seen(Some("Old/1"))));
    assert!(!book.observe(tv, &seen(None)), "nothing new");
    let device = book.get(tv).unwrap().clone();
    assert_eq!((device.shown.page_objects, device.update_offset), (Some(10), 1));
    let again = DeviceBook::load([device], rules);
    assert_eq!(again.get(tv).unwrap().shown.page_objects, Some(10), "over a restart");
    book.set_traits(tv, Traits { page_objects: Some(99), ..Traits::default() });
    assert_eq!(book.get(tv).unwrap().shown.page_objects, Some(99));
    book.set_traits(tv, Traits::default());
    let device = book.get(tv).unwrap();
    assert_eq!((device.shown.page_objects, device.update_offset), (Some(10), 3));
}

#[test]
fn a_forgotten_device_is_met_as_new_and_numbers_are_not_reused() {
    let mut book = DeviceBook::default();
    let (a, _) = meet(&mut book, 1, A, TV, Doorway::Open);
    assert_eq!(book.get(a).unwrap().standing, Standing::Admitted);
    book.forget(a);
    let (again, new) = meet(&mut book, 2, A, TV, Doorway::Ask);
    assert!(new && again > a);
}

#[test]
fn a_flood_of_strangers_is_bounded_whatever_the_doorway_and_costs_nobody_decided_on() {
    for doorway in [Doorway::Ask, Doorway::Open] {
        let mut book = DeviceBook::default();
        let (tv, _) = meet(&mut book, 0, A, TV, Doorway::Ask);
        book.decide(tv, Standing::Admitted, Grant::everything());
        let (named, _) = meet(&mut book, 0, B, OTHER, Doorway::Ask);
        book.get_mut(named).unwrap().name = Some("Den console".into());
        let mut forgotten = BTreeSet::new();
        for n in 0..5000u32 {
            let address = Ipv4Addr::from(0x0a00_0000 + n);
            let met = book.meet(at(1 + u64::from(n)), address, None).unwrap();
            assert!(met.new);
            book.ask(at(1 + u64::from(n)), met.id, doorway);
            forgotten.extend(met.forgotten);
        }
        assert_eq!(book.iter().count(), DEVICES);
        assert!(book.get(tv).is_some() && book.get(named).is_some());
        assert_eq!(forgotten.len(), 5002 - DEVICES, "each that went is told, to go everywhere");
        let all: Vec<Device> = book.iter().cloned().collect();
        let more = all.iter().cloned().map(|d| Device { id: DeviceId(d.id.0 + 10_000), ..d });
        let again = DeviceBook::load(all.iter().cloned().chain(more), Rules::default());
        assert!(again.iter().count() == DEVICES && again.get(tv).is_some());
    }
    // Where a person decided on all of them, there is no room for another.
    let mut book = DeviceBook::default();
    for n in 0..DEVICES as u32 {
        let (id, _) = meet(&mut book, 1, Ipv4Addr::from(0x0a00_0000 + n), None, Doorway::Ask);
        book.decide(id, Standing::Refused, Grant::everything());
    }
    assert_eq!(book.meet(at(2), A, None), None);
}

fn proof_at(second: u64, step: Step) -> ProofState {
    let mut state = ProofState::default();
    let evidence = Evidence::Connected;
    state.ladder.confirm(step, Proof { at: at(second), evidence, item: None, bytes: None });
    state
}

#[test]
fn two_records_of_one_device_are_put_together_and_nothing_older_is_lost() {
    let mut book = DeviceBook::default();
    let (wired, _) = meet(&mut book, 5, A, TV, Doorway::Ask);
    book.decide(wired, Standing::Admitted, Grant::everything());
    book.get_mut(wired).unwrap().proof = proof_at(5, Step::Seen);
    let (wireless, _) = meet(&mut book, 1, B, OTHER, Doorway::Ask);
    book.get_mut(wireless).unwrap().proof = proof_at(1, Step::Seen);
    book.get_mut(wireless).unwrap().name = Some("Lounge television".into());
    let offset = book.get(wired).unwrap().update_offset;
    let merged = book.merge(wired, wireless).unwrap().clone();
    assert_eq!((merged.first_seen, merged.endpoints.len()), (at(1), 2));
    assert_eq!(merged.proof.ladder.proof(Step::Seen).unwrap().at, at(1));
    assert_eq!((&*merged.label(), merged.standing), ("Lounge television", Standing::Admitted));
    assert_eq!(merged.update_offset, offset + 1, "it reads its lists again");
    // By both ways it is the same, also after a restart, and what runs under the old number
    // goes on.
    assert_eq!(meet(&mut book, 9, B, OTHER, Doorway::Ask), (wired, false));
    assert_eq!(meet(&mut book, 9, A, TV, Doorway::Ask), (wired, false));
    assert_eq!(book.get(wireless).map(|device| device.id), Some(wired));
    let mut again = DeviceBook::load(book.iter().cloned(), Rules::default());
    assert_eq!(meet(&mut again, 10, B, OTHER, Doorway::Ask), (wired, false));
    assert!(book.merge(wired, wired).is_none() && book.merge(wired, DeviceId(99)).is_none());
    assert!(book.merge(DeviceId(99), wired).is_none() && book.get(wired).is_some());
}

#[test]
fn what_was_put_together_by_mistake_is_taken_apart() {
    let mut book = DeviceBook::default();
    let (tv, _) = meet(&mut book, 1, A, TV, Doorway::Ask);
    book.decide(tv, Standing::Admitted, Grant::everything());
    let (other, _) = meet(&mut book, 2, B, OTHER, Doorway::Ask);
    book.merge(tv, other);
    let proofs = || (proof_at(2, Step::Read), proof_at(1, Step::Seen));
    let contact = Contact::of(B, OTHER);
    let apart = book.new_id();
    assert!(book.split(tv, apart, contact, Doorway::Ask, proofs()).is_some());
    assert!(apart != tv && apart != other, "numbers are not used again");
    let (one, two) = (book.get(tv).unwrap(), book.get(apart).unwrap());
    assert_eq!((one.standing, two.standing), (Standing::Admitted, Standing::Waiting));
    assert!(two.proof.ladder.proof(Step::Read).is_some());
    assert!(one.proof.ladder.proof(Step::Read).is_none());
    assert_eq!(meet(&mut book, 3, B, OTHER, Doorway::Ask), (apart, false));
    assert_eq!(meet(&mut book, 3, A, TV, Doorway::Ask), (tv, false));
    let mut again = |contact| {
        let new = book.new_id();
        book.split(tv, new, contact, Doorway::Ask, proofs()).is_some()
    };
    assert!(!again(Contact::of(A, TV)), "its last");
    assert!(!again(contact), "not its own");
}

#[test]
fn ways_to_a_device_are_bounded() {
    let mut book = DeviceBook::default();
    let (tv, _) = meet(&mut book, 1, A, TV, Doorway::Ask);
    for n in 0..100_u8 {
        let hardware = Some(Hardware([2, 0, 0, 0, 1, n]));
        let address = Ipv4Addr::new(192, 0, 2, 100 + n);
        let (other, _) = meet(&mut book, 2 + u64::from(n), address, hardware, Doorway::Ask);
        book.merge(tv, other);
    }
    assert_eq!(book.get(tv).unwrap().endpoints.len(), ENDPOINTS);
}

#[test]
fn who_only_looks_has_no_standing_and_an_open_doorway_admits_nobody_who_has_not_asked() {
    let mut book = DeviceBook::default();
    let met = book.meet(at(1), A, TV).unwrap();
    let stands = |book: &DeviceBook, id| book.get(id).unwrap().stands();
    assert_eq!(stands(&book, met.id), None);
    assert_eq!(book.get(met.id).unwrap().decision(), Decision::Waiting);
    assert_eq!(book.ask(at(2), met.id, Doorway::Open), Some(Standing::Admitted));
    assert_eq!(book.get(met.id).unwrap().by_doorway, Some(at(2)), "marked, with its date");
    assert_eq!(book.ask(at(3), met.id, Doorway::Ask), None, "once");
    book.decide(met.id, Standing::Admitted, Grant::everything());
    assert_eq!(book.get(met.id).unwrap().by_doorway, None, "a person decided");

    // A closed doorway turns strangers away, and only as long as it is closed.
    let other = book.meet(at(4), B, OTHER).unwrap().id;
    assert_eq!(book.ask(at(4), other, Doorway::Closed), Some(Standing::Refused));
    assert_eq!(book.ask(at(5), other, Doorway::Closed), None);
    assert_eq!(book.ask(at(6), other, Doorway::Ask), Some(Standing::Waiting));
    book.decide(other, Standing::Refused, Grant::everything());
    assert_eq!(book.ask(at(7), other, Doorway::Open), None, "a person's refusal stays");
}

#[test]
fn a_device_is_added_by_its_hardware_address_before_it_is_seen() {
    let mut book = DeviceBook::default();
    let (tv, _) = book.add_by_hand(at(1), Ipv4Addr::UNSPECIFIED, TV).unwrap();
    let (speaker, _) = book.add_by_hand(at(1), Ipv4Addr::UNSPECIFIED, OTHER).unwrap();
    assert_ne!(tv, speaker);
    assert_eq!(book.add_by_hand(at(2), A, TV).unwrap().0, tv, "once");
    assert_eq!(book.get(tv).unwrap().stands(), Some(Standing::Waiting));
    book.decide(tv, Standing::Admitted, Grant::everything());
    let met = book.meet(at(9), B, TV).unwrap();
    assert_eq!((met.id, met.new), (tv, false));
    assert_eq!(book.get(tv).unwrap().address(), B);
}

#[test]
fn ever_new_hardware_addresses_push_out_nobody_who_waits() {
    let mut book = DeviceBook::default();
    let (real, _) = meet(&mut book, 1, A, TV, Doorway::Ask);
    for n in 0..3 * DEVICES as u32 {
        let [_, a, b, c] = n.to_be_bytes();
        let hardware = Some(Hardware([2, 9, 0, a, b, c]));
        let address = Ipv4Addr::from(0x0a00_0000 + n);
        meet(&mut book, 10 + u64::from(n), address, hardware, Doorway::Ask);
    }
    assert!(book.get(real).is_some(), "it came first, and waits");
    assert_eq!(book.iter().count(), DEVICES);
    // One that did not come back for a week makes room.
    let later = at(8 * 86_400);
    for n in 0..DEVICES as u32 {
        let [_, a, b, c] = n.to_be_bytes();
        let met =
            book.meet(later, Ipv4Addr::from(0x0b00_0000 + n), Some(Hardware([2, 8, 0, a, b, c])));
        book.ask(later, met.unwrap().id, Doorway::Ask);
    }
    assert!(book.get(real).is_none());
}
