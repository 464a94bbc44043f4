//! What sort of device something is, as people say it: proposed from what it says and declares,
//! confirmed by a person.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::kind::{Kind, Kinds};

/// A sort of device.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DeviceKind {
    /// A television.
    Television,
    /// A games console.
    Console,
    /// A disc player.
    DiscPlayer,
    /// A speaker, or what has speakers.
    Speaker,
    /// A phone.
    Phone,
    /// A tablet.
    Tablet,
    /// A computer.
    Computer,
    /// A stick or box at a television.
    StreamingStick,
}

impl DeviceKind {
    /// All of them.
    pub const ALL: [DeviceKind; 8] = [
        DeviceKind::Television,
        DeviceKind::Console,
        DeviceKind::DiscPlayer,
        DeviceKind::Speaker,
        DeviceKind::Phone,
        DeviceKind::Tablet,
        DeviceKind::Computer,
        DeviceKind::StreamingStick,
    ];

    /// The word for it in records and for programs.
    pub fn word(self) -> &'static str {
        match self {
            DeviceKind::Television => "television",
            DeviceKind::Console => "console",
            DeviceKind::DiscPlayer => "disc-player",
            DeviceKind::Speaker => "speaker",
            DeviceKind::Phone => "phone",
            DeviceKind::Tablet => "tablet",
            DeviceKind::Computer => "computer",
            DeviceKind::StreamingStick => "streaming-stick",
        }
    }

    /// Reads [`word`](Self::word).
    pub fn from_word(word: &str) -> Option<DeviceKind> {
        DeviceKind::ALL.into_iter().find(|kind| kind.word() == word)
    }

    /// The kinds of media that such devices are for.
    pub fn media(self) -> Kinds {
        match self {
            DeviceKind::Speaker => Kinds::of([Kind::Music]),
            _ => Kinds::ALL,
        }
    }

    /// What a person finds on such devices, in general words.
    pub fn directions(self) -> Directions {
        let (media, hardware, again) = match self {
            DeviceKind::Television => (
                "Press the source or input button; media servers are listed beside the aerial and the sockets. On others they are in the app for photos, films and music.",
                "Settings, then network or about: the list there has the hardware address as MAC address, one for the cable and one for wireless.",
                "Leave the source list and open it again; if the house still misses, switch the television off at the remote and on again.",
            ),
            DeviceKind::Console => (
                "Open the app for media or video playback; media servers are listed beside discs and drives.",
                "Settings, then network, then advanced or status: MAC address.",
                "Close the media app and open it again.",
            ),
            DeviceKind::DiscPlayer => (
                "On the home screen choose network, media server or home network, then the kind: pictures, music or films.",
                "Setup, then network status or information: MAC address.",
                "Go back to the home screen and enter the network menu again; some players search only after they were switched on.",
            ),
            DeviceKind::Speaker => (
                "Speakers seldom ask by themselves: the maker's app on a phone lists media servers under music library or sources, and the house can send music to many of them.",
                "In the maker's app under device information, or on a label at the bottom: MAC address.",
                "Close the app and open it again, or take the speaker off its power for ten seconds.",
            ),
            DeviceKind::Phone | DeviceKind::Tablet => (
                "An app that plays from media servers is needed; it lists them under network, local network or servers.",
                "Settings, then Wi-Fi, then the network in use: a private address is shown there, which changes with the network; it can be switched off for this one.",
                "Pull the app's list of servers down, or close the app and open it again.",
            ),
            DeviceKind::Computer => (
                "A program that plays from media servers lists them under network or local network; some systems show them among the places of the network.",
                "In the system's network settings under details or hardware: MAC or physical address.",
                "Reload the network view, or start the program again.",
            ),
            DeviceKind::StreamingStick => (
                "An app that plays from media servers is needed; it lists them under network or local network.",
                "Settings, then network or about: MAC address.",
                "Close the app and open it again.",
            ),
        };
        Directions { media, hardware, again }
    }
}

impl fmt::Display for DeviceKind {
    /// The word for people, such as `disc player`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.word().replace('-', " "))
    }
}

/// Where people find things on a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Directions {
    /// Where it keeps its network media.
    pub media: &'static str,
    /// Where its hardware address is written.
    pub hardware: &'static str,
    /// What makes it search again.
    pub again: &'static str,
}

/// What is known of a device from which its kind is proposed.
#[derive(Debug, Clone, Default)]
pub struct KindHints<'a> {
    /// What it calls itself and its model: user agent, friendly name, model name and description.
    pub texts: Vec<&'a str>,
    /// Whether it is a renderer.
    pub renderer: bool,
    /// The MIME types that it says it plays.
    pub formats: &'a [String],
}

/// Words that say what a device is, as whole words of what it calls itself; the first row that fits
/// counts.
const WORDS: [(DeviceKind, &[&str]); 8] = [
    (DeviceKind::StreamingStick, &["stick", "dongle", "streamer", "settop", "stb"]),
    (DeviceKind::DiscPlayer, &["disc", "dvd", "bluray", "bdp", "bd"]),
    (DeviceKind::Tablet, &["tablet", "pad"]),
    (DeviceKind::Phone, &["phone", "smartphone", "mobile", "handset"]),
    (DeviceKind::Speaker, &["speaker", "soundbar", "receiver", "hifi", "audio", "radio"]),
    (DeviceKind::Television, &["tv", "television", "smarttv", "panel", "dtv", "hbbtv"]),
    (DeviceKind::Console, &["console", "gaming", "game"]),
    (DeviceKind::Computer, &["windows", "linux", "desktop", "laptop", "pc"]),
];

/// Proposes a kind, and says why in words; `None` where nothing tells.
pub fn propose(hints: &KindHints<'_>) -> Option<(DeviceKind, String)> {
    for (kind, words) in WORDS {
        for text in &hints.texts {
            let lower = text.to_lowercase();
            let parts = lower.split(|c: char| !c.is_alphanumeric());
            let said = parts.into_iter().find(|part| {
                // Numbers at the end are those of a model: tv55, bd390.
                let bare = part.trim_end_matches(|c: char| c.is_ascii_digit());
                words.contains(part) || bare.len() > 1 && words.contains(&bare)
            });
            // Programs name the system that they run on, whatever they run on.
            let named = said.filter(|word| *word != "linux" || hints.texts.len() == 1);
            if let Some(word) = named {
                return Some((kind, format!("it calls itself “{word}”")));
            }
        }
    }
    if hints.renderer && !hints.formats.is_empty() {
        let plays = |class: &str| hints.formats.iter().any(|mime| mime.starts_with(class));
        if plays("video/") {
            return Some((DeviceKind::Television, "it is a renderer that plays films".into()));
        }
        if plays("audio/") {
            return Some((DeviceKind::Speaker, "it is a renderer that plays music alone".into()));
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_read_back() {
        for kind in DeviceKind::ALL {
            assert_eq!(DeviceKind::from_word(kind.word()), Some(kind));
            let Directions { media, hardware, again } = kind.directions();
            assert!([media, hardware, again].iter().all(|text| text.ends_with('.')));
        }
        assert_eq!(DeviceKind::DiscPlayer.to_string(), "disc player");
        assert_eq!(DeviceKind::from_word("kettle"), None);
    }

    #[test]
    fn a_kind_is_proposed_from_what_a_device_says_and_plays() {
        let kind = |texts: &[&str], formats: &[&str]| {
            let formats: Vec<String> = formats.iter().map(|f| (*f).to_owned()).collect();
            let renderer = !formats.is_empty();
            let hints = KindHints { texts: texts.to_vec(), renderer, formats: &formats };
            propose(&hints).map(|(kind, _)| kind)
        };
        assert_eq!(kind(&["AldermoorOS/3.2 DLNADOC/1.50 LoungePanel/7"], &[]), None);
        assert_eq!(kind(&["Lounge TV"], &[]), Some(DeviceKind::Television));
        assert_eq!(kind(&["Aldermoor TV55"], &["audio/mpeg"]), Some(DeviceKind::Television));
        assert_eq!(kind(&["Ostrand BD390"], &[]), Some(DeviceKind::DiscPlayer));
        assert_eq!(kind(&["Linux/5.4 UPnP/1.0", "Hall speaker"], &[]), Some(DeviceKind::Speaker));
        assert_eq!(kind(&["SoundPost"], &["audio/flac"]), Some(DeviceKind::Speaker));
        assert_eq!(kind(&["Hall"], &["audio/flac", "video/mp4"]), Some(DeviceKind::Television));
        assert_eq!(kind(&["Pantry"], &[]), None);
    }
}
