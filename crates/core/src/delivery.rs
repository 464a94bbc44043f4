//! What a request for a resource is answered: status, fields, and which part of it is sent. The
//! one place that says so, for every resource and for both listeners.

use std::borrow::Cow;

use mostra_protocol::model::dlna::{TransferMode, TransferModeError};
use mostra_protocol::model::npt::{self, TimeRange};
use mostra_protocol::server::conditions::{Judgement, Validators};
use mostra_protocol::server::range::{self, Selection};

use crate::resource::{Length, Resource, Source};

/// A request for a resource, as far as it decides the answer.
#[derive(Clone, Copy)]
pub struct ResourceRequest<'a> {
    /// Whether it is HEAD.
    pub head: bool,
    /// Whether Range counts on HEAD as well, by trait (HTTP-12).
    pub head_range: bool,
    /// The fields by their names in small letters.
    pub field: &'a dyn Fn(&str) -> Option<&'a str>,
}

/// Which part of a resource is sent. Of HEAD, the one that GET would send.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Span {
    /// Some bytes of a resource of known length.
    Bytes {
        /// The first.
        first: u64,
        /// How many.
        length: u64,
    },
    /// From a time on, in milliseconds, to another or the end.
    Time {
        /// Where it begins.
        from: u64,
        /// Where it ends.
        to: Option<u64>,
    },
    /// All of it, whatever that comes to.
    Whole,
}

/// Fields of an answer, names in small letters.
pub type Fields = Vec<(Cow<'static, str>, String)>;

fn put(fields: &mut Fields, name: &'static str, value: impl Into<String>) {
    fields.push((name.into(), value.into()));
}

/// How a request is answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Delivery {
    /// The HTTP status.
    pub status: u16,
    /// Fields beside those that every answer has. Content-Length is the sender's.
    pub fields: Fields,
    /// What is sent; nothing for statuses that come without.
    pub span: Option<Span>,
}

impl Delivery {
    /// An answer without fields and bytes.
    pub fn bare(status: u16) -> Delivery {
        Delivery { status, fields: Vec::new(), span: None }
    }

    /// 503: it can be had later.
    pub fn busy(seconds: u64) -> Delivery {
        Delivery {
            fields: vec![("retry-after".into(), seconds.to_string())],
            ..Delivery::bare(503)
        }
    }

    /// The bytes that are sent, as first and number.
    pub fn bytes(&self) -> Option<(u64, u64)> {
        match self.span? {
            Span::Bytes { first, length } => Some((first, length)),
            Span::Time { .. } | Span::Whole => None,
        }
    }
}

/// Plans the answer to a device's request: the DLNA fields, then conditions and ranges.
/// `validators` tell the state of what was opened, where it has one.
pub fn to_device(
    request: ResourceRequest<'_>,
    resource: &Resource,
    validators: Option<&Validators>,
) -> Delivery {
    let mut fields = Vec::new();
    let time = match dlna(request, resource, &mut fields) {
        Ok(time) => time,
        Err(error) => return Delivery::bare(error.status()),
    };
    put(&mut fields, "content-type", resource.info.mime.clone());
    if matches!(resource.source, Source::Picture(_) | Source::Captions { .. }) {
        // The path names what it shows, so it never changes (CDS-58).
        put(&mut fields, "cache-control", "max-age=2592000");
    }
    if let Some(time) = time {
        return by_time(time, resource, fields);
    }
    let mut delivery = plain(request, resource.length, validators);
    fields.append(&mut delivery.fields);
    if resource.info.live() {
        put(&mut fields, "realtimeinfo.dlna.org", "DLNA.ORG_TLAG=*");
    }
    Delivery { fields, ..delivery }
}

/// Plans the answer by conditions and ranges alone, as for a browser.
pub fn plain(
    request: ResourceRequest<'_>,
    length: Length,
    validators: Option<&Validators>,
) -> Delivery {
    let mut fields = Vec::new();
    // Of unknown length, Range means nothing (HTTP-15).
    let Some(size) = length.known() else {
        put(&mut fields, "accept-ranges", "none".to_owned());
        return Delivery { status: 200, fields, span: Some(Span::Whole) };
    };
    put(&mut fields, "accept-ranges", "bytes".to_owned());
    if let Some(validators) = validators {
        put(&mut fields, "etag", validators.etag.clone());
        fields.extend(validators.last_modified().map(|date| ("last-modified".into(), date)));
        match validators.judge(request.field) {
            Judgement::Go => {}
            Judgement::NotModified => return Delivery { status: 304, fields, span: None },
            Judgement::Failed => return Delivery { status: 412, fields, span: None },
        }
    }
    let if_range = (request.field)("if-range");
    let counts = (!request.head || request.head_range)
        && validators.is_none_or(|validators| validators.allow_range(if_range));
    let (status, span) = match range::select((request.field)("range").filter(|_| counts), size) {
        Selection::Whole => (200, Some(Span::Bytes { first: 0, length: size })),
        Selection::Part { first, last } => {
            put(&mut fields, "content-range", format!("bytes {first}-{last}/{size}"));
            (206, Some(Span::Bytes { first, length: last - first + 1 }))
        }
        Selection::Unsatisfiable => {
            put(&mut fields, "content-range", format!("bytes */{size}"));
            (416, None)
        }
    };
    Delivery { status, fields, span }
}

/// Why a DLNA field of a request is not followed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
enum FieldError {
    #[error("it is no such field")]
    Malformed,
    #[error("the resource cannot be had so")]
    Unsupported,
    #[error(transparent)]
    TransferMode(#[from] TransferModeError),
}

impl FieldError {
    fn status(self) -> u16 {
        match self {
            FieldError::Malformed => 400,
            FieldError::Unsupported => 406,
            FieldError::TransferMode(error) => error.status(),
        }
    }
}

/// The DLNA fields of the answer (HTTP-17 to HTTP-22), and the part that is asked for by time.
///
/// # Errors
/// [`FieldError`] for what the resource cannot do, and for what is no such field.
fn dlna(
    request: ResourceRequest<'_>,
    resource: &Resource,
    fields: &mut Fields,
) -> Result<Option<TimeRange>, FieldError> {
    let time = match (request.field)("timeseekrange.dlna.org") {
        None => None,
        // What is no time says so first (HTTP-27).
        Some(text) => match npt::read(text) {
            None => return Err(FieldError::Malformed),
            Some(_) if !resource.info.seek.time => return Err(FieldError::Unsupported),
            Some(time) => Some(time),
        },
    };
    if (request.field)("playspeed.dlna.org").is_some_and(|speed| speed.trim() != "speed=1") {
        return Err(FieldError::Unsupported);
    }
    let asked = (request.field)("transfermode.dlna.org");
    let mode = TransferMode::choose(asked, resource.info.flags)?;
    put(fields, "transfermode.dlna.org", mode.word().to_owned());
    match (request.field)("getcontentfeatures.dlna.org").map(str::trim) {
        None => {}
        Some("1") => put(fields, "contentfeatures.dlna.org", resource.info.features()),
        Some(_) => return Err(FieldError::Malformed),
    }
    Ok(time)
}

/// The answer to a request for a part by time, beside which Range does not count (HTTP-25,
/// HTTP-26, HTTP-28).
fn by_time(time: TimeRange, resource: &Resource, mut fields: Fields) -> Delivery {
    let duration = resource.duration_ms;
    if duration.is_some_and(|duration| time.from >= duration) {
        return Delivery::bare(416);
    }
    let to = match (time.to, duration) {
        (Some(to), Some(duration)) => Some(to.min(duration)),
        (to, duration) => to.or(duration),
    };
    let seconds = |ms: u64| format!("{}.{:03}", ms / 1000, ms % 1000);
    let end = to.map_or_else(String::new, seconds);
    let whole = duration.map_or_else(|| "*".to_owned(), seconds);
    let range = format!("npt={}-{end}/{whole}", seconds(time.from));
    put(&mut fields, "timeseekrange.dlna.org", range);
    Delivery { status: 200, fields, span: Some(Span::Time { from: time.from, to }) }
}

#[cfg(test)]
mod tests {
    use mostra_protocol::Moment;
    use std::collections::HashMap;

    use mostra_protocol::model::dlna::{FLAGS_FILE, FLAGS_LIVE, ProtocolInfo, Seek};

    use super::*;

    fn resource(length: Length, seek: Seek) -> Resource {
        let flags = if length == Length::Unknown { FLAGS_LIVE } else { FLAGS_FILE };
        let mime = "video/mp4".into();
        let info = ProtocolInfo { mime, profile: None, seek, converted: false, flags, any: false };
        Resource { source: Source::File, info, length, duration_ms: Some(60_000) }
    }

    fn file() -> Resource {
        resource(Length::Known(1000), Seek::BYTES)
    }

    fn planned(resource: &Resource, head: bool, fields: &[(&str, &str)]) -> Delivery {
        let fields: HashMap<String, String> =
            fields.iter().map(|(name, value)| ((*name).into(), (*value).into())).collect();
        let field = |name: &str| fields.get(name).map(|value: &String| &*value.clone().leak());
        let modified = Some(Moment::from_secs(1_767_225_607));
        let validators = Validators { etag: "\"a\"".into(), modified };
        let request = ResourceRequest { head, head_range: false, field: &field };
        to_device(request, resource, Some(&validators))
    }

    fn value<'a>(delivery: &'a Delivery, name: &str) -> Option<&'a str> {
        delivery.fields.iter().find(|(field, _)| *field == name).map(|(_, value)| &**value)
    }

    #[test]
    fn bytes_by_range_and_all_of_them_without() {
        let all = planned(&file(), false, &[]);
        assert_eq!((all.status, all.bytes()), (200, Some((0, 1000))));
        assert_eq!(value(&all, "transfermode.dlna.org"), Some("Streaming"));
        let part = planned(&file(), false, &[("range", "bytes=10-49")]);
        assert_eq!((part.status, part.bytes()), (206, Some((10, 40))));
        assert_eq!(value(&part, "content-range"), Some("bytes 10-49/1000"));
        let beyond = planned(&file(), false, &[("range", "bytes=1000-")]);
        assert_eq!((beyond.status, beyond.span), (416, None));
        assert_eq!(planned(&file(), true, &[("range", "bytes=10-49")]).status, 200, "HEAD");
    }

    #[test]
    fn conditions_come_before_ranges() {
        let fields = [("if-none-match", "\"a\""), ("range", "bytes=10-49")];
        assert_eq!(planned(&file(), false, &fields).status, 304);
        assert_eq!(planned(&file(), false, &[("if-match", "\"b\"")]).status, 412);
        let fields = [("if-range", "\"b\""), ("range", "bytes=10-49")];
        assert_eq!(planned(&file(), false, &fields).bytes(), Some((0, 1000)));
    }

    #[test]
    fn what_has_no_length_has_no_ranges() {
        let live = resource(Length::Unknown, Seek::NONE);
        let delivery = planned(&live, false, &[("range", "bytes=10-49")]);
        assert_eq!((delivery.status, delivery.span), (200, Some(Span::Whole)));
        assert_eq!(value(&delivery, "accept-ranges"), Some("none"));
        assert_eq!(value(&delivery, "realtimeinfo.dlna.org"), Some("DLNA.ORG_TLAG=*"));
        let estimated = resource(Length::Estimated(900), Seek::TIME);
        assert_eq!(planned(&estimated, false, &[]).span, Some(Span::Whole));
    }

    #[test]
    fn a_part_by_time_only_of_what_can_be_sought_by_time() {
        let asked = |resource: &Resource, text: &str| {
            planned(resource, false, &[("timeseekrange.dlna.org", text), ("range", "bytes=0-9")])
        };
        assert_eq!(asked(&file(), "npt=10-").status, 406);
        assert_eq!(asked(&file(), "npt=soon").status, 400);
        let made = resource(Length::Estimated(900), Seek::TIME);
        let part = asked(&made, "npt=10.5-0:00:20");
        assert_eq!((part.status, value(&part, "content-range")), (200, None));
        assert_eq!(part.span, Some(Span::Time { from: 10_500, to: Some(20_000) }));
        assert_eq!(value(&part, "timeseekrange.dlna.org"), Some("npt=10.500-20.000/60.000"));
        let rest = asked(&made, "npt=10-999");
        assert_eq!(rest.span, Some(Span::Time { from: 10_000, to: Some(60_000) }));
        assert_eq!((asked(&made, "npt=60-").status, asked(&made, "npt=9-8").status), (416, 400));
        let endless = Resource { duration_ms: None, ..made };
        let part = asked(&endless, "npt=5-");
        assert_eq!(value(&part, "timeseekrange.dlna.org"), Some("npt=5.000-/*"));
    }

    #[test]
    fn fields_that_ask_for_what_is_not_there_are_refused() {
        let status = |name, text| planned(&file(), false, &[(name, text)]).status;
        assert_eq!(status("getcontentfeatures.dlna.org", "1"), 200);
        assert_eq!(status("getcontentfeatures.dlna.org", "2"), 400);
        assert_eq!(status("transfermode.dlna.org", "Interactive"), 406);
        assert_eq!(status("transfermode.dlna.org", "Sideways"), 400);
        assert_eq!(
            (status("playspeed.dlna.org", "speed=1"), status("playspeed.dlna.org", "speed=2")),
            (200, 406)
        );
    }
}
