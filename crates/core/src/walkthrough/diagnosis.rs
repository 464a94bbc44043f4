//! From what was seen and not seen to the likely cause, and what to press.

use std::time::Duration;

use mostra_protocol::Moment;

use super::steps::{Question, WalkthroughStep};
use super::taking::{Flow, Taking};
use super::{Cause, Circumstances, GOES_ON, Walkthrough};
use crate::access::Standing;
use crate::kind::Kind;

/// For so long nothing is said of a step of which nothing is seen.
const PATIENCE: Duration = Duration::from_secs(15);
/// So soon after a change a device that was told of it lists again.
const LISTS_AGAIN: Duration = Duration::from_secs(10);

impl Walkthrough {
    /// Why a step is not ticked, as far as can be told. `is_first` says that all steps before it are.
    pub(super) fn cause(
        &self,
        now: Moment,
        step: WalkthroughStep,
        is_first: bool,
        circumstances: &Circumstances,
    ) -> Option<Cause> {
        use WalkthroughStep::*;
        if circumstances.house_off {
            return Some(Cause::HouseOff);
        }
        let waited_long = is_first && now.since(self.progress()) >= PATIENCE;
        match step {
            Seen | GotNothing => waited_long.then(|| Self::why_unseen(circumstances))?,
            Read => self.why_not_read(waited_long, circumstances),
            Opened => self.why_not_opened(waited_long, circumstances),
            Listed(kind) => self.why_not_listed(kind, waited_long, circumstances),
            Started(kind) => self.why_not_started(now, kind, waited_long, circumstances),
            KeptPlaying(kind) => self.why_not_kept(now, kind, circumstances),
            SkippedAhead(kind) => {
                let slow = self.went_on(kind).filter(|time| *time > GOES_ON)?;
                Some(Cause::SlowAfterSkip { ms: slow.as_millis() as u64 })
            }
            TookItem | Paused | VolumeChanged | Stopped => None,
        }
    }

    /// When something was ticked last, or it began.
    fn progress(&self) -> Moment {
        let last = self.noted.steps.iter().map(|proof| proof.at()).max();
        last.map_or(self.started, |last| last.max(self.started))
    }

    fn why_unseen(circumstances: &Circumstances) -> Option<Cause> {
        Some(match (circumstances.answers, circumstances.hears_itself) {
            (Some(false), _) => Cause::SwitchedOff,
            _ if !circumstances.served => Cause::OtherNetwork,
            (_, Some(false)) => Cause::MulticastLost,
            _ if circumstances.standing == Standing::Waiting => Cause::NotLetIn,
            _ => Cause::NotSearching,
        })
    }

    fn why_not_read(&self, waited_long: bool, circumstances: &Circumstances) -> Option<Cause> {
        if !waited_long {
            return None;
        }
        if !circumstances.served {
            return Some(Cause::OtherNetwork);
        }
        let noted = &self.noted;
        if noted.connected.any() || noted.refused.is_some() {
            return Some(Cause::DescriptionCutOff);
        }
        Some(match circumstances.answers {
            Some(false) => Cause::SearchedButAway,
            _ => Cause::NoWayToDescription { port: circumstances.port },
        })
    }

    fn why_not_opened(&self, waited_long: bool, circumstances: &Circumstances) -> Option<Cause> {
        if circumstances.standing == Standing::Waiting && self.noted.denied.any() {
            return Some(Cause::NotLetIn);
        }
        if let Some((action, code, _)) = &self.noted.faulted {
            return Some(Cause::ActionFails { action: action.clone(), code: *code });
        }
        waited_long.then_some(Cause::DislikesDescription)
    }

    fn why_not_listed(
        &self,
        kind: Kind,
        waited_long: bool,
        circumstances: &Circumstances,
    ) -> Option<Cause> {
        let at = kind.index();
        if circumstances.expected[at] == 0 && circumstances.pieces[at].is_none() {
            return Some(Cause::NothingThere);
        }
        if !waited_long {
            return None;
        }
        let since = self.progress().as_millis();
        if let Some((action, code, tally)) = &self.noted.faulted
            && tally.last >= since
        {
            return Some(Cause::ActionFails { action: action.clone(), code: *code });
        }
        let listed = Kind::ALL.map(|other| (other, self.noted.listed[other.index()]));
        let other = listed.iter().find(|(other, tally)| *other != kind && tally.last >= since);
        if let Some((listed, _)) = other {
            return Some(Cause::WrongMenu { wanted: kind, listed: *listed });
        }
        let none = listed.iter().all(|(_, tally)| !tally.any());
        none.then_some(Cause::WentNoFurther)
    }

    fn of_kind(&self, kind: Kind) -> impl Iterator<Item = &Taking> {
        self.noted.takings.iter().filter(move |taking| taking.kind == kind)
    }

    fn why_not_started(
        &self,
        now: Moment,
        kind: Kind,
        waited_long: bool,
        circumstances: &Circumstances,
    ) -> Option<Cause> {
        let tried: Vec<&Taking> = self.of_kind(kind).collect();
        let Some(latest) = tried.last() else {
            if let Some((status, tally)) = self.noted.refused
                && tally.last >= self.noted.described.last
                && self.noted.listed[kind.index()].any()
            {
                return Some(Cause::MediaRefused { status });
            }
            return waited_long.then_some(Cause::ChoosesNothing);
        };
        // Less than the piece needs is no giving up.
        if let Some(slow) = Self::slow(latest.flow(now), circumstances) {
            return Some(slow);
        }
        let gave_up: Vec<&&Taking> = tried.iter().filter(|taking| taking.gave_up(now)).collect();
        if gave_up.len() < tried.len() {
            return None;
        }
        let attempts: u32 = gave_up.iter().map(|taking| taking.attempts).sum();
        let of_format = |format: &str| -> u32 {
            let same = gave_up.iter().filter(|taking| taking.format == format);
            same.map(|taking| taking.attempts).sum()
        };
        let worst = gave_up.iter().max_by_key(|taking| of_format(&taking.format))?;
        let times = of_format(&worst.format);
        if attempts >= 3 && times >= 2 {
            return Some(Cause::GivesUp { format: worst.format.clone(), times });
        }
        if gave_up.iter().all(|taking| taking.is_tail_alone()) {
            return Some(Cause::ReadsTheEndAlone);
        }
        Some(Cause::LooksAndLeaves)
    }

    fn why_not_kept(
        &self,
        now: Moment,
        kind: Kind,
        circumstances: &Circumstances,
    ) -> Option<Cause> {
        // A look at another piece since then says nothing of this one.
        let latest = self.of_kind(kind).filter(|taking| !taking.gave_up(now)).last()?;
        match latest.flow(now) {
            Flow::Fine => None,
            Flow::Stopped { after } => Some(Cause::StoppedEarly { seconds: after }),
            Flow::Copied { within, seconds } => Some(Cause::Copies { seconds, within }),
            slow @ Flow::Slow { .. } => Self::slow(slow, circumstances),
        }
    }

    fn slow(flow: Flow, circumstances: &Circumstances) -> Option<Cause> {
        let Flow::Slow { rate, need } = flow else { return None };
        let wireless = circumstances.wireless;
        Some(Cause::TooSlow { kbits: rate / 1000, need: need / 1000, wireless })
    }

    /// What else is the matter, beside what stops a step.
    pub(super) fn remarks(&self, now: Moment, circumstances: &Circumstances) -> Vec<Cause> {
        let noted = &self.noted;
        let mut remarks = Vec::new();
        let was_refused = noted.covers.grant.starts_with(Standing::Refused.word());
        if circumstances.standing == Standing::Refused && was_refused && noted.got.any() {
            remarks.push(Cause::GotSomething);
        }
        let no = |question| noted.said.get(&question) == Some(&false);
        let latest = |kind| self.of_kind(kind).last();
        let format = |kind| latest(kind).map_or("the piece".into(), |taking| taking.format.clone());
        if no(Question::VideoPicture) {
            remarks.push(Cause::NoPicture { format: format(Kind::Video) });
        }
        for (question, kind) in
            [(Question::VideoSound, Kind::Video), (Question::MusicSound, Kind::Music)]
        {
            if no(question) {
                remarks.push(Cause::NoSound { format: format(kind) });
            }
        }
        if no(Question::VideoSmooth) {
            let gaps = latest(Kind::Video).is_some_and(|taking| taking.stalls() > 0);
            remarks.push(Cause::Stutters { gaps });
        }
        if no(Question::PictureUpright) {
            remarks.push(Cause::NotUpright);
        }
        remarks.extend(self.old_list(now, circumstances));
        remarks.extend(self.part_of_a_list(now, circumstances));
        if circumstances.shares_address {
            remarks.push(Cause::SharedAddress);
        }
        if circumstances.clock_off {
            remarks.push(Cause::ClockOff);
        }
        remarks
    }

    /// Whether it shows a list that is not true any more.
    fn old_list(&self, now: Moment, circumstances: &Circumstances) -> Option<Cause> {
        let changed = circumstances.changed.filter(|at| *at > self.started)?;
        let listed = self.noted.listed.iter().map(|tally| tally.last).max().filter(|at| *at > 0)?;
        if listed >= changed.as_millis() || now.since(changed) < LISTS_AGAIN {
            return None;
        }
        if self.noted.event_failed.last >= changed.as_millis() {
            return Some(Cause::EventsNotTaken);
        }
        (!circumstances.subscribed).then_some(Cause::NotSubscribed)
    }

    fn part_of_a_list(&self, now: Moment, circumstances: &Circumstances) -> Option<Cause> {
        circumstances.kinds.iter().find_map(|kind| {
            let at = kind.index();
            let (given, expected) = (self.noted.given[at], circumstances.expected[at]);
            let last = Moment::from_millis(self.noted.listed[at].last);
            let part = given > 0 && given < expected && now.since(last) >= PATIENCE;
            part.then_some(Cause::ListsPart { given, expected })
        })
    }

    /// What to press for a step.
    pub(super) fn press(&self, step: WalkthroughStep, circumstances: &Circumstances) -> String {
        use WalkthroughStep::*;
        let directions = circumstances.kind.map(|kind| kind.directions());
        let piece = |kind: Kind| {
            let piece = circumstances.pieces[kind.index()].as_deref();
            piece.map(|title| format!("“{title}” in Test pieces"))
        };
        match step {
            Seen | Read | GotNothing => match directions {
                Some(directions) => directions.again.to_owned(),
                None => "Have it look for media servers: open its list of sources anew.".into(),
            },
            Opened => match directions {
                Some(directions) => format!("{} Choose this house there.", directions.media),
                None => "Choose this house in its list of media servers.".into(),
            },
            Listed(kind) => match kind {
                Kind::Video => "Open Video, then All videos.".into(),
                Kind::Music => "Open Music, then All tracks.".into(),
                Kind::Picture => "Open Pictures, then All pictures.".into(),
            },
            Started(Kind::Picture) => {
                format!("Show {}.", piece(Kind::Picture).unwrap_or("a picture".into()))
            }
            Started(kind) => format!("Play {}.", piece(kind).unwrap_or("a title".into())),
            KeptPlaying(_) => "Leave it playing for half a minute.".into(),
            SkippedAhead(_) => {
                "Skip to a later place: fast forward, the arrow keys, or the bar.".into()
            }
            TookItem | Paused | VolumeChanged | Stopped => String::new(),
        }
    }
}
