//! Reading XML from strangers, and writing text into XML.
//!
//! Everything read here comes from the network, so the reader is bounded (SEC-1): no DOCTYPE,
//! only the five built-in entities and character references, and limits on depth, elements,
//! attributes and namespaces. Names are resolved to namespaces; prefixes do not matter (SOAP-4).

use std::sync::Arc;

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

/// An element with its attributes, text and child elements.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Element {
    /// Namespace URI, empty for none; shared by all elements of one declaration.
    pub namespace: Arc<str>,
    /// Local name.
    pub name: Box<str>,
    /// Attributes as (local name with its prefix as written, value), without declarations of
    /// namespaces.
    pub attributes: Vec<(Box<str>, Box<str>)>,
    /// Text directly inside, all pieces joined.
    pub text: String,
    /// Child elements in order.
    pub children: Vec<Element>,
}

impl Element {
    /// The first child with this local name.
    pub fn child(&self, name: &str) -> Option<&Element> {
        self.children.iter().find(|c| &*c.name == name)
    }

    /// The trimmed text of the first child with this local name.
    pub fn child_text(&self, name: &str) -> Option<&str> {
        self.child(name).map(|c| c.text.trim())
    }

    /// An attribute's value by its name as written.
    pub fn attribute(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(n, _)| &**n == name).map(|(_, v)| &**v)
    }

    /// All elements below this one with this local name, in document order.
    pub fn descendants<'a>(&'a self, name: &'a str) -> Vec<&'a Element> {
        let mut found = Vec::new();
        for child in &self.children {
            if &*child.name == name {
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
    /// Elements in all, where its length does not allow fewer.
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

/// However short a document is, it may have so many elements, and so many attributes in all.
const SPARE: usize = 1000;
/// A longer document may have one more element for each so many of its bytes.
const BYTES_PER_ELEMENT: usize = 64;
/// The same for attributes.
const BYTES_PER_ATTRIBUTE: usize = 32;
/// Bytes of a namespace's name.
const NAMESPACE: usize = 1 << 10;
/// The namespace of the prefix `xml`, which needs no declaration.
const NS_XML: &str = "http://www.w3.org/XML/1998/namespace";

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

/// Reads a document into a tree. At no time does it hold more than eight times the document's
/// length and 1 MiB, so that nobody makes us take much by sending little.
///
/// # Errors
/// [`XmlError`] for anything that is not one well-formed element within the limits: besides the
/// given ones, one element for each 64 bytes and 1,000 more, one attribute for each 32 bytes and
/// 1,000 more, and 1 KiB for the name of a namespace.
pub fn read(text: &str, limits: Limits) -> Result<Element, XmlError> {
    read_with(text, limits, None)
}

/// Reads a document that is a list: each child of the root is handed out and kept no longer, so the
/// numbers of elements and attributes bound each child, and not all together. Gives the root without
/// its children.
///
/// # Errors
/// As [`read`].
pub fn read_list(
    text: &str,
    limits: Limits,
    mut each: impl FnMut(Element),
) -> Result<Element, XmlError> {
    read_with(text, limits, Some(&mut each))
}

fn read_with(
    text: &str,
    limits: Limits,
    mut each: Option<&mut dyn FnMut(Element)>,
) -> Result<Element, XmlError> {
    if text.len() > limits.bytes {
        return Err(XmlError::Limit);
    }
    let mut tree = TreeReader::new(text, limits);
    let mut reader = Reader::from_str(text.trim_start_matches('\u{feff}'));
    reader.config_mut().expand_empty_elements = true;
    loop {
        match reader.read_event().map_err(|e| malformed(&e))? {
            Event::Start(start) => tree.start(&start)?,
            Event::End(_) => {
                tree.end()?;
                if let Some(each) = &mut each
                    && tree.open.len() == 1
                    && let Some(child) = tree.finished.pop()
                {
                    each(child);
                    (tree.elements, tree.attributes) = tree.most;
                }
            }
            Event::Text(piece) => {
                let piece = piece.decode().map_err(|e| malformed(&e))?;
                match tree.open.last_mut() {
                    Some(open) => open.element.text.push_str(&piece),
                    None if piece.trim_matches(['\0', ' ', '\t', '\r', '\n']).is_empty() => {}
                    None => return Err(XmlError::Malformed("text outside the root".into())),
                }
            }
            Event::CData(piece) => {
                let piece = piece.decode().map_err(|e| malformed(&e))?;
                tree.inside("stray CDATA")?.text.push_str(&piece);
            }
            Event::GeneralRef(reference) => {
                let element = tree.inside("stray reference")?;
                if let Some(c) = reference.resolve_char_ref().map_err(|e| malformed(&e))? {
                    element.text.push(c);
                } else {
                    let name = reference.decode().map_err(|e| malformed(&e))?;
                    let known = quick_xml::escape::resolve_xml_entity(&name);
                    element.text.push_str(known.ok_or(XmlError::Entity)?);
                }
            }
            Event::DocType(_) => return Err(XmlError::Entity),
            Event::Eof => break,
            Event::Empty(_) | Event::Comment(_) | Event::Decl(_) | Event::PI(_) => {}
        }
    }
    if !tree.open.is_empty() {
        return Err(XmlError::Malformed("an element is left open".into()));
    }
    tree.finished.pop().ok_or_else(|| XmlError::Malformed("no element".into()))
}

fn malformed(error: &dyn std::fmt::Display) -> XmlError {
    XmlError::Malformed(error.to_string())
}

/// An element whose end has not come yet.
struct OpenElement {
    element: Element,
    /// How many elements were finished, and how many namespaces declared, before it.
    finished: usize,
    declared: usize,
}

/// A tree that grows as a document is read.
struct TreeReader {
    limits: Limits,
    /// Elements and attributes that may still come.
    elements: usize,
    attributes: usize,
    /// How many of both there may be at first.
    most: (usize, usize),
    open: Vec<OpenElement>,
    /// Elements whose end has come, and whose parents are still open. They are moved into lists of
    /// exactly their number, as growing lists would take three times as much at times.
    finished: Vec<Element>,
    /// Namespaces in force, the innermost last, by prefix; empty for the default one.
    declared: Vec<(Box<str>, Arc<str>)>,
    /// Attributes of one element, until it is known how many they are.
    own: Vec<(Box<str>, Box<str>)>,
    none: Arc<str>,
}

impl TreeReader {
    fn new(text: &str, limits: Limits) -> TreeReader {
        let elements = limits.elements.min(text.len() / BYTES_PER_ELEMENT + SPARE);
        let attributes = text.len() / BYTES_PER_ATTRIBUTE + SPARE;
        let tags = text.bytes().filter(|byte| *byte == b'<').count();
        TreeReader {
            limits,
            elements,
            attributes,
            most: (elements, attributes),
            open: Vec::with_capacity(limits.depth),
            finished: Vec::with_capacity(elements.min(tags)),
            declared: vec![("xml".into(), NS_XML.into())],
            own: Vec::new(),
            none: Arc::default(),
        }
    }

    /// The innermost open element.
    fn inside(&mut self, stray: &str) -> Result<&mut Element, XmlError> {
        let open = self.open.last_mut().ok_or_else(|| XmlError::Malformed(stray.into()))?;
        Ok(&mut open.element)
    }

    fn start(&mut self, tag: &BytesStart<'_>) -> Result<(), XmlError> {
        if self.open.is_empty() && !self.finished.is_empty() {
            return Err(XmlError::Malformed("two root elements".into()));
        }
        if self.open.len() >= self.limits.depth {
            return Err(XmlError::Limit);
        }
        self.elements = self.elements.checked_sub(1).ok_or(XmlError::Limit)?;
        let declared = self.declared.len();
        for (count, attribute) in tag.attributes().enumerate() {
            let attribute = attribute.map_err(|e| malformed(&e))?;
            if count >= self.limits.attributes {
                return Err(XmlError::Limit);
            }
            self.attributes = self.attributes.checked_sub(1).ok_or(XmlError::Limit)?;
            let raw = std::str::from_utf8(&attribute.value).map_err(|e| malformed(&e))?;
            let value = quick_xml::escape::unescape(raw).map_err(|_| XmlError::Entity)?;
            let key = std::str::from_utf8(attribute.key.as_ref()).map_err(|e| malformed(&e))?;
            let prefix = match key.strip_prefix("xmlns") {
                Some("") => Some(""),
                Some(rest) => rest.strip_prefix(':'),
                None => None,
            };
            match prefix {
                Some(_) if value.len() > NAMESPACE => return Err(XmlError::Limit),
                Some(prefix) => self.declared.push((prefix.into(), (*value).into())),
                None => self.own.push((key.into(), (*value).into())),
            }
        }
        let name = tag.name();
        let name = std::str::from_utf8(name.as_ref()).map_err(|e| malformed(&e))?;
        let (prefix, name) = name.split_once(':').unwrap_or(("", name));
        let namespace = self.declared.iter().rev().find(|(known, _)| &**known == prefix);
        let namespace = match namespace {
            Some((_, namespace)) => namespace.clone(),
            None if prefix.is_empty() => self.none.clone(),
            None => return Err(XmlError::Malformed("unbound prefix".into())),
        };
        let attributes = self.own.drain(..).collect();
        self.open.push(OpenElement {
            element: Element { namespace, name: name.into(), attributes, ..Element::default() },
            finished: self.finished.len(),
            declared,
        });
        Ok(())
    }

    fn end(&mut self) -> Result<(), XmlError> {
        let open = self.open.pop().ok_or_else(|| XmlError::Malformed("stray end".into()))?;
        self.declared.truncate(open.declared);
        let mut element = open.element;
        element.text.shrink_to_fit();
        element.children = self.finished.split_off(open.finished);
        self.finished.push(element);
        Ok(())
    }
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
        assert_eq!((&*a.namespace, &*a.name), ("urn:n", "x"));
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
    fn a_declaration_holds_for_what_is_inside_and_is_kept_once() {
        let text =
            "<a xmlns='urn:1' xmlns:p='urn:2'><b/><p:c xmlns='urn:3' d='1'><e/></p:c><f/></a>";
        let a = read(text, Limits::CONTROL).unwrap();
        let namespaces: Vec<&str> = a.children.iter().map(|child| &*child.namespace).collect();
        assert_eq!(namespaces, ["urn:1", "urn:2", "urn:1"]);
        let inner = &a.children[1];
        assert_eq!((&*inner.children[0].namespace, inner.attributes.len()), ("urn:3", 1));
        assert!(Arc::ptr_eq(&a.namespace, &a.children[2].namespace));
        assert!(read("<a xmlns:p='urn:2'/><p:b/>", Limits::CONTROL).is_err());
        assert!(read("<a><b xmlns:p='urn:2'/><p:b/></a>", Limits::CONTROL).is_err());
        assert!(read("<a xml:lang='en'><xml:b/></a>", Limits::CONTROL).is_ok());
        let long = format!("<a xmlns='{}'/>", "x".repeat(NAMESPACE + 1));
        assert_eq!(read(&long, Limits::DOCUMENT), Err(XmlError::Limit));
    }

    #[test]
    fn a_document_has_as_many_elements_and_attributes_as_its_length_allows() {
        let document = |inside: &str, times: usize| format!("<a>{}</a>", inside.repeat(times));
        let dense = |times| read(&document("<b/>", times), Limits::DOCUMENT);
        assert!(dense(900).is_ok());
        assert_eq!(dense(1200), Err(XmlError::Limit));
        let usual = format!("<b>{}</b>", "x".repeat(BYTES_PER_ELEMENT));
        assert!(read(&document(&usual, 20_000), Limits::DOCUMENT).is_ok());
        let attributes = "<b c='' d='' e='' f='' g='' h='' i='' j=''>&amp;&amp;&amp;&amp;&amp;</b>";
        assert_eq!(read(&document(attributes, 500), Limits::DOCUMENT), Err(XmlError::Limit));
    }

    #[test]
    fn illegal_chars_dropped() {
        assert_eq!(escape("a\u{0}b\u{fffe}c ]]> \"&'"), "abc ]]&gt; &quot;&amp;'");
        assert_eq!(clip("añb", 2), "a");
    }
}
