//! The house as a file: everything that a person decided, as one readable TOML document.
//!
//! [`HouseFile::read`] says of what it cannot take in which line and column that is. [`plan`] tells
//! what would change. What the file does not name stays as it is: nothing is removed by applying one.

mod plan;
mod write;

use std::collections::BTreeMap;

use serde::Deserialize;

use crate::access::{Doorway, Standing};
use crate::catalogue::{PictureOrder, Titles};
use crate::device::{DeviceKind, Hardware};
use crate::kind::Kind;
use crate::link_rule::LinkRule;
use crate::locale::Locale;
use crate::traits::Traits;

pub use plan::{PlannedChange, plan};

/// Bytes of a file at most.
pub const MOST: usize = 1 << 20;
/// Entries of each list at most.
const ENTRIES: usize = 5000;
/// Characters of a name at most.
const NAME: usize = 63;

/// The house as a file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct HouseFile {
    /// The house itself.
    pub house: HouseSection,
    /// Its folders.
    pub folder: Vec<FolderSection>,
    /// Grants with a name.
    pub preset: Vec<PresetSection>,
    /// Devices that somebody decided on or said something of.
    pub device: Vec<DeviceSection>,
    /// Settings of the service that were changed in the console.
    pub settings: BTreeMap<String, String>,
}

/// The house itself; what is left out stays as it is.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct HouseSection {
    /// Its name.
    pub name: Option<String>,
    /// The rule for devices that ask for the first time.
    pub doorway: Option<Word<Doorway>>,
    /// Where titles come from.
    pub titles: Option<Word<Titles>>,
    /// How pictures stand.
    pub pictures: Option<Word<PictureOrder>>,
    /// By whose alphabet names stand.
    pub locale: Option<Word<Locale>>,
    /// Hosts of stations that may be passed on.
    pub stations: Option<Vec<String>>,
    /// MIME types by extension that replace the usual ones.
    pub mime: Option<BTreeMap<String, String>>,
    /// Who is told of devices that wait, by a web address in the local network.
    pub webhook: Option<String>,
}

/// A published folder.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FolderSection {
    /// Its label, by which it is known.
    pub label: String,
    /// Where it is.
    pub path: String,
    /// What it holds; all kinds where it is left out.
    #[serde(default = "every_kind")]
    pub kinds: Vec<Kind>,
    /// Sub-folders that are left out.
    #[serde(default)]
    pub left_out: Vec<String>,
    /// Which links that lead out of it are followed.
    #[serde(default = "usual_links")]
    pub links: Word<LinkRule>,
}

/// A grant with a name.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PresetSection {
    /// Its name.
    pub name: String,
    /// The kinds.
    #[serde(default = "every_kind")]
    pub kinds: Vec<Kind>,
    /// Labels of folders; all where they are left out.
    #[serde(default)]
    pub folders: Option<Vec<String>>,
}

/// A device.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct DeviceSection {
    /// Its hardware address, by which it is known.
    pub hardware: Option<Word<Hardware>>,
    /// Its address, where no hardware address is known.
    pub address: Option<std::net::Ipv4Addr>,
    /// Its name.
    pub name: Option<String>,
    /// What sort of device it is.
    pub kind: Option<Word<DeviceKind>>,
    /// The room that it is in.
    pub room: Option<String>,
    /// A note.
    pub note: Option<String>,
    /// `admitted` or `refused`; nobody decided where it is left out.
    pub standing: Option<Word<Standing>>,
    /// The kinds that it may see.
    pub kinds: Option<Vec<Kind>>,
    /// Labels of the folders that it may see; all where they are left out.
    pub folders: Option<Vec<String>>,
    /// What it needs done differently.
    pub traits: Option<Traits>,
}

fn usual_links() -> Word<LinkRule> {
    Word(LinkRule::default())
}

fn every_kind() -> Vec<Kind> {
    Kind::ALL.to_vec()
}

/// A value that is written as a word.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Word<T>(pub T);

/// What can be written as a word.
pub trait Worded: Sized {
    /// What it is, for people.
    const WHAT: &'static str;
    /// The word.
    fn to_word(&self) -> String;
    /// Reads it.
    fn of_word(word: &str) -> Option<Self>;
}

macro_rules! worded {
    ($($type:ty, $what:literal;)+) => {
        $(impl Worded for $type {
            const WHAT: &'static str = $what;
            fn to_word(&self) -> String {
                self.word().to_owned()
            }
            fn of_word(word: &str) -> Option<Self> {
                <$type>::from_word(word)
            }
        })+
    };
}

worded! {
    LinkRule, "a rule for links: readable or all";
    Doorway, "a doorway: open, ask or closed";
    Titles, "a place for titles: embedded or file-names";
    PictureOrder, "an order for pictures: date or title";
    Locale, "a language whose alphabet is known";
    DeviceKind, "a kind of device";
    Standing, "a standing: admitted or refused";
}

impl Worded for Hardware {
    const WHAT: &'static str = "a hardware address such as 02:5e:11:00:00:2c";
    fn to_word(&self) -> String {
        self.to_string()
    }
    fn of_word(word: &str) -> Option<Hardware> {
        word.parse().ok()
    }
}

impl<'de, T: Worded> Deserialize<'de> for Word<T> {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Word<T>, D::Error> {
        let word = String::deserialize(deserializer)?;
        let read = T::of_word(&word).map(Word);
        read.ok_or_else(|| serde::de::Error::custom(format!("{word:?} is not {}", T::WHAT)))
    }
}

/// Why a file cannot be taken, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {what}")]
pub struct HouseFileError {
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1.
    pub column: usize,
    /// What is wrong.
    pub what: String,
}

impl HouseFileError {
    /// One at a place in the text, in bytes.
    pub fn at(text: &str, place: usize, what: impl Into<String>) -> HouseFileError {
        let before = text.get(..place).unwrap_or(text);
        let line = before.matches('\n').count() + 1;
        let column = before.rsplit('\n').next().unwrap_or_default().chars().count() + 1;
        HouseFileError { line, column, what: what.into() }
    }
}

impl HouseFile {
    /// Reads a file.
    ///
    /// # Errors
    /// [`HouseFileError`] for unknown keys and wrong values, with the place.
    pub fn read(text: &str) -> Result<HouseFile, HouseFileError> {
        if text.len() > MOST {
            return Err(HouseFileError::at(text, 0, "the file is larger than 1 MiB"));
        }
        let file: HouseFile = toml::from_str(text).map_err(|error| {
            let place = error.span().map_or(0, |span| span.start);
            HouseFileError::at(text, place, error.message().trim())
        })?;
        file.check(text)?;
        Ok(file)
    }

    /// What no single value shows: names that do not work, and things that are named twice or not at
    /// all.
    fn check(&self, text: &str) -> Result<(), HouseFileError> {
        let nth = |table: &str, n: usize| {
            let heading = format!("[[{table}]]");
            text.match_indices(&heading).nth(n).map_or(0, |(at, _)| at)
        };
        let wrong = |place: usize, what: String| Err(HouseFileError::at(text, place, what));
        let plain = |name: &str| {
            let length = name.trim().chars().count();
            (1..=NAME).contains(&length) && !name.chars().any(char::is_control)
        };
        let most = self.folder.len().max(self.preset.len()).max(self.device.len());
        if most > ENTRIES {
            return wrong(0, format!("more than {ENTRIES} entries of one sort"));
        }
        if let Some(name) = self.house.name.as_ref().filter(|name| !plain(name)) {
            return wrong(0, format!("{name:?} is no name: 1 to {NAME} characters on one line"));
        }
        for (n, folder) in self.folder.iter().enumerate() {
            let place = nth("folder", n);
            if !plain(&folder.label) {
                return wrong(place, format!("{:?} is no label", folder.label));
            }
            if !folder.path.starts_with('/') {
                return wrong(place, format!("{:?} does not begin with /", folder.path));
            }
            if self.folder[..n].iter().any(|other| other.label == folder.label) {
                return wrong(place, format!("the folder {:?} stands here twice", folder.label));
            }
        }
        for (n, preset) in self.preset.iter().enumerate() {
            if !plain(&preset.name) {
                return wrong(nth("preset", n), format!("{:?} is no name", preset.name));
            }
        }
        for (n, device) in self.device.iter().enumerate() {
            let place = nth("device", n);
            let key = |device: &DeviceSection| {
                (device.hardware, device.address.filter(|_| device.hardware.is_none()))
            };
            if key(device) == (None, None) {
                return wrong(
                    place,
                    "neither its hardware address nor its address is given".into(),
                );
            }
            if self.device[..n].iter().any(|other| key(other) == key(device)) {
                return wrong(place, "the same device stands here twice".into());
            }
            if let Some(name) = device.name.as_ref().filter(|name| !plain(name)) {
                return wrong(place, format!("{name:?} is no name"));
            }
            if device.standing == Some(Word(Standing::Waiting)) {
                return wrong(place, "nobody decides that a device waits: leave that out".into());
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn house() -> HouseFile {
        let traits: Traits = serde_json::from_str(r#"{"page-objects": 10}"#).unwrap();
        HouseFile {
            house: HouseSection {
                name: Some("Pellworth \"Light\"".into()),
                doorway: Some(Word(Doorway::Ask)),
                titles: Some(Word(Titles::Embedded)),
                pictures: Some(Word(PictureOrder::Date)),
                locale: Some(Word(Locale::default())),
                stations: Some(vec!["radio.example".into()]),
                mime: Some(BTreeMap::from([("mkv".into(), "video/x-mkv".into())])),
                webhook: None,
            },
            folder: vec![FolderSection {
                label: "Films".into(),
                path: "/srv/films".into(),
                kinds: vec![Kind::Video],
                left_out: vec!["Old".into()],
                links: Word(LinkRule::All),
            }],
            preset: vec![PresetSection {
                name: "For guests".into(),
                kinds: vec![Kind::Music],
                folders: Some(vec!["Films".into()]),
            }],
            device: vec![
                DeviceSection {
                    hardware: Some(Word("02:5e:11:00:00:2c".parse().unwrap())),
                    name: Some("Lounge television".into()),
                    kind: Some(Word(DeviceKind::Television)),
                    room: Some("Lounge".into()),
                    note: Some("two lines\nof it".into()),
                    standing: Some(Word(Standing::Admitted)),
                    kinds: Some(vec![Kind::Video, Kind::Picture]),
                    folders: Some(vec!["Films".into()]),
                    traits: Some(traits),
                    address: None,
                },
                DeviceSection {
                    address: Some("192.0.2.7".parse().unwrap()),
                    standing: Some(Word(Standing::Refused)),
                    ..DeviceSection::default()
                },
            ],
            settings: BTreeMap::from([("max_age".into(), "600".into())]),
        }
    }

    #[test]
    fn what_is_written_reads_back_and_is_written_the_same_again() {
        let house = house();
        let text = house.write();
        let read = HouseFile::read(&text).unwrap_or_else(|error| panic!("{error}\n{text}"));
        assert_eq!(read, house);
        assert_eq!(read.write(), text);
        assert!(text.lines().any(|line| line.starts_with("# ")), "{text}");
        assert_eq!(HouseFile::read("").unwrap(), HouseFile::default());
    }

    #[test]
    fn what_is_wrong_is_told_with_line_and_column() {
        let place = |text: &str| {
            let error = HouseFile::read(text).unwrap_err();
            (error.line, error.column, error.what)
        };
        let (line, column, what) = place("[house]\nnmae = \"x\"\n");
        assert_eq!((line, column), (2, 1), "{what}");
        assert!(what.contains("nmae"), "{what}");
        let (line, column, what) = place("[house]\nname = \"x\"\ndoorway = \"ajar\"\n");
        assert_eq!((line, column), (3, 11));
        assert!(what.contains("open, ask or closed"), "{what}");
        let (line, _, what) = place(
            "[[folder]]\nlabel = \"a\"\npath = \"/a\"\n\n[[folder]]\nlabel = \"b\"\npath = \"b\"\n",
        );
        assert_eq!((line, what.as_str()), (5, "\"b\" does not begin with /"));
        let (line, _, what) = place("\n[[device]]\nname = \"Lounge\"\n");
        assert!(line == 2 && what.contains("hardware"), "{what}");
        let (line, ..) = place("[[device]]\nhardware = \"no\"\n");
        assert_eq!(line, 2);
        let (line, ..) =
            place("[[device]]\nhardware = \"02:5e:11:00:00:2c\"\ntraits = { pages = 1 }\n");
        assert_eq!(line, 3);
        assert!(place("house = 4").0 == 1 && place("[house").0 == 1);
    }
}
