//! The values of an object's properties, for searching and sorting.

use std::borrow::Cow;

use mostra_protocol::model::dlna;
use mostra_protocol::model::property::Property;

use super::Catalogue;
use super::container::{Container, ROOT};
use super::id::ObjectId;
use super::object::container_class;
use super::placement::ContainerKind;
use super::record::{self, Record};
use super::sorted::Entry;
use crate::{Kind, profile};

/// A property's value for sorting.
pub(super) enum PropertyValue {
    Number(u64),
    Text(String),
}

impl Catalogue {
    /// All values of a property as texts.
    pub(super) fn values(&self, entry: &Entry, property: Property) -> Vec<Cow<'_, str>> {
        match entry {
            Entry::Container(place) => self.container_values(*place, property),
            Entry::Item { serial, at, count } => {
                self.item_values(*serial, *at, *count, property).unwrap_or_default()
            }
        }
    }

    fn container_values(&self, place: u32, property: Property) -> Vec<Cow<'_, str>> {
        let Some(container) = self.containers.get(place) else { return Vec::new() };
        let id =
            |container: &Container| Cow::from(ObjectId::Container(container.node).id(&self.epoch));
        match property {
            Property::Id => vec![id(container)],
            Property::ParentId if place == ROOT => vec!["-1".into()],
            Property::ParentId => {
                self.containers.get(container.around).map(id).into_iter().collect()
            }
            Property::Title => vec![self.container_title(container)],
            Property::Class => vec![container_class(container.kind).upnp().into()],
            Property::Genre if container.kind == ContainerKind::Genre => {
                vec![self.container_title(container)]
            }
            Property::Artist | Property::Creator if container.kind == ContainerKind::Album => {
                self.album_artist(container).map(Cow::from).into_iter().collect()
            }
            _ => Vec::new(),
        }
    }

    /// An album's artist: that of the album, else of its first track.
    pub(super) fn album_artist(&self, container: &Container) -> Option<&str> {
        let music = self.record(container.items.iter().next()?)?.tail()?.music?;
        let name = music.album_artist.or(music.artists.first().copied())?;
        Some(self.names.text(name))
    }

    fn item_values(
        &self,
        serial: u32,
        at: u32,
        count: u32,
        property: Property,
    ) -> Option<Vec<Cow<'_, str>>> {
        let record = self.record(serial)?;
        let one = |text: String| Some(vec![Cow::from(text)]);
        let names = |numbers: &[u32]| -> Vec<Cow<'_, str>> {
            numbers.iter().map(|n| Cow::from(self.names.text(*n))).collect()
        };
        let container = self.containers.get(at)?;
        let original = container.kind == ContainerKind::Directory;
        let id = match original {
            true => ObjectId::File(serial),
            false => ObjectId::Reference(container.node, serial, count),
        };
        match property {
            Property::Id => one(id.id(&self.epoch)),
            Property::ParentId => one(ObjectId::Container(container.node).id(&self.epoch)),
            Property::RefId if original => None,
            Property::RefId => one(ObjectId::File(serial).id(&self.epoch)),
            Property::Class => Some(vec![self.class_of(serial, record.kind()).into()]),
            Property::Date => one(self.unpacked(record)?.date?.to_string()),
            Property::Title => {
                let tail = record.tail()?;
                let title = super::change::title(tail.title, tail.name, self.titles_of(serial));
                one(title.to_owned())
            }
            Property::Creator => Some(names(
                &record.tail()?.music?.artists.first().copied().into_iter().collect::<Vec<_>>(),
            )),
            Property::Artist => {
                let music = record.tail()?.music?;
                let mut all = music.artists;
                all.extend(music.album_artist.filter(|a| !all.contains(a)));
                Some(names(&all))
            }
            Property::Album => Some(names(record.tail()?.music?.album.as_slice())),
            Property::Genre => Some(names(&record.tail()?.music?.genres)),
            Property::TrackNumber if record.kind() == Kind::Music => {
                one(Some(record.place().1).filter(|n| *n < u16::MAX)?.to_string())
            }
            Property::Size => one(record.tail()?.size.to_string()),
            Property::Resolution => {
                let (width, height) = record.tail()?.resolution?;
                one(format!("{width}x{height}"))
            }
            Property::Duration => one(dlna::duration(self.unpacked(record)?.duration_ms?)),
            Property::ProtocolInfo => {
                one(profile::protocol_info(&self.unpacked(record)?).to_string())
            }
            Property::Actor | Property::TrackNumber => None,
        }
    }

    pub(super) fn unpacked(&self, record: Record<'_>) -> Option<crate::facts::Facts> {
        record::unpack(record, &self.names)
    }

    /// The number of the name by which a property sorts, where it has names.
    pub(super) fn first_name(&self, serial: u32, property: Property) -> Option<u32> {
        let music = self.record(serial)?.tail()?.music?;
        match property {
            Property::Artist => music.artists.first().copied().or(music.album_artist),
            Property::Creator => music.artists.first().copied(),
            Property::Album => music.album,
            Property::Genre => music.genres.first().copied(),
            _ => None,
        }
    }

    /// The first value of a property, by which lists are sorted (CDS-44).
    pub(super) fn first_value(&self, entry: &Entry, property: Property) -> Option<PropertyValue> {
        if let Entry::Item { serial, .. } = entry {
            let record = self.record(*serial)?;
            let number = match property {
                Property::Date => Some(record.date()).filter(|d| *d > 0),
                Property::Size => record.tail().map(|t| t.size),
                Property::TrackNumber => {
                    let track = Some(u64::from(record.place().1));
                    track.filter(|n| *n < u64::from(u16::MAX) && record.kind() == Kind::Music)
                }
                Property::Duration => record.tail().and_then(|t| t.duration_ms),
                Property::Id
                | Property::ParentId
                | Property::RefId
                | Property::Title
                | Property::Creator
                | Property::Class
                | Property::Artist
                | Property::Album
                | Property::Genre
                | Property::Actor
                | Property::ProtocolInfo
                | Property::Resolution => {
                    let text = self.values(entry, property).into_iter().next()?;
                    return Some(PropertyValue::Text(text.into_owned()));
                }
            };
            return number.map(PropertyValue::Number);
        }
        let text = self.values(entry, property).into_iter().next()?;
        Some(PropertyValue::Text(text.into_owned()))
    }
}
