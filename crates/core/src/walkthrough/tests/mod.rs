//! A table of habits and faults with the finding that each must get, and a thousand random devices.

mod simulated;

use std::collections::BTreeSet;

use fastrand::Rng;

use super::*;
use simulated::{Habits, Simulated, Takes, at};

fn only(kind: Kind) -> Circumstances {
    Circumstances { kinds: Kinds::of([kind]), ..Circumstances::default() }
}

/// What a device with these habits is found to be.
fn finding(habits: Habits, circumstances: Circumstances) -> WalkthroughVerdict {
    Simulated::new(habits, circumstances).live().verdict
}

fn takes(kind: Kind, takes: Takes) -> Habits {
    let mut habits = Habits::default();
    habits.takes[kind.index()] = takes;
    habits
}

/// Habits and faults of the network, what is known besides, and the finding.
fn table() -> Vec<(&'static str, Habits, Circumstances, &'static str)> {
    let sound = Habits::default;
    let video = || only(Kind::Video);
    let off = |part: Habits| Habits { reads: false, ..part };
    let silent = || Habits { searches: false, reads: false, ..sound() };
    let refused = || Circumstances { standing: Standing::Refused, ..Circumstances::default() };
    vec![
        ("all in order", sound(), Circumstances::default(), "confirmed"),
        ("is off", silent(), Circumstances { answers: Some(false), ..video() }, "switched-off"),
        (
            "is on and does not search",
            silent(),
            Circumstances { answers: Some(true), ..video() },
            "not-searching",
        ),
        (
            "multicast is dropped",
            silent(),
            Circumstances { answers: Some(true), hears_itself: Some(false), ..video() },
            "multicast-lost",
        ),
        (
            "is in the guest network",
            silent(),
            Circumstances { served: false, ..video() },
            "other-network",
        ),
        ("a firewall before the description", off(sound()), video(), "no-way-to-description"),
        (
            "somebody searches in its name",
            off(sound()),
            Circumstances { answers: Some(false), ..video() },
            "searched-but-away",
        ),
        (
            "the description breaks off",
            Habits { cut_off: true, ..off(sound()) },
            video(),
            "description-cut-off",
        ),
        (
            "dislikes the description",
            Habits { opens: false, ..sound() },
            video(),
            "dislikes-description",
        ),
        (
            "an action fails",
            Habits { opens: false, fails: Some(("Browse", 402)), ..sound() },
            video(),
            "action-fails",
        ),
        (
            "opens the menu and stays there",
            Habits { menus: [None; 3], ..sound() },
            video(),
            "went-no-further",
        ),
        (
            "opens another menu",
            Habits { menus: [Some(Kind::Music); 3], ..sound() },
            only(Kind::Picture),
            "wrong-menu",
        ),
        (
            "nothing is there",
            Habits { menus: [None; 3], ..sound() },
            Circumstances { expected: [0, 9, 9], ..video() },
            "nothing-there",
        ),
        ("lists and plays nothing", takes(Kind::Video, Takes::Nothing), video(), "chooses-nothing"),
        ("files are refused", takes(Kind::Video, Takes::IsRefused(404)), video(), "media-refused"),
        (
            "looks and leaves",
            takes(Kind::Video, Takes::GivesUp(300_000, 1)),
            video(),
            "looks-and-leaves",
        ),
        ("reads the end alone", takes(Kind::Video, Takes::TheEnd), video(), "reads-the-end-alone"),
        (
            "gives up on a codec",
            takes(Kind::Video, Takes::GivesUp(2_000_000, 3)),
            video(),
            "gives-up",
        ),
        ("stalls at 3 Mbit/s", takes(Kind::Video, Takes::Copies(0.25)), video(), "too-slow"),
        ("somewhat too slow", takes(Kind::Video, Takes::Copies(0.8)), video(), "too-slow"),
        ("stops in the middle", takes(Kind::Video, Takes::Stops(14.0)), video(), "stopped-early"),
        (
            "downloads instead of playing",
            takes(Kind::Video, Takes::Copies(20.0)),
            video(),
            "copies",
        ),
        (
            "takes long after it skipped",
            Habits { goes_on: 7.0, ..sound() },
            video(),
            "slow-after-skip",
        ),
        ("the house is off", silent(), Circumstances { house_off: true, ..video() }, "house-off"),
        ("refused, and asks", Habits { asks_in_vain: true, ..off(sound()) }, refused(), "kept-out"),
        ("refused, and silent", silent(), refused(), "not-searching"),
        (
            "refused, and served all the same",
            Habits { gets_all_the_same: true, ..off(sound()) },
            refused(),
            "got-something",
        ),
    ]
}

#[test]
fn each_habit_and_fault_gets_its_finding() {
    let table = table();
    for (what, habits, circumstances, expected) in &table {
        let verdict = finding(habits.clone(), circumstances.clone());
        assert_eq!(verdict.word(), *expected, "{what}: {verdict:?}");
    }
    let findings: BTreeSet<&str> = table.iter().map(|(.., finding)| *finding).collect();
    assert!(findings.len() >= 20, "{}", findings.len());
}

#[test]
fn an_old_list_is_told_with_why_it_is_old() {
    let cases = [(true, true, None), (true, false, Some("events-not-taken"))];
    for (subscribes, takes_events, expected) in
        cases.into_iter().chain([(false, true, Some("not-subscribed"))])
    {
        let habits = Habits { subscribes, takes_events, ..Habits::default() };
        let mut device = Simulated::new(habits, only(Kind::Video));
        assert_eq!(device.live().verdict, WalkthroughVerdict::Confirmed);
        device.change();
        let remarks = device.report().remarks;
        assert_eq!(remarks.first().map(Cause::word), expected);
        // It is no longer old once it is listed again.
        device.list(Kind::Video, 40);
        assert_eq!(device.report().remarks, []);
    }
}

#[test]
fn who_lists_a_part_who_shares_an_address_and_a_wrong_clock_are_remarked() {
    let habits = Habits { share: 0.4, ..Habits::default() };
    let circumstances =
        Circumstances { shares_address: true, clock_off: true, ..only(Kind::Video) };
    let report = Simulated::new(habits, circumstances).live();
    let part = Cause::ListsPart { given: 16, expected: 40 };
    assert_eq!(report.remarks, [part, Cause::SharedAddress, Cause::ClockOff]);
    assert_eq!(report.verdict, WalkthroughVerdict::Confirmed, "none of them stops anything");
    let listed = report.steps.iter().find(|s| s.step == WalkthroughStep::Listed(Kind::Video));
    assert_eq!(listed.unwrap().counted, Some((16, 40)));
}

#[test]
fn what_a_person_says_counts() {
    let mut device = Simulated::new(Habits::default(), Circumstances::default());
    assert_eq!(device.live().verdict, WalkthroughVerdict::Confirmed);
    let mut said = |question, answer| {
        device.walkthrough.say(question, answer);
        device.report().verdict.word()
    };
    assert_eq!(said(Question::VideoPicture, Some(true)), "confirmed");
    assert_eq!(said(Question::VideoSound, Some(false)), "no-sound");
    assert_eq!(said(Question::VideoSound, None), "confirmed");
    assert_eq!(said(Question::VideoSmooth, Some(false)), "stutters");
    assert_eq!(said(Question::VideoPicture, Some(false)), "no-picture");
    assert_eq!(said(Question::VideoPicture, None), "stutters");
    assert_eq!(said(Question::VideoSmooth, Some(true)), "confirmed");
    assert_eq!(said(Question::PictureUpright, Some(false)), "not-upright");
}

#[test]
fn a_person_is_asked_of_what_was_started_and_keeps_what_was_answered() {
    let mut device = Simulated::new(Habits::default(), only(Kind::Music));
    assert_eq!(device.report().questions, []);
    device.walkthrough.say(Question::MusicSound, Some(true));
    device.walkthrough.say(Question::PictureUpright, Some(true));
    assert_eq!(device.report().questions, [Question::MusicSound], "of what it may see");
    device.walkthrough.say(Question::MusicSound, None);
    assert_eq!(device.live().questions, [Question::MusicSound]);
}

#[test]
fn steps_say_what_to_press_until_they_are_ticked_and_nothing_counts_after_the_end() {
    let mut device = Simulated::new(Habits::default(), only(Kind::Music));
    let first = device.report();
    assert_eq!(first.verdict, WalkthroughVerdict::Open);
    assert!(first.steps.iter().all(|step| step.press.as_ref().is_some_and(|p| !p.is_empty())));
    device.act(Act::Searched { target: "ssdp:all".into() });
    assert_eq!(device.report().steps[0].press, None);
    let circumstances = device.circumstances.clone();
    device.walkthrough.finish(at(2.0), &circumstances);
    device.act(Act::Described);
    assert_eq!(device.walkthrough.proofs().len(), 1);
    // It is kept as it is written down.
    let noted = serde_json::to_value(device.walkthrough.noted()).unwrap();
    let read: Noted = serde_json::from_value(noted).unwrap();
    assert_eq!(&read, device.walkthrough.noted());
}

#[test]
fn who_knew_the_description_and_the_menu_before_is_not_held_back() {
    let mut device = Simulated::new(Habits::default(), only(Kind::Picture));
    device.list(Kind::Picture, 40);
    let steps = device.report().steps;
    let done = |step: &&StepNow| matches!(step.state, StepState::Done(_));
    assert_eq!(steps.iter().filter(done).count(), 4, "{steps:?}");
}

#[test]
fn a_proof_is_due_again_when_what_it_hangs_on_changes() {
    let covers =
        Covers { grant: "admitted video".into(), version: "1".into(), ..Covers::default() };
    let walkthrough = Walkthrough::start(1, DeviceId(1), at(0.0), covers.clone());
    assert!(walkthrough.due_again(&covers).is_empty());
    let now = Covers { grant: "admitted music".into(), version: "2".into(), ..covers };
    assert_eq!(walkthrough.due_again(&now), ["grant", "version of the house"]);
}

/// A healthy device, and one that does not play, with the steps that it must not be said to have done.
fn random(rng: &mut Rng, healthy: bool) -> Habits {
    let mut habits = Habits { searches: rng.bool(), subscribes: rng.bool(), ..Habits::default() };
    habits.goes_on = rng.f64() * 2.5;
    for kind in [Kind::Video, Kind::Music] {
        let takes = &mut habits.takes[kind.index()];
        *takes = match rng.u8(0..6) {
            _ if healthy => Takes::Plays {
                buffer: rng.f64() * 20.0,
                filling: 1.5 + rng.f64() * 20.0,
                gulp: 0.1 + rng.f64() * 4.0,
            },
            0 => Takes::Copies(1.2 + rng.f64() * 30.0),
            1 => Takes::Copies(0.05 + rng.f64() * 0.88),
            2 => Takes::GivesUp(rng.u64(1..400_000), rng.u32(1..6)),
            3 => Takes::Stops(1.0 + rng.f64() * 15.0),
            4 => Takes::TheEnd,
            _ => Takes::Nothing,
        };
    }
    habits
}

#[test]
fn of_a_thousand_random_devices_none_is_wrongly_confirmed_and_no_healthy_one_is_left_waiting() {
    for seed in 0..1000 {
        let mut rng = Rng::with_seed(seed);
        let healthy = seed % 2 == 0;
        let habits = random(&mut rng, healthy);
        let mut device = Simulated::new(habits.clone(), Circumstances::default());
        let report = device.live();
        if healthy {
            assert_eq!(
                report.verdict,
                WalkthroughVerdict::Confirmed,
                "{seed}: {habits:?} {report:?}"
            );
            for (step, possible) in &device.possible {
                let (_, ticked) = device.ticked.iter().find(|(one, _)| one == step).unwrap();
                assert!(*ticked <= possible + 5.0, "{seed}: {step:?} at {ticked}, {possible}");
            }
        } else {
            let kept =
                |kind| device.ticked.iter().any(|(s, _)| *s == WalkthroughStep::KeptPlaying(kind));
            assert!(!kept(Kind::Video) && !kept(Kind::Music), "{seed}: {habits:?}");
            assert_ne!(report.verdict, WalkthroughVerdict::Confirmed, "{seed}: {habits:?}");
        }
    }
}
