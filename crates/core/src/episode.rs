//! Episodes of series, read from the names of files and of the folders around them.

use crate::facts::Episode;

/// Reads series, season and number from names, the file's own last: `Lantern Row S01E02`,
/// `Lantern Row 1x02`, or `Lantern Row/Season 1/02 Fog`. `None` for what is no episode.
pub fn read(names: &[String]) -> Option<Episode> {
    let (file, around) = names.split_last()?;
    let stem = file.rsplit_once('.').map_or(file.as_str(), |(stem, _)| stem);
    let season_around = around.last().and_then(|name| season_folder(name));
    if let Some((before, season, number)) = marked(stem) {
        let own = tidy(before);
        let above = || {
            let depth = around.len().checked_sub(1 + usize::from(season_around.is_some()))?;
            around.get(depth).map(|name| tidy(name))
        };
        let series = if own.is_empty() { above()? } else { own };
        return Some(Episode { series, season, number });
    }
    // Without a mark in its name, a file is an episode only in a folder for a season.
    let season = season_around?;
    let series = tidy(around.get(around.len().checked_sub(2)?)?);
    let digits: String = stem.trim_start().chars().take_while(char::is_ascii_digit).collect();
    let rest = stem.trim_start().chars().nth(digits.len());
    let stands_alone = rest.is_none_or(|c| !c.is_alphanumeric());
    let number = digits.parse().ok().filter(|_| stands_alone && digits.len() <= 3)?;
    (!series.is_empty()).then_some(Episode { series, season, number })
}

/// The number at the beginning of a track's file name: `07 Low Water`, `7. Low Water`.
pub fn track(name: &str) -> Option<u16> {
    let digits = name.bytes().take_while(u8::is_ascii_digit).count();
    let rest = name.as_bytes().get(digits)?;
    let number = name[..digits].parse().ok().filter(|n| *n > 0 && digits <= 3)?;
    matches!(rest, b' ' | b'.' | b'-' | b'_').then_some(number)
}

/// `S01E02`, `s1 e2` or `1x02` in a name: what stands before, season and number.
fn marked(stem: &str) -> Option<(&str, u16, u16)> {
    let bytes = stem.as_bytes();
    let starts_word = |at: usize| at == 0 || !bytes[at - 1].is_ascii_alphanumeric();
    for at in 0..bytes.len() {
        if !starts_word(at) || !stem.is_char_boundary(at) {
            continue;
        }
        let rest = &bytes[at..];
        let season_word = rest[0].eq_ignore_ascii_case(&b's');
        let after_word = &rest[usize::from(season_word)..];
        let (season, used) = number(after_word, if season_word { 4 } else { 2 });
        let Some(season) = season else { continue };
        let mut tail = &after_word[used..];
        if season_word {
            while let [b' ' | b'.' | b'_' | b'-', more @ ..] = tail {
                tail = more;
            }
        }
        let mark = if season_word { b'e' } else { b'x' };
        let [letter, tail @ ..] = tail else { continue };
        if !letter.eq_ignore_ascii_case(&mark) {
            continue;
        }
        let (episode, used) = number(tail, 4);
        // 1920x1080 is no episode.
        let ends = tail.get(used).is_none_or(|b| !b.is_ascii_digit());
        if let Some(episode) = episode.filter(|_| ends && (season_word || used <= 3)) {
            return Some((&stem[..at], season, episode));
        }
    }
    None
}

/// A number at the beginning, of at most so many digits, and how many it has.
fn number(bytes: &[u8], most: usize) -> (Option<u16>, usize) {
    let length = bytes.iter().take(most).take_while(|b| b.is_ascii_digit()).count();
    let text = std::str::from_utf8(&bytes[..length]).unwrap_or_default();
    (text.parse().ok(), length)
}

/// `Season 1`, `Series 02`, `S1`, `Specials`.
fn season_folder(name: &str) -> Option<u16> {
    let lower = name.trim().to_lowercase();
    if matches!(lower.as_str(), "specials" | "extras") {
        return Some(0);
    }
    let rest = ["season", "series", "staffel", "saison", "s"]
        .into_iter()
        .find_map(|word| lower.strip_prefix(word))?;
    rest.trim_matches([' ', '.', '_', '-']).parse().ok()
}

/// A name without the separators that stand for blanks, and without a year at its end.
fn tidy(name: &str) -> String {
    let spaced = name.replace(['.', '_'], " ");
    let text = spaced.trim_matches([' ', '-', '(', '[']);
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_tell_track_numbers() {
        let told = ["07 Low.mp3", "7. Low.mp3", "007-Low.mp3", "1999.mp3", "Low 7.mp3", "0 x"];
        assert_eq!(told.map(track), [Some(7), Some(7), Some(7), None, None, None]);
        assert_eq!(track("12.mp3"), Some(12));
    }

    #[test]
    fn names_tell_series_season_and_number() {
        for (path, expected) in [
            ("Lantern Row S01E02.mkv", Some(("Lantern Row", 1, 2))),
            ("Lantern.Row.s1e2.Fog.mkv", Some(("Lantern Row", 1, 2))),
            ("Lantern Row - 1x02 - Fog.mkv", Some(("Lantern Row", 1, 2))),
            ("Lantern Row/Season 1/S01E02 Fog.mkv", Some(("Lantern Row", 1, 2))),
            ("Lantern Row/S01E02.mkv", Some(("Lantern Row", 1, 2))),
            ("Lantern Row/Season 01/02 Fog.mkv", Some(("Lantern Row", 1, 2))),
            ("Lantern Row/Specials/01.mkv", Some(("Lantern Row", 0, 1))),
            ("Lantern Row S2019E100.mkv", Some(("Lantern Row", 2019, 100))),
            ("Fog signal 1920x1080.mkv", None),
            ("Fog signal.mkv", None),
            ("Ships 12.mkv", None),
            ("Season 1/02 Fog.mkv", None),
            ("Lantern Row/Season 1/2019 Fog.mkv", None),
            ("Sessions 4.mkv", None),
            ("été S01E03.mkv", Some(("été", 1, 3))),
        ] {
            let names: Vec<String> = path.split('/').map(str::to_owned).collect();
            let read = read(&names);
            let told = read.as_ref().map(|e| (e.series.as_str(), e.season, e.number));
            assert_eq!(told, expected, "{path}");
        }
    }
}
