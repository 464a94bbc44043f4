//! The three kinds of media.

use std::fmt;
use std::str::FromStr;

/// A kind of media.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, serde::Serialize, serde::Deserialize,
)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// Films, series, clips.
    Video,
    /// Anything to listen to.
    Music,
    /// Photographs and drawings.
    Picture,
}

impl Kind {
    /// All of them, in the order of the root menu.
    pub const ALL: [Kind; 3] = [Kind::Video, Kind::Music, Kind::Picture];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Video => "video",
            Kind::Music => "music",
            Kind::Picture => "picture",
        }
    }

    /// What several of it are called: films, music, pictures.
    pub fn plural(self) -> &'static str {
        match self {
            Kind::Video => "films",
            Kind::Music => "music",
            Kind::Picture => "pictures",
        }
    }

    /// What a word means that a person wrote: the screens say films and pictures.
    pub fn meant_by(word: &str) -> Option<Kind> {
        match word.to_lowercase().as_str() {
            "video" | "videos" | "film" | "films" => Some(Kind::Video),
            "music" | "track" | "tracks" => Some(Kind::Music),
            "picture" | "pictures" | "photo" | "photos" => Some(Kind::Picture),
            _ => None,
        }
    }

    /// Its place in [`Kind::ALL`].
    pub fn index(self) -> usize {
        self as usize
    }
}

/// A set of kinds.
#[derive(
    Debug, Clone, Copy, Default, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize,
)]
pub struct Kinds(u8);

impl Kinds {
    /// None.
    pub const NONE: Kinds = Kinds(0);
    /// Every kind.
    pub const ALL: Kinds = Kinds(0b111);

    /// A set of these.
    pub fn of(kinds: impl IntoIterator<Item = Kind>) -> Kinds {
        Kinds(kinds.into_iter().fold(0, |set, kind| set | 1 << kind.index()))
    }

    /// Whether none is in it.
    pub fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// Whether a kind is in it.
    pub fn holds(self, kind: Kind) -> bool {
        self.0 & 1 << kind.index() != 0
    }

    /// The kinds in it.
    pub fn iter(self) -> impl Iterator<Item = Kind> {
        Kind::ALL.into_iter().filter(move |k| self.holds(*k))
    }
}

/// Why a text names no kinds.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum KindsError {
    /// A word that is no kind.
    #[error("{0:?} is not a kind; the kinds are video (or films), music and pictures")]
    Unknown(String),
    /// No word at all.
    #[error("name at least one kind: video (or films), music, pictures")]
    None,
}

impl fmt::Display for Kinds {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let words: Vec<_> = self.iter().map(Kind::word).collect();
        f.write_str(&words.join(","))
    }
}

impl FromStr for Kinds {
    type Err = KindsError;

    /// Reads `films,music,pictures` or `video,music,picture`; at least one must be named.
    fn from_str(text: &str) -> Result<Kinds, KindsError> {
        let mut kinds = Vec::new();
        for word in text.split(',').map(str::trim).filter(|w| !w.is_empty()) {
            kinds.push(Kind::meant_by(word).ok_or_else(|| KindsError::Unknown(word.to_owned()))?);
        }
        if kinds.is_empty() {
            return Err(KindsError::None);
        }
        Ok(Kinds::of(kinds))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sets_read_and_write() {
        let kinds: Kinds = " Music,video".parse().unwrap();
        assert_eq!(kinds.to_string(), "video,music");
        assert!(!kinds.holds(Kind::Picture));
        for words in ["film, pictures", "Films,picture", "video,photos"] {
            assert_eq!(words.parse(), Ok(Kinds::of([Kind::Video, Kind::Picture])), "{words}");
        }
        assert!("".parse::<Kinds>().is_err() && "filmses".parse::<Kinds>().is_err());
    }
}
