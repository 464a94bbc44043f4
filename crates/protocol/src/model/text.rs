//! Text that comes from outside: what peers call themselves, tags in files, lines of playlists.
//! Whatever becomes part of a record, a page or a log passes [`tame`] first (SEC-16).

use std::borrow::Cow;

/// Characters of a name, or of what a peer says in a header field.
pub const NAME: usize = 256;
/// Characters of a title, or of any other text inside a file.
pub const TITLE: usize = 1000;

/// The text in one line of at most `most` characters, without what PostgreSQL and XML cannot
/// hold: a control character becomes a blank, and what is no character at all is left out.
pub fn tame(text: &str, most: usize) -> Cow<'_, str> {
    let is_fine = |c: char| !c.is_control() && !is_none(c);
    match text.char_indices().nth(most) {
        None if text.chars().all(is_fine) => Cow::Borrowed(text),
        Some((end, _)) if text[..end].chars().all(is_fine) => Cow::Borrowed(&text[..end]),
        _ => {
            let characters = text.chars().filter(|c| !is_none(*c)).take(most);
            Cow::Owned(characters.map(|c| if c.is_control() { ' ' } else { c }).collect())
        }
    }
}

/// The same of a text that somebody owns.
pub fn tamed(text: String, most: usize) -> String {
    match tame(&text, most) {
        Cow::Borrowed(same) if same.len() == text.len() => text,
        other => other.into_owned(),
    }
}

/// The two code points of XML 1.0 (2.2) that are no characters and no control characters either.
fn is_none(c: char) -> bool {
    matches!(c, '\u{fffe}' | '\u{ffff}')
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_no_record_can_hold_is_taken_out() {
        assert!(matches!(tame("Pellworth Light", 99), Cow::Borrowed("Pellworth Light")));
        assert_eq!(tame("A\0B\u{1b}[31m\r\nC\u{ffff}", 99), "A B [31m  C");
        assert_eq!(tame("lämp", 2), "lä");
        assert_eq!(tamed("lens\u{7}".to_owned(), 4), "lens");
    }

    proptest! {
        #[test]
        fn any_text_is_valid_afterwards(text in any::<String>(), most in 0usize..40) {
            let fine = tame(&text, most);
            prop_assert!(fine.chars().count() <= most);
            prop_assert!(fine.chars().all(|c| !c.is_control() && !is_none(c)));
            prop_assert_eq!(tame(&fine, most), fine.clone(), "nothing more to do");
            let kept = text.chars().all(|c| !c.is_control() && !is_none(c));
            prop_assert!(!kept || text.starts_with(&*fine), "what is fine stays");
        }
    }
}
