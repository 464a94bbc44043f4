//! Conditional requests (RFC 9110 §13): whether what somebody has is still what there is.

use crate::{Moment, http_date, read_http_date};

/// What tells one state of a resource from another (RFC 9110 §8.8).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Validators {
    /// The strong ETag, with its quotes.
    pub etag: String,
    /// When it was last modified, to the second, where that is known.
    pub modified: Option<Moment>,
}

/// What the conditions of a request come to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Judgement {
    /// They hold, or there are none.
    Go,
    /// 304.
    NotModified,
    /// 412.
    Failed,
}

impl Validators {
    /// `Last-Modified`, where it is known.
    pub fn last_modified(&self) -> Option<String> {
        self.modified.map(http_date)
    }

    /// Judges the conditions of a GET or HEAD whose fields `field` gives by their lower-case
    /// names, in the order of RFC 9110 §13.2.2 (HTTP-14).
    pub fn judge<'a>(&self, field: impl Fn(&str) -> Option<&'a str>) -> Judgement {
        let since = |name: &str| Some((self.modified?, read_http_date(field(name)?)?));
        if let Some(list) = field("if-match") {
            if !self.is_in(list, false) {
                return Judgement::Failed;
            }
        } else if since("if-unmodified-since").is_some_and(|(modified, date)| modified > date) {
            return Judgement::Failed;
        }
        if let Some(list) = field("if-none-match") {
            if self.is_in(list, true) {
                return Judgement::NotModified;
            }
        } else if since("if-modified-since").is_some_and(|(modified, date)| modified <= date) {
            return Judgement::NotModified;
        }
        Judgement::Go
    }

    /// Whether If-Range lets the Range count (§13.1.5, HTTP-13): by the strong tag, or by exactly
    /// the date.
    pub fn allow_range(&self, if_range: Option<&str>) -> bool {
        let Some(condition) = if_range.map(str::trim) else { return true };
        let date = read_http_date(condition);
        condition == self.etag || date.is_some() && date == self.modified
    }

    /// Whether a list of tags names this one; a weak one counts only where `weak` is enough.
    fn is_in(&self, list: &str, weak: bool) -> bool {
        list.split(',').map(str::trim).any(|tag| {
            let strong = tag.strip_prefix("W/").filter(|_| weak).unwrap_or(tag);
            tag == "*" || strong == self.etag
        })
    }
}

#[cfg(test)]
mod tests {

    use super::*;

    fn judge(fields: &[(&str, &str)]) -> Judgement {
        let modified = Some(Moment::from_secs(1_767_225_607));
        let validators = Validators { etag: "\"a-1\"".into(), modified };
        validators.judge(|name| fields.iter().find(|(n, _)| *n == name).map(|(_, v)| *v))
    }

    const BEFORE: &str = "Thu, 01 Jan 2026 00:00:06 GMT";
    const EXACT: &str = "Thu, 01 Jan 2026 00:00:07 GMT";
    const AFTER: &str = "Thu, 01 Jan 2099 00:00:00 GMT";

    #[test]
    fn dates_are_compared_and_not_only_for_equality() {
        use Judgement::{Failed, Go, NotModified};
        for (date, unmodified, modified) in
            [(BEFORE, Failed, Go), (EXACT, Go, NotModified), (AFTER, Go, NotModified)]
        {
            assert_eq!(judge(&[("if-unmodified-since", date)]), unmodified, "{date}");
            assert_eq!(judge(&[("if-modified-since", date)]), modified, "{date}");
        }
        let modified = Some(Moment::from_secs(1_767_225_607));
        let validators = Validators { etag: "\"a-1\"".into(), modified };
        assert_eq!(validators.last_modified().as_deref(), Some(EXACT));
        // The older forms of a date read as well; what is no date is no condition.
        assert_eq!(
            judge(&[("if-modified-since", "Thursday, 01-Jan-26 00:00:07 GMT")]),
            NotModified
        );
        assert_eq!(judge(&[("if-modified-since", "Thu Jan  1 00:00:07 2026")]), NotModified);
        for name in ["if-modified-since", "if-unmodified-since"] {
            assert_eq!(judge(&[(name, "yesterday")]), Go);
            assert_eq!(judge(&[(name, "")]), Go);
        }
    }

    #[test]
    fn tags_come_before_dates() {
        use Judgement::{Failed, Go, NotModified};
        for (list, matches, none_matches) in [
            ("\"a-1\"", Go, NotModified),
            ("\"x\", \"a-1\"", Go, NotModified),
            ("*", Go, NotModified),
            ("W/\"a-1\"", Failed, NotModified),
            ("\"x\"", Failed, Go),
            ("a-1", Failed, Go),
        ] {
            assert_eq!(judge(&[("if-match", list)]), matches, "{list}");
            assert_eq!(judge(&[("if-none-match", list)]), none_matches, "{list}");
        }
        let both = [("if-none-match", "\"x\""), ("if-modified-since", AFTER)];
        assert_eq!(judge(&both), Go, "the date is not looked at");
        let both = [("if-match", "\"a-1\""), ("if-unmodified-since", BEFORE)];
        assert_eq!(judge(&both), Go);
        let both = [("if-match", "\"a-1\""), ("if-none-match", "\"a-1\"")];
        assert_eq!(judge(&both), NotModified);
    }

    #[test]
    fn a_range_counts_for_the_same_state_only() {
        let modified = Some(Moment::from_secs(1_767_225_607));
        let validators = Validators { etag: "\"a-1\"".into(), modified };
        for allowed in [None, Some("\"a-1\""), Some(EXACT)] {
            assert!(validators.allow_range(allowed), "{allowed:?}");
        }
        for other in ["\"x\"", "W/\"a-1\"", BEFORE, AFTER, ""] {
            assert!(!validators.allow_range(Some(other)), "{other}");
        }
        let undated = Validators { modified: None, ..validators };
        assert!(!undated.allow_range(Some("")) && !undated.allow_range(Some(EXACT)));
    }
}
