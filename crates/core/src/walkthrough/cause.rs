//! Why a step is not ticked: the likely causes, in words and with what to do.

use serde::{Deserialize, Serialize};

use crate::kind::Kind;

/// A likely cause, told from what was seen of a device and what was not.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(tag = "cause", rename_all = "kebab-case")]
pub enum Cause {
    /// The house is switched off.
    HouseOff,
    /// It asks from a network that the house does not serve.
    OtherNetwork,
    /// Multicast does not come through.
    MulticastLost,
    /// It does not answer at its address.
    SwitchedOff,
    /// It is on and does not search.
    NotSearching,
    /// It searched, and does not answer at its address: others can write an address into a search.
    SearchedButAway,
    /// It searched and could not read the description.
    NoWayToDescription {
        /// The port at which it is read.
        port: u16,
    },
    /// It connected and did not take the description whole.
    DescriptionCutOff,
    /// It read the description and opens nothing.
    DislikesDescription,
    /// It waits to be let in.
    NotLetIn,
    /// It opened the menu and went no further.
    WentNoFurther,
    /// It listed another kind than this one.
    WrongMenu {
        /// The kind that it was to list.
        wanted: Kind,
        /// The kind that it listed.
        listed: Kind,
    },
    /// There is nothing of this kind that it may see.
    NothingThere,
    /// It lists less than there is.
    ListsPart {
        /// How many it was given.
        given: u32,
        /// How many there are.
        expected: u32,
    },
    /// What it asks the directory for fails.
    ActionFails {
        /// The action.
        action: String,
        /// The error's code.
        code: u16,
    },
    /// It lists titles and asks for none of them.
    ChoosesNothing,
    /// It looks at the beginning and leaves.
    LooksAndLeaves,
    /// It reads the end alone.
    ReadsTheEndAlone,
    /// It takes the first bytes of one format and gives up, again and again.
    GivesUp {
        /// The format, as a MIME type.
        format: String,
        /// How many times it was tried.
        times: u32,
    },
    /// Requests for media are refused.
    MediaRefused {
        /// The HTTP status.
        status: u16,
    },
    /// It takes less than the piece needs.
    TooSlow {
        /// What it takes, in kbit/s.
        kbits: u64,
        /// What the piece needs, in kbit/s.
        need: u64,
        /// Whether this host is connected by radio.
        wireless: bool,
    },
    /// It stopped in the middle.
    StoppedEarly {
        /// Seconds of the piece that it took.
        seconds: u64,
    },
    /// It takes the piece faster than it plays: it copies it, or holds it whole.
    Copies {
        /// Seconds of the piece.
        seconds: u64,
        /// Seconds in which it took them.
        within: u64,
    },
    /// It went to another place and took seconds to go on.
    SlowAfterSkip {
        /// How many milliseconds.
        ms: u64,
    },
    /// It keeps an old list, as it did not subscribe.
    NotSubscribed,
    /// It keeps an old list, as events do not reach it.
    EventsNotTaken,
    /// Several devices use its address.
    SharedAddress,
    /// This host's clock is off, and all times with it.
    ClockOff,
    /// A person says that no picture comes.
    NoPicture {
        /// What was played, as a MIME type.
        format: String,
    },
    /// A person says that no sound comes.
    NoSound {
        /// What was played, as a MIME type.
        format: String,
    },
    /// A person says that it stutters, though it gets what it needs.
    Stutters {
        /// Whether there were gaps.
        gaps: bool,
    },
    /// A person says that pictures lie on their side or are not sharp.
    NotUpright,
    /// It is refused and was given something.
    GotSomething,
}

/// Where a remedy is found in the console.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RemedyPlace {
    /// The preflight.
    Preflight,
    /// The device's own page.
    Device,
    /// The folders.
    Folders,
    /// The settings.
    Settings,
    /// The television or player itself.
    OnTheDevice,
}

impl RemedyPlace {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            RemedyPlace::Preflight => "preflight",
            RemedyPlace::Device => "device",
            RemedyPlace::Folders => "folders",
            RemedyPlace::Settings => "settings",
            RemedyPlace::OnTheDevice => "on-the-device",
        }
    }
}

/// Mbit/s for people, from kbit/s.
fn mbits(kbits: u64) -> String {
    match kbits {
        0..10_000 => format!("{:.1}", kbits as f64 / 1000.0),
        _ => format!("{:.0}", kbits as f64 / 1000.0),
    }
}

impl Cause {
    /// The word for it in records and for programs, such as `too-slow`.
    pub fn word(&self) -> &'static str {
        use Cause::*;
        match self {
            HouseOff => "house-off",
            OtherNetwork => "other-network",
            MulticastLost => "multicast-lost",
            SwitchedOff => "switched-off",
            NotSearching => "not-searching",
            SearchedButAway => "searched-but-away",
            NoWayToDescription { .. } => "no-way-to-description",
            DescriptionCutOff => "description-cut-off",
            DislikesDescription => "dislikes-description",
            NotLetIn => "not-let-in",
            WentNoFurther => "went-no-further",
            WrongMenu { .. } => "wrong-menu",
            NothingThere => "nothing-there",
            ListsPart { .. } => "lists-part",
            ActionFails { .. } => "action-fails",
            ChoosesNothing => "chooses-nothing",
            LooksAndLeaves => "looks-and-leaves",
            ReadsTheEndAlone => "reads-the-end-alone",
            GivesUp { .. } => "gives-up",
            MediaRefused { .. } => "media-refused",
            TooSlow { .. } => "too-slow",
            StoppedEarly { .. } => "stopped-early",
            Copies { .. } => "copies",
            SlowAfterSkip { .. } => "slow-after-skip",
            NotSubscribed => "not-subscribed",
            EventsNotTaken => "events-not-taken",
            SharedAddress => "shared-address",
            ClockOff => "clock-off",
            NoPicture { .. } => "no-picture",
            NoSound { .. } => "no-sound",
            Stutters { .. } => "stutters",
            NotUpright => "not-upright",
            GotSomething => "got-something",
        }
    }

    /// What was seen, for people.
    pub fn seen(&self) -> String {
        use Cause::*;
        match self {
            HouseOff => "The house is switched off.".into(),
            OtherNetwork => "It asks from a network that this house does not serve.".into(),
            MulticastLost => "It answers at its address, but this host does not even hear its own \
                              searches: multicast is lost on the way."
                .into(),
            SwitchedOff => {
                "It does not answer at its address: it is off or not in the network.".into()
            }
            NotSearching => "It is on, but has not searched since the walkthrough began.".into(),
            SearchedButAway => {
                "A search came in its name, but nothing answers at its address.".into()
            }
            NoWayToDescription { port } => {
                format!(
                    "It searched and was answered, but never read the description at port {port}."
                )
            }
            DescriptionCutOff => {
                "It connected, but did not take the description to its end.".into()
            }
            DislikesDescription => "It read the description and opened no menu.".into(),
            NotLetIn => "It asked, and has not been let in.".into(),
            WentNoFurther => "It opened the menu and listed nothing in it.".into(),
            WrongMenu { wanted, listed } => format!(
                "It listed {}, but no {}: another menu was opened.",
                listed.plural(),
                wanted.plural()
            ),
            NothingThere => "There is nothing of this kind that it may see.".into(),
            ListsPart { given, expected } => {
                format!("It was given {given} of {expected} titles, and did not ask for the rest.")
            }
            ActionFails { action, code } => {
                format!("It called {action}, which failed with error {code}.")
            }
            ChoosesNothing => "It listed titles and asked for none of them.".into(),
            LooksAndLeaves => "It looked at the beginning of a file and left.".into(),
            ReadsTheEndAlone => "It read the end of a file and nothing else of it.".into(),
            GivesUp { format, times } => {
                format!("It took the first bytes of {format} and gave up, {}.", times_word(*times))
            }
            MediaRefused { status } => {
                format!("It asked for a file and was answered with status {status}.")
            }
            TooSlow { kbits, need, .. } => {
                let (rate, need) = (mbits(*kbits), mbits(*need));
                format!("It takes {rate} Mbit/s where the piece needs {need}.")
            }
            StoppedEarly { seconds } => {
                format!("It stopped after {seconds} s of the piece, before that was over.")
            }
            Copies { seconds, within } => format!(
                "It took {seconds} s of the piece within {within} s: it holds the piece whole, or \
                 only copies it."
            ),
            SlowAfterSkip { ms } => {
                let seconds = *ms as f64 / 1000.0;
                format!("After it went to another place it took {seconds:.1} s to go on.")
            }
            NotSubscribed => "What is there has changed since it listed it, and it did not \
                              subscribe to be told so."
                .into(),
            EventsNotTaken => "What is there has changed since it listed it, and the event that \
                               says so did not reach it."
                .into(),
            SharedAddress => "Several devices ask from its address: they are behind a repeater or \
                              another router."
                .into(),
            ClockOff => "This host's clock is not set: times here are not to be relied on.".into(),
            NoPicture { format } => format!("{format} was played, and no moving picture came."),
            NoSound { format } => format!("{format} was played, and no sound came with it."),
            Stutters { gaps: true } => "It stutters, and there were gaps in what it took.".into(),
            Stutters { gaps: false } => "It stutters, though it took the piece as fast as that \
                                         plays."
                .into(),
            NotUpright => "Pictures are not upright or not sharp.".into(),
            GotSomething => "It is refused, and was given something all the same.".into(),
        }
    }

    /// What to do, for people.
    pub fn remedy(&self) -> String {
        use Cause::*;
        match self {
            HouseOff => "Switch the house on.".into(),
            OtherNetwork => "Connect it to the same network as this host, not to the guest \
                             network."
                .into(),
            MulticastLost => "The preflight says what stops multicast. At a wireless router look \
                              for isolation of clients, or filters for multicast (IGMP snooping)."
                .into(),
            SwitchedOff => "Switch it on and see that it is in the network.".into(),
            NotSearching => "Have it search again.".into(),
            SearchedButAway => "See whether the device is on. If it is, somebody else uses its \
                                address: look at its hardware address."
                .into(),
            NoWayToDescription { port } => format!(
                "Something stops TCP to port {port}: the preflight looks at this host's firewall \
                 and has the command that lets devices in."
            ),
            DescriptionCutOff => {
                "Try a cable, or another place for its radio; then search again.".into()
            }
            DislikesDescription => "Have it search again. If it still opens nothing, set a trait: \
                                    some devices want another form of the description."
                .into(),
            NotLetIn => "Let it in.".into(),
            WentNoFurther => "Open a menu in the house's list on the device.".into(),
            WrongMenu { wanted, .. } => {
                format!("Open the menu with {} on the device.", wanted.plural())
            }
            NothingThere => "Publish a folder with such files, or widen the grant.".into(),
            ListsPart { .. } => "Scroll to the end of the list on the device. If titles are \
                                 missing there, set smaller pages as a trait."
                .into(),
            ActionFails { .. } => "Its recorded conversation shows what it asked for; a trait may \
                                   help."
                .into(),
            ChoosesNothing => "Choose a title and press play. If it says that it cannot play any, \
                               none is in a format that it takes."
                .into(),
            LooksAndLeaves => "Press play and leave it playing. If it refuses the title, try one \
                               of another format."
                .into(),
            ReadsTheEndAlone => {
                "Play it from its beginning. If it does so again, the file's index \
                                 may be damaged: try another."
                    .into()
            }
            GivesUp { format, .. } => format!(
                "It does not seem to take {format}. Try the test pieces of other formats: the one \
                 that it plays says what to convert to."
            ),
            MediaRefused { .. } => "Its sightings say which file; see whether that is still there \
                                    and may be read."
                .into(),
            TooSlow { wireless: true, .. } => "This host is connected by radio: use a cable for \
                                               it, then look at the device's own connection."
                .into(),
            TooSlow { wireless: false, .. } => "Is it connected by radio? Use a cable, another \
                                                band, or another place; or a smaller film."
                .into(),
            StoppedEarly { .. } => "Was it stopped by hand? If not, play it again and watch what \
                                    the device says."
                .into(),
            Copies { .. } => "Play the larger test piece, which no device holds whole. Who still \
                              takes it at once copies it, and nothing more can be proven."
                .into(),
            SlowAfterSkip { .. } => "Try again; if it is as slow, try a cable.".into(),
            NotSubscribed => "Leave the list on the device and open it again.".into(),
            EventsNotTaken => "Leave the list on the device and open it again; a firewall on the \
                               device may stop events."
                .into(),
            SharedAddress => "Connect it to the same network as this host, not behind another \
                              router; a decision holds for all who share the address."
                .into(),
            ClockOff => "The preflight says how the clock is set.".into(),
            NoPicture { .. } | NoSound { .. } => "Try the test pieces of other formats: the one \
                                                  that it plays says what to convert to."
                .into(),
            Stutters { gaps: true } => "Use a cable, another band or another place.".into(),
            Stutters { gaps: false } => {
                "It gets what it needs and cannot show it fast enough: try \
                                         a smaller picture or another format."
                    .into()
            }
            NotUpright => "Have pictures turned and made smaller for it by a trait.".into(),
            GotSomething => "This is a fault of the house: please report it.".into(),
        }
    }

    /// Where the remedy is found.
    pub fn place(&self) -> RemedyPlace {
        use Cause::*;
        match self {
            MulticastLost | NoWayToDescription { .. } | ClockOff => RemedyPlace::Preflight,
            HouseOff => RemedyPlace::Settings,
            NothingThere => RemedyPlace::Folders,
            DislikesDescription
            | NotLetIn
            | ActionFails { .. }
            | MediaRefused { .. }
            | NotUpright
            | GotSomething
            | SearchedButAway
            | SharedAddress => RemedyPlace::Device,
            _ => RemedyPlace::OnTheDevice,
        }
    }
}

fn times_word(times: u32) -> String {
    match times {
        1 => "once".into(),
        2 => "twice".into(),
        times => format!("{times} times"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn causes_say_what_was_seen_and_what_to_do() {
        let slow = Cause::TooSlow { kbits: 3100, need: 12_000, wireless: false };
        assert_eq!(slow.seen(), "It takes 3.1 Mbit/s where the piece needs 12.");
        assert_eq!(slow.word(), "too-slow");
        assert_eq!(slow.place(), RemedyPlace::OnTheDevice);
        let gives_up = Cause::GivesUp { format: "video/x-matroska".into(), times: 2 };
        assert!(gives_up.seen().ends_with("gave up, twice."));
        let wrong = Cause::WrongMenu { wanted: Kind::Picture, listed: Kind::Video };
        assert_eq!(wrong.seen(), "It listed films, but no pictures: another menu was opened.");
        let written = serde_json::to_value(&wrong).unwrap();
        assert_eq!(written["cause"], wrong.word());
    }
}
