//! The order in which people expect names. Which letters are letters of their own, [`Locale`]
//! says.

use std::cmp::Ordering;

/// Compares two folded texts as people expect: numbers by value (2 before 10), the rest by
/// letter.
pub fn natural_order(a: &str, b: &str) -> Ordering {
    natural_bytes(a.as_bytes(), b.as_bytes())
}

/// [`natural_order`] of texts that are known to be UTF-8.
pub(crate) fn natural_bytes(a: &[u8], b: &[u8]) -> Ordering {
    let (mut i, mut j) = (0, 0);
    loop {
        match (a.get(i), b.get(j)) {
            (None, None) => break,
            (None, _) => return Ordering::Less,
            (_, None) => return Ordering::Greater,
            (Some(x), Some(y)) if x.is_ascii_digit() && y.is_ascii_digit() => {
                let (m, n) = (digits(&a[i..]), digits(&b[j..]));
                let (p, q) = (significant(&a[i..i + m]), significant(&b[j..j + n]));
                let order = p.len().cmp(&q.len()).then_with(|| p.cmp(q));
                if order.is_ne() {
                    return order;
                }
                i += m;
                j += n;
            }
            (Some(x), Some(y)) if x == y => {
                i += 1;
                j += 1;
            }
            (Some(x), Some(y)) => return x.cmp(y),
        }
    }
    // Equal up to leading zeros.
    a.cmp(b)
}

/// The beginning of a folded text as a number that compares as [`natural_order`] does, as far
/// as it goes.
pub(crate) fn beginning(text: &[u8]) -> u128 {
    let mut bytes = [0; 16];
    let (mut to, mut at) = (0, 0);
    let mut push = |byte: u8| {
        bytes[to] = byte;
        to += 1;
        to < 16
    };
    while let Some(byte) = text.get(at) {
        if !byte.is_ascii_digit() {
            if !push(*byte) {
                break;
            }
            at += 1;
            continue;
        }
        // A number: first that it is one, then how long it is, which says more than its digits.
        let run = digits(&text[at..]);
        let digits = significant(&text[at..at + run]);
        let length = digits.len().min(255) as u8;
        if ![b'0', length].iter().chain(digits).all(|byte| push(*byte)) || length == 255 {
            break;
        }
        at += run;
    }
    u128::from_be_bytes(bytes)
}

fn digits(text: &[u8]) -> usize {
    text.iter().take_while(|b| b.is_ascii_digit()).count()
}

fn significant(digits: &[u8]) -> &[u8] {
    let zeros = digits.iter().take_while(|b| **b == b'0').count();
    &digits[zeros..]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Locale;
    use proptest::prelude::*;

    fn order(a: &str, b: &str) -> Ordering {
        let locale = Locale::default();
        natural_order(&locale.fold(a), &locale.fold(b))
    }

    #[test]
    fn people_find_what_they_expect() {
        let mut names = vec!["Tide 10", "tide 2", "Ébb", "ebb 1", "Tide 1", "Fog", "tide 02b"];
        names.sort_by(|a, b| order(a, b));
        assert_eq!(names, ["Ébb", "ebb 1", "Fog", "Tide 1", "tide 2", "tide 02b", "Tide 10"]);
    }

    proptest! {
        #[test]
        fn the_order_is_total(a in "[a-c0-9]{0,8}", b in "[a-c0-9]{0,8}", c in "[a-c0-9]{0,8}") {
            prop_assert_eq!(natural_order(&a, &b).is_eq(), a == b);
            prop_assert_eq!(natural_order(&a, &b), natural_order(&b, &a).reverse());
            let (x, y) = (format!("{a}0{b}{c}"), format!("{a}{c}{b}"));
            let begin = beginning(x.as_bytes()).cmp(&beginning(y.as_bytes()));
            prop_assert!(begin.is_eq() || begin == natural_order(&x, &y));
            let begin = beginning(a.as_bytes()).cmp(&beginning(b.as_bytes()));
            prop_assert!(begin.is_eq() || begin == natural_order(&a, &b));
            if natural_order(&a, &b).is_lt() && natural_order(&b, &c).is_lt() {
                prop_assert!(natural_order(&a, &c).is_lt());
            }
        }
        #[test]
        fn numbers_sort_by_value(a in 0u64.., b in 0u64..) {
            let text = |n: u64| format!("Reel {n}");
            prop_assert_eq!(a.cmp(&b), order(&text(a), &text(b)));
        }
    }
}
