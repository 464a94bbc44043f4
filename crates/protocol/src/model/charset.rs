//! The charset of a body from outside (SOAP-12).

use encoding_rs::Encoding;

/// Bytes in which an XML declaration is looked for.
const DECLARATION: usize = 200;

/// A body as text, by the charset that its Content-Type names, else by its byte-order mark, else
/// by its XML declaration, else as UTF-8. `None` for a charset that is not known.
pub fn decode(content_type: Option<&str>, body: &[u8]) -> Option<String> {
    let named = content_type.and_then(|kind| {
        let mut parameters = kind.split(';').skip(1).filter_map(|p| p.split_once('='));
        let (_, charset) =
            parameters.find(|(name, _)| name.trim().eq_ignore_ascii_case("charset"))?;
        Some(charset.trim().trim_matches(['"', '\'']))
    });
    let encoding = match named {
        Some(label) => Encoding::for_label(label.as_bytes())?,
        None => match Encoding::for_bom(body) {
            Some((encoding, _)) => encoding,
            None => match declared(body) {
                Some(label) => Encoding::for_label(label)?,
                None => encoding_rs::UTF_8,
            },
        },
    };
    Some(encoding.decode(body).0.into_owned())
}

/// The encoding that an XML declaration names, if it can be read as ASCII.
fn declared(body: &[u8]) -> Option<&[u8]> {
    let head = &body[..body.len().min(DECLARATION)];
    let head = head.trim_ascii_start().strip_prefix(b"<?xml")?;
    let head = &head[..head.windows(2).position(|w| w == b"?>")?];
    let at = head.windows(8).position(|w| w == b"encoding")?;
    let value = head[at + 8..].trim_ascii_start().strip_prefix(b"=")?.trim_ascii_start();
    let (quote, value) = value.split_first()?;
    Some(&value[..value.iter().position(|b| b == quote)?])
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_charset_is_told_in_four_ways() {
        let utf16 = |text: &str| text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<_>>();
        let marked = [vec![0xff, 0xfe], utf16("<a>é</a>")].concat();
        for (kind, body, text) in [
            (None, "<a>é</a>".as_bytes(), Some("<a>é</a>")),
            (Some("text/xml; charset=\"utf-8\""), "<a>é</a>".as_bytes(), Some("<a>é</a>")),
            (Some("text/xml;charset=ISO-8859-1"), b"<a>\xe9</a>", Some("<a>é</a>")),
            (Some("text/xml; charset='utf-16le'"), &utf16("<a>é</a>"), Some("<a>é</a>")),
            (Some("text/xml"), &marked, Some("<a>é</a>")),
            (None, b"\xef\xbb\xbf<a/>", Some("<a/>")),
            (
                None,
                b"<?xml version='1.0' encoding='latin1'?><a>\xe9</a>",
                Some("<?xml version='1.0' encoding='latin1'?><a>é</a>"),
            ),
            (
                None,
                b"<?xml version=\"1.0\"?><a encoding='x'/>",
                Some("<?xml version=\"1.0\"?><a encoding='x'/>"),
            ),
            (Some("text/xml; charset=ebcdic-fr"), b"<a/>", None),
            (None, b"<?xml version='1.0' encoding='klingon'?><a/>", None),
        ] {
            assert_eq!(decode(kind, body).as_deref(), text, "{kind:?} {body:?}");
        }
    }

    proptest! {
        #[test]
        fn any_body_is_survived(kind in proptest::option::of(".{0,40}"), body in proptest::collection::vec(any::<u8>(), 0..300)) {
            let _ = decode(kind.as_deref(), &body);
            let _ = decode(None, &[b"<?xml encoding=".to_vec(), body].concat());
        }
    }
}
