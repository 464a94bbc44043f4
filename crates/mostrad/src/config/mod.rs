//! Typed configuration: flags, then `MOSTRA_*`, then `mostra.toml`, then defaults.

mod flags;
mod rules;
mod settings;

use std::path::{Path, PathBuf};

use ipnet::Ipv4Net;
use mostra_core::traits::Rules;
use mostra_net::Interfaces;
use mostra_protocol::server::description::Edition;

pub(crate) use flags::{AccountVerb, Command, Flags, Reset};
use rules::read_rules;
use settings::{SETTINGS, Setting};

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

/// How to log.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum LogFormat {
    /// To the journal under systemd, else as text.
    Auto,
    /// As text.
    Text,
    /// As JSON.
    Json,
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
    /// Whether pictures are made before anybody asks.
    pub pictures_ahead: bool,
    /// Port of the console on loopback.
    pub console_port: u16,
    /// Port of the console for the house.
    pub house_port: u16,
    /// PostgreSQL.
    pub database_url: String,
    /// Log level.
    pub log: String,
    /// How to log.
    pub log_format: LogFormat,
    /// Every value with its source, for `mostra config show`.
    pub shown: Vec<Sourced>,
}

/// The settings as they were given, each checked.
struct Values(Vec<Sourced>);

impl Values {
    /// Puts the layers together: flags, then the environment, then the file, then defaults.
    fn read(flags: &Flags, file: &toml::Table) -> Result<Values, StartupError> {
        let mut all = Vec::new();
        for setting in SETTINGS {
            let name = setting.name;
            let flag = flags.given().get(name).cloned();
            let variable = || std::env::var(setting.variable()).ok();
            let (value, source) = match (flag, variable(), file.get(name)) {
                (Some(value), ..) => (value, "flag"),
                (None, Some(value), _) => (value, "environment"),
                (None, None, Some(value)) => (text_of(name, value)?, "file"),
                (None, None, None) => (default_of(setting), "default"),
            };
            if let Some((what, remedy)) = setting.wrong(&value) {
                return Err(StartupError::new(what, &remedy));
            }
            all.push(Sourced { name, value, source, about: setting.about });
        }
        Ok(Values(all))
    }

    fn text(&self, name: &str) -> &str {
        self.0.iter().find(|s| s.name == name).map_or("", |s| s.value.as_str())
    }

    /// A number, which was checked to be one.
    fn number<T: std::str::FromStr + Default>(&self, name: &str) -> T {
        self.text(name).parse().unwrap_or_default()
    }
}

fn text_of(name: &str, value: &toml::Value) -> Result<String, StartupError> {
    match value {
        toml::Value::String(text) => Ok(text.clone()),
        toml::Value::Integer(number) => Ok(number.to_string()),
        // An edition is easily written as a number.
        toml::Value::Float(number) => Ok(format!("{number:.1}")),
        other => Err(StartupError::new(
            format!("{name} in the configuration file is a {}", other.type_str()),
            "Write it as a text or a number.",
        )),
    }
}

fn default_of(setting: &Setting) -> String {
    match setting.name {
        "data" => default_data(),
        _ => setting.default.to_owned(),
    }
}

impl Config {
    /// Puts the layers together.
    ///
    /// # Errors
    /// [`StartupError`] that names the value at fault.
    pub(crate) fn load(flags: &Flags) -> Result<Config, StartupError> {
        let file = match &flags.config {
            Some(path) => Some(path.clone()),
            None => {
                let given = flags.given().get("data").cloned();
                let data = given.or_else(|| std::env::var("MOSTRA_DATA").ok());
                let path = PathBuf::from(data.unwrap_or_else(default_data)).join("mostra.toml");
                path.exists().then_some(path)
            }
        };
        let file = file.map(|path| read_file(&path)).transpose()?.unwrap_or_default();
        let mut values = Values::read(flags, &file)?;
        let data = PathBuf::from(values.text("data"));
        let mut database_url = values.text("database_url").to_owned();
        if database_url.is_empty() {
            let kept = std::fs::read_to_string(data.join("postgres/url")).unwrap_or_default();
            database_url = kept.trim().to_owned();
        }
        for shown in values.0.iter_mut().filter(|shown| shown.name == "database_url") {
            shown.value = hide_password(&database_url);
        }
        Ok(Config {
            interfaces: match values.text("interfaces").trim() {
                "auto" => Interfaces::Auto,
                "loopback" => Interfaces::Loopback,
                list => Interfaces::Listed(list.split(',').map(|s| s.trim().to_owned()).collect()),
            },
            device_port: values.number("device_port"),
            poll_seconds: values.number("poll_seconds"),
            max_age: values.number("max_age"),
            multicast_ttl: values.number("multicast_ttl"),
            connections: values.number("connections"),
            also_from: subnets(values.text("also_from"))?,
            registrar: values.text("registrar") == "on",
            edition: Edition::from_word(values.text("edition")).unwrap_or_default(),
            model: (values.text("model_name").into(), values.text("model_number").into()),
            pictures_ahead: values.text("pictures") == "ahead",
            scan_when_asked: values.text("scan") == "asked",
            rules: read_rules(values.text("traits"), &data)?,
            console_port: values.number("console_port"),
            house_port: values.number("house_port"),
            log: values.text("log").into(),
            log_format: match values.text("log_format") {
                "json" => LogFormat::Json,
                "text" => LogFormat::Text,
                _ => LogFormat::Auto,
            },
            data,
            database_url,
            shown: values.0,
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
    let names: Vec<&str> = SETTINGS.iter().map(|setting| setting.name).collect();
    if let Some(unknown) = table.keys().find(|k| !names.contains(&k.as_str())) {
        return Err(StartupError::new(
            format!("{unknown:?} in {} is not a value we know", path.display()),
            &format!("The values are: {}.", names.join(", ")),
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
