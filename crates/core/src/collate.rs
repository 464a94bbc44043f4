//! The order in which people expect names.

use unicode_normalization::UnicodeNormalization;

/// A key by whose bytes names sort as people expect: without case and accents, numbers by
/// value (2 before 10), then by the text itself so that the order is total.
pub fn sort_key(text: &str) -> String {
    let mut key = String::with_capacity(text.len() + 8);
    let plain: String = text
        .nfkd()
        .filter(|c| !unicode_normalization::char::is_combining_mark(*c))
        .flat_map(char::to_lowercase)
        .collect();
    let mut rest = plain.chars().peekable();
    while let Some(c) = rest.next() {
        if !c.is_ascii_digit() {
            key.push(c);
            continue;
        }
        let mut digits = String::from(c);
        while let Some(d) = rest.next_if(char::is_ascii_digit) {
            digits.push(d);
        }
        let value = digits.trim_start_matches('0');
        // The count of digits goes first, as one character, so that 9 < 10 < 100.
        key.push('0');
        key.push(char::from_u32(0x30 + value.len().min(1000) as u32).unwrap_or('0'));
        key.push_str(value);
    }
    key.push('\u{1}');
    key.push_str(text);
    key
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn people_find_what_they_expect() {
        let mut names = vec!["Tide 10", "tide 2", "Ébb", "ebb 1", "Tide 1", "Fog", "tide 02b"];
        names.sort_by_key(|n| sort_key(n));
        assert_eq!(names, ["Ébb", "ebb 1", "Fog", "Tide 1", "tide 2", "tide 02b", "Tide 10"]);
    }

    proptest! {
        #[test]
        fn the_order_is_total(a in "\\PC{0,12}", b in "\\PC{0,12}") {
            prop_assert_eq!(a == b, sort_key(&a) == sort_key(&b));
        }
        #[test]
        fn numbers_sort_by_value(a in 0u64.., b in 0u64..) {
            let text = |n: u64| sort_key(&format!("Reel {n}"));
            prop_assert_eq!(a.cmp(&b), text(a).cmp(&text(b)));
        }
    }
}
