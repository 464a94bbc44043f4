//! All settings, one row each. Flags, environment, file and `config show` come from these rows.

use ipnet::Ipv4Net;

/// What a setting's value may be.
#[derive(Debug, Clone, Copy)]
pub(super) enum ValueForm {
    /// Any text.
    Text,
    /// A port.
    Port,
    /// A whole number from one to another.
    Number(u32, u32),
    /// One of some words.
    Words(&'static [&'static str]),
    /// Subnets in a comma list.
    Subnets,
}

/// A setting.
#[derive(Debug, Clone, Copy)]
pub(super) struct Setting {
    /// Its name in the file; the flag has hyphens, the variable `MOSTRA_` and capitals.
    pub name: &'static str,
    /// What stands for its value in the help.
    pub placeholder: &'static str,
    /// What its value may be.
    pub form: ValueForm,
    /// Its value if nobody gives one; empty where that is found out at the start.
    pub default: &'static str,
    /// What it is for.
    pub about: &'static str,
    /// Where a wrong value in a file is not replaced by the default: what is safe instead.
    pub safe: Option<&'static str>,
    /// How a change takes effect.
    pub takes: Takes,
}

/// How a changed setting takes effect.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Takes {
    /// At once.
    AtOnce,
    /// When the service starts again.
    AfterRestart,
    /// Only by whoever is on the host: it says where the records are.
    OnTheHost,
}

const fn setting(
    name: &'static str,
    placeholder: &'static str,
    form: ValueForm,
    default: &'static str,
    about: &'static str,
) -> Setting {
    let (safe, takes) = (None, Takes::AfterRestart);
    Setting { name, placeholder, form, default, about, safe, takes }
}

impl Setting {
    const fn on_the_host(self) -> Setting {
        Setting { takes: Takes::OnTheHost, ..self }
    }

    const fn at_once(self) -> Setting {
        Setting { takes: Takes::AtOnce, ..self }
    }

    const fn safe(self, value: &'static str) -> Setting {
        Setting { safe: Some(value), ..self }
    }
}

use ValueForm::{Number, Port, Subnets, Text, Words};

/// All settings, in the order in which they are shown.
#[rustfmt::skip]
pub(super) const SETTINGS: &[Setting] = &[
    setting("data", "DIR", Text, "", "where the service keeps its own files").on_the_host(),
    setting("interfaces", "LIST", Text, "auto", "interfaces or addresses to serve: auto (all private IPv4), loopback, or a comma list").at_once().safe("loopback"),
    setting("device_port", "PORT", Port, "7640", "port of the device listener"),
    setting("console_port", "PORT", Port, "7641", "port of the console on 127.0.0.1"),
    setting("socket", "PATH", Text, "", "socket by which the client on this host reaches the house; DATA/console.sock if left out").on_the_host(),
    setting("poll_seconds", "SECONDS", Number(1, 86_400), "60", "seconds between looks at folders that cannot be watched"),
    setting("max_age", "SECONDS", Number(60, 86_400), "1800", "seconds that an announcement stays valid"),
    setting("multicast_ttl", "HOPS", Number(0, 4), "2", "time to live of multicast"),
    setting("connections", "NUMBER", Number(16, 32_768), "1024", "most connections of devices at once"),
    setting("also_from", "SUBNETS", Subnets, "", "subnets from which devices may ask beside those of the interfaces, as 10.1.0.0/24 in a comma list"),
    setting("registrar", "ON-OFF", Words(&["on", "off"]), "on", "whether the registrar is offered, for which some consoles look"),
    setting("edition", "EDITION", Words(&["1.0", "1.1"]), "1.0", "edition of the Device Architecture that is named"),
    setting("model_name", "NAME", Text, "Mostra", "model name in the device document, where a device needs a certain one"),
    setting("model_number", "NUMBER", Text, env!("CARGO_PKG_VERSION"), "model number in the device document"),
    setting("scan", "WHEN", Words(&["auto", "asked"]), "auto", "when folders are scanned: auto (at start and on changes) or asked"),
    setting("pictures", "WHEN", Words(&["ahead", "asked"]), "ahead", "when small pictures are made: ahead (newest first) or asked"),
    setting("test_pieces", "ON-OFF", Words(&["on", "off"]), "on", "whether test pieces are made (1 GB) and shown to devices that are being walked through"),
    setting("save_records", "WHEN", Words(&["nightly", "asked"]), "nightly", "when the records are saved as a file: nightly (seven are kept) or asked"),
    setting("traits", "FILE", Text, "", "rules for devices that need something done differently; DATA/traits.toml if there").on_the_host(),
    setting("house_port", "PORT", Port, "7642", "port of the console for the house, by TLS, once a person opens it"),
    setting("database_url", "URL", Text, "", "PostgreSQL to use; the one that scripts/postgres keeps for DATA if left out").on_the_host(),
    setting("check_database_url", "URL", Text, "", "database in which saved records are tried, as a role without any right elsewhere; the one that scripts/postgres or the package keeps for DATA if left out").on_the_host(),
    setting("log", "LEVEL", Words(&["error", "warn", "info", "debug"]), "info", "least important messages to log: error, warn, info, debug"),
    setting("log_format", "FORM", Words(&["auto", "text", "json"]), "auto", "how to log: auto (to the journal under systemd, else text), text or json"),
];

impl Setting {
    /// The flag without its dashes.
    pub(super) fn flag(&self) -> String {
        self.name.replace('_', "-")
    }

    /// The environment variable.
    pub(super) fn variable(&self) -> String {
        format!("MOSTRA_{}", self.name.to_uppercase())
    }

    /// What it is for and what it may be, for the help.
    pub(super) fn help(&self) -> String {
        let about = self.about;
        let range = match self.form {
            ValueForm::Number(least, most) => format!(", {least} to {most}"),
            ValueForm::Words(words) => format!(": {}", words.join(" or ")),
            ValueForm::Text | ValueForm::Port | ValueForm::Subnets => String::new(),
        };
        let shown = if range.starts_with(':') && about.contains(':') { "" } else { &range };
        let default = match self.default {
            "" => String::new(),
            default => format!(" [default: {default}]"),
        };
        let mut letters = about.chars();
        let first = letters.next().map(|c| c.to_uppercase().to_string()).unwrap_or_default();
        format!("{first}{}{shown}{default}", letters.as_str())
    }

    /// What is wrong with a value, and what to give.
    pub(super) fn wrong(&self, value: &str) -> Option<(String, String)> {
        let name = self.name;
        match self.form {
            ValueForm::Text => {
                let plain = value.len() <= LONGEST && !value.chars().any(char::is_control);
                (!plain).then(|| {
                    let what = format!("{name} is too long or holds control characters");
                    (what, format!("Give at most {LONGEST} characters on one line."))
                })
            }
            ValueForm::Subnets => {
                let entries = value.split(',').map(str::trim).filter(|entry| !entry.is_empty());
                let wrong = entries.into_iter().find(|e| e.parse::<Ipv4Net>().is_err())?;
                let what = format!("{name} holds {wrong:?}, which is no subnet");
                Some((what, "Write each as 10.1.0.0/24, with commas between.".into()))
            }
            ValueForm::Port => value.parse::<u16>().is_err().then(|| {
                let what = format!("{name} is {value:?}, which is no port");
                (what, "Give a number from 0 to 65535.".into())
            }),
            ValueForm::Number(least, most) => {
                let fits = value.parse().is_ok_and(|n: u32| (least..=most).contains(&n));
                (!fits).then(|| {
                    let what = format!("{name} is {value:?}, and not from {least} to {most}");
                    (what, "Give a number in that range.".into())
                })
            }
            ValueForm::Words(words) => (!words.contains(&value)).then(|| {
                let what = format!("{name} is {value:?}");
                (what, format!("Give {}.", words.join(" or ")))
            }),
        }
    }
}

/// Bytes of a value at most.
const LONGEST: usize = 1000;

/// Reads subnets, as `10.1.0.0/24, 10.2.0.0/16`; nothing where one is none.
pub(super) fn subnets(list: &str) -> Option<Vec<Ipv4Net>> {
    let entries = list.split(',').map(str::trim).filter(|entry| !entry.is_empty());
    entries.map(|entry| entry.parse().ok()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_default_is_a_value_that_may_be_given() {
        for setting in SETTINGS {
            assert!(setting.default.is_empty() || setting.wrong(setting.default).is_none());
            assert!(!setting.about.is_empty() && setting.flag().is_ascii(), "{}", setting.name);
        }
    }

    #[test]
    fn the_help_says_what_a_value_may_be() {
        let help = |name| SETTINGS.iter().find(|s| s.name == name).unwrap().help();
        assert_eq!(
            help("max_age"),
            "Seconds that an announcement stays valid, 60 to 86400 [default: 1800]"
        );
        assert_eq!(
            help("log_format"),
            "How to log: auto (to the journal under systemd, else text), text or json [default: auto]"
        );
    }

    #[test]
    fn subnets_are_read_or_named() {
        let two = subnets(" 10.1.0.0/24,10.2.0.0/16 ").unwrap();
        let expected: Vec<Ipv4Net> =
            ["10.1.0.0/24", "10.2.0.0/16"].map(|net| net.parse().unwrap()).to_vec();
        assert_eq!(two, expected);
        assert_eq!(subnets(""), Some(vec![]));
        let also_from = SETTINGS.iter().find(|s| s.name == "also_from").unwrap();
        for wrong in ["10.1.0.0", "10.1.0.0/33", "lan/24"] {
            assert_eq!(subnets(wrong), None);
            assert!(also_from.wrong(wrong).unwrap().0.contains(wrong), "{wrong}");
        }
    }
}
