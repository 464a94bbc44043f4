//! What is handed over to the household: its rule in three lines, and what changed since the last time.

use std::collections::BTreeMap;

use crate::device::DeviceKind;
use crate::kind::{Kind, Kinds};

/// A folder, as far as the rule needs it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RuleFolder {
    /// Its label.
    pub label: String,
    /// Where it is.
    pub path: String,
    /// What it holds.
    pub kinds: Kinds,
}

/// The household's rule in three lines: where new files go, what must be on, what to press.
pub fn rule(
    house: &str,
    host: &str,
    folders: &[RuleFolder],
    devices: &[(String, Option<DeviceKind>)],
) -> [String; 3] {
    let place = |folder: &RuleFolder| {
        let kinds: Vec<&str> = folder.kinds.iter().map(Kind::plural).collect();
        format!("{} into {} ({})", kinds.join(", "), folder.label, folder.path)
    };
    let places: Vec<String> = folders.iter().map(place).collect();
    let files = match places.is_empty() {
        true => "No folder is published yet, so new files go nowhere.".to_owned(),
        false => format!("New files: {}. They show by themselves.", places.join("; ")),
    };
    let on = format!("The computer {host} and the router must be on; nothing else.");
    let kinds: Vec<DeviceKind> = DeviceKind::ALL
        .into_iter()
        .filter(|kind| devices.iter().any(|(_, its)| *its == Some(*kind)))
        .collect();
    let press = match kinds.first() {
        Some(kind) => {
            let media = kind.directions().media;
            format!("On a {kind}: {media} Then choose {house}.")
        }
        None => format!("On the device, open its list of media servers and choose {house}."),
    };
    [files, on, press]
}

/// What is handed over, each thing with what is said of it.
pub type HandedOver = BTreeMap<String, String>;

/// What changed between two hand-overs, in sentences.
pub fn changes(before: &HandedOver, now: &HandedOver) -> Vec<String> {
    let gone = before.keys().filter(|thing| !now.contains_key(*thing));
    let mut all: Vec<String> = gone.map(|thing| format!("{thing} is gone.")).collect();
    for (thing, said) in now {
        match before.get(thing) {
            None => all.push(format!("{thing} is new: {said}.")),
            Some(was) if was != said => {
                all.push(format!("{thing}: {said}; it was {was}."));
            }
            Some(_) => {}
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_rule_says_where_files_go_what_is_on_and_what_to_press() {
        let folder = RuleFolder {
            label: "Films".into(),
            path: "/srv/films".into(),
            kinds: Kinds::of([Kind::Video]),
        };
        let television = ("Lounge".to_owned(), Some(DeviceKind::Television));
        let [files, on, press] = rule("Pellworth Light", "lamp", &[folder], &[television]);
        assert_eq!(files, "New files: films into Films (/srv/films). They show by themselves.");
        assert!(on.contains("computer lamp") && press.starts_with("On a television: Press"));
        assert!(press.ends_with("choose Pellworth Light."));
        let [none, _, any] = rule("Pellworth Light", "lamp", &[], &[]);
        assert!(none.contains("No folder") && any.contains("media servers"));
    }

    #[test]
    fn changes_say_what_is_new_gone_and_other() {
        let of = |pairs: &[(&str, &str)]| -> HandedOver {
            pairs.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect()
        };
        let before = of(&[("Folder Films", "3 films"), ("Device Den", "let in")]);
        let now = of(&[("Folder Films", "4 films"), ("Device Lounge", "let in")]);
        assert_eq!(
            changes(&before, &now),
            [
                "Device Den is gone.",
                "Device Lounge is new: let in.",
                "Folder Films: 4 films; it was 3 films."
            ]
        );
        assert!(changes(&now, &now).is_empty());
    }
}
