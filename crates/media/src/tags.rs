//! What the tags of a sound file say.

use std::borrow::Cow;

use lofty::id3::v2::{Frame, Id3v2Tag};
use lofty::prelude::{Accessor, ItemKey};
use lofty::tag::Tag;
use mostra_core::date::Date;
use mostra_core::facts::Facts;

/// What is read of tags, as it stands there. One text may hold several values.
#[derive(Default)]
pub(crate) struct Words<'a> {
    title: Option<&'a str>,
    /// The artists one by one, where they stand so, and all in one.
    artists: [Vec<&'a str>; 2],
    album_artist: Option<&'a str>,
    album: Option<&'a str>,
    /// Number and total.
    track: (Option<u32>, Option<u32>),
    disc: (Option<u32>, Option<u32>),
    genres: Vec<&'a str>,
    composers: Vec<&'a str>,
    /// The best one first.
    dates: [Option<Cow<'a, str>>; 3],
    pictured: bool,
}

impl<'a> Words<'a> {
    /// Of any tag, in the library's common form.
    pub(crate) fn of(tag: &'a Tag) -> Words<'a> {
        let one = |key: ItemKey| tag.get_string(&key);
        let all = |key: ItemKey| {
            let items = tag.items().filter(|item| *item.key() == key);
            items.filter_map(|item| item.value().text()).collect()
        };
        Words {
            title: one(ItemKey::TrackTitle),
            artists: [all(ItemKey::TrackArtists), all(ItemKey::TrackArtist)],
            album_artist: one(ItemKey::AlbumArtist),
            album: one(ItemKey::AlbumTitle),
            track: (tag.track(), tag.track_total()),
            disc: (tag.disk(), tag.disk_total()),
            genres: all(ItemKey::Genre),
            composers: all(ItemKey::Composer),
            dates: [ItemKey::RecordingDate, ItemKey::Year, ItemKey::ReleaseDate]
                .map(|key| one(key).map(Cow::Borrowed)),
            pictured: tag.picture_count() > 0,
        }
    }

    /// Of ID3v2 as it stands: to bring each frame into the common form takes longer than all the
    /// rest, and most collections are of MP3.
    pub(crate) fn of_id3(tag: &'a Id3v2Tag) -> Words<'a> {
        let mut words = Words::default();
        for frame in tag {
            let value = match frame {
                Frame::Text(text) => text.value.as_ref(),
                Frame::Timestamp(time) => {
                    let date = || Some(Cow::Owned(time.timestamp.to_string()));
                    match frame.id().as_str() {
                        "TDRC" => words.dates[0] = date(),
                        "TDRL" => words.dates[2] = date(),
                        _ => {}
                    }
                    continue;
                }
                Frame::UserText(text) if text.description.eq_ignore_ascii_case("ARTISTS") => {
                    words.artists[0].push(&text.content);
                    continue;
                }
                Frame::Picture(_) => {
                    words.pictured = true;
                    continue;
                }
                _ => continue,
            };
            let first = |place: &mut Option<&'a str>| *place = place.or(Some(value));
            match frame.id().as_str() {
                "TIT2" => first(&mut words.title),
                "TPE1" => words.artists[1].push(value),
                "TPE2" => first(&mut words.album_artist),
                "TALB" => first(&mut words.album),
                "TRCK" => words.track = pair(value),
                "TPOS" => words.disc = pair(value),
                "TCOM" => words.composers.push(value),
                "TDRC" | "TYER" => words.dates[1] = Some(Cow::Borrowed(value)),
                _ => {}
            }
        }
        // Numbers of genres become their names here.
        words.genres.extend(tag.genres().into_iter().flatten());
        words
    }

    /// Adds them to what is known of a file.
    pub(crate) fn added_to(self, facts: Facts) -> Facts {
        let one = |text: Option<&str>| text.and_then(clean);
        let all = |texts: &[&str]| {
            let mut values: Vec<String> = Vec::new();
            // Several in one text are parted by NUL or by a semicolon.
            for text in texts.iter().flat_map(|t| t.split(['\0', ';'])).filter_map(clean) {
                if !values.contains(&text) {
                    values.push(text);
                }
            }
            values.truncate(16);
            values
        };
        let small = |n: Option<u32>| n.and_then(|n| u16::try_from(n).ok()).filter(|n| *n > 0);
        let artists = self.artists.iter().map(|texts| all(texts)).find(|all| !all.is_empty());
        Facts {
            title: one(self.title),
            artists: artists.unwrap_or_default(),
            album_artist: one(self.album_artist),
            album: one(self.album),
            track: (small(self.track.0), small(self.track.1)),
            disc: (small(self.disc.0), small(self.disc.1)),
            genres: all(&self.genres),
            composers: all(&self.composers),
            date: self.dates.into_iter().flatten().find_map(|date| Date::parse(&clean(&date)?)),
            embedded_art: self.pictured,
            ..facts
        }
    }
}

fn clean(text: &str) -> Option<String> {
    let text = text.trim_matches(['\0', ' ', '\t', '\n', '\r']);
    (!text.is_empty()).then(|| text.chars().take(1000).collect())
}

/// Number and total, as ID3 has them: `3/12`.
fn pair(text: &str) -> (Option<u32>, Option<u32>) {
    let mut numbers = text.split(['\0', '/']).map(|number| number.trim().parse().ok());
    (numbers.next().flatten(), numbers.next().flatten())
}

#[cfg(test)]
mod tests {
    use super::*;
    use lofty::TextEncoding;
    use lofty::id3::v2::{FrameId, TextInformationFrame, TimestampFrame};
    use lofty::tag::items::Timestamp;
    use mostra_core::Kind;
    use mostra_core::format::Format;

    fn told(words: Words<'_>) -> Facts {
        words.added_to(Facts::bare(Kind::Music, Format::Mp3, 1, 1))
    }

    /// The library's way to its common form is the peer.
    #[test]
    fn id3_says_the_same_as_it_stands_and_in_the_common_form() {
        let frame = |id: &'static str| FrameId::new(id).unwrap();
        let text = |id, value: &str| {
            let text = value.to_owned();
            Frame::Text(TextInformationFrame::new(frame(id), TextEncoding::UTF8, text))
        };
        let texts = |pairs: &[(&'static str, &str)]| {
            let mut tag = Id3v2Tag::new();
            for (id, value) in pairs {
                match id.len() {
                    4 => drop(tag.insert(text(id, value))),
                    _ => drop(tag.insert_user_text((*id).to_owned(), (*value).to_owned())),
                }
            }
            tag
        };
        let mut dated = texts(&[("TIT2", "Lamp room"), ("TPE1", "Ada Quill\0Bo Marsh")]);
        let time = Timestamp { year: 1987, month: Some(3), ..Timestamp::default() };
        let time = TimestampFrame::new(frame("TDRC"), TextEncoding::UTF8, time);
        dated.insert(Frame::Timestamp(time));
        let tags = [
            texts(&[]),
            dated,
            texts(&[
                ("TIT2", "  Night log \0"),
                ("TPE1", "Ada Quill; Bo Marsh"),
                ("ARTISTS", "Ada Quill\0Bo Marsh\0Ada Quill"),
                ("TPE2", "The Pellworth Band"),
                ("TALB", "Harbour"),
                ("TRCK", "3/12"),
                ("TPOS", "1"),
                ("TCON", "(17)"),
                ("TCOM", "C. Reed"),
            ]),
            texts(&[("TRCK", " 4 / 9"), ("TPOS", "x"), ("TCON", "Shanty\0Sea song")]),
            texts(&[("TRCK", "0/0"), ("TPOS", "70000/2"), ("TCON", "17"), ("TPE1", " ")]),
        ];
        for tag in tags {
            let common = Tag::from(tag.clone());
            assert_eq!(told(Words::of_id3(&tag)), told(Words::of(&common)), "{tag:?}");
        }
    }
}
