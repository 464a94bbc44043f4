//! Object ids: computed, never stored (CDS-2 to CDS-5).
//!
//! A directory's and a file's number come from the records; a view's container has the number
//! that its path of names mixes into, so that it is the same after a rebuild and never another
//! object's. The epoch marks the database, so that serials given anew mean nothing old.

use crate::Kind;

/// The number of a container: small for the fixed ones, then directories, then mixed ones.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct NodeId(pub(super) u64);

const DIRECTORIES: u64 = 1 << 32;

impl NodeId {
    /// The container of a directory.
    pub fn directory(serial: u32) -> NodeId {
        NodeId(DIRECTORIES | u64::from(serial))
    }

    pub(super) fn mixed(self, tag: u8, value: u64) -> NodeId {
        use crate::shards::mix;
        // Out of the range of the others.
        NodeId(mix(mix(self.0, u64::from(tag)), value) | 1 << 63)
    }
}

/// A container that is always the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[repr(u8)]
pub enum Fixed {
    /// The root, id `0`.
    Root,
    /// The menu of a kind: video.
    Video,
    /// Every video.
    VideoAll,
    /// The newest videos.
    VideoNewest,
    /// Series, their seasons and episodes.
    Series,
    /// Videos by year.
    VideoYears,
    /// Playlists with videos.
    VideoPlaylists,
    /// The menu of music.
    Music,
    /// Every track.
    MusicAll,
    /// Artists of tracks.
    Artists,
    /// Artists of albums.
    AlbumArtists,
    /// Albums.
    Albums,
    /// Genres.
    Genres,
    /// Tracks by year.
    MusicYears,
    /// Composers.
    Composers,
    /// Playlists with music.
    MusicPlaylists,
    /// The newest tracks.
    MusicNewest,
    /// The menu of pictures.
    Pictures,
    /// Every picture.
    PictureAll,
    /// Pictures by year and month taken.
    PictureYears,
    /// Albums, which are folders with pictures.
    PictureAlbums,
    /// The newest pictures.
    PictureNewest,
    /// Playlists with pictures.
    PicturePlaylists,
    /// Folders as they are, which hold the originals (CDS-6).
    Folders,
}

/// (container, id, title)
const FIXED: [(Fixed, &str, &str); 24] = {
    use Fixed::*;
    [
        (Root, "0", "Root"),
        (Video, "video", "Video"),
        (VideoAll, "video-all", "All videos"),
        (VideoNewest, "video-newest", "Newest"),
        (Series, "series", "Series"),
        (VideoYears, "video-years", "By year"),
        (VideoPlaylists, "video-playlists", "Playlists"),
        (Music, "music", "Music"),
        (MusicAll, "music-all", "All tracks"),
        (Artists, "artists", "Artists"),
        (AlbumArtists, "album-artists", "Album artists"),
        (Albums, "albums", "Albums"),
        (Genres, "genres", "Genres"),
        (MusicYears, "music-years", "By year"),
        (Composers, "composers", "Composers"),
        (MusicPlaylists, "playlists", "Playlists"),
        (MusicNewest, "music-newest", "Newest"),
        (Pictures, "pictures", "Pictures"),
        (PictureAll, "pictures-all", "All pictures"),
        (PictureYears, "taken", "By date taken"),
        (PictureAlbums, "picture-albums", "Albums"),
        (PictureNewest, "pictures-newest", "Newest"),
        (PicturePlaylists, "picture-playlists", "Playlists"),
        (Folders, "folders", "Folders"),
    ]
};

impl Fixed {
    fn row(self) -> &'static (Fixed, &'static str, &'static str) {
        &FIXED[self as usize]
    }

    /// Its id.
    pub fn id(self) -> &'static str {
        self.row().1
    }

    /// Its title.
    pub fn title(self) -> &'static str {
        self.row().2
    }

    /// Its number.
    pub fn node(self) -> NodeId {
        NodeId(self as u64)
    }

    /// The container with this number.
    pub(super) fn from_number(number: u32) -> Option<Fixed> {
        FIXED.get(number as usize).map(|row| row.0)
    }

    /// The menu of a kind.
    pub fn menu(kind: Kind) -> Fixed {
        [Fixed::Video, Fixed::Music, Fixed::Pictures][kind.index()]
    }

    /// Every item of a kind.
    pub fn all(kind: Kind) -> Fixed {
        [Fixed::VideoAll, Fixed::MusicAll, Fixed::PictureAll][kind.index()]
    }

    pub(super) fn newest(kind: Kind) -> Fixed {
        [Fixed::VideoNewest, Fixed::MusicNewest, Fixed::PictureNewest][kind.index()]
    }

    pub(super) fn playlists(kind: Kind) -> Fixed {
        [Fixed::VideoPlaylists, Fixed::MusicPlaylists, Fixed::PicturePlaylists][kind.index()]
    }
}

/// What an object id stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum ObjectId {
    /// A container.
    Container(NodeId),
    /// A file in its directory: the original.
    File(u32),
    /// A file in a view; in playlists with its count, as one file may stand there often.
    Reference(NodeId, u32, u32),
}

impl ObjectId {
    /// Writes the id.
    pub fn id(self, epoch: &str) -> String {
        let mut id = String::with_capacity(32);
        let mut begin = |letter| {
            id.push(letter);
            id.push_str(epoch);
        };
        match self {
            ObjectId::Container(NodeId(number)) => match FIXED.get(number as usize) {
                Some(row) => id.push_str(row.1),
                None if number >> 32 == 1 => {
                    begin('d');
                    push_base36(&mut id, number & u64::from(u32::MAX));
                }
                None => {
                    begin('n');
                    push_base36(&mut id, number);
                }
            },
            ObjectId::File(serial) => {
                begin('i');
                push_base36(&mut id, serial.into());
            }
            ObjectId::Reference(NodeId(node), serial, count) => {
                begin('r');
                push_base36(&mut id, node);
                id.push('_');
                push_base36(&mut id, serial.into());
                if count > 0 {
                    id.push('_');
                    push_base36(&mut id, count.into());
                }
            }
        }
        id
    }

    /// Reads an id; `None` for one that this database never gave.
    pub fn parse(id: &str, epoch: &str) -> Option<ObjectId> {
        if let Some(at) = FIXED.iter().position(|row| row.1 == id) {
            return Some(ObjectId::Container(NodeId(at as u64)));
        }
        let letter = id.chars().next()?;
        let rest = id.get(1..)?.strip_prefix(epoch)?;
        let serial = |text: &str| u32::try_from(number(text)?).ok();
        match letter {
            'd' => Some(ObjectId::Container(NodeId::directory(serial(rest)?))),
            'n' => {
                let node = number(rest).filter(|n| n >> 63 == 1)?;
                Some(ObjectId::Container(NodeId(node)))
            }
            'i' => Some(ObjectId::File(serial(rest)?)),
            'r' => {
                let mut parts = rest.split('_');
                let node = number(parts.next()?)?;
                let file = serial(parts.next()?)?;
                let count = match parts.next() {
                    None => 0,
                    Some(text) => serial(text).filter(|n| *n > 0)?,
                };
                parts.next().is_none().then_some(ObjectId::Reference(NodeId(node), file, count))
            }
            _ => None,
        }
    }
}

/// One number, one spelling: no sign, no leading zero, no capitals.
fn number(text: &str) -> Option<u64> {
    let digits = text.bytes().all(|b| b.is_ascii_digit() || b.is_ascii_lowercase());
    let short = text == "0" || !text.starts_with('0');
    (digits && short).then(|| u64::from_str_radix(text, 36).ok()).flatten()
}

fn push_base36(id: &mut String, mut number: u64) {
    let mut digits = [0u8; 13];
    let mut at = digits.len();
    loop {
        at -= 1;
        digits[at] = b"0123456789abcdefghijklmnopqrstuvwxyz"[(number % 36) as usize];
        number /= 36;
        if number == 0 {
            break;
        }
    }
    id.extend(digits[at..].iter().map(|digit| char::from(*digit)));
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn fixed_containers_stand_in_order() {
        for (at, (fixed, ..)) in FIXED.iter().enumerate() {
            assert_eq!(*fixed as usize, at);
        }
    }

    #[test]
    fn ids_of_another_database_are_unknown() {
        let id = ObjectId::File(77).id("q3v9d0");
        assert_eq!(ObjectId::parse(&id, "q3v9d0"), Some(ObjectId::File(77)));
        assert_eq!(ObjectId::parse(&id, "aaaaaa"), None);
        for wrong in [
            "",
            "00",
            "../etc",
            "dq3v9d0",
            "dq3v9d0+1",
            "dq3v9d001",
            "xq3v9d01",
            "é",
            "rq3v9d01",
            "rq3v9d01_2_0",
            "rq3v9d01_2_1_1",
            "nq3v9d01",
        ] {
            assert_eq!(ObjectId::parse(wrong, "q3v9d0"), None, "{wrong}");
        }
    }

    proptest! {
        #[test]
        fn ids_read_back(serial in any::<u32>(), tag in any::<u8>(), n in any::<u64>(), count in 0u32..9) {
            let node = Fixed::Artists.node().mixed(tag, n);
            for place in [
                ObjectId::Container(NodeId::directory(serial)),
                ObjectId::Container(node),
                ObjectId::Container(Fixed::Albums.node()),
                ObjectId::File(serial),
                ObjectId::Reference(node, serial, count),
                ObjectId::Reference(Fixed::VideoAll.node(), serial, 0),
            ] {
                let id = place.id("q3v9d0");
                prop_assert!(id.len() <= 64 && id.bytes().all(|b| b.is_ascii_alphanumeric() || b"_-".contains(&b)));
                prop_assert_eq!(ObjectId::parse(&id, "q3v9d0"), Some(place));
            }
        }
    }
}
