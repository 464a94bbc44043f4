//! A simulated device with habits, in front of a walkthrough: what it does reaches that as it would in
//! the house, in simulated time.

use std::time::Duration;

use super::*;
use crate::playback::Layout;
use crate::resource::ResourceId;
use crate::sighting::Contact;
use crate::streaming::StreamBook;

/// Bytes a second of each piece, by kind: 12 Mbit/s, 320 kbit/s, and a picture.
const RATES: [u64; 3] = [1_500_000, 40_000, 3_000_000];
/// Seconds that pieces play.
pub(super) const PLAYS: u64 = 120;

/// How it takes a piece.
#[derive(Debug, Clone, Copy)]
pub(super) enum Takes {
    /// Plays it: fills a buffer of so many seconds at so many times the piece's pace, then takes on in
    /// gulps of so many seconds.
    Plays { buffer: f64, filling: f64, gulp: f64 },
    /// Takes it at so many times the piece's pace, whatever it plays.
    Copies(f64),
    /// Takes so many bytes and leaves, so many times.
    GivesUp(u64, u32),
    /// Reads the last part alone.
    TheEnd,
    /// Plays it for so many seconds and stops.
    Stops(f64),
    /// Asks for it and is answered with a status.
    IsRefused(u16),
    /// Never asks for it.
    Nothing,
}

pub(super) const SOUND: Takes = Takes::Plays { buffer: 6.0, filling: 8.0, gulp: 0.5 };

/// What it does, and what the network does to it.
#[derive(Debug, Clone)]
pub(super) struct Habits {
    pub(super) searches: bool,
    pub(super) reads: bool,
    /// Connects and takes half of the description.
    pub(super) cut_off: bool,
    pub(super) opens: bool,
    /// Which menu it opens for a kind.
    pub(super) menus: [Option<Kind>; 3],
    pub(super) fails: Option<(&'static str, u16)>,
    /// How many of the titles it asks for.
    pub(super) share: f64,
    pub(super) takes: [Takes; 3],
    pub(super) formats: [&'static str; 3],
    /// How many seconds it takes to go on at another place.
    pub(super) goes_on: f64,
    pub(super) subscribes: bool,
    pub(super) takes_events: bool,
    pub(super) asks_in_vain: bool,
    pub(super) gets_all_the_same: bool,
}

impl Default for Habits {
    fn default() -> Habits {
        Habits {
            searches: true,
            reads: true,
            cut_off: false,
            opens: true,
            menus: Kind::ALL.map(Some),
            fails: None,
            share: 1.0,
            takes: [SOUND; 3],
            formats: ["video/mp4", "audio/mpeg", "image/jpeg"],
            goes_on: 0.4,
            subscribes: true,
            takes_events: true,
            asks_in_vain: false,
            gets_all_the_same: false,
        }
    }
}

pub(super) const DEVICE: DeviceId = DeviceId(7);

pub(super) fn at(seconds: f64) -> Moment {
    Moment::from_secs(1_000_000) + Duration::from_secs_f64(seconds)
}

/// A device that is being walked through.
pub(super) struct Simulated {
    pub(super) walkthrough: Walkthrough,
    pub(super) circumstances: Circumstances,
    habits: Habits,
    streams: StreamBook,
    pub(super) now: f64,
    /// When each step was ticked, and when it was first possible.
    pub(super) ticked: Vec<(WalkthroughStep, f64)>,
    pub(super) possible: Vec<(WalkthroughStep, f64)>,
}

impl Simulated {
    pub(super) fn new(habits: Habits, circumstances: Circumstances) -> Simulated {
        let covers = Covers { grant: circumstances.standing.word().into(), ..Covers::default() };
        let expected = match circumstances.expected {
            [0, 0, 0] => [40, 40, 40],
            expected => expected,
        };
        Simulated {
            walkthrough: Walkthrough::start(1, DEVICE, at(0.0), covers),
            circumstances: Circumstances { expected, ..circumstances },
            habits,
            streams: StreamBook::default(),
            now: 0.0,
            ticked: Vec::new(),
            possible: Vec::new(),
        }
    }

    pub(super) fn act(&mut self, act: Act) {
        let contact = Contact::Address(std::net::Ipv4Addr::LOCALHOST);
        self.walkthrough.note(&Sighting::new(DEVICE, contact, at(self.now), act));
        self.look();
    }

    fn look(&mut self) {
        for proof in self.walkthrough.proofs() {
            if !self.ticked.iter().any(|(step, _)| *step == proof.step) {
                self.ticked.push((proof.step, self.now));
            }
        }
    }

    pub(super) fn wait(&mut self, seconds: f64) {
        self.now += seconds;
    }

    pub(super) fn report(&self) -> Report {
        self.walkthrough.report(at(self.now), &self.circumstances)
    }

    /// It took bytes of the piece of a kind, up to a position.
    fn took(&mut self, kind: Kind, from: u64, to: u64) {
        let size = RATES[kind.index()] * if kind == Kind::Picture { 1 } else { PLAYS };
        let to = to.min(size);
        if to <= from {
            return;
        }
        let duration_ms = (kind != Kind::Picture).then_some(PLAYS * 1000);
        let resource = ResourceId::original(FileId(900 + kind.index() as u32));
        let taken = AcknowledgedBytes {
            device: DEVICE,
            resource,
            title: "Flash and beep",
            kind,
            size,
            duration_ms,
            bytes: to - from,
            position: to,
        };
        let now = at(self.now);
        let kept = self.streams.take(now, &taken);
        self.walkthrough.take(now, &taken, self.habits.formats[kind.index()]);
        let needed = Layout::needed_of(kind, size, duration_ms);
        let layout = Layout { kind, span: (0, size), needed };
        let title = "Flash and beep".to_owned();
        self.act(Act::Took { resource, title: title.clone(), layout, runs: vec![(from, to)] });
        if let Some(time) = kept {
            self.act(Act::Kept { title, kind, seconds: time.as_secs() as u32 });
        }
    }

    /// Takes a piece from a place on for a while, as `taken` says: how many seconds of the piece it
    /// has after so many seconds.
    fn take_as(&mut self, kind: Kind, begin: u64, seconds: f64, taken: &dyn Fn(f64) -> f64) {
        let rate = RATES[kind.index()] as f64;
        let (start, mut before) = (self.now, begin);
        for tick in 1..=(seconds * 10.0) as u64 {
            self.now = start + tick as f64 / 10.0;
            let now = begin + (taken(tick as f64 / 10.0).max(0.0) * rate) as u64;
            self.took(kind, before, now);
            before = before.max(now);
        }
    }

    /// Plays the piece of a kind, and skips in it, as it does.
    pub(super) fn play(&mut self, kind: Kind) {
        use WalkthroughStep::{KeptPlaying, SkippedAhead, Started};
        let rate = RATES[kind.index()];
        match self.habits.takes[kind.index()] {
            Takes::Nothing => self.wait(30.0),
            Takes::IsRefused(status) => {
                self.act(Act::Refused { status });
                self.wait(30.0);
            }
            Takes::TheEnd => {
                self.took(kind, (PLAYS - 2) * rate, (PLAYS - 1) * rate);
                self.wait(30.0);
            }
            Takes::GivesUp(bytes, times) => {
                for _ in 0..times {
                    self.took(kind, 0, bytes);
                    self.wait(3.0);
                }
                self.wait(30.0);
            }
            Takes::Copies(times) => {
                self.take_as(kind, 0, 30.0, &|t| t * times);
                self.wait(1.0);
            }
            Takes::Stops(after) => {
                self.take_as(kind, 0, 40.0, &|t| t.min(after));
                self.wait(1.0);
            }
            Takes::Plays { .. } if kind == Kind::Picture => {
                self.took(kind, 0, rate);
                self.possible.push((Started(kind), self.now));
            }
            Takes::Plays { buffer, filling, gulp } => {
                let taken = move |t: f64| {
                    let ahead = (t * filling).min(buffer + (t / gulp).floor() * gulp);
                    ahead.max(0.0)
                };
                let filled = buffer / (filling - 1.0).max(0.1);
                self.possible.push((Started(kind), self.now + 10.0));
                self.possible.push((KeptPlaying(kind), self.now + filled + 20.0 + 2.0 * gulp));
                let lasts = (filled + 27.0 + 3.0 * gulp).min(PLAYS as f64);
                self.take_as(kind, 0, lasts, &taken);
                // A look at the end, then on from a later place.
                let later = PLAYS * rate * 3 / 4;
                let wait = self.habits.goes_on;
                let more = move |t: f64| (t - wait).max(0.0) * 4.0;
                self.took(kind, later - 1000, later);
                self.take_as(kind, later, 6.0 + wait, &more);
                self.possible.push((SkippedAhead(kind), self.now));
            }
        }
    }

    /// Does all that it does, from its search to the last piece.
    pub(super) fn live(&mut self) -> Report {
        let habits = self.habits.clone();
        self.wait(1.0);
        if habits.searches {
            self.act(Act::Searched { target: "ssdp:all".into() });
        }
        self.wait(0.3);
        if habits.cut_off {
            self.act(Act::Connected);
        }
        if habits.asks_in_vain {
            self.act(Act::Denied { attempt: Attempt::RootMenu });
        }
        if habits.gets_all_the_same {
            self.list(Kind::Video, 1);
        }
        if !habits.reads {
            self.wait(40.0);
            return self.report();
        }
        self.act(Act::Connected);
        self.act(Act::Described);
        if habits.subscribes {
            self.circumstances.subscribed = true;
            self.act(Act::Subscribed { service: "ContentDirectory".into() });
        }
        self.wait(1.0);
        if let Some((action, code)) = habits.fails {
            self.act(Act::Faulted { action: action.into(), code });
        }
        if !habits.opens {
            self.wait(40.0);
            return self.report();
        }
        self.act(Act::Listed {
            root: true,
            items: 0,
            of: 4,
            kinds: Kinds::NONE,
            title: "Root".into(),
            files: Vec::new(),
        });
        for kind in self.circumstances.kinds.iter() {
            self.wait(1.0);
            match habits.menus[kind.index()] {
                Some(listed) => {
                    let there = self.circumstances.expected[listed.index()];
                    self.list(listed, (f64::from(there) * habits.share) as u32);
                    self.wait(1.0);
                    if listed == kind {
                        self.play(kind);
                    } else {
                        self.wait(30.0);
                    }
                }
                None => self.wait(30.0),
            }
            if habits.menus[kind.index()] != Some(kind) {
                break;
            }
        }
        self.wait(4.0);
        self.report()
    }

    pub(super) fn list(&mut self, kind: Kind, items: u32) {
        let files = (0..items).map(|n| (FileId(n + 100 * kind.index() as u32), kind)).collect();
        let of = self.circumstances.expected[kind.index()];
        let (kinds, title) = (Kinds::of([kind]), "All".into());
        self.act(Act::Listed { root: false, items, of, kinds, title, files });
    }

    /// The house publishes something more.
    pub(super) fn change(&mut self) {
        self.wait(2.0);
        self.circumstances.changed = Some(at(self.now));
        self.wait(1.0);
        let service = "ContentDirectory".to_owned();
        if self.circumstances.subscribed {
            let taken = self.habits.takes_events;
            self.act(match taken {
                true => Act::EventDelivered { service },
                false => Act::EventFailed { service },
            });
        }
        self.wait(20.0);
    }
}
