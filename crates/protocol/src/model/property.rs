//! The properties by which players sort and search.

/// A property of an object.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[allow(missing_docs)]
pub enum Property {
    Id,
    ParentId,
    RefId,
    Title,
    Creator,
    Date,
    Class,
    Artist,
    Album,
    Genre,
    Actor,
    TrackNumber,
    ProtocolInfo,
    Resolution,
    Size,
    Duration,
}

/// (property, its name, whether one can sort by it)
const TABLE: [(Property, &str, bool); 16] = [
    (Property::Id, "@id", false),
    (Property::ParentId, "@parentID", false),
    (Property::RefId, "@refID", false),
    (Property::Title, "dc:title", true),
    (Property::Creator, "dc:creator", true),
    (Property::Date, "dc:date", true),
    (Property::Class, "upnp:class", true),
    (Property::Artist, "upnp:artist", true),
    (Property::Album, "upnp:album", true),
    (Property::Genre, "upnp:genre", true),
    (Property::Actor, "upnp:actor", false),
    (Property::TrackNumber, "upnp:originalTrackNumber", true),
    (Property::ProtocolInfo, "res@protocolInfo", false),
    (Property::Resolution, "res@resolution", false),
    (Property::Size, "res@size", true),
    (Property::Duration, "res@duration", true),
];

impl Property {
    /// Reads a name; case counts.
    pub fn from_name(name: &str) -> Option<Property> {
        TABLE.iter().find(|(_, n, _)| *n == name).map(|(property, ..)| *property)
    }

    /// Whether one can sort by it.
    pub fn sorts(self) -> bool {
        TABLE.iter().any(|(property, _, sorts)| *property == self && *sorts)
    }

    /// Whether its texts are compared as written; all other texts without case (SRCH-10).
    pub fn is_exact(self) -> bool {
        matches!(self, Property::Id | Property::ParentId | Property::RefId | Property::Class)
    }
}

/// What GetSearchCapabilities answers (SRCH-8): every property that objects can have, since all
/// operators work on each (SRCH-17). Actors are known in no file that we read; whoever asks for one
/// by name all the same finds nothing.
pub fn search_capabilities() -> String {
    let names = TABLE.iter().filter(|(property, ..)| *property != Property::Actor);
    names.map(|(_, name, _)| *name).collect::<Vec<_>>().join(",")
}

/// What GetSortCapabilities answers (CDS-43).
pub fn sort_capabilities() -> String {
    let names: Vec<&str> =
        TABLE.iter().filter(|(.., sorts)| *sorts).map(|(_, name, _)| *name).collect();
    names.join(",")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_least_that_must_be_listed_is() {
        let search = search_capabilities();
        for name in "@id,@parentID,@refID,dc:title,dc:creator,dc:date,upnp:class,upnp:artist,upnp:album,upnp:genre,upnp:originalTrackNumber,res@protocolInfo,res@resolution,res@size,res@duration".split(',') {
            assert!(search.split(',').any(|n| n == name), "{name}");
        }
        assert!(!search.contains("upnp:actor"), "no object has one");
        assert_eq!(Property::from_name("upnp:actor"), Some(Property::Actor), "it is known");
        let sort = sort_capabilities();
        for name in "dc:title,dc:date,dc:creator,upnp:class,upnp:artist,upnp:album,upnp:originalTrackNumber,res@duration,res@size".split(',') {
            assert!(sort.split(',').any(|n| n == name), "{name}");
        }
        assert!(!search.contains(' ') && !sort.contains(' '));
    }
}
