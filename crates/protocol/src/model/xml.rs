//! Reading XML from strangers, and writing text into XML.
//!
//! Everything read here comes from the network, so the reader is bounded (SEC-1): no DOCTYPE,
//! only the five built-in entities and character references, and limits on depth, elements
//! and attributes. Names are resolved to namespaces; prefixes do not matter (SOAP-4).

use quick_xml::events::Event;
use quick_xml::name::ResolveResult;
use quick_xml::reader::NsReader;

/// An element with its attributes, text and child elements.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Element {
    /// Namespace URI, empty for none.
    pub namespace: String,
    /// Local name.
    pub name: String,
    /// Attributes as (local name with its prefix as written, value).
    pub attributes: Vec<(String, String)>,
    /// Text directly inside, all pieces joined.
    pub text: String,
    /// Child elements in order.
    pub children: Vec<Element>,
}

impl Element {
    /// The first child with this local name.
    pub fn child(&self, name: &str) -> Option<&Element> {
        self.children.iter().find(|c| c.name == name)
    }

    /// The trimmed text of the first child with this local name.
    pub fn child_text(&self, name: &str) -> Option<&str> {
        self.child(name).map(|c| c.text.trim())
    }

    /// An attribute's value by its name as written.
    pub fn attribute(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str())
    }

    /// All elements below this one with this local name, in document order.
    pub fn descendants<'a>(&'a self, name: &'a str) -> Vec<&'a Element> {
        let mut found = Vec::new();
        for child in &self.children {
            if child.name == name {
                found.push(child);
            }
            found.extend(child.descendants(name));
        }
        found
    }
}

/// What a document may not exceed.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Bytes of the whole document.
    pub bytes: usize,
    /// Levels of elements.
    pub depth: usize,
    /// Elements in all.
    pub elements: usize,
    /// Attributes of one element.
    pub attributes: usize,
}

impl Limits {
    /// For control requests (SOAP-13).
    pub const CONTROL: Limits =
        Limits { bytes: 256 << 10, depth: 32, elements: 256, attributes: 64 };
    /// For documents that list many things: descriptions and DIDL-Lite (SEC-11).
    pub const DOCUMENT: Limits =
        Limits { bytes: 8 << 20, depth: 32, elements: 200_000, attributes: 64 };
}

/// Why a document was refused.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
pub enum XmlError {
    /// Not well-formed.
    #[error("not well-formed XML: {0}")]
    Malformed(String),
    /// A document type, or an entity that is not built in.
    #[error("document types and entities are refused")]
    Entity,
    /// One of the [`Limits`] is exceeded.
    #[error("the document is too large or too deep")]
    Limit,
}

/// Reads a document into a tree.
///
/// # Errors
/// [`XmlError`] for anything that is not one well-formed element within the limits.
pub fn read(text: &str, limits: Limits) -> Result<Element, XmlError> {
    if text.len() > limits.bytes {
        return Err(XmlError::Limit);
    }
    let bad = |e: &dyn std::fmt::Display| XmlError::Malformed(e.to_string());
    let mut reader = NsReader::from_str(text.trim_start_matches('\u{feff}'));
    reader.config_mut().expand_empty_elements = true;
    let mut open: Vec<Element> = Vec::new();
    let mut root: Option<Element> = None;
    let mut count = 0;
    loop {
        let (resolved, event) = reader.read_resolved_event().map_err(|e| bad(&e))?;
        match event {
            Event::Start(start) => {
                count += 1;
                if count > limits.elements || open.len() >= limits.depth {
                    return Err(XmlError::Limit);
                }
                if root.is_some() {
                    return Err(XmlError::Malformed("two root elements".into()));
                }
                let namespace = match resolved {
                    ResolveResult::Bound(ns) => String::from_utf8_lossy(ns.as_ref()).into_owned(),
                    ResolveResult::Unbound => String::new(),
                    ResolveResult::Unknown(_) => {
                        return Err(XmlError::Malformed("unbound prefix".into()));
                    }
                };
                let mut attributes = Vec::new();
                for attribute in start.attributes() {
                    let attribute = attribute.map_err(|e| bad(&e))?;
                    if attributes.len() >= limits.attributes {
                        return Err(XmlError::Limit);
                    }
                    let raw = std::str::from_utf8(&attribute.value).map_err(|e| bad(&e))?;
                    let value = quick_xml::escape::unescape(raw).map_err(|_| XmlError::Entity)?;
                    let key = String::from_utf8_lossy(attribute.key.as_ref()).into_owned();
                    attributes.push((key, value.into_owned()));
                }
                let name = String::from_utf8_lossy(start.local_name().as_ref()).into_owned();
                open.push(Element { namespace, name, attributes, ..Element::default() });
            }
            Event::End(_) => {
                let done = open.pop().ok_or_else(|| XmlError::Malformed("stray end".into()))?;
                match open.last_mut() {
                    Some(parent) => parent.children.push(done),
                    None => root = Some(done),
                }
            }
            Event::Text(piece) => {
                let piece = piece.decode().map_err(|e| bad(&e))?;
                match open.last_mut() {
                    Some(element) => element.text.push_str(&piece),
                    None if piece.trim_matches(['\0', ' ', '\t', '\r', '\n']).is_empty() => {}
                    None => return Err(XmlError::Malformed("text outside the root".into())),
                }
            }
            Event::CData(piece) => {
                let piece = piece.decode().map_err(|e| bad(&e))?;
                let element = open.last_mut();
                element
                    .ok_or_else(|| XmlError::Malformed("stray CDATA".into()))?
                    .text
                    .push_str(&piece);
            }
            Event::GeneralRef(reference) => {
                let element =
                    open.last_mut().ok_or_else(|| XmlError::Malformed("stray reference".into()))?;
                if let Some(c) = reference.resolve_char_ref().map_err(|e| bad(&e))? {
                    element.text.push(c);
                } else {
                    let name = reference.decode().map_err(|e| bad(&e))?;
                    let known = quick_xml::escape::resolve_xml_entity(&name);
                    element.text.push_str(known.ok_or(XmlError::Entity)?);
                }
            }
            Event::DocType(_) => return Err(XmlError::Entity),
            Event::Eof => break,
            Event::Empty(_) | Event::Comment(_) | Event::Decl(_) | Event::PI(_) => {}
        }
    }
    if !open.is_empty() {
        return Err(XmlError::Malformed("an element is left open".into()));
    }
    root.ok_or_else(|| XmlError::Malformed("no element".into()))
}

/// What stands for `&`, `<`, `>` and `"`.
pub(crate) type Replacements = [&'static str; 4];
pub(crate) const ESCAPED: Replacements = ["&amp;", "&lt;", "&gt;", "&quot;"];
pub(crate) const ESCAPED_TWICE: Replacements = ["&amp;amp;", "&amp;lt;", "&amp;gt;", "&amp;quot;"];

/// Appends text, escaped for element content and attributes; characters that XML cannot carry
/// (XML 1.0 §2.2) are dropped.
pub fn escape_into(out: &mut String, text: &str) {
    replace_into(out, text, &ESCAPED);
}

pub(crate) fn replace_into(out: &mut String, text: &str, replacements: &Replacements) {
    // Runs without anything special are copied whole: most text is one.
    let bytes = text.as_bytes();
    let mut copied = 0;
    let mut at = 0;
    loop {
        let plain = bytes[at..].iter().position(|byte| SPECIAL[usize::from(*byte)]);
        let Some(run) = plain else { break };
        at += run;
        let (replacement, length) = match bytes[at] {
            b'&' => (replacements[0], 1),
            b'<' => (replacements[1], 1),
            b'>' => (replacements[2], 1),
            b'"' => (replacements[3], 1),
            // U+FFFE and U+FFFF; other characters begin with the same byte.
            0xef if !matches!(bytes[at..], [_, 0xbf, 0xbe | 0xbf, ..]) => {
                at += 3;
                continue;
            }
            0xef => ("", 3),
            _ => ("", 1),
        };
        out.push_str(&text[copied..at]);
        out.push_str(replacement);
        at += length;
        copied = at;
    }
    out.push_str(&text[copied..]);
}

/// Bytes at which [`escape_into`] must look closer.
const SPECIAL: [bool; 256] = {
    let mut special = [false; 256];
    let mut byte = 0;
    while byte < 0x20 {
        special[byte] = !matches!(byte as u8, b'\t' | b'\n' | b'\r');
        byte += 1;
    }
    special[b'&' as usize] = true;
    special[b'<' as usize] = true;
    special[b'>' as usize] = true;
    special[b'"' as usize] = true;
    special[0xef] = true;
    special
};

/// [`escape_into`] a new string.
pub fn escape(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 16);
    escape_into(&mut out, text);
    out
}

/// Cuts text to at most `bytes` bytes at a character boundary (CDS-16).
pub fn clip(text: &str, bytes: usize) -> &str {
    if text.len() <= bytes {
        return text;
    }
    let mut end = bytes;
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    &text[..end]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn prefixes_do_not_matter_and_text_is_unescaped_once() {
        let a =
            read("<a:x xmlns:a='urn:n'>1 &amp;amp; &#x41;<![CDATA[<2>]]></a:x>", Limits::CONTROL)
                .unwrap();
        assert_eq!((a.namespace.as_str(), a.name.as_str()), ("urn:n", "x"));
        assert_eq!(a.text, "1 &amp; A<2>");
    }

    #[test]
    fn doctype_and_unknown_entities_are_refused() {
        let bomb = "<!DOCTYPE x [<!ENTITY a 'aaaa'>]><x>&a;</x>";
        assert_eq!(read(bomb, Limits::CONTROL), Err(XmlError::Entity));
        assert_eq!(read("<x>&a;</x>", Limits::CONTROL), Err(XmlError::Entity));
        assert_eq!(read("<x y='&a;'/>", Limits::CONTROL), Err(XmlError::Entity));
    }

    #[test]
    fn limits_hold() {
        let deep = "<a>".repeat(40) + &"</a>".repeat(40);
        assert_eq!(read(&deep, Limits::CONTROL), Err(XmlError::Limit));
        let wide = format!("<a>{}</a>", "<b/>".repeat(300));
        assert_eq!(read(&wide, Limits::CONTROL), Err(XmlError::Limit));
        assert!(matches!(read("<a><b></a>", Limits::CONTROL), Err(XmlError::Malformed(_))));
        assert!(matches!(read("", Limits::CONTROL), Err(XmlError::Malformed(_))));
    }

    #[test]
    fn illegal_chars_dropped() {
        assert_eq!(escape("a\u{0}b\u{fffe}c ]]> \"&'"), "abc ]]&gt; &quot;&amp;'");
        assert_eq!(clip("añb", 2), "a");
    }
}
