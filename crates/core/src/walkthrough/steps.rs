//! The steps of a walkthrough, and what only a person can say.

use serde::{Deserialize, Serialize};

use super::Circumstances;
use crate::access::Standing;
use crate::kind::Kind;
use crate::proof::Step;

/// A step of a walkthrough.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WalkthroughStep {
    /// It searched, announced itself or connected.
    Seen,
    /// The description was delivered to it.
    Read,
    /// It opened the root menu.
    Opened,
    /// It listed this kind.
    Listed(Kind),
    /// It started something of this kind.
    Started(Kind),
    /// It kept playing that.
    KeptPlaying(Kind),
    /// It skipped ahead in that and went on.
    SkippedAhead(Kind),
    /// It is refused, asked, and got nothing.
    GotNothing,
    /// It took an item that the house sent it.
    TookItem,
    /// It paused when it was told to.
    Paused,
    /// It changed its volume when it was told to.
    VolumeChanged,
    /// It stopped when it was told to.
    Stopped,
}

impl WalkthroughStep {
    /// The steps of a device in these circumstances, in order.
    pub fn of(circumstances: &Circumstances) -> Vec<WalkthroughStep> {
        use WalkthroughStep::*;
        if circumstances.standing != Standing::Admitted {
            return vec![Seen, GotNothing];
        }
        let mut steps = vec![Seen, Read, Opened];
        let there = |kind: &Kind| {
            let at = kind.index();
            circumstances.expected[at] > 0 || circumstances.pieces[at].is_some()
        };
        // A house without pictures asks for none; one without anything says so.
        let is_empty = !circumstances.kinds.iter().any(|kind| there(&kind));
        for kind in circumstances.kinds.iter().filter(|kind| is_empty || there(kind)) {
            // Where there is nothing of a kind but test pieces, there is no list of it.
            let at = kind.index();
            if circumstances.expected[at] > 0 || circumstances.pieces[at].is_none() {
                steps.push(Listed(kind));
            }
            steps.push(Started(kind));
            // A picture has no time of its own.
            if kind != Kind::Picture {
                steps.extend([KeptPlaying(kind), SkippedAhead(kind)]);
            }
        }
        if circumstances.renderer {
            steps.extend([TookItem, Paused, VolumeChanged, Stopped]);
        }
        steps
    }

    /// The kind of media that it is about.
    pub fn kind(self) -> Option<Kind> {
        use WalkthroughStep::*;
        match self {
            Listed(kind) | Started(kind) | KeptPlaying(kind) | SkippedAhead(kind) => Some(kind),
            _ => None,
        }
    }

    /// Whether it comes with controlling renderers, which the house cannot do yet.
    pub fn comes_with_control(self) -> bool {
        use WalkthroughStep::*;
        matches!(self, TookItem | Paused | VolumeChanged | Stopped)
    }

    /// The word for people.
    pub fn word(self) -> &'static str {
        use WalkthroughStep::*;
        match self {
            Seen => "seen",
            Read => "read",
            Opened => "opened",
            Listed(_) => "listed",
            Started(_) => "started",
            KeptPlaying(_) => "kept playing",
            SkippedAhead(_) => "skipped ahead",
            GotNothing => "got nothing",
            TookItem => "took an item",
            Paused => "paused",
            VolumeChanged => "volume changed",
            Stopped => "stopped",
        }
    }

    /// What it proves, and what it does not.
    pub fn proves(self) -> &'static str {
        use WalkthroughStep::*;
        match self {
            Seen => Step::Seen.proves(),
            Read => Step::Read.proves(),
            Opened => Step::Opened.proves(),
            Listed(_) => Step::Listed.proves(),
            Started(_) => Step::Started.proves(),
            KeptPlaying(_) => Step::KeptPlaying.proves(),
            SkippedAhead(_) => Step::SkippedAhead.proves(),
            GotNothing => "It asked for something and was given nothing.",
            TookItem | Paused | VolumeChanged | Stopped => "It did what the house told it to.",
        }
    }
}

/// What only a person can judge.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Question {
    /// Whether the picture of a video moves.
    VideoPicture,
    /// Whether a video's beep comes with the flash.
    VideoSound,
    /// Whether a video plays without stutter.
    VideoSmooth,
    /// Whether music is heard.
    MusicSound,
    /// Whether a picture stands upright and is sharp.
    PictureUpright,
}

impl Question {
    /// All of them.
    pub const ALL: [Question; 5] = [
        Question::VideoPicture,
        Question::VideoSound,
        Question::VideoSmooth,
        Question::MusicSound,
        Question::PictureUpright,
    ];

    /// The kind of media that it is about.
    pub fn kind(self) -> Kind {
        match self {
            Question::VideoPicture | Question::VideoSound | Question::VideoSmooth => Kind::Video,
            Question::MusicSound => Kind::Music,
            Question::PictureUpright => Kind::Picture,
        }
    }

    /// The word for it in records and for programs.
    pub fn word(self) -> &'static str {
        match self {
            Question::VideoPicture => "video-picture",
            Question::VideoSound => "video-sound",
            Question::VideoSmooth => "video-smooth",
            Question::MusicSound => "music-sound",
            Question::PictureUpright => "picture-upright",
        }
    }

    /// Reads [`word`](Self::word).
    pub fn from_word(word: &str) -> Option<Question> {
        Question::ALL.into_iter().find(|question| question.word() == word)
    }

    /// The question as it is asked.
    pub fn asked(self) -> &'static str {
        match self {
            Question::VideoPicture => "Is there a moving picture?",
            Question::VideoSound => "Does a beep come with each flash?",
            Question::VideoSmooth => "Does it run without stutter?",
            Question::MusicSound => "Do you hear the music?",
            Question::PictureUpright => "Does the arrow point up, and are the fine lines sharp?",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kind::Kinds;
    use WalkthroughStep::*;

    #[test]
    fn the_steps_follow_the_standing_the_grant_and_the_roles() {
        let mut circumstances = Circumstances {
            standing: Standing::Admitted,
            kinds: Kinds::of([Kind::Picture, Kind::Music]),
            ..Circumstances::default()
        };
        let (music, picture) = (Kind::Music, Kind::Picture);
        let mut expected = vec![Seen, Read, Opened, Listed(music), Started(music)];
        expected.extend([KeptPlaying(music), SkippedAhead(music), Listed(picture)]);
        expected.push(Started(picture));
        assert_eq!(WalkthroughStep::of(&circumstances), expected);
        circumstances.renderer = true;
        assert!(WalkthroughStep::of(&circumstances).ends_with(&[VolumeChanged, Stopped]));
        circumstances.standing = Standing::Refused;
        assert_eq!(WalkthroughStep::of(&circumstances), [Seen, GotNothing]);
    }

    #[test]
    fn questions_read_back() {
        for question in Question::ALL {
            assert_eq!(Question::from_word(question.word()), Some(question));
            assert!(question.asked().ends_with('?'));
        }
        assert_eq!(Question::from_word("smell"), None);
    }
}
