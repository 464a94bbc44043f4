//! What a person finds by words: things of all sorts, in groups, each once.

use std::collections::HashSet;

use super::Catalogue;
use super::access_class::Visible;
use super::container::{Container, ROOT};
use super::id::{Fixed, ObjectId};
use super::object::{Found, FoundGroup};
use super::placement::ContainerKind;
use super::record::Record;
use super::search::{BitSet, Window};
use super::sorted::Entry;
use super::text_query::TextQuery;
use crate::Kind;
use crate::access::Pass;
use crate::stop::Stop;

/// Records looked at between two questions whether anybody still waits.
const LOOKS: u32 = 1024;

/// Where a word was found: in titles of files, by serial, and in names, by number.
struct Hits<'a> {
    word: &'a str,
    titles: BitSet,
    names: BitSet,
}

impl Catalogue {
    /// What is found below a container by words of a title, an artist, an album or a file's name, or
    /// by date: in groups, each by title unless `window` says otherwise, and each thing once. `None`
    /// if there is no such container for this pass. Given up as soon as `stop` says so.
    pub fn find(
        &self,
        stop: &Stop,
        pass: &Pass,
        container: &str,
        query: &TextQuery,
        window: Window<'_>,
    ) -> Option<Found> {
        let ObjectId::Container(node) = ObjectId::parse(container, &self.epoch)? else {
            return None;
        };
        let seen = self.seen(pass);
        let (place, container) = self.container_of(node)?;
        if place != ROOT && container.access_counts.total(&seen) == 0 {
            return None;
        }
        let hits: Vec<Hits<'_>> = query.words.iter().map(|word| self.hits(word)).collect();
        let mut groups: Vec<(FoundGroup, Vec<Entry>)> =
            FoundGroup::ALL.into_iter().map(|group| (group, Vec::new())).collect();
        let mut put = |group: FoundGroup, entry: Entry| groups[group as usize].1.push(entry);
        if !query.is_empty() {
            self.find_lists(&seen, place, &hits, &mut put);
            self.find_files(&seen, place, query, &hits, stop, &mut put);
        }
        if !window.sort.is_empty() {
            for (_, entries) in &mut groups {
                *entries = self.sort_entries(std::mem::take(entries), window.sort, stop);
            }
        }
        let counts = groups.iter().map(|(group, entries)| (*group, entries.len() as u32));
        let counts: Vec<_> = counts.filter(|(_, count)| *count > 0).collect();
        let all = groups.into_iter().flat_map(|(_, entries)| entries);
        let shown = all.skip(window.start as usize).take(window.length() as usize);
        Some(Found {
            objects: shown.filter_map(|entry| self.entry_object(&seen, entry)).collect(),
            total: counts.iter().map(|(_, count)| count).sum(),
            groups: counts,
        })
    }

    fn hits<'a>(&self, word: &'a str) -> Hits<'a> {
        let mut titles = BitSet::default();
        self.titles.holding(word.as_bytes(), |serial| titles.put(serial));
        Hits { word, titles, names: self.names.holding(word) }
    }

    /// Containers whose title holds all words, or whose title and artist together do.
    fn find_lists(
        &self,
        seen: &Visible<'_>,
        place: u32,
        hits: &[Hits<'_>],
        put: &mut impl FnMut(FoundGroup, Entry),
    ) {
        let mut found = Vec::new();
        let set = |at| self.containers.get(at).map_or(0, |container| container.access_set);
        self.titled.each(&|set| seen.covers_set(set), &set, |at| {
            let Some(container) = self.containers.get(at) else { return };
            let title = self.title_name(container);
            let artist = || match container.kind {
                ContainerKind::Album => self.album_artist_name(container),
                _ => None,
            };
            let folded = title.is_none().then(|| self.folded_title(container));
            let holds = |hit: &Hits<'_>| match (&folded, title) {
                (Some(folded), _) => folded.contains(hit.word),
                (None, Some(title)) => {
                    hit.names.holds(title) || artist().is_some_and(|name| hit.names.holds(name))
                }
                (None, None) => false,
            };
            if hits.iter().all(holds) && self.lies_in(container, place) {
                found.push(at);
            }
        });
        // The lists that hold all of their sort come before those of a genre or an artist.
        found.sort_by_key(|at| self.containers.get(*at).map(|c| self.remoteness(c)));
        let mut told = HashSet::new();
        let mut once: Vec<u32> = Vec::new();
        for at in found {
            let Some(container) = self.containers.get(at) else { continue };
            if told.insert(self.sameness(at, container)) {
                once.push(at);
            }
        }
        // By title again, as they were found.
        let kept: HashSet<u32> = once.into_iter().collect();
        self.titled.each(&|set| seen.covers_set(set), &set, |at| {
            if kept.contains(&at)
                && let Some(container) = self.containers.get(at)
            {
                put(group(container), Entry::Container(at));
            }
        });
    }

    /// How far a container is from the list in which a person would look for it first.
    fn remoteness(&self, container: &Container) -> u8 {
        let around = self.containers.get(container.around).map(|around| around.node);
        let first = [Fixed::Artists, Fixed::Albums, Fixed::Genres, Fixed::PictureAlbums];
        match around {
            Some(node) if first.iter().any(|fixed| fixed.node() == node) => 0,
            _ if container.kind == ContainerKind::Directory => 2,
            _ => 1,
        }
    }

    /// What two containers have in common that are the same thing to a person.
    fn sameness(&self, at: u32, container: &Container) -> (u8, u64, Option<u32>) {
        let name = |number: u32| self.names.key(number);
        match container.kind {
            ContainerKind::Album => (0, name(container.subject), self.album_artist_name(container)),
            ContainerKind::Directory | ContainerKind::PhotoAlbum => {
                (1, u64::from(container.subject), None)
            }
            kind if kind.is_named() => (2 + kind as u8, name(container.subject), None),
            _ => (u8::MAX, u64::from(at), None),
        }
    }

    /// The number of the name of an album's artist.
    fn album_artist_name(&self, container: &Container) -> Option<u32> {
        let music = self.record(container.items.iter().next()?)?.tail()?.music?;
        music.album_artist.or(music.artists.first().copied())
    }

    fn find_files(
        &self,
        seen: &Visible<'_>,
        place: u32,
        query: &TextQuery,
        hits: &[Hits<'_>],
        stop: &Stop,
        put: &mut impl FnMut(FoundGroup, Entry),
    ) {
        let within = (place != ROOT).then(|| {
            let mut bits = BitSet::default();
            self.below(seen, place, &mut |_, container| {
                container.items.iter().for_each(|serial| bits.put(serial));
            });
            bits
        });
        let class = |serial| self.record(serial).map_or(0, Record::access_class);
        let (mut looks, mut stopped) = (0_u32, false);
        self.everything.each(&|class| seen.covers_class(class), &class, |serial| {
            looks += 1;
            stopped |= looks.is_multiple_of(LOOKS) && stop.is_set();
            if stopped || within.as_ref().is_some_and(|bits| !bits.holds(serial)) {
                return;
            }
            let Some(record) = self.record(serial) else { return };
            if !self.is_found(serial, record, query, hits) {
                return;
            }
            let group = match record.kind() {
                Kind::Video => FoundGroup::Films,
                Kind::Music => FoundGroup::Music,
                Kind::Picture => FoundGroup::Pictures,
            };
            self.appearance(serial, None).into_iter().for_each(|entry| put(group, entry));
        });
    }

    /// Whether all words are found of a file, or the date that some say and all others.
    fn is_found(
        &self,
        serial: u32,
        record: Record<'_>,
        query: &TextQuery,
        hits: &[Hits<'_>],
    ) -> bool {
        let dated = query.date.as_ref().filter(|(dates, _)| dates.contains(&record.date()));
        let by_date = |at: usize| dated.is_some_and(|(_, words)| words.contains(&at));
        let open = |(at, hit): &(usize, &Hits<'_>)| !hit.titles.holds(serial) && !by_date(*at);
        let mut open = hits.iter().enumerate().filter(open).peekable();
        if open.peek().is_none() {
            return true;
        }
        let Some(tail) = record.tail() else { return false };
        let name = self.options.locale.fold(tail.name);
        let named = |hit: &Hits<'_>| {
            tail.music.as_ref().is_some_and(|music| {
                let names = music.artists.iter().chain(&music.album_artist).chain(&music.album);
                names.into_iter().any(|number| hit.names.holds(*number))
            })
        };
        open.all(|(_, hit)| name.contains(hit.word) || named(hit))
    }
}

/// The group in which a container is found.
fn group(container: &Container) -> FoundGroup {
    match container.kind {
        ContainerKind::Artist | ContainerKind::Composer => FoundGroup::Artists,
        ContainerKind::Album | ContainerKind::PhotoAlbum => FoundGroup::Albums,
        ContainerKind::Directory => FoundGroup::Folders,
        _ => FoundGroup::Lists,
    }
}

impl Window<'_> {
    fn length(&self) -> u32 {
        let page = super::browse::PAGE;
        if self.count == 0 { page } else { self.count.min(page) }
    }
}
