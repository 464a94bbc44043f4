//! Writing XML that may itself be text inside other XML: DIDL-Lite inside a SOAP answer is
//! escaped once for itself and once for the envelope (CDS-19, CDS-20). Both are done in one go,
//! since pages are large and devices many.

use crate::model::xml::{ESCAPED, ESCAPED_TWICE, replace_into};

/// Where a document is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Layer {
    /// By itself.
    Document,
    /// As text of an element of another document.
    Nested,
}

/// Markup, with the same escaped; made by [`markup!`](crate::markup).
#[derive(Debug, Clone, Copy)]
pub struct Markup {
    #[doc(hidden)]
    pub document: &'static str,
    #[doc(hidden)]
    pub nested: &'static str,
}

/// Markup from a literal, escaped when the program is compiled.
#[macro_export]
macro_rules! markup {
    ($text:expr) => {{
        const TEXT: &str = $text;
        const LENGTH: usize = $crate::model::xml_writer::escaped_length(TEXT);
        const BYTES: [u8; LENGTH] = $crate::model::xml_writer::escaped_bytes::<LENGTH>(TEXT);
        const NESTED: &str = match core::str::from_utf8(&BYTES) {
            Ok(text) => text,
            Err(_) => panic!("escaping keeps UTF-8"),
        };
        $crate::model::xml_writer::Markup { document: TEXT, nested: NESTED }
    }};
}

const fn replacement(byte: u8) -> &'static [u8] {
    match byte {
        b'&' => b"&amp;",
        b'<' => b"&lt;",
        b'>' => b"&gt;",
        b'"' => b"&quot;",
        _ => b"",
    }
}

#[doc(hidden)]
pub const fn escaped_length(text: &str) -> usize {
    let bytes = text.as_bytes();
    let (mut at, mut length) = (0, 0);
    while at < bytes.len() {
        let instead = replacement(bytes[at]).len();
        length += if instead == 0 { 1 } else { instead };
        at += 1;
    }
    length
}

#[doc(hidden)]
pub const fn escaped_bytes<const LENGTH: usize>(text: &str) -> [u8; LENGTH] {
    let bytes = text.as_bytes();
    let mut out = [0; LENGTH];
    let (mut at, mut to) = (0, 0);
    while at < bytes.len() {
        let instead = replacement(bytes[at]);
        if instead.is_empty() {
            out[to] = bytes[at];
            to += 1;
        }
        let mut next = 0;
        while next < instead.len() {
            out[to] = instead[next];
            to += 1;
            next += 1;
        }
        at += 1;
    }
    out
}

/// A document in the making.
#[derive(Debug)]
pub struct XmlWriter {
    out: String,
    layer: Layer,
}

impl XmlWriter {
    /// An empty document; `capacity` is the bytes it will have, about.
    pub fn new(layer: Layer, capacity: usize) -> XmlWriter {
        XmlWriter { out: String::with_capacity(capacity), layer }
    }

    /// Bytes written so far.
    pub fn len(&self) -> usize {
        self.out.len()
    }

    /// Whether nothing is written yet.
    pub fn is_empty(&self) -> bool {
        self.out.is_empty()
    }

    /// Takes back what was written after a [`len`](Self::len).
    pub fn cut(&mut self, len: usize) {
        self.out.truncate(len);
    }

    /// What was written after a [`len`](Self::len).
    pub(crate) fn since(&self, len: usize) -> &str {
        self.out.get(len..).unwrap_or_default()
    }

    /// What this writer has written once already, escaped as it is.
    pub(crate) fn written(&mut self, text: &str) {
        self.out.push_str(text);
    }

    /// Markup as it stands.
    pub fn markup(&mut self, markup: Markup) -> &mut XmlWriter {
        self.out.push_str(match self.layer {
            Layer::Document => markup.document,
            Layer::Nested => markup.nested,
        });
        self
    }

    /// Text from anywhere, escaped; what XML cannot carry is dropped (CDS-20).
    pub fn text(&mut self, text: &str) -> &mut XmlWriter {
        let replacements = match self.layer {
            Layer::Document => &ESCAPED,
            Layer::Nested => &ESCAPED_TWICE,
        };
        replace_into(&mut self.out, text, replacements);
        self
    }

    /// Text of ours in which nothing needs escaping.
    pub fn plain(&mut self, text: &str) -> &mut XmlWriter {
        debug_assert!(!text.contains(['&', '<', '>', '"']), "{text}");
        self.out.push_str(text);
        self
    }

    /// An id or address of ours: of letters, digits and marks that need no escaping, unless
    /// somebody put something else into it.
    pub fn token(&mut self, text: &str) -> &mut XmlWriter {
        // Without a branch for each byte, so that it runs many at a time.
        let harmless = text.bytes().fold(true, |all, byte| {
            all & (byte.is_ascii_alphanumeric() | (b'-'..=b':').contains(&byte) | (byte == b'_'))
        });
        if harmless { self.plain(text) } else { self.text(text) }
    }

    /// A number.
    pub fn number(&mut self, number: impl itoa::Integer) -> &mut XmlWriter {
        self.out.push_str(itoa::Buffer::new().format(number));
        self
    }

    /// The document.
    pub fn finish(self) -> String {
        self.out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::xml::escape;
    use proptest::prelude::*;

    #[test]
    fn a_token_is_escaped_where_it_needs_to_be_and_what_is_cut_is_gone() {
        let mut writer = XmlWriter::new(Layer::Document, 0);
        assert!(writer.is_empty());
        writer.token("i-4_2:7.mp4/x");
        let before = writer.len();
        assert!(!writer.is_empty() && before == 13);
        writer.token("a&b").cut(before);
        writer.token("<").token("\"").token("é").token("a&");
        assert_eq!(writer.finish(), "i-4_2:7.mp4/x&lt;&quot;éa&amp;");
    }

    proptest! {
        #[test]
        fn nested_is_the_document_escaped(text in "\\PC{0,40}", n in any::<u64>()) {
            let [document, nested] = [Layer::Document, Layer::Nested].map(|layer| {
                let mut writer = XmlWriter::new(layer, 0);
                writer.markup(markup!("<a b=\"&#1;")).text(&text).markup(markup!("\">")).number(n);
                writer.plain("plain");
                writer.finish()
            });
            prop_assert_eq!(escape(&document), nested);
            prop_assert_eq!(document, format!("<a b=\"&#1;{}\">{n}plain", escape(&text)));
        }
    }
}
