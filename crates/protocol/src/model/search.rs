//! SearchCriteria (requirements 6.1).

use std::borrow::Cow;
use std::cmp::Ordering;

use crate::messages::soap::Fault;
use crate::model::property::Property;

/// Criteria, read. A chain of `and` or `or` is one list, so that nesting is what the brackets
/// say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Criteria {
    /// `*`: every object in scope.
    Everything,
    /// Any of these.
    Or(Vec<Criteria>),
    /// All of these.
    And(Vec<Criteria>),
    /// `property exists true` or `false`.
    Exists(Property, bool),
    /// A comparison.
    Test(Property, Operator, String),
}

/// How a property is compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Operator {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
    Contains,
    DoesNotContain,
    DerivedFrom,
    StartsWith,
}

/// Bytes of criteria (SRCH-16).
const LENGTH: usize = 4096;
/// Brackets inside brackets.
const NESTING: usize = 32;
/// Tests in all.
const TESTS: usize = 64;

/// Reads criteria, which are at most 4 KiB: the memory taken is bounded by that.
///
/// # Errors
/// 708 for bad syntax, a property that is not in SearchCaps, or criteria beyond the limits.
pub fn parse(text: &str) -> Result<Criteria, Fault> {
    if text.len() > LENGTH {
        return Err(Fault::InvalidSearch);
    }
    let mut reader = CriteriaReader { rest: text.trim_matches(is_blank), tests: 0 };
    if reader.rest == "*" || reader.rest.is_empty() {
        return Ok(Criteria::Everything);
    }
    let criteria = reader.or(0)?;
    reader.blanks();
    if reader.rest.is_empty() { Ok(criteria) } else { Err(Fault::InvalidSearch) }
}

fn is_blank(c: char) -> bool {
    matches!(c, ' ' | '\t' | '\n' | '\u{b}' | '\u{c}' | '\r')
}

struct CriteriaReader<'a> {
    rest: &'a str,
    tests: usize,
}

impl<'a> CriteriaReader<'a> {
    fn blanks(&mut self) {
        self.rest = self.rest.trim_start_matches(is_blank);
    }

    /// A keyword in any case, when it stands alone.
    fn keyword(&mut self, word: &str) -> bool {
        self.blanks();
        let Some(head) = self.rest.get(..word.len()) else { return false };
        let after = self.rest[word.len()..].chars().next();
        let alone = after.is_none_or(|c| is_blank(c) || matches!(c, '(' | ')' | '"'));
        if alone && head.eq_ignore_ascii_case(word) {
            self.rest = &self.rest[word.len()..];
            return true;
        }
        false
    }

    fn or(&mut self, depth: usize) -> Result<Criteria, Fault> {
        let mut any = vec![self.and(depth)?];
        while self.keyword("or") {
            any.push(self.and(depth)?);
        }
        Ok(if any.len() == 1 { any.remove(0) } else { Criteria::Or(any) })
    }

    fn and(&mut self, depth: usize) -> Result<Criteria, Fault> {
        let mut all = vec![self.primary(depth)?];
        while self.keyword("and") {
            all.push(self.primary(depth)?);
        }
        Ok(if all.len() == 1 { all.remove(0) } else { Criteria::And(all) })
    }

    fn primary(&mut self, depth: usize) -> Result<Criteria, Fault> {
        self.blanks();
        if let Some(inside) = self.rest.strip_prefix('(') {
            if depth == NESTING {
                return Err(Fault::InvalidSearch);
            }
            self.rest = inside;
            let criteria = self.or(depth + 1)?;
            self.blanks();
            self.rest = self.rest.strip_prefix(')').ok_or(Fault::InvalidSearch)?;
            return Ok(criteria);
        }
        self.tests += 1;
        if self.tests > TESTS {
            return Err(Fault::InvalidSearch);
        }
        let property = self.property()?;
        if self.keyword("exists") {
            let wanted = if self.keyword("true") || self.keyword("1") {
                true
            } else if self.keyword("false") || self.keyword("0") {
                false
            } else {
                return Err(Fault::InvalidSearch);
            };
            return Ok(Criteria::Exists(property, wanted));
        }
        let operator = self.operator()?;
        Ok(Criteria::Test(property, operator, self.quoted()?))
    }

    fn property(&mut self) -> Result<Property, Fault> {
        let ends = |c: char| is_blank(c) || matches!(c, '=' | '!' | '<' | '>' | '(' | ')' | '"');
        let end = self.rest.find(ends).unwrap_or(self.rest.len());
        let (name, rest) = self.rest.split_at(end);
        self.rest = rest;
        Property::from_name(name).ok_or(Fault::InvalidSearch)
    }

    fn operator(&mut self) -> Result<Operator, Fault> {
        self.blanks();
        for (sign, operator) in [
            ("!=", Operator::NotEqual),
            ("<=", Operator::LessOrEqual),
            (">=", Operator::GreaterOrEqual),
            ("=", Operator::Equal),
            ("<", Operator::Less),
            (">", Operator::Greater),
        ] {
            if let Some(rest) = self.rest.strip_prefix(sign) {
                self.rest = rest;
                return Ok(operator);
            }
        }
        for (word, operator) in [
            ("contains", Operator::Contains),
            ("doesNotContain", Operator::DoesNotContain),
            ("derivedfrom", Operator::DerivedFrom),
            ("startsWith", Operator::StartsWith),
        ] {
            if self.keyword(word) {
                return Ok(operator);
            }
        }
        Err(Fault::InvalidSearch)
    }

    fn quoted(&mut self) -> Result<String, Fault> {
        self.blanks();
        let inside = self.rest.strip_prefix('"').ok_or(Fault::InvalidSearch)?;
        let mut value = String::new();
        let mut letters = inside.char_indices();
        while let Some((at, letter)) = letters.next() {
            match letter {
                '"' => {
                    self.rest = &inside[at + 1..];
                    return Ok(value);
                }
                '\\' => match letters.next() {
                    Some((_, next @ ('"' | '\\'))) => value.push(next),
                    // A backslash before any other character stands for itself (SRCH-3).
                    Some((_, next)) => value.extend(['\\', next]),
                    None => break,
                },
                letter => value.push(letter),
            }
        }
        Err(Fault::InvalidSearch)
    }
}

impl Criteria {
    /// Whether an object matches; `values` gives a property's values as texts, none for an
    /// absent one (SRCH-9 to SRCH-13).
    pub fn matches<'a>(&self, values: &impl Fn(Property) -> Vec<Cow<'a, str>>) -> bool {
        match self {
            Criteria::Everything => true,
            Criteria::Or(any) => any.iter().any(|c| c.matches(values)),
            Criteria::And(all) => all.iter().all(|c| c.matches(values)),
            Criteria::Exists(property, wanted) => values(*property).is_empty() != *wanted,
            Criteria::Test(property, operator, value) => {
                let all = values(*property);
                let any =
                    |operator: Operator| all.iter().any(|v| compare(*property, operator, v, value));
                match operator {
                    // Only if none matches the opposite; so an absent one does match.
                    Operator::NotEqual => !any(Operator::Equal),
                    Operator::DoesNotContain => !any(Operator::Contains),
                    operator => any(*operator),
                }
            }
        }
    }
}

fn compare(property: Property, operator: Operator, left: &str, right: &str) -> bool {
    let folded = |text: &str| match property.is_exact() {
        true => text.to_owned(),
        false => text.to_lowercase(),
    };
    match operator {
        Operator::DerivedFrom => {
            let rest = left.strip_prefix(right);
            rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
        }
        Operator::Contains => folded(left).contains(&folded(right)),
        Operator::StartsWith => folded(left).starts_with(&folded(right)),
        Operator::Equal => folded(left) == folded(right),
        Operator::NotEqual | Operator::DoesNotContain => false,
        Operator::Less => order(left, right).is_lt(),
        Operator::LessOrEqual => order(left, right).is_le(),
        Operator::Greater => order(left, right).is_gt(),
        Operator::GreaterOrEqual => order(left, right).is_ge(),
    }
}

/// Numbers by value, durations as time, all else as text; dates in ISO form compare as text.
fn order(left: &str, right: &str) -> Ordering {
    let number = |text: &str| text.trim().parse::<f64>().ok().filter(|n| n.is_finite());
    if let (Some(l), Some(r)) = (number(left), number(right)) {
        return l.total_cmp(&r);
    }
    if let (Some(l), Some(r)) = (seconds(left), seconds(right)) {
        return l.total_cmp(&r);
    }
    left.to_lowercase().cmp(&right.to_lowercase())
}

/// `H+:MM:SS` with or without a fraction.
fn seconds(text: &str) -> Option<f64> {
    let mut parts = text.trim().split(':');
    let hours: u32 = parts.next()?.parse().ok()?;
    let minutes: u32 = parts.next()?.parse().ok()?;
    let seconds: f64 = parts.next()?.parse().ok()?;
    parts
        .next()
        .is_none()
        .then_some(f64::from(hours) * 3600.0 + f64::from(minutes) * 60.0 + seconds)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn test(property: Property, operator: Operator, value: &str) -> Criteria {
        Criteria::Test(property, operator, value.into())
    }

    #[test]
    fn and_binds_tighter_than_or_and_brackets_override() {
        let a = test(Property::Title, Operator::Equal, "a");
        let b = test(Property::Title, Operator::Equal, "b");
        let c = Criteria::Exists(Property::Date, true);
        let parsed = parse(r#"dc:title = "a" or dc:title = "b" and dc:date exists true"#).unwrap();
        let right = Criteria::And(vec![b.clone(), c.clone()]);
        assert_eq!(parsed, Criteria::Or(vec![a.clone(), right]));
        let parsed = parse(r#"(dc:title = "a" or dc:title = "b") and dc:date exists true"#);
        assert_eq!(parsed, Ok(Criteria::And(vec![Criteria::Or(vec![a, b]), c])));
    }

    #[test]
    fn what_players_write_is_read() {
        let derived =
            |class: &str| test(Property::Class, Operator::DerivedFrom, &format!("object.{class}"));
        let audio = derived("item.audioItem");
        for (text, read) in [
            ("", Criteria::Everything),
            (" * ", Criteria::Everything),
            (r#"upnp:class derivedfrom "object.item.audioItem""#, audio.clone()),
            (r#"upnp:class DerivedFrom"object.item.audioItem""#, audio.clone()),
            (
                r#"(upnp:class derivedfrom "object.item.audioItem")and(@refID exists 0)"#,
                Criteria::And(vec![audio, Criteria::Exists(Property::RefId, false)]),
            ),
            (r#"dc:title="a""#, test(Property::Title, Operator::Equal, "a")),
            (r#"res@size>="7""#, test(Property::Size, Operator::GreaterOrEqual, "7")),
            (r#"dc:title contains "\\""#, test(Property::Title, Operator::Contains, "\\")),
            (r#"dc:title = "a\"b\q""#, test(Property::Title, Operator::Equal, "a\"b\\q")),
        ] {
            assert_eq!(parse(text), Ok(read), "{text}");
        }
    }

    #[test]
    fn errors_and_limits() {
        let deep = |n: usize| format!("{}dc:title = \"a\"{}", "(".repeat(n), ")".repeat(n));
        let wide = |n: usize| vec!["@id = \"a\""; n].join(" or ");
        assert!(parse(&deep(NESTING)).is_ok() && parse(&wide(TESTS)).is_ok());
        let long = format!("dc:title = \"{}\"", "a".repeat(LENGTH));
        for wrong in [
            "dc:title contains water",
            "dc:title = \"a",
            "(dc:title = \"a\"",
            "dc:title like \"a\"",
            "and",
            "x:mood = \"calm\"",
            "dc:title = \"a\" dc:title = \"b\"",
            "dc:title exists maybe",
            "* and *",
            "DC:TITLE = \"a\"",
            "dc:title = \"a\\",
            &deep(NESTING + 1),
            &wide(TESTS + 1),
            &long,
        ] {
            assert_eq!(parse(wrong), Err(Fault::InvalidSearch), "{wrong}");
        }
    }

    /// The catalogue of requirements 6.2: (id, property, value).
    const HARBOUR: &str = "\
        f1 class container.storageFolder; f1 title Harbour;\
        v1 class item.videoItem.movie; v1 title Tidewalk; v1 genre Drama; v1 date 2021-06-04; v1 resolution 1920x1080;\
        v2 class item.videoItem; v2 title Kite \"Red\" test; v2 date 2019-02-11;\
        v3 class item.videoItem; v3 title Ropes \\ Knots;\
        a1 class item.audioItem.musicTrack; a1 title Low Water; a1 artist Ana Brisk; a1 genre Folk; a1 date 2018-01-01;\
        a2 class item.audioItem.musicTrack; a2 title High Water; a2 artist Ana Brisk & Co; a2 genre Folk;\
        a3 class item.audioItem.musicTrack; a3 title Engine; a3 artist Volt Nine; a3 genre Electronic;\
        p1 class item.imageItem.photo; p1 title Quay 0031; p1 date 2022-08-15; p1 resolution 4000x3000;\
        p2 class item.imageItem.photo; p2 title Water lilies; p2 date 2023-05-01;\
        m1 class container.album.musicAlbum; m1 title Estuary; m1 artist Ana Brisk;\
        r1 class item.audioItem.musicTrack; r1 title Low Water; r1 artist Ana Brisk; r1 genre Folk; r1 date 2018-01-01; r1 ref a1";

    #[test]
    fn the_worked_examples() {
        let facts: Vec<[&str; 3]> = HARBOUR
            .split(';')
            .map(|fact| {
                let mut parts = fact.trim().splitn(3, ' ');
                [(); 3].map(|()| parts.next().unwrap())
            })
            .collect();
        let found = |criteria: &str| {
            let criteria = parse(criteria).unwrap();
            let mut found = Vec::new();
            for id in ["f1", "v1", "v2", "v3", "a1", "a2", "a3", "p1", "p2", "m1", "r1"] {
                let values = |property: Property| {
                    let name = match property {
                        Property::Class => "class",
                        Property::Title => "title",
                        Property::Genre => "genre",
                        Property::Date => "date",
                        Property::Resolution => "resolution",
                        Property::Artist => "artist",
                        Property::RefId => "ref",
                        _ => "",
                    };
                    let of = facts.iter().filter(|f| f[0] == id && f[1] == name);
                    of.map(|f| match name {
                        "class" => Cow::from(format!("object.{}", f[2])),
                        _ => Cow::from(f[2]),
                    })
                    .collect()
                };
                if criteria.matches(&values) {
                    found.push(id);
                }
            }
            found.join(" ")
        };
        for (criteria, expected) in [
            ("*", "f1 v1 v2 v3 a1 a2 a3 p1 p2 m1 r1"),
            (r#"upnp:class derivedfrom "object.item.videoItem""#, "v1 v2 v3"),
            (r#"upnp:class derivedfrom "object.item.video""#, ""),
            (r#"upnp:class = "object.item.videoItem""#, "v2 v3"),
            (r#"dc:title contains "water""#, "a1 a2 p2 r1"),
            (
                r#"(upnp:class derivedfrom "object.item.audioItem") and (@refID exists false)"#,
                "a1 a2 a3",
            ),
            (r#"upnp:artist = "ana brisk""#, "a1 m1 r1"),
            (
                r#"upnp:genre = "Folk" or upnp:genre = "Electronic" and dc:date exists true"#,
                "a1 a2 r1",
            ),
            (
                r#"(upnp:genre = "Folk" or upnp:genre = "Electronic") and dc:date exists true"#,
                "a1 r1",
            ),
            (r#"dc:title = "Kite \"Red\" test""#, "v2"),
            (r#"dc:title contains "\\""#, "v3"),
            (r#"dc:date >= "2022-01-01" and dc:date < "2023-01-01""#, "p1"),
            (r#"upnp:class derivedfrom "object.item.audioItem" and @refID exists true"#, "r1"),
            (
                r#"dc:date != "2021-06-04" and upnp:class derivedfrom "object.item.videoItem""#,
                "v2 v3",
            ),
            (r#"dc:title doesNotContain "e" and upnp:class startsWith "object.item""#, "p1"),
        ] {
            assert_eq!(found(criteria), expected, "{criteria}");
        }
    }

    #[test]
    fn numbers_times_and_texts_compare_as_what_they_are() {
        for (left, right) in
            [("9", "10"), ("0:09:30.000", "0:10:00"), ("2019-02-11", "2021"), ("a", "B")]
        {
            assert!(order(left, right).is_lt(), "{left} {right}");
        }
        // As text, each of these would stand the other way round.
        for (left, right) in [
            ("9:00:00", "10:00:00"),
            ("0:09:59.5", "0:10:0.25"),
            ("1:2:30", "1:02:31"),
            ("0:59:0", "1:0:0"),
        ] {
            assert!(order(left, right).is_lt(), "{left} {right}");
        }
        assert_eq!(seconds("1:02:03.5"), Some(3723.5));
        assert_eq!((seconds("1:02"), seconds("1:02:03:04"), seconds("x:1:1")), (None, None, None));
    }

    proptest! {
        #[test]
        fn nothing_makes_it_stumble(text in "[()\"=!<>a-z:@\\\\ ]{0,80}") {
            let _ = parse(&text);
        }
        #[test]
        fn any_value_can_be_quoted(value in "\\PC{0,30}") {
            let quoted = value.replace('\\', "\\\\").replace('"', "\\\"");
            let parsed = parse(&format!("dc:title = \"{quoted}\""));
            prop_assert_eq!(parsed, Ok(test(Property::Title, Operator::Equal, &value)));
        }
    }
}
