//! Persona files: a device's habits as data.

use anyhow::Context as _;
use std::collections::BTreeMap;
use std::net::Ipv4Addr;
use std::path::Path;

use serde::{Deserialize, Serialize};

use crate::announce::Announces;

/// A device's habits.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Persona {
    /// Its name.
    pub name: String,
    /// Its maker.
    pub maker: String,
    /// The address it owns.
    pub address: Ipv4Addr,
    /// The hardware addresses that it has where a network is made for it: of its cable, of its radio.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub hardware: Vec<String>,
    /// What it calls itself in requests.
    pub user_agent: String,
    /// The MIME types it plays.
    #[serde(default)]
    pub plays: Vec<String>,
    /// Whether it subscribes to changes.
    #[serde(default)]
    pub subscribes: bool,
    /// Whether it asks the registrar before it lists anything.
    #[serde(default)]
    pub registrar: bool,
    /// How it looks for servers; left out: it does not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub search: Option<PersonaSearch>,
    /// How it browses.
    #[serde(default)]
    pub browse: BrowseSettings,
    /// How it fetches media.
    #[serde(default)]
    pub play: Play,
    /// What it does wrong when it is walked through; left out: nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<Fault>,
    /// What a walkthrough of it is to come to; left out: it is confirmed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expects: Option<String>,
    /// What it lets in from outside, of a router.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub port_mappings: Vec<PersonaMapping>,
    /// What it announces; left out: nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub announces: Option<Announces>,
}

/// What a device does wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Fault {
    /// It searches and cannot read the description.
    ReadsNothing,
    /// It reads the description and opens no menu.
    OpensNothing,
    /// It opens the menu and lists nothing in it.
    ListsNothing,
    /// It lists titles and plays none.
    PlaysNothing,
    /// It looks at the beginning of a file and leaves.
    LooksAndLeaves,
    /// It takes the first bytes and gives up, three times.
    GivesUp,
    /// It reads the end of a file alone.
    ReadsTheEnd,
    /// It takes a quarter of what the piece needs.
    Slow,
    /// It takes the whole file at once.
    Copies,
    /// It stops in the middle.
    Stops,
}

/// A port of a router that leads to a machine inside.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct PersonaMapping {
    /// `TCP` or `UDP`.
    pub protocol: String,
    /// The port outside.
    pub external: u16,
    /// The port inside.
    pub internal: u16,
    /// The machine inside.
    pub to: Ipv4Addr,
    /// What it is said to be for.
    pub description: String,
}

/// How a device looks for servers.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct PersonaSearch {
    /// The search target.
    pub target: String,
    /// MX in seconds.
    pub mx: u32,
    /// How many times it asks.
    pub times: u32,
}

/// How a device browses.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct BrowseSettings {
    /// Objects asked for at a time.
    pub page: u32,
    /// The Filter it sends.
    pub filter: String,
    /// Menus that it makes by searching for a class, by title; none: it browses.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub by_class: BTreeMap<String, String>,
}

/// How a device fetches media.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Play {
    /// Bytes it takes to recognise a file; 0: it asks for whole files.
    pub first_bytes: u64,
    /// Bytes it takes from the end, where the index may be.
    pub tail_bytes: u64,
    /// Bytes it takes at a time while playing.
    pub ask_bytes: u64,
}

impl Persona {
    /// Reads a persona file.
    ///
    /// # Errors
    /// A sentence that names the file and what is wrong with it.
    pub(crate) fn read(file: &Path) -> anyhow::Result<Persona> {
        let text = std::fs::read_to_string(file)
            .with_context(|| format!("{} cannot be read", file.display()))?;
        toml::from_str(&text).with_context(|| format!("{} is no persona", file.display()))
    }
}
