//! Sightings: everything that a device does or is refused. They are kept, put together where they
//! come in floods, and what is [proven](crate::proof) can be told from them again.

mod kept;
mod known;

use std::fmt;
use std::net::Ipv4Addr;
use std::str::FromStr;

use mostra_protocol::Moment;
use mostra_protocol::model::text::{TITLE, tamed};
use serde::{Deserialize, Serialize};

use crate::device::Hardware;
use crate::ids::{DeviceId, FileId};
use crate::kind::{Kind, Kinds};
use crate::playback::Layout;
use crate::resource::ResourceId;

pub use self::kept::{Coalescer, IN_MINUTES, KEPT, OF_DEVICE, thin_out};

/// What a device that is not let in asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Attempt {
    /// The root menu.
    RootMenu,
    /// A menu.
    Menu,
    /// A menu that it does not see.
    HiddenMenu,
    /// A file, a picture or subtitles.
    File,
    /// The house itself, by a search.
    Search,
}

impl Attempt {
    /// All of them.
    pub const ALL: [Attempt; 5] =
        [Attempt::RootMenu, Attempt::Menu, Attempt::HiddenMenu, Attempt::File, Attempt::Search];

    /// The word for it in records.
    pub fn word(self) -> &'static str {
        match self {
            Attempt::RootMenu => "root-menu",
            Attempt::Menu => "menu",
            Attempt::HiddenMenu => "hidden-menu",
            Attempt::File => "file",
            Attempt::Search => "search",
        }
    }

    /// Reads [`word`](Self::word).
    pub fn from_word(word: &str) -> Option<Attempt> {
        Attempt::ALL.into_iter().find(|attempt| attempt.word() == word)
    }
}

impl fmt::Display for Attempt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Attempt::RootMenu => "asked for the root menu",
            Attempt::Menu => "asked for a menu",
            Attempt::HiddenMenu => "asked for a menu it does not see",
            Attempt::File => "asked for a file",
            Attempt::Search => "searched for the house",
        })
    }
}

/// What a device did, or what it was refused. Texts in it are those of the device or the catalogue.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Act {
    /// It searched for something that we are.
    Searched {
        /// For what.
        target: String,
    },
    /// It announced itself.
    Announced,
    /// It connected.
    Connected,
    /// The description was delivered to it.
    Described,
    /// A list was delivered to it.
    Listed {
        /// Whether it is the root.
        root: bool,
        /// Granted items in it.
        items: u32,
        /// Entries of the container in all, of which this may be a page; 0 where that was not kept.
        #[serde(default)]
        of: u32,
        /// Their kinds.
        kinds: Kinds,
        /// The container's title.
        title: String,
        /// The items, where a walkthrough counts them; they are not kept.
        #[serde(skip)]
        files: Vec<(FileId, Kind)>,
    },
    /// It acknowledged bytes of a resource.
    Took {
        /// Which.
        #[serde(flatten)]
        resource: ResourceId,
        /// Its title.
        title: String,
        /// What it takes to play it.
        layout: Layout,
        /// The bytes, as first and first behind, in the order in which they were acknowledged.
        runs: Vec<(u64, u64)>,
    },
    /// It took a piece at the pace of that piece's own time.
    Kept {
        /// The piece's title.
        title: String,
        /// Its kind.
        kind: Kind,
        /// For so many seconds.
        seconds: u32,
    },
    /// An action was answered.
    Answered {
        /// Its name.
        action: String,
    },
    /// An action failed.
    Faulted {
        /// Its name.
        action: String,
        /// The fault's code.
        code: u16,
    },
    /// It asked for something and got nothing, as it is not let in.
    Denied {
        /// For what.
        attempt: Attempt,
    },
    /// A request was refused.
    Refused {
        /// The HTTP status.
        status: u16,
    },
    /// It subscribed to a service, or renewed that.
    Subscribed {
        /// The service, by its short name.
        service: String,
    },
    /// It ended a subscription.
    Unsubscribed {
        /// The service, by its short name.
        service: String,
    },
    /// It accepted an event.
    EventDelivered {
        /// The service, by its short name.
        service: String,
    },
    /// An event did not reach it.
    EventFailed {
        /// The service, by its short name.
        service: String,
    },
}

impl fmt::Display for Act {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Act::Searched { target } => write!(f, "searched for {target}"),
            Act::Announced => f.write_str("announced itself"),
            Act::Connected => f.write_str("connected"),
            Act::Described => f.write_str("took the description"),
            Act::Listed { root: true, .. } => f.write_str("opened the root menu"),
            Act::Listed { title, .. } => write!(f, "listed {title}"),
            Act::Took { title, runs, .. } => {
                let bytes: u64 = runs.iter().map(|(from, to)| to - from).sum();
                write!(f, "took {bytes} bytes of {title}")
            }
            Act::Kept { title, seconds, .. } => write!(f, "kept playing {title} for {seconds} s"),
            Act::Answered { action } => write!(f, "called {action}"),
            Act::Faulted { action, code } => {
                write!(f, "called {action}, which failed with error {code}")
            }
            Act::Denied { attempt } => write!(f, "{attempt} and got nothing"),
            Act::Refused { status } => write!(f, "was answered with status {status}"),
            Act::Subscribed { service } => write!(f, "subscribed to {service}"),
            Act::Unsubscribed { service } => write!(f, "ended its subscription to {service}"),
            Act::EventDelivered { service } => write!(f, "accepted an event of {service}"),
            Act::EventFailed { service } => write!(f, "did not take an event of {service}"),
        }
    }
}

impl Act {
    /// Whether something failed or was refused.
    pub fn failed(&self) -> bool {
        matches!(
            self,
            Act::Faulted { .. }
                | Act::Denied { .. }
                | Act::Refused { .. }
                | Act::EventFailed { .. }
        )
    }

    /// What it has to do with.
    pub fn group(&self) -> ActGroup {
        match self {
            Act::Searched { .. } | Act::Announced | Act::Connected => ActGroup::Discovery,
            Act::Described => ActGroup::Description,
            Act::Listed { .. } | Act::Answered { .. } | Act::Faulted { .. } => ActGroup::Lists,
            Act::Denied { attempt: Attempt::File } | Act::Took { .. } | Act::Kept { .. } => {
                ActGroup::Media
            }
            Act::Denied { attempt: Attempt::Search } => ActGroup::Discovery,
            Act::Denied { .. } => ActGroup::Lists,
            // Most refusals by status are of media: lists fail with an error of their own.
            Act::Refused { .. } => ActGroup::Media,
            Act::Subscribed { .. }
            | Act::Unsubscribed { .. }
            | Act::EventDelivered { .. }
            | Act::EventFailed { .. } => ActGroup::Events,
        }
    }

    /// The same with texts as they can be kept (SEC-12): names that a device chose as far as our
    /// tables know them.
    fn tamed(self) -> Act {
        match self {
            Act::Searched { target } => Act::Searched { target: known::target(&target) },
            Act::Answered { action } => Act::Answered { action: known::action(&action).into() },
            Act::Faulted { action, code } => {
                Act::Faulted { action: known::action(&action).into(), code }
            }
            Act::Listed { root, items, of, kinds, title, files } => {
                Act::Listed { root, items, of, kinds, title: tamed(title, TITLE), files }
            }
            Act::Took { resource, title, layout, runs } => {
                Act::Took { resource, title: tamed(title, TITLE), layout, runs }
            }
            Act::Kept { title, kind, seconds } => {
                Act::Kept { title: tamed(title, TITLE), kind, seconds }
            }
            other => other,
        }
    }
}

/// What an act has to do with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ActGroup {
    /// Searching, announcing, connecting.
    Discovery,
    /// The description.
    Description,
    /// Lists and other actions.
    Lists,
    /// Media.
    Media,
    /// Subscriptions and events.
    Events,
}

impl ActGroup {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            ActGroup::Discovery => "discovery",
            ActGroup::Description => "description",
            ActGroup::Lists => "lists",
            ActGroup::Media => "media",
            ActGroup::Events => "events",
        }
    }
}

/// By what a device was told apart when it was sighted: its hardware address where the system knew
/// it, else its address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Contact {
    /// A hardware address.
    Hardware(Hardware),
    /// An address.
    Address(Ipv4Addr),
}

impl Contact {
    /// That of somebody at an address.
    pub fn of(address: Ipv4Addr, hardware: Option<Hardware>) -> Contact {
        hardware.map_or(Contact::Address(address), Contact::Hardware)
    }
}

impl fmt::Display for Contact {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Contact::Hardware(hardware) => hardware.fmt(f),
            Contact::Address(address) => address.fmt(f),
        }
    }
}

/// A text that is neither an address nor a hardware address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NoContact;

impl FromStr for Contact {
    type Err = NoContact;

    fn from_str(text: &str) -> Result<Contact, NoContact> {
        let address = text.trim().parse().map(Contact::Address);
        address.or_else(|_| text.parse().map(Contact::Hardware)).map_err(|_| NoContact)
    }
}

/// Something that a device did or was refused, once or several times.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sighting {
    /// The device.
    pub device: DeviceId,
    /// By what it was told apart.
    pub contact: Contact,
    /// When it did so first.
    pub first: Moment,
    /// When it did so last.
    pub last: Moment,
    /// How many times.
    pub times: u32,
    /// What.
    pub act: Act,
    /// Whether it is the proof of something, and is kept for as long as that.
    pub proves: bool,
}

impl Sighting {
    /// Something that a device did now.
    pub fn new(device: DeviceId, contact: Contact, at: Moment, act: Act) -> Sighting {
        Sighting { device, contact, first: at, last: at, times: 1, act: act.tamed(), proves: false }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn contacts_and_attempts_read_back() {
        for text in ["192.0.2.7", "02:00:00:00:00:01"] {
            assert_eq!(text.parse::<Contact>().unwrap().to_string(), text);
        }
        assert!("".parse::<Contact>().is_err() && "television".parse::<Contact>().is_err());
        assert!(Attempt::ALL.into_iter().all(|a| Attempt::from_word(a.word()) == Some(a)));
        assert_eq!(Attempt::from_word(""), None);
    }
}
