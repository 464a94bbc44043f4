//! Files that belong to others: subtitles and covers, by their names.

use mostra_core::facts::Caption;

use crate::extension::Extension;

/// Names, without extension, of pictures that show all that lies beside them, the best first.
pub const COVERS: [&str; 3] = ["cover", "folder", "front"];
const PICTURES: [&str; 4] = ["jpg", "jpeg", "png", "webp"];

/// The subtitle files for a film, among the names in its directory: `Film.srt`,
/// `Film.en.srt`. In the order of their names.
pub fn captions(film: &str, names: &[&str]) -> Vec<Caption> {
    let stem = split(film).0.to_lowercase();
    let mut found: Vec<Caption> = names
        .iter()
        .filter_map(|name| {
            let (own, extension) = split(name);
            let extension = extension.to_lowercase();
            if extension != "srt" && extension != "vtt" {
                return None;
            }
            let rest = own.to_lowercase();
            let rest = rest.strip_prefix(&stem)?;
            let language = match rest.strip_prefix('.') {
                None if rest.is_empty() => None,
                Some(mark) if is_language(mark) => {
                    Some(mark.split('.').next().unwrap_or(mark).to_owned())
                }
                _ => return None,
            };
            Some(Caption { name: (*name).to_owned(), language, webvtt: extension == "vtt" })
        })
        .collect();
    found.sort_by(|a, b| a.name.cmp(&b.name));
    found
}

/// Whether a picture is the cover of what lies beside it, and no picture of its own.
pub fn is_cover(name: &str) -> bool {
    let stem = split(name).0;
    COVERS.iter().any(|cover| cover.eq_ignore_ascii_case(stem))
        && PICTURES.contains(&&*Extension::of(name))
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
        let found = captions("Fog.mkv", &names);
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
    fn covers_are_told_from_pictures() {
        assert!(is_cover("Folder.JPG") && !is_cover("folder.txt") && !is_cover("Quay.jpg"));
    }
}
