//! Typed configuration: flags, then `MOSTRA_*`, then `mostra.toml`, then defaults.

mod flags;
mod rules;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use ipnet::Ipv4Net;
use mostra_core::traits::Rules;
use mostra_net::Interfaces;
use mostra_protocol::server::description::Edition;

use flags::NAMES;
pub(crate) use flags::{AccountVerb, Command, Flags, Reset};
use rules::read_rules;

use crate::startup_error::StartupError;

/// A value, where it came from, and what it is for.
#[derive(Debug, Clone)]
pub(crate) struct Sourced {
    /// Name in the file.
    pub name: &'static str,
    /// The value, with secrets left out.
    pub value: String,
    /// `flag`, `environment`, `file` or `default`.
    pub source: &'static str,
    /// What it is for.
    pub about: &'static str,
}

/// The configuration.
#[derive(Debug, Clone)]
pub(crate) struct Config {
    /// Where the service keeps its own files.
    pub data: PathBuf,
    /// Which interfaces to serve.
    pub interfaces: Interfaces,
    /// Port of the device listener.
    pub device_port: u16,
    /// Seconds between looks at folders that cannot be watched.
    pub poll_seconds: u64,
    /// Seconds that an announcement stays valid (SSDP-15).
    pub max_age: u32,
    /// Time to live of multicast, but on loopback (SSDP-5).
    pub multicast_ttl: u32,
    /// Most connections of devices at once (HTTP-32).
    pub connections: usize,
    /// Subnets from which devices may ask beside those of the
    /// interfaces (SEC-3).
    pub also_from: Vec<Ipv4Net>,
    /// Whether the registrar is offered (REG-1).
    pub registrar: bool,
    /// The edition of the Device Architecture that is named (DESC-4).
    pub edition: Edition,
    /// Model name and number in the device document (REG-9).
    pub model: (String, String),
    /// Rules for devices that need something done differently: those of the file, then ours.
    pub rules: Rules,
    /// Whether folders are scanned only when somebody asks.
    pub scan_when_asked: bool,
    /// Port of the console on loopback.
    pub console_port: u16,
    /// Port of the console for the house.
    pub house_port: u16,
    /// PostgreSQL.
    pub database_url: String,
    /// Log level.
    pub log: String,
    /// Whether logs are JSON.
    pub log_json: bool,
    /// Every value with its source, for `mostra config show`.
    pub shown: Vec<Sourced>,
}

struct Layers {
    flags: BTreeMap<&'static str, String>,
    file: toml::Table,
    shown: Vec<Sourced>,
}

impl Layers {
    fn pick(
        &mut self,
        name: &'static str,
        default: &str,
        about: &'static str,
    ) -> Result<String, StartupError> {
        let environment = std::env::var(format!("MOSTRA_{}", name.to_uppercase())).ok();
        let in_file = match self.file.get(name) {
            None => None,
            Some(toml::Value::String(text)) => Some(text.clone()),
            Some(toml::Value::Integer(number)) => Some(number.to_string()),
            // An edition is easily written as a number.
            Some(toml::Value::Float(number)) => Some(format!("{number:.1}")),
            Some(other) => {
                return Err(StartupError::new(
                    format!("{name} in the configuration file is a {}", other.type_str()),
                    "Write it as a text or a number.",
                ));
            }
        };
        let (value, source) = match (self.flags.get(name), environment, in_file) {
            (Some(value), _, _) => (value.clone(), "flag"),
            (None, Some(value), _) => (value, "environment"),
            (None, None, Some(value)) => (value, "file"),
            (None, None, None) => (default.to_owned(), "default"),
        };
        let secret = name == "database_url" && source != "default";
        let value_shown = if secret { hide_password(&value) } else { value.clone() };
        self.shown.push(Sourced { name, value: value_shown, source, about });
        Ok(value)
    }

    fn port(
        &mut self,
        name: &'static str,
        default: &str,
        about: &'static str,
    ) -> Result<u16, StartupError> {
        let text = self.pick(name, default, about)?;
        text.parse().map_err(|_| {
            StartupError::new(
                format!("{name} is {text:?}, which is no port"),
                "Give a number from 0 to 65535.",
            )
        })
    }

    /// One of some words, the first of which is the default.
    fn word(
        &mut self,
        name: &'static str,
        words: &[&str],
        about: &'static str,
    ) -> Result<String, StartupError> {
        let text = self.pick(name, words[0], about)?;
        if words.contains(&text.as_str()) {
            return Ok(text);
        }
        Err(StartupError::new(
            format!("{name} is {text:?}"),
            &format!("Give {}.", words.join(" or ")),
        ))
    }

    fn number(
        &mut self,
        name: &'static str,
        default: &str,
        about: &'static str,
        range: std::ops::RangeInclusive<u32>,
    ) -> Result<u32, StartupError> {
        let text = self.pick(name, default, about)?;
        text.parse().ok().filter(|number| range.contains(number)).ok_or_else(|| {
            StartupError::new(
                format!("{name} is {text:?}, and not from {} to {}", range.start(), range.end()),
                "Give a number in that range.",
            )
        })
    }
}

impl Config {
    /// Puts the layers together.
    ///
    /// # Errors
    /// [`StartupError`] that names the value at fault.
    pub(crate) fn load(flags: &Flags) -> Result<Config, StartupError> {
        let mut layers =
            Layers { flags: flags.given(), file: toml::Table::new(), shown: Vec::new() };
        let file = match &flags.config {
            Some(path) => Some(path.clone()),
            None => {
                let data =
                    flags.data().map(str::to_owned).or_else(|| std::env::var("MOSTRA_DATA").ok());
                let path = PathBuf::from(data.unwrap_or_else(default_data)).join("mostra.toml");
                path.exists().then_some(path)
            }
        };
        if let Some(path) = file {
            layers.file = read_file(&path)?;
        }
        let data = layers.pick("data", &default_data(), "where the service keeps its own files")?;
        let interfaces = layers.pick(
            "interfaces",
            "auto",
            "interfaces or addresses to serve: auto, loopback, or a comma list",
        )?;
        let interfaces = match interfaces.trim() {
            "auto" => Interfaces::Auto,
            "loopback" => Interfaces::Loopback,
            list => Interfaces::Listed(list.split(',').map(|s| s.trim().to_owned()).collect()),
        };
        let device_port = layers.port("device_port", "7640", "port of the device listener")?;
        let console_port =
            layers.port("console_port", "7641", "port of the console on 127.0.0.1")?;
        let poll_seconds = layers.number(
            "poll_seconds",
            "60",
            "seconds between looks at folders that cannot be watched",
            1..=86_400,
        )?;
        let max_age = layers.number(
            "max_age",
            "1800",
            "seconds that an announcement of ours stays valid",
            60..=86_400,
        )?;
        let multicast_ttl = layers.number(
            "multicast_ttl",
            "2",
            "routers that multicast of ours may pass, and one",
            0..=4,
        )?;
        let connections =
            layers.number("connections", "1024", "connections of devices at once", 16..=32_768)?;
        let also_from = layers.pick(
            "also_from",
            "",
            "subnets from which devices may ask beside those of the interfaces",
        )?;
        let also_from = subnets(&also_from)?;
        let registrar = layers.word(
            "registrar",
            &["on", "off"],
            "whether the registrar is offered, for which some consoles look",
        )?;
        let edition = layers.word(
            "edition",
            &["1.0", "1.1"],
            "edition of the Device Architecture that is named",
        )?;
        let model_name = layers.pick(
            "model_name",
            "Mostra",
            "model name in the device document, where a device needs a certain one",
        )?;
        let model_number = layers.pick(
            "model_number",
            env!("CARGO_PKG_VERSION"),
            "model number in the device document",
        )?;
        let scan = layers.word(
            "scan",
            &["auto", "asked"],
            "when folders are scanned: auto (at start and on changes) or asked",
        )?;
        let traits = layers.pick(
            "traits",
            "",
            "rules for devices that need something done differently; DATA/traits.toml if there",
        )?;
        let rules = read_rules(&traits, Path::new(&data))?;
        let house_port =
            layers.port("house_port", "7642", "port of the console for the house, by TLS")?;
        let kept = Path::new(&data).join("postgres/url");
        let kept = std::fs::read_to_string(kept).unwrap_or_default();
        let mut database_url = layers.pick("database_url", "", "PostgreSQL to use")?;
        if database_url.is_empty() {
            database_url = kept.trim().to_owned();
            if let Some(shown) = layers.shown.last_mut() {
                shown.value = hide_password(&database_url);
            }
        }
        let log = layers.pick("log", "info", "least important messages to log")?;
        let log_format =
            layers.word("log_format", &["text", "json"], "how to log: text or json")?;
        Ok(Config {
            data: data.into(),
            interfaces,
            device_port,
            poll_seconds: u64::from(poll_seconds),
            max_age,
            multicast_ttl,
            connections: connections as usize,
            also_from,
            registrar: registrar == "on",
            edition: Edition::from_word(&edition).unwrap_or_default(),
            model: (model_name, model_number),
            scan_when_asked: scan == "asked",
            rules,
            console_port,
            house_port,
            database_url,
            log,
            log_json: log_format == "json",
            shown: layers.shown,
        })
    }
}

fn read_file(path: &Path) -> Result<toml::Table, StartupError> {
    let text = std::fs::read_to_string(path).map_err(|e| {
        StartupError::new(
            format!("the configuration file {} cannot be read: {e}", path.display()),
            "Check --config.",
        )
    })?;
    let table: toml::Table = text.parse().map_err(|e| {
        StartupError::new(
            format!("the configuration file {} is not TOML: {e}", path.display()),
            "Correct that line.",
        )
    })?;
    if let Some(unknown) = table.keys().find(|k| !NAMES.contains(&k.as_str())) {
        return Err(StartupError::new(
            format!("{unknown:?} in {} is not a value we know", path.display()),
            &format!("The values are: {}.", NAMES.join(", ")),
        ));
    }
    Ok(table)
}

/// Reads subnets, as `10.1.0.0/24, 10.2.0.0/16`.
fn subnets(list: &str) -> Result<Vec<Ipv4Net>, StartupError> {
    let entries = list.split(',').map(str::trim).filter(|entry| !entry.is_empty());
    entries
        .map(|entry| {
            entry.parse().map_err(|_| {
                StartupError::new(
                    format!("also_from holds {entry:?}, which is no subnet"),
                    "Write each as 10.1.0.0/24, with commas between.",
                )
            })
        })
        .collect()
}

fn default_data() -> String {
    let home = std::env::var("HOME").unwrap_or_else(|_| "/var/lib".into());
    std::env::var("XDG_DATA_HOME").unwrap_or_else(|_| format!("{home}/.local/share")) + "/mostra"
}

/// The URL with its password replaced.
fn hide_password(url: &str) -> String {
    let Some((scheme, rest)) = url.split_once("://") else { return url.to_owned() };
    match rest.split_once('@') {
        Some((user, place)) => {
            let user = user.split(':').next().unwrap_or_default();
            format!("{scheme}://{user}:…@{place}")
        }
        None => url.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use clap::Parser as _;

    use super::*;

    #[test]
    fn passwords_are_not_shown() {
        assert_eq!(hide_password("postgres://a:secret@h/db?x=1"), "postgres://a:…@h/db?x=1");
    }

    #[test]
    fn subnets_are_read_or_named() {
        let two = subnets(" 10.1.0.0/24,10.2.0.0/16 ").unwrap();
        let expected: Vec<Ipv4Net> =
            ["10.1.0.0/24", "10.2.0.0/16"].map(|net| net.parse().unwrap()).to_vec();
        assert_eq!(two, expected);
        assert_eq!(subnets("").unwrap(), []);
        for wrong in ["10.1.0.0", "10.1.0.0/33", "lan/24"] {
            assert!(subnets(wrong).unwrap_err().to_string().contains(wrong), "{wrong}");
        }
    }

    #[test]
    fn flags_win_over_the_file_and_sources_are_told() {
        let folder = std::env::temp_dir().join(format!("mostra-config-{}", std::process::id()));
        std::fs::create_dir_all(&folder).unwrap();
        let file = folder.join("mostra.toml");
        std::fs::write(&file, "device_port = 9000\nconsole_port = 9001\n").unwrap();
        let flags = Flags::parse_from([
            "mostrad",
            "--config",
            file.to_str().unwrap(),
            "--console-port",
            "9100",
        ]);
        let config = Config::load(&flags).unwrap();
        assert_eq!(
            (config.device_port, config.console_port, config.house_port),
            (9000, 9100, 7642)
        );
        let source = |name: &str| config.shown.iter().find(|s| s.name == name).unwrap().source;
        assert_eq!(
            (source("device_port"), source("console_port"), source("house_port")),
            ("file", "flag", "default")
        );
        std::fs::write(&file, "prot = 1\n").unwrap();
        assert!(Config::load(&flags).unwrap_err().to_string().contains("prot"));
        std::fs::remove_dir_all(folder).unwrap();
    }
}
