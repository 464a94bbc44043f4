//! Files that belong to others: subtitles and covers, by their names.

use std::collections::BTreeMap;

use mostra_core::facts::Caption;
use mostra_core::format::FileClass;

use crate::extension::Extension;

/// Names, without extension, of pictures that show all that lies beside them, the best first.
pub const COVERS: [&str; 3] = ["cover", "folder", "front"];

/// The subtitle files of one directory, by the names of films.
#[derive(Debug, Default)]
pub struct Captions(BTreeMap<String, Vec<String>>);

impl Captions {
    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Adds one by its name; others than SubRip and WebVTT are passed over.
    pub fn put(&mut self, name: &str) {
        if matches!(class_of(name), FileClass::Captions { .. }) {
            self.0.entry(split(name).0.to_lowercase()).or_default().push(name.to_owned());
        }
    }

    /// Those for a film: `Film.srt`, `Film.en.srt`. In the order of their names. They stand next
    /// to each other, so that a directory of many thousands costs each film no more than its own.
    pub fn of(&self, film: &str) -> Vec<Caption> {
        let stem = split(film).0.to_lowercase();
        let marked = format!("{stem}.");
        let own = self.0.get_key_value(&stem).into_iter();
        let with_mark =
            self.0.range(marked.clone()..).take_while(|(name, _)| name.starts_with(&marked));
        let mut found: Vec<Caption> = own
            .chain(with_mark)
            .filter_map(|(own, names)| {
                let language = match own.strip_prefix(&marked) {
                    None => None,
                    Some(mark) if is_language(mark) => {
                        Some(mark.split('.').next().unwrap_or(mark).to_owned())
                    }
                    Some(_) => return None,
                };
                Some(names.iter().map(move |name| Caption {
                    name: name.clone(),
                    language: language.clone(),
                    webvtt: class_of(name) == FileClass::Captions { webvtt: true },
                }))
            })
            .flatten()
            .collect();
        found.sort_by(|a, b| a.name.cmp(&b.name));
        found
    }
}

/// Whether a picture is the cover of what lies beside it, and no picture of its own.
pub fn is_cover(name: &str) -> bool {
    let stem = split(name).0;
    COVERS.iter().any(|cover| cover.eq_ignore_ascii_case(stem)) && is_picture_that_shows(name)
}

/// Whether a file is a picture that can show what lies beside it.
pub fn is_picture_that_shows(name: &str) -> bool {
    matches!(class_of(name), FileClass::Media(format) if format.row().cover)
}

/// What a file is by its name.
pub fn class_of(name: &str) -> FileClass {
    FileClass::of_extension(&Extension::of(name))
}

fn split(name: &str) -> (&str, &str) {
    name.rsplit_once('.').unwrap_or((name, ""))
}

/// `en`, `eng`, `pt-br`, with or without `.forced` and the like behind.
fn is_language(mark: &str) -> bool {
    let first = mark.split('.').next().unwrap_or_default();
    let code = first.split(['-', '_']).next().unwrap_or_default();
    matches!(code.len(), 2 | 3) && code.bytes().all(|b| b.is_ascii_alphabetic())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn subtitles_belong_to_the_film_of_their_name() {
        let names =
            ["Fog.mkv", "Fog.srt", "fog.EN.srt", "Fog.pt-BR.forced.vtt", "Fog 2.srt", "x.srt"];
        let mut all = Captions::default();
        names.iter().for_each(|name| all.put(name));
        let found = all.of("Fog.mkv");
        let told: Vec<_> =
            found.iter().map(|c| (c.name.as_str(), c.language.as_deref(), c.webvtt)).collect();
        assert_eq!(
            told,
            [
                ("Fog.pt-BR.forced.vtt", Some("pt-br"), true),
                ("Fog.srt", None, false),
                ("fog.EN.srt", Some("en"), false)
            ]
        );
    }

    #[test]
    fn a_hundred_thousand_files_cost_each_film_no_more_than_its_own() {
        let mut all = Captions::default();
        (0..50_000).for_each(|n| all.put(&format!("Episode {n}.en.srt")));
        let began = std::time::Instant::now();
        let found: usize = (0..50_000).map(|n| all.of(&format!("Episode {n}.mkv")).len()).sum();
        assert_eq!(found, 50_000);
        // One by one they would be 2.5 thousand million comparisons.
        assert!(began.elapsed() < std::time::Duration::from_secs(5), "{:?}", began.elapsed());
    }

    #[test]
    fn covers_are_told_from_pictures() {
        assert!(is_cover("Folder.JPG") && !is_cover("folder.txt") && !is_cover("Quay.jpg"));
    }
}
