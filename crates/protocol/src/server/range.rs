//! The Range field (RFC 9110 §14) for a resource of known size.

/// What to send for a request's Range.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Selection {
    /// 200 and everything: no Range, an unreadable one, another unit, or several ranges that
    /// do not join (HTTP-11, HTTP-12).
    Whole,
    /// 206 and the bytes first to last, both counted.
    Part {
        /// First byte.
        first: u64,
        /// Last byte, included.
        last: u64,
    },
    /// 416.
    Unsatisfiable,
}

/// Reads a Range field for a resource of `size` bytes.
pub fn select(field: Option<&str>, size: u64) -> Selection {
    let Some(set) = field.and_then(|f| {
        let (unit, set) = f.split_once('=')?;
        unit.trim().eq_ignore_ascii_case("bytes").then_some(set)
    }) else {
        return Selection::Whole;
    };
    let mut parts = Vec::new();
    let mut any = false;
    for spec in set.split(',').map(str::trim).filter(|s| !s.is_empty()).take(33) {
        any = true;
        match read_one(spec, size) {
            None => return Selection::Whole,
            Some(None) => {}
            Some(Some(part)) => parts.push(part),
        }
    }
    if !any || parts.len() > 32 {
        return Selection::Whole;
    }
    parts.sort_unstable();
    let Some(&(first, mut last)) = parts.first() else { return Selection::Unsatisfiable };
    for (next_first, next_last) in &parts[1..] {
        if *next_first > last.saturating_add(1) {
            return Selection::Whole;
        }
        last = last.max(*next_last);
    }
    Selection::Part { first, last }
}

/// `None` for bad syntax, `Some(None)` for a range with no byte in it.
fn read_one(spec: &str, size: u64) -> Option<Option<(u64, u64)>> {
    let (from, to) = spec.split_once('-')?;
    let digits = |s: &str| s.bytes().all(|b| b.is_ascii_digit());
    if !digits(from) || !digits(to) {
        return None;
    }
    // More digits than a u64 holds mean a place far beyond any file.
    let number = |s: &str| s.parse::<u64>().unwrap_or(u64::MAX);
    match (from.is_empty(), to.is_empty()) {
        (true, true) => None,
        (true, false) => {
            let n = number(to).min(size);
            Some((n > 0).then(|| (size - n, size - 1)))
        }
        (false, _) => {
            let first = number(from);
            let last = if to.is_empty() { u64::MAX } else { number(to) };
            if last < first {
                return None;
            }
            Some((first < size).then(|| (first, last.min(size.saturating_sub(1)))))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn forms() {
        let part = |first, last| Selection::Part { first, last };
        for (field, expected) in [
            ("bytes=0-1", part(0, 1)),
            ("bytes=0-", part(0, 99)),
            ("Bytes = 90-200", part(90, 99)),
            ("bytes=-5", part(95, 99)),
            ("bytes=-500", part(0, 99)),
            ("bytes=100-", Selection::Unsatisfiable),
            ("bytes=-0", Selection::Unsatisfiable),
            ("bytes=5-4", Selection::Whole),
            ("bytes=a-4", Selection::Whole),
            ("items=0-4", Selection::Whole),
            ("bytes=0-1,50-60", Selection::Whole),
            ("bytes=0-10,11-20", part(0, 20)),
            ("bytes=99999999999999999999-", Selection::Unsatisfiable),
        ] {
            assert_eq!(select(Some(field), 100), expected, "{field}");
        }
        assert_eq!(select(None, 100), Selection::Whole);
        assert_eq!(select(Some("bytes=0-"), 0), Selection::Unsatisfiable);
    }

    proptest! {
        #[test]
        fn parts_lie_inside(field in "bytes=[-0-9, ]{0,20}", size in 0u64..200) {
            if let Selection::Part { first, last } = select(Some(&field), size) {
                prop_assert!(first <= last && last < size);
            }
        }
    }
}
