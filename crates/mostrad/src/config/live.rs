//! The configuration of the service that runs: shown, changed, and taken over by a restart.

use std::collections::BTreeMap;
use std::net::{Ipv4Addr, TcpListener};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use mostra_api::ConfigValue;
use mostra_app::network::Network;
use mostra_console_api::{ConfigError, Configuration};
use mostra_net::ServedInterface;
use tokio::sync::Notify;

use super::file::{SettingsFile, nearest};
use super::settings::{SETTINGS, Setting, Takes, ValueForm};
use super::{CHOSEN, Config, Flags, SettingsFiles, Sourced, ValueSource, default_of};

/// The configuration of the service that runs.
pub(crate) struct LiveConfig {
    flags: Flags,
    network: Arc<Network>,
    /// What the service runs with. Held while a value changes, so that changes come one by one.
    running: Mutex<Vec<Sourced>>,
    /// Ports that this service has open.
    ports: [u16; 3],
    restart: Notify,
}

impl LiveConfig {
    /// Of a service that was started with this.
    pub(crate) fn new(flags: &Flags, config: &Config, network: Arc<Network>) -> LiveConfig {
        LiveConfig {
            flags: flags.clone(),
            network,
            running: Mutex::new(config.shown.clone()),
            ports: [config.device_port, config.console_port, config.house_port],
            restart: Notify::new(),
        }
    }

    /// Completes when somebody asks for a restart.
    pub(crate) async fn restart_asked(&self) {
        self.restart.notified().await;
    }

    fn running(&self) -> std::sync::MutexGuard<'_, Vec<Sourced>> {
        self.running.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What the files say now, which a restart would take over.
    fn on_disk(&self) -> Option<Config> {
        Config::load(&self.flags).ok()
    }

    fn to_api(&self, setting: &Setting, running: &[Sourced], disk: Option<&Config>) -> ConfigValue {
        let of = |all: &[Sourced]| all.iter().find(|s| s.name == setting.name).cloned();
        let now = of(running);
        let later = disk.and_then(|config| of(&config.shown)).or_else(|| now.clone());
        let value = now.map(|now| now.value).unwrap_or_default();
        let next = later.as_ref().map(|later| later.value.clone()).filter(|next| *next != value);
        let mut problems = disk.iter().flat_map(|config| &config.problems);
        let problem = problems.find(|problem| problem.setting == Some(setting.name));
        let (form, least, most, words) = match setting.form {
            ValueForm::Text => ("text", None, None, &[][..]),
            ValueForm::Subnets => ("subnets", None, None, &[][..]),
            ValueForm::Port => ("number", Some(0), Some(65_535), &[][..]),
            ValueForm::Number(least, most) => ("number", Some(least), Some(most), &[][..]),
            ValueForm::Words(words) => ("words", None, None, words),
        };
        ConfigValue {
            name: setting.name.into(),
            value,
            source: later.map_or("default", |later| later.source.word()).into(),
            about: setting.about.into(),
            default: default_of(setting),
            form: form.into(),
            least,
            most,
            words: words.iter().map(|word| (*word).into()).collect(),
            takes: match setting.takes {
                Takes::AtOnce => "at-once",
                Takes::AfterRestart => "after-restart",
                Takes::OnTheHost => "on-the-host",
            }
            .into(),
            next,
            problem: problem.map(|problem| problem.text.clone()),
        }
    }

    /// What nobody could start with though each value is right by itself.
    fn check(&self, next: &Config, name: &str) -> Result<(), ConfigError> {
        let refused = |what: String, next: String| Err(ConfigError::Refused { what, next });
        if name == "interfaces"
            && let Err(error) = ServedInterface::choose(&next.interfaces)
        {
            return refused(error.to_string(), error.remedy());
        }
        let ports = [
            ("device_port", next.device_port),
            ("console_port", next.console_port),
            ("house_port", next.house_port),
        ];
        let Some((_, port)) = ports.iter().find(|(port, _)| *port == name).filter(|p| p.1 != 0)
        else {
            return Ok(());
        };
        if let Some((other, _)) = ports.iter().find(|(n, p)| *n != name && p == port) {
            return refused(format!("{port} is the {other} already"), "Choose another.".into());
        }
        if self.ports.contains(port) {
            return Ok(());
        }
        match TcpListener::bind((Ipv4Addr::UNSPECIFIED, *port)) {
            Ok(_) => Ok(()),
            Err(error) => refused(
                format!("port {port} cannot be used: {error}"),
                "Choose another, above 1023.".into(),
            ),
        }
    }
}

impl Configuration for LiveConfig {
    fn values(&self) -> Vec<ConfigValue> {
        let (running, disk) = (self.running(), self.on_disk());
        SETTINGS.iter().map(|setting| self.to_api(setting, &running, disk.as_ref())).collect()
    }

    fn problems(&self) -> Vec<String> {
        match Config::load(&self.flags) {
            Ok(config) => config.problems.into_iter().map(|problem| problem.text).collect(),
            Err(error) => vec![error.one_line()],
        }
    }

    fn set(&self, name: &str, value: Option<&str>) -> Result<ConfigValue, ConfigError> {
        let Some(setting) = SETTINGS.iter().find(|setting| setting.name == name) else {
            return Err(ConfigError::Unknown { near: nearest(name) });
        };
        let refused = |what: String, next: &str| ConfigError::Refused { what, next: next.into() };
        let mut running = self.running();
        let unusable = |error: crate::startup_error::StartupError| {
            refused(error.one_line(), "Correct it on the host.")
        };
        let files = SettingsFiles::read(&self.flags).map_err(unusable)?;
        let now = Config::of(&self.flags, &files).map_err(unusable)?;
        if setting.takes == Takes::OnTheHost {
            return Err(refused(
                format!(
                    "{name} is changed on the host alone: it says what the service reads there"
                ),
                "Write it in the configuration file, and restart the service.",
            ));
        }
        let given = match now.source(name) {
            ValueSource::Flag => Some(format!("the flag --{}", setting.flag())),
            ValueSource::Environment => Some(format!("the variable {}", setting.variable())),
            _ => None,
        };
        if let Some(given) = given {
            return Err(refused(
                format!("{name} was given by {given}, which wins"),
                "Start the service without that.",
            ));
        }
        let mut chosen = files.chosen.values.clone();
        match value.map(str::trim) {
            Some(value) => {
                if let Some((what, next)) = setting.wrong(value) {
                    return Err(refused(what, &next));
                }
                chosen.insert(setting.name, value.to_owned());
            }
            None => drop(chosen.remove(setting.name)),
        }
        let chosen = SettingsFile { values: chosen, problems: Vec::new() };
        let text = written(&chosen.values);
        let next = Config::of(&self.flags, &SettingsFiles { file: files.file, chosen })
            .map_err(unusable)?;
        self.check(&next, name)?;
        keep(&now.data.join(CHOSEN), &text).map_err(|error| {
            refused(
                format!("it cannot be kept in {}: {error}", now.data.join(CHOSEN).display()),
                "Make room on that disk, or see that the service may write there.",
            )
        })?;
        tracing::info!("{name} was changed in the console to {:?}", value.unwrap_or("its default"));
        if setting.takes == Takes::AtOnce {
            self.network.serve_on(next.interfaces.clone());
            for shown in running.iter_mut().filter(|shown| shown.name == name) {
                shown.value = next.text(name).to_owned();
            }
        }
        Ok(self.to_api(setting, &running, Some(&next)))
    }

    fn restart(&self) {
        self.restart.notify_one();
    }

    fn next_records(&self) -> Result<String, String> {
        let next = Config::load(&self.flags).map_err(|error| error.to_string())?;
        Ok(next.database_url)
    }
}

fn written(values: &BTreeMap<&'static str, String>) -> String {
    let heading = "# Written by the service: settings that were changed in the console or by\n\
                   # `mostra config set`. They win over the configuration file.\n";
    format!("{heading}{}", toml::to_string(values).unwrap_or_default())
}

/// Writes a file whole or not at all.
fn keep(path: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write as _;
    let part = path.with_extension("part");
    let mut file = std::fs::File::create(&part)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()?;
    std::fs::rename(part, path)
}
