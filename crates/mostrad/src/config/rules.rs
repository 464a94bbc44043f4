//! Rules for devices that need something done differently.

use std::path::{Path, PathBuf};

use mostra_core::traits::{Rule, Rules};

use crate::startup_error::StartupError;

/// The rules of a file, then ours; of two that say different things the earlier one counts.
pub(super) fn read_rules(named: &str, data: &Path) -> Result<Rules, StartupError> {
    let usual = data.join("traits.toml");
    let path = match named {
        "" => usual.exists().then_some(usual),
        path => Some(PathBuf::from(path)),
    };
    let mut rules = match path {
        None => Rules::default(),
        Some(path) => {
            let wrong = |why: String| {
                let what = format!("the traits in {} cannot be used: {why}", path.display());
                StartupError::new(what, "Correct the file; docs/traits.md says what it may hold.")
            };
            let text = std::fs::read_to_string(&path).map_err(|e| wrong(e.to_string()))?;
            let rules: Rules = toml::from_str(&text).map_err(|e| wrong(e.message().to_owned()))?;
            rules.check().map_err(|e| wrong(e.to_string()))?;
            rules
        }
    };
    let ours = our_rules()?;
    let is_new = |name: &str| rules.rules.iter().all(|r| r.name != name);
    let ours: Vec<Rule> = ours.rules.into_iter().filter(|r| is_new(&r.name)).collect();
    rules.rules.extend(ours);
    Ok(rules)
}

/// The rules that the program brings along.
pub(super) fn our_rules() -> Result<Rules, StartupError> {
    toml::from_str(include_str!("../traits.toml"))
        .map_err(|e| StartupError::new(format!("our own traits: {e}"), "This is a defect of ours."))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rules_of_the_file_come_first_and_bad_ones_are_named() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("traits.toml");
        let own = read_rules("", folder.path()).unwrap();
        assert!(own.check().is_ok() && !own.rules.is_empty(), "ours can be used");
        let put = |text: &str| std::fs::write(&file, text).unwrap();
        put("[[rule]]\nname='old'\nwhen={user-agent='x'}\ntraits={page-objects=10}\n");
        let rules = read_rules("", folder.path()).unwrap();
        assert_eq!((rules.rules[0].name.as_str(), rules.rules.len()), ("old", own.rules.len() + 1));
        for (text, word) in [
            ("[[rule]]\nname='old'\nwhen={}\ntraits={}\n", "when"),
            ("[[rule]]\nname='old'\nwhen={agent='x'}\ntraits={}\n", "agent"),
            ("[[rule]]\nname='o'\nwhen={field='x'}\ntraits={page-objects=0}\n", "object"),
        ] {
            put(text);
            let error = read_rules("", folder.path()).unwrap_err().to_string();
            assert!(error.contains(word) && error.contains("traits.toml"), "{error}");
        }
    }
}
