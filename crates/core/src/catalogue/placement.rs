//! The placements at which a file appears: in its directory, and in the views.

use super::id::{Fixed, NodeId};
use super::names::Names;
use super::record::Record;
use super::{Catalogue, PictureOrder};
use crate::Kind;
use crate::ids::FolderId;

/// What a container is; decides its title, its class and its order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum ContainerKind {
    /// One that is always the same.
    Fixed,
    /// A directory, by serial.
    Directory,
    /// An artist, by name.
    Artist,
    /// An album, by name.
    Album,
    /// A genre, by name.
    Genre,
    /// A composer, by name.
    Composer,
    /// A year.
    Year,
    /// A month of a year.
    Month,
    /// A series, by name.
    Series,
    /// A season, by number.
    Season,
    /// A directory with pictures, by serial.
    PhotoAlbum,
    /// A playlist, by serial.
    Playlist,
}

impl ContainerKind {
    /// Whether its subject is a name, of which several spellings may be in use.
    pub(super) fn is_named(self) -> bool {
        use ContainerKind::{Album, Artist, Composer, Genre, Series};
        matches!(self, Artist | Album | Genre | Composer | Series)
    }
}

/// One container on the way to a placement.
#[derive(Debug, Clone, Copy)]
pub(super) struct PathSegment {
    pub node: NodeId,
    pub kind: ContainerKind,
    /// A name's number, a serial, or a plain number, as the kind has it.
    pub subject: u32,
}

impl PathSegment {
    pub(super) fn fixed(fixed: Fixed) -> PathSegment {
        PathSegment { node: fixed.node(), kind: ContainerKind::Fixed, subject: fixed as u32 }
    }

    fn below(self, kind: ContainerKind, key: u64, subject: u32) -> PathSegment {
        PathSegment { node: self.node.mixed(kind as u8, key), kind, subject }
    }

    /// A container below this one for a name; spellings that people take for the same share it.
    fn named(self, kind: ContainerKind, name: u32, names: &Names) -> PathSegment {
        self.below(kind, names.key(name), name)
    }

    pub(super) fn playlist(around: Fixed, serial: u32) -> PathSegment {
        PathSegment::fixed(around).below(ContainerKind::Playlist, u64::from(serial), serial)
    }

    pub(super) fn photo_album(directory: u32) -> PathSegment {
        let around = PathSegment::fixed(Fixed::PictureAlbums);
        around.below(ContainerKind::PhotoAlbum, u64::from(directory), directory)
    }
}

/// How the items of a container stand without SortCriteria (CDS-35).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Order {
    Title,
    Date,
    /// Newest first.
    Added,
    /// Disc and track, or season and episode.
    ObjectId,
    /// As a playlist lists them.
    Listed,
}

/// The newest items shown of each kind.
pub(super) const NEWEST: u32 = 200;

impl Catalogue {
    /// The order of a container's items.
    pub(super) fn order(&self, kind: ContainerKind, subject: u32) -> Order {
        const NEWEST: [u32; 3] =
            [Fixed::VideoNewest as u32, Fixed::MusicNewest as u32, Fixed::PictureNewest as u32];
        let pictures = match self.options.pictures {
            PictureOrder::Date => Order::Date,
            PictureOrder::Title => Order::Title,
        };
        match kind {
            ContainerKind::Fixed if NEWEST.contains(&subject) => Order::Added,
            ContainerKind::Fixed if subject == Fixed::PictureAll as u32 => pictures,
            ContainerKind::Album | ContainerKind::Season => Order::ObjectId,
            ContainerKind::Month | ContainerKind::PhotoAlbum => pictures,
            ContainerKind::Playlist => Order::Listed,
            _ => Order::Title,
        }
    }

    /// Calls `placement` with the way to each placement of a file, from below the root down: first the
    /// directory, which holds the original, then the views.
    pub(super) fn placements(&self, record: Record<'_>, mut placement: impl FnMut(&[PathSegment])) {
        let mut way = Vec::with_capacity(8);
        let mut at = Some(record.directory());
        while let Some(directory) = at.and_then(|serial| self.directories.get(serial)) {
            let serial = at.unwrap_or_default();
            let node = NodeId::directory(serial);
            way.push(PathSegment { node, kind: ContainerKind::Directory, subject: serial });
            at = directory.parent;
        }
        // The test pieces stand in the root by themselves, and in no view.
        let is_test_piece = self
            .directories
            .get(record.directory())
            .is_some_and(|directory| directory.folder == FolderId::TEST_PIECES);
        if !is_test_piece {
            way.push(PathSegment::fixed(Fixed::Folders));
        }
        way.reverse();
        placement(&way);
        if is_test_piece {
            return;
        }
        let kind = record.kind();
        let menu = PathSegment::fixed(Fixed::menu(kind));
        placement(&[menu, PathSegment::fixed(Fixed::all(kind))]);
        placement(&[menu, PathSegment::fixed(Fixed::newest(kind))]);
        // Only what is dated has a year.
        let year = Some((record.date() / 10_000_000_000) as u32).filter(|y| *y > 0);
        let month = (record.date() / 100_000_000 % 100) as u32;
        match kind {
            Kind::Video => {
                if let Some((series, season, _)) = record.tail().and_then(|tail| tail.episode) {
                    let all = PathSegment::fixed(Fixed::Series);
                    let series = all.named(ContainerKind::Series, series, &self.names);
                    let number = u32::from(season);
                    let season = series.below(ContainerKind::Season, u64::from(season), number);
                    placement(&[menu, all, series, season]);
                }
                if let Some(year) = year {
                    let years = PathSegment::fixed(Fixed::VideoYears);
                    placement(&[
                        menu,
                        years,
                        years.below(ContainerKind::Year, u64::from(year), year),
                    ]);
                }
            }
            Kind::Picture => {
                if let Some(year) = year {
                    let years = PathSegment::fixed(Fixed::PictureYears);
                    let year = years.below(ContainerKind::Year, u64::from(year), year);
                    let month = year.below(ContainerKind::Month, u64::from(month), month);
                    placement(&[menu, years, year, month]);
                }
                let albums = PathSegment::fixed(Fixed::PictureAlbums);
                placement(&[menu, albums, PathSegment::photo_album(record.directory())]);
            }
            Kind::Music => {
                let Some(music) = record.tail().and_then(|tail| tail.music) else { return };
                // Two albums of one name are told apart by their artist, or else by where
                // they lie.
                let owner = match music.album_artist {
                    Some(artist) => self.names.key(artist),
                    None => u64::from(record.directory()),
                };
                let in_album = |around: PathSegment| {
                    music.album.map(|album| {
                        let key = crate::shards::mix(self.names.key(album), owner);
                        around.below(ContainerKind::Album, key, album)
                    })
                };
                let mut people = |list: Fixed, people: &[u32]| {
                    let list = PathSegment::fixed(list);
                    let mut met: Vec<NodeId> = Vec::new();
                    for name in people {
                        let artist = list.named(ContainerKind::Artist, *name, &self.names);
                        if met.contains(&artist.node) {
                            continue;
                        }
                        met.push(artist.node);
                        match in_album(artist) {
                            Some(album) => placement(&[menu, list, artist, album]),
                            None => placement(&[menu, list, artist]),
                        }
                    }
                };
                people(Fixed::Artists, &music.artists);
                people(Fixed::AlbumArtists, music.album_artist.as_slice());
                let albums = PathSegment::fixed(Fixed::Albums);
                if let Some(album) = in_album(albums) {
                    placement(&[menu, albums, album]);
                }
                let mut each = |list: Fixed, kind: ContainerKind, names: &[u32]| {
                    let list = PathSegment::fixed(list);
                    let mut met: Vec<NodeId> = Vec::new();
                    for name in names {
                        let one = list.named(kind, *name, &self.names);
                        if !met.contains(&one.node) {
                            met.push(one.node);
                            placement(&[menu, list, one]);
                        }
                    }
                };
                each(Fixed::Genres, ContainerKind::Genre, &music.genres);
                each(Fixed::Composers, ContainerKind::Composer, &music.composers);
                if let Some(year) = year {
                    let years = PathSegment::fixed(Fixed::MusicYears);
                    placement(&[
                        menu,
                        years,
                        years.below(ContainerKind::Year, u64::from(year), year),
                    ]);
                }
            }
        }
    }
}
