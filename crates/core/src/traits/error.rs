//! What is wrong with traits and rules that a person wrote.

/// Why traits cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TraitsError {
    /// A text that is no MIME type.
    #[error("{0:?} is no MIME type")]
    Mime(String),
    /// A text that cannot be an object's id.
    #[error("{0:?} cannot be an object's id")]
    Alias(String),
    /// A container in parts that are too small.
    #[error("a container in parts holds at least 10 objects")]
    SmallParts,
    /// A page or a title that holds nothing.
    #[error("a page holds at least one object, and a title 8 bytes")]
    SmallPage,
    /// A field for subtitles that may mean something else.
    #[error("a field for subtitles has a dot in its name, or begins with X-")]
    CaptionField,
    /// An element for subtitles without a prefix of its own.
    #[error("an element for subtitles has a prefix of its own, as ex:captions")]
    CaptionPrefix,
    /// A namespace that is none.
    #[error("the namespace of an element is an address, as http://example.com/ns")]
    CaptionNamespace,
    /// An attribute that cannot be written.
    #[error("an attribute has a plain name, or one with its element's prefix")]
    CaptionAttribute,
    /// A text that cannot be written.
    #[error("the text of an element has 200 bytes at most, in one line")]
    CaptionText,
}

/// Why a rule cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RuleError {
    /// Two rules have this name.
    #[error("rule {0:?}: another one has this name")]
    Twice(String),
    /// It names nothing by which a device is recognised.
    #[error("rule {0:?}: it does not say when")]
    Always(String),
    /// Its traits cannot be used.
    #[error("rule {0:?}: {1}")]
    Traits(String, #[source] TraitsError),
}
