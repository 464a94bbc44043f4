//! Persona files: a device's habits as data.

use anyhow::Context as _;
use std::net::Ipv4Addr;
use std::path::Path;

use serde::Deserialize;

/// A device's habits.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Persona {
    /// Its name.
    pub name: String,
    /// Its maker.
    pub maker: String,
    /// The address it owns.
    pub address: Ipv4Addr,
    /// What it calls itself in requests.
    pub user_agent: String,
    /// The MIME types it plays.
    pub plays: Vec<String>,
    /// Whether it subscribes to changes.
    pub subscribes: bool,
    /// How it looks for servers.
    pub search: PersonaSearch,
    /// How it browses.
    pub browse: BrowseSettings,
    /// How it fetches media.
    pub play: Play,
}

/// How a device looks for servers.
#[derive(Debug, Clone, Deserialize)]
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
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct BrowseSettings {
    /// Objects asked for at a time.
    pub page: u32,
    /// The Filter it sends.
    pub filter: String,
}

/// How a device fetches media.
#[derive(Debug, Clone, Deserialize)]
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
