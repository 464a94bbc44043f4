//! What is known of a device beside what it does, and what its proof hangs on.

use mostra_protocol::Moment;
use serde::{Deserialize, Serialize};

use crate::access::Standing;
use crate::device::DeviceKind;
use crate::kind::Kinds;

/// What a proof hangs on: when any of it changes, the proof is due again.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Covers {
    /// The standing and the grant.
    pub grant: String,
    /// The traits.
    pub traits: String,
    /// The published folders.
    pub folders: String,
    /// The addresses of the house.
    pub address: String,
    /// This program's version.
    pub version: String,
}

impl Covers {
    /// What has changed since, in words.
    pub fn changed(&self, now: &Covers) -> Vec<&'static str> {
        let pairs = [
            ("grant", &self.grant, &now.grant),
            ("traits", &self.traits, &now.traits),
            ("folders", &self.folders, &now.folders),
            ("address of the house", &self.address, &now.address),
            ("version of the house", &self.version, &now.version),
        ];
        pairs.into_iter().filter(|(_, a, b)| a != b).map(|(word, ..)| word).collect()
    }
}

/// What is known beside what the device does.
#[derive(Debug, Clone)]
pub struct Circumstances {
    /// The device's standing.
    pub standing: Standing,
    /// The kinds that its grant covers.
    pub kinds: Kinds,
    /// How many items of each kind it may see, in the order of [`Kind::ALL`](crate::kind::Kind::ALL).
    pub expected: [u32; 3],
    /// Whether it is a renderer.
    pub renderer: bool,
    /// What sort of device it is.
    pub kind: Option<DeviceKind>,
    /// Whether it answers at its address, where that was tried.
    pub answers: Option<bool>,
    /// Whether its address is in a network that the house serves.
    pub served: bool,
    /// Whether this host is connected by radio.
    pub wireless: bool,
    /// Whether this host hears its own searches, where that was tried.
    pub hears_itself: Option<bool>,
    /// Whether this host's clock is known to be off.
    pub clock_off: bool,
    /// Whether the house is switched off.
    pub house_off: bool,
    /// Whether it subscribes to changes now.
    pub subscribed: bool,
    /// When what it may see changed last, if it did since the house began.
    pub changed: Option<Moment>,
    /// Whether several devices use its address.
    pub shares_address: bool,
    /// The port of the device listener.
    pub port: u16,
    /// The titles of the test pieces to play, in the order of [`Kind::ALL`](crate::kind::Kind::ALL).
    pub pieces: [Option<String>; 3],
}

impl Default for Circumstances {
    /// An admitted device with everything in order and nothing to see.
    fn default() -> Circumstances {
        Circumstances {
            standing: Standing::Admitted,
            kinds: Kinds::ALL,
            expected: [0; 3],
            renderer: false,
            kind: None,
            answers: None,
            served: true,
            wireless: false,
            hears_itself: None,
            clock_off: false,
            house_off: false,
            subscribed: false,
            changed: None,
            shares_address: false,
            port: 7640,
            pieces: [None, None, None],
        }
    }
}
