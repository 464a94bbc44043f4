//! Files of settings, read tolerantly: what is wrong is told with its line and the nearest right
//! name, and the rest counts.

use std::collections::BTreeMap;
use std::path::Path;

use toml::de::{DeTable, DeValue};

use super::settings::{SETTINGS, Setting};
use crate::startup_error::StartupError;

/// The settings of a file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct SettingsFile {
    /// The values that can be used, by name.
    pub values: BTreeMap<&'static str, String>,
    /// What is wrong, by the setting that it is about where that is known.
    pub problems: Vec<FileProblem>,
}

/// Something wrong in a file of settings.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct FileProblem {
    /// The setting, where one is meant.
    pub setting: Option<&'static str>,
    /// File, line, what is wrong, and what to write.
    pub text: String,
}

impl SettingsFile {
    /// Reads a file.
    ///
    /// # Errors
    /// [`StartupError`] when it cannot be read at all: nobody knows then what it says.
    pub(super) fn read(path: &Path) -> Result<SettingsFile, StartupError> {
        let text = std::fs::read_to_string(path).map_err(|error| {
            StartupError::new(
                format!("the configuration file {} cannot be read: {error}", path.display()),
                "Give it to the service's user (chown, chmod), or name another with --config.",
            )
        })?;
        Ok(SettingsFile::parse(&text, path))
    }

    fn parse(text: &str, path: &Path) -> SettingsFile {
        let mut file = SettingsFile::default();
        let line_at = |at: usize| text.get(..at).map_or(0, |before| before.matches('\n').count());
        let place = |at: usize| format!("line {} of {}", line_at(at) + 1, path.display());
        let (table, errors) = DeTable::parse_recoverable(text);
        let mut unread = Vec::new();
        for error in errors {
            let at = error.span().map_or(0, |span| span.start);
            let line = text.lines().nth(line_at(at)).unwrap_or_default();
            let key = line.split('=').next().unwrap_or_default().trim();
            unread.push(line_at(at));
            let what = error.message().lines().next().unwrap_or_default();
            file.problem(setting(key), format!("{}: {what}: {}", place(at), line.trim()));
        }
        for (key, value) in table.get_ref() {
            let at = key.span().start;
            // What was made up in place of a part that cannot be read is no value.
            if unread.contains(&line_at(at)) {
                continue;
            }
            let Some(known) = setting(key.get_ref()) else {
                let near = nearest(key.get_ref());
                let near = if near.is_empty() {
                    String::new()
                } else {
                    format!("; did you mean {}?", near.join(" or "))
                };
                file.problem(
                    None,
                    format!("{}: there is no setting {}{near}", place(at), key.get_ref()),
                );
                continue;
            };
            match text_of(known, value.get_ref()) {
                Ok(value) => match known.wrong(&value) {
                    None => drop(file.values.insert(known.name, value)),
                    Some((what, remedy)) => {
                        file.problem(Some(known), format!("{}: {what}. {remedy}", place(at)));
                    }
                },
                Err(what) => file.problem(Some(known), format!("{}: {what}", place(at))),
            }
        }
        file
    }

    fn problem(&mut self, setting: Option<&Setting>, text: String) {
        self.problems.push(FileProblem { setting: setting.map(|setting| setting.name), text });
    }
}

fn setting(name: &str) -> Option<&'static Setting> {
    SETTINGS.iter().find(|setting| setting.name == name)
}

/// A value as a flag would have it; lists and truths are easily written as such.
fn text_of(setting: &Setting, value: &DeValue<'_>) -> Result<String, String> {
    let name = setting.name;
    let wrong = |found: &str| format!("{name} is {found}. Write a text or a number");
    match value {
        DeValue::String(text) => Ok(text.to_string()),
        DeValue::Integer(number) => Ok(number.as_str().replace('_', "")),
        DeValue::Float(number) => Ok(number.as_str().to_owned()),
        DeValue::Boolean(is) => Ok(if *is { "on" } else { "off" }.to_owned()),
        DeValue::Array(list) => {
            let texts = list.iter().map(|one| one.get_ref().as_str());
            let texts = texts.collect::<Option<Vec<_>>>().ok_or_else(|| wrong("a list"))?;
            Ok(texts.join(","))
        }
        DeValue::Datetime(_) => Err(wrong("a date")),
        DeValue::Table(_) => Err(wrong("a table")),
    }
}

/// The settings that somebody may have meant by a name.
pub(super) fn nearest(name: &str) -> Vec<&'static str> {
    if name.len() > 64 {
        return Vec::new();
    }
    let name = name.to_lowercase().replace('-', "_");
    // A part of the name is as good as all of it.
    let distance = |setting: &&Setting| {
        let whole = strsim::damerau_levenshtein(&name, setting.name);
        let parts = setting.name.split('_').map(|part| strsim::damerau_levenshtein(&name, part));
        parts.chain([whole]).min().unwrap_or(whole)
    };
    let Some(least) = SETTINGS.iter().map(|setting| distance(&setting)).min() else {
        return Vec::new();
    };
    if least > (name.chars().count() / 3).max(1) {
        return Vec::new();
    }
    SETTINGS.iter().filter(|s| distance(s) == least).map(|s| s.name).take(3).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn problems(text: &str) -> Vec<String> {
        let file = SettingsFile::parse(text, Path::new("/etc/m.toml"));
        file.problems.into_iter().map(|problem| problem.text).collect()
    }

    #[test]
    fn what_is_wrong_is_told_with_its_line_and_the_rest_counts() {
        let text = "# ours\nprot = 7\nlog = \"debug\"\ndevice_port = 99999\n\
                    max_age = \nhouse_port = 7700\ninterfaces = [\"lan0\", \"lan1\"]\nregistrar = false\n";
        let file = SettingsFile::parse(text, Path::new("/etc/m.toml"));
        let value = |name: &str| file.values.get(name).map(String::as_str);
        assert_eq!(value("log"), Some("debug"));
        assert_eq!(value("house_port"), Some("7700"));
        assert_eq!(value("interfaces"), Some("lan0,lan1"));
        assert_eq!(value("registrar"), Some("off"));
        assert_eq!((value("device_port"), value("max_age")), (None, None));
        let told: Vec<&str> = file.problems.iter().map(|p| p.text.as_str()).collect();
        let holds = |words: &[&str]| told.iter().any(|t| words.iter().all(|w| t.contains(w)));
        assert!(
            holds(&["line 2 of /etc/m.toml", "prot", "device_port or console_port"]),
            "{told:?}"
        );
        assert!(holds(&["line 4", "device_port", "99999", "65535"]), "{told:?}");
        assert!(holds(&["line 5", "max_age"]), "{told:?}");
        assert_eq!(told.len(), 3, "{told:?}");
        assert!(file.problems.iter().any(|p| p.setting == Some("max_age")));
    }

    #[test]
    fn the_nearest_names_are_found_and_none_is_made_up() {
        assert_eq!(nearest("interface"), ["interfaces"]);
        assert_eq!(nearest("Device-Port"), ["device_port"]);
        assert_eq!(nearest("pictures_ahead"), Vec::<&str>::new());
        assert_eq!(nearest("x"), Vec::<&str>::new());
        assert_eq!(
            problems("frobnicate = 1\n"),
            ["line 1 of /etc/m.toml: there is no setting frobnicate"]
        );
    }

    #[test]
    fn hostile_files_are_told_and_harm_nothing() {
        for text in [
            "",
            "=",
            "\"",
            "[a]\nlog = 1",
            "log",
            "log = \"\"\"\n\n",
            "[[x]]\n",
            "log = {",
            "\u{0}\u{0}=\u{0}",
            "a.b.c = 1",
        ] {
            let file = SettingsFile::parse(text, Path::new("m"));
            assert!(text.is_empty() || !file.problems.is_empty(), "{text:?}");
        }
        let deep = format!("log = {}", "[".repeat(10_000));
        assert!(!problems(&deep).is_empty());
    }
}
