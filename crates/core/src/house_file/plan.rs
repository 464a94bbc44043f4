//! What would change if a file were applied.

use super::{DeviceSection, FolderSection, HouseFile, PresetSection, Word, Worded};
use crate::kind::Kind;
use crate::link_rule::LinkRule;

/// A change that applying a file makes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedChange {
    /// What it is about: `house doorway`, `folder Films`, `device Lounge television`.
    pub what: String,
    /// What it is now; nothing where it is new.
    pub before: Option<String>,
    /// What it would be.
    pub after: String,
}

/// Collects differences.
#[derive(Default)]
struct Differences(Vec<PlannedChange>);

impl Differences {
    /// Notes a value if the file gives one and it is another.
    fn note(&mut self, what: &str, before: Option<String>, after: Option<String>) {
        let Some(after) = after else { return };
        if before.as_ref() != Some(&after) {
            self.0.push(PlannedChange { what: what.to_owned(), before, after });
        }
    }
}

fn word<T: Worded>(value: Option<&Word<T>>) -> Option<String> {
    value.map(|Word(value)| value.to_word())
}

fn kinds(kinds: &[Kind]) -> String {
    let mut words: Vec<&str> = kinds.iter().map(|kind| kind.word()).collect();
    words.sort_unstable();
    words.dedup();
    words.join(", ")
}

fn folders(labels: Option<&Vec<String>>) -> String {
    let Some(labels) = labels else { return "all folders".to_owned() };
    let mut labels = labels.clone();
    labels.sort();
    labels.dedup();
    labels.join(", ")
}

fn texts(texts: &[String]) -> String {
    match texts.is_empty() {
        true => "nothing".to_owned(),
        false => texts.join(", "),
    }
}

/// What applying `wanted` to a house that is as `now` would change, in the order in which it is done.
pub fn plan(now: &HouseFile, wanted: &HouseFile) -> Vec<PlannedChange> {
    let mut all = Differences::default();
    let (a, b) = (&now.house, &wanted.house);
    all.note("house name", a.name.clone(), b.name.clone());
    all.note("house doorway", word(a.doorway.as_ref()), word(b.doorway.as_ref()));
    all.note("house titles", word(a.titles.as_ref()), word(b.titles.as_ref()));
    all.note("house pictures", word(a.pictures.as_ref()), word(b.pictures.as_ref()));
    all.note("house locale", word(a.locale.as_ref()), word(b.locale.as_ref()));
    let stations = |of: &Option<Vec<String>>| of.as_ref().map(|all| texts(all));
    all.note("house stations", stations(&a.stations), stations(&b.stations));
    let mimes = |of: &Option<std::collections::BTreeMap<String, String>>| {
        of.as_ref().map(|all| {
            let pairs: Vec<String> = all.iter().map(|(a, b)| format!("{a} as {b}")).collect();
            texts(&pairs)
        })
    };
    all.note("house mime", mimes(&a.mime), mimes(&b.mime));
    all.note("house webhook", a.webhook.clone(), b.webhook.clone());
    for folder in &wanted.folder {
        let before = now.folder.iter().find(|other| other.label == folder.label);
        let said = |folder: &FolderSection| {
            let left_out = match folder.left_out.is_empty() {
                true => String::new(),
                false => format!(", without {}", folder.left_out.join(", ")),
            };
            let links = match folder.links.0 {
                LinkRule::Readable => "",
                LinkRule::All => ", with all links",
            };
            format!("{} of {}{left_out}{links}", kinds(&folder.kinds), folder.path)
        };
        all.note(&format!("folder {}", folder.label), before.map(said), Some(said(folder)));
    }
    for preset in &wanted.preset {
        let name = |preset: &PresetSection| preset.name.to_lowercase();
        let before = now.preset.iter().find(|other| name(other) == name(preset));
        let said = |preset: &PresetSection| {
            format!("{} in {}", kinds(&preset.kinds), folders(preset.folders.as_ref()))
        };
        all.note(&format!("preset {}", preset.name), before.map(said), Some(said(preset)));
    }
    for device in &wanted.device {
        let before = now.device.iter().find(|other| is_same(other, device));
        of_device(&mut all, before, device);
    }
    for (name, value) in &wanted.settings {
        let before = now.settings.get(name).cloned();
        all.note(&format!("setting {name}"), before, Some(value.clone()));
    }
    all.0
}

/// Whether two are of one device: by the hardware address, else by the address.
pub(super) fn is_same(a: &DeviceSection, b: &DeviceSection) -> bool {
    match (a.hardware, b.hardware) {
        (Some(a), Some(b)) => a == b,
        (None, None) => a.address == b.address,
        _ => false,
    }
}

fn of_device(all: &mut Differences, before: Option<&DeviceSection>, device: &DeviceSection) {
    let hardware = word(device.hardware.as_ref());
    let address = device.address.map(|address| address.to_string());
    let called = device.name.clone().or(hardware).or(address).unwrap_or_default();
    let what = |part: &str| format!("device {called}{part}");
    let nobody = DeviceSection::default();
    let is_new = before.is_none();
    let before = before.unwrap_or(&nobody);
    if is_new {
        all.note(&what(""), None, Some("added".to_owned()));
    }
    all.note(&what(": name"), before.name.clone(), device.name.clone());
    all.note(&what(": kind"), word(before.kind.as_ref()), word(device.kind.as_ref()));
    all.note(&what(": room"), before.room.clone(), device.room.clone());
    all.note(&what(": note"), before.note.clone(), device.note.clone());
    let standing = |device: &DeviceSection| {
        let standing = word(device.standing.as_ref())?;
        let of = device.kinds.as_deref().unwrap_or(&Kind::ALL);
        Some(format!("{standing}, {} in {}", kinds(of), folders(device.folders.as_ref())))
    };
    all.note(&what(": standing"), standing(before), standing(device));
    let traits = |device: &DeviceSection| {
        let table = toml::Table::try_from(device.traits.as_ref()?).ok()?;
        Some(toml::Value::Table(table).to_string())
    };
    all.note(&what(": traits"), traits(before), traits(device));
}

#[cfg(test)]
mod tests {
    use super::*;

    const FILE: &str = r#"
[house]
name = "Pellworth Light"
doorway = "ask"

[[folder]]
label = "Films"
path = "/srv/films"
kinds = ["video"]

[[device]]
hardware = "02:5e:11:00:00:2c"
name = "Lounge"
standing = "admitted"
kinds = ["picture", "video"]
"#;

    #[test]
    fn the_plan_says_what_would_change_and_nothing_of_what_would_not() {
        let wanted = HouseFile::read(FILE).unwrap();
        let whats = |now: &HouseFile| -> Vec<String> {
            plan(now, &wanted).into_iter().map(|change| change.what).collect()
        };
        assert_eq!(
            whats(&HouseFile::default()),
            [
                "house name",
                "house doorway",
                "folder Films",
                "device Lounge",
                "device Lounge: name",
                "device Lounge: standing"
            ]
        );
        assert!(plan(&wanted, &wanted).is_empty());
        let mut other = wanted.clone();
        other.device[0].kinds = Some(vec![Kind::Video, Kind::Picture, Kind::Video]);
        assert!(plan(&other, &wanted).is_empty(), "the order says nothing");
        other.device[0].kinds = None;
        other.folder[0].path = "/mnt".into();
        other.folder.push(FolderSection { label: "More".into(), ..other.folder[0].clone() });
        let changes = plan(&other, &wanted);
        assert_eq!(changes.len(), 2, "what the file does not name stays: {changes:?}");
        assert_eq!(changes[0].before.as_deref(), Some("video of /mnt"));
        assert_eq!(changes[0].after, "video of /srv/films");
        assert!(changes[1].after.starts_with("admitted, picture, video in all folders"));
    }
}
