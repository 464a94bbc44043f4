//! Object ids: computed from serials, never stored (CDS-2 to CDS-5).

use crate::Kind;

/// A view that lists items of one kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum View {
    /// One of the three menus by kind.
    Kind(Kind),
    /// The folder view, which holds the originals (CDS-6).
    Folders,
}

/// What an object id stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Place {
    /// The root, id `0`.
    Root,
    /// The container of a view.
    View(View),
    /// A directory, by serial.
    Directory(u32),
    /// A file's appearance in a view, by serial.
    File(u32, View),
}

const VIEWS: [(View, char, &str); 4] = [
    (View::Kind(Kind::Video), 'v', "video"),
    (View::Kind(Kind::Music), 'm', "music"),
    (View::Kind(Kind::Picture), 'p', "pictures"),
    (View::Folders, 'f', "folders"),
];

impl View {
    /// The menu's title.
    pub fn title(self) -> &'static str {
        match self {
            View::Kind(Kind::Video) => "Video",
            View::Kind(Kind::Music) => "Music",
            View::Kind(Kind::Picture) => "Pictures",
            View::Folders => "Folders",
        }
    }

    /// The menus of the root, in order.
    pub fn all() -> impl Iterator<Item = View> {
        VIEWS.into_iter().map(|(view, _, _)| view)
    }
}

impl Place {
    /// Writes the id. `epoch` marks the database the serials belong to, so that an id is never
    /// given to another object later (CDS-4).
    pub fn id(self, epoch: &str) -> String {
        match self {
            Place::Root => "0".into(),
            Place::View(view) => VIEWS
                .iter()
                .find(|(v, _, _)| *v == view)
                .map(|(_, _, word)| (*word).to_owned())
                .unwrap_or_default(),
            Place::Directory(serial) => format!("d{epoch}{}", base36(serial)),
            Place::File(serial, view) => {
                let letter =
                    VIEWS.iter().find(|(v, _, _)| *v == view).map_or('f', |(_, letter, _)| *letter);
                format!("{letter}{epoch}{}", base36(serial))
            }
        }
    }

    /// Reads an id; `None` for one that this database never gave.
    pub fn parse(id: &str, epoch: &str) -> Option<Place> {
        if id == "0" {
            return Some(Place::Root);
        }
        if let Some((view, _, _)) = VIEWS.iter().find(|(_, _, word)| *word == id) {
            return Some(Place::View(*view));
        }
        let letter = id.chars().next()?;
        let serial = id.get(1..)?.strip_prefix(epoch)?;
        // One serial, one spelling: no sign, no leading zero, no capitals.
        let number = u32::from_str_radix(serial, 36).ok().filter(|n| base36(*n) == serial)?;
        if letter == 'd' {
            return Some(Place::Directory(number));
        }
        let (view, _, _) = VIEWS.iter().find(|(_, l, _)| *l == letter)?;
        Some(Place::File(number, *view))
    }
}

fn base36(mut number: u32) -> String {
    let mut digits = Vec::new();
    loop {
        digits.push(char::from_digit(number % 36, 36).unwrap_or('0'));
        number /= 36;
        if number == 0 {
            break;
        }
    }
    digits.iter().rev().collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn ids_of_another_database_are_unknown() {
        let id = Place::File(77, View::Folders).id("q3v9d0");
        assert_eq!(Place::parse(&id, "q3v9d0"), Some(Place::File(77, View::Folders)));
        assert_eq!(Place::parse(&id, "aaaaaa"), None);
        for wrong in ["", "00", "../etc", "dq3v9d0", "dq3v9d0+1", "dq3v9d001", "xq3v9d01", "é"] {
            assert_eq!(Place::parse(wrong, "q3v9d0"), None, "{wrong}");
        }
    }

    proptest! {
        #[test]
        fn ids_read_back(serial in any::<u32>(), n in 0usize..4) {
            for place in [Place::Directory(serial), Place::File(serial, VIEWS[n].0), Place::View(VIEWS[n].0)] {
                let id = place.id("q3v9d0");
                prop_assert!(id.len() <= 64 && id.bytes().all(|b| b.is_ascii_alphanumeric()));
                prop_assert_eq!(Place::parse(&id, "q3v9d0"), Some(place));
            }
        }
    }
}
