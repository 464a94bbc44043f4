//! How a device learns where the subtitles of a film are, beside the `res` that everybody gets
//! (CDS-60): in a field of the answer, or in an element of the listing. Which, is data.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::TraitsError;

/// A field that names the address of a film's subtitles.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CaptionField {
    /// The field of a request that asks for it; if left out, it is told unasked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asked: Option<String>,
    /// The field of the answer.
    pub answer: String,
}

impl CaptionField {
    /// Whether both can be names of fields, and no others that mean something already.
    pub(super) fn is_usable(&self) -> bool {
        let usable = |name: &String| {
            let token = name.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._".contains(&b));
            token && (name.contains('.') || name.to_ascii_lowercase().starts_with("x-"))
        };
        let ours = |name: &String| name.to_ascii_lowercase().ends_with("dlna.org");
        let mut names = self.asked.iter().chain([&self.answer]);
        names.all(|name| name.len() <= 64 && usable(name) && !ours(name))
    }
}

/// An element in the item that tells of its subtitles.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CaptionElement {
    /// Its namespace.
    pub namespace: String,
    /// Its name with a prefix, as `ex:captions`.
    pub name: String,
    /// Its attributes, by name; those of the same namespace have the same prefix.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub attributes: BTreeMap<String, String>,
    /// What stands in it. Here and in the attributes `{url}` becomes the address, and `{form}`
    /// `srt` or `vtt`.
    #[serde(default = "url")]
    pub value: String,
}

fn url() -> String {
    "{url}".into()
}

impl CaptionElement {
    /// Attributes that one element may have.
    const MOST: usize = 8;

    /// Whether it can stand in a listing and takes the place of nothing there.
    pub(super) fn check(&self) -> Result<(), TraitsError> {
        let word = |text: &str| {
            text.len() <= 64
                && text.starts_with(|c: char| c.is_ascii_alphabetic())
                && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_.".contains(&b))
                && !text.to_ascii_lowercase().starts_with("xml")
        };
        let (prefix, local) = self.name.split_once(':').unwrap_or_default();
        let ours = ["dc", "upnp", "dlna"].contains(&prefix);
        if !word(prefix) || !word(local) || ours {
            return Err(TraitsError::CaptionPrefix);
        }
        let plain = |text: &str| text.len() <= 200 && text.bytes().all(|b| b.is_ascii_graphic());
        if self.namespace.is_empty() || !plain(&self.namespace) {
            return Err(TraitsError::CaptionNamespace);
        }
        let attribute = |name: &str| match name.split_once(':') {
            Some((around, name)) => around == prefix && word(name),
            None => word(name),
        };
        if self.attributes.len() > Self::MOST || !self.attributes.keys().all(|n| attribute(n)) {
            return Err(TraitsError::CaptionAttribute);
        }
        let text = |text: &String| text.len() <= 200 && !text.chars().any(char::is_control);
        if !self.attributes.values().chain([&self.value]).all(text) {
            return Err(TraitsError::CaptionText);
        }
        Ok(())
    }

    /// A text with what it stands for.
    pub(crate) fn filled(text: &str, url: &str, webvtt: bool) -> String {
        text.replace("{form}", if webvtt { "vtt" } else { "srt" }).replace("{url}", url)
    }
}

#[cfg(test)]
mod tests {
    use super::super::Traits;
    use super::*;

    #[test]
    fn only_fields_that_mean_nothing_else_tell_of_subtitles() {
        let field = |asked: Option<&str>, answer: &str| {
            let field = CaptionField { asked: asked.map(str::to_owned), answer: answer.into() };
            Traits { caption_field: Some(field), ..Traits::default() }.check().is_ok()
        };
        assert!(
            field(Some("getCaptions.example"), "Captions.example") && field(None, "X-Captions")
        );
        for wrong in ["Content-Length", "a b.c", "x.y\r\nz", "contentFeatures.dlna.org", ""] {
            assert!(!field(None, wrong) && !field(Some(wrong), "X-Captions"), "{wrong}");
        }
    }

    #[test]
    fn only_elements_that_can_be_written_tell_of_subtitles() {
        let read = |text: &str| -> Result<(), String> {
            let element = serde_json::from_str(text).map_err(|e| e.to_string())?;
            let traits = Traits { caption_element: Some(element), ..Traits::default() };
            traits.check().map_err(|e| e.to_string())
        };
        read(r#"{"namespace": "http://example.com/ns", "name": "ex:captions"}"#).unwrap();
        read(r#"{"namespace": "urn:x", "name": "ex:c", "attributes": {"ex:form": "{form}", "a": ""}}"#)
            .unwrap();
        for wrong in [
            r#"{"namespace": "urn:x", "name": "captions"}"#,
            r#"{"namespace": "urn:x", "name": "dc:title"}"#,
            r#"{"namespace": "urn:x", "name": "xmlns:a"}"#,
            r#"{"namespace": "urn:x", "name": "ex:a b"}"#,
            r#"{"namespace": "urn:x", "name": "ex:<a>"}"#,
            r#"{"namespace": "", "name": "ex:c"}"#,
            r#"{"namespace": "a b", "name": "ex:c"}"#,
            r#"{"namespace": "urn:x", "name": "ex:c", "attributes": {"other:form": "x"}}"#,
            r#"{"namespace": "urn:x", "name": "ex:c", "attributes": {"xmlns": "urn:y"}}"#,
            r#"{"namespace": "urn:x", "name": "ex:c", "value": "a\nb"}"#,
            r#"{"namespace": "urn:x", "name": "ex:c", "colour": "red"}"#,
        ] {
            assert!(read(wrong).is_err(), "{wrong}");
        }
    }
}
