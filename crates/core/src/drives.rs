//! Which drive each part of a folder is on. A directory on whose drive another one, or none, is
//! mounted now is away: it is not empty, and what was recorded there is kept.

use std::collections::BTreeMap;

/// Drives by the path below the folder at which they begin; the folder's own top is `""`. What a
/// drive is called here stays the same when it is mounted again.
pub type Drives = BTreeMap<String, String>;

/// The paths that are away: those where another drive than recorded is mounted now, or none, or
/// one where there was none, and of which `holds` says that something is recorded there. Of two
/// where one lies below the other, the upper one.
pub fn away(recorded: &Drives, now: &Drives, holds: impl Fn(&str) -> bool) -> Vec<String> {
    let mut away: Vec<String> = Vec::new();
    let mut paths: Vec<&String> = recorded.keys().chain(now.keys()).collect();
    // Upper ones first.
    paths.sort_unstable();
    paths.dedup();
    for path in paths {
        let covered = away.iter().any(|above| is_below(path, above));
        if !covered && recorded.get(path) != now.get(path) && holds(path) {
            away.push(path.clone());
        }
    }
    away
}

/// What is to be recorded after a look at `now`, with these paths away and these others of which
/// it is not known: they keep what was recorded.
pub fn after(recorded: &Drives, now: &Drives, kept: &[String]) -> Drives {
    let is_kept = |path: &str| kept.iter().any(|above| is_below(path, above));
    let seen = now.iter().filter(|(path, _)| !is_kept(path));
    let before = recorded.iter().filter(|(path, _)| is_kept(path));
    seen.chain(before).map(|(path, drive)| (path.clone(), drive.clone())).collect()
}

/// Whether a path is a directory or lies below it; everything lies below the top.
pub fn is_below(path: &str, around: &str) -> bool {
    around.is_empty()
        || path.strip_prefix(around).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn drives(list: &[(&str, &str)]) -> Drives {
        list.iter().map(|(path, drive)| ((*path).to_owned(), (*drive).to_owned())).collect()
    }

    #[test]
    fn a_drive_that_went_or_changed_is_away_and_comes_back() {
        let recorded = drives(&[("", "house"), ("disk2", "red"), ("disk2/inner", "blue")]);
        let all = |_: &str| true;
        assert!(away(&recorded, &recorded, all).is_empty());
        let unmounted = drives(&[("", "house")]);
        assert_eq!(away(&recorded, &unmounted, all), ["disk2"]);
        let another = drives(&[("", "house"), ("disk2", "green"), ("disk2/inner", "blue")]);
        assert_eq!(away(&recorded, &another, all), ["disk2"]);
        let gone = ["disk2".to_owned()];
        assert_eq!(after(&recorded, &unmounted, &gone), recorded, "what is away stays recorded");
        assert_eq!(away(&after(&recorded, &another, &gone), &recorded, all), [""; 0]);
    }

    #[test]
    fn only_what_holds_something_can_be_away() {
        let recorded = drives(&[("", "house"), ("disk2", "red")]);
        let now = drives(&[("", "house"), ("disk3", "blue")]);
        assert!(away(&recorded, &now, |_| false).is_empty());
        assert_eq!(after(&recorded, &now, &[]), now, "it is simply as it is now");
        // Something is mounted over a directory whose files were published.
        assert_eq!(away(&recorded, &now, |path| path == "disk3"), ["disk3"]);
    }

    #[test]
    fn another_drive_below_the_top_makes_all_of_it_away() {
        let recorded = drives(&[("", "red"), ("disk2", "blue")]);
        let now = drives(&[("", "house"), ("disk2", "blue")]);
        assert_eq!(away(&recorded, &now, |_| true), [""]);
        assert!(is_below("disk2/a", "disk2") && !is_below("disk22", "disk2"));
    }
}
