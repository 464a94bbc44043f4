//! A recorded conversation of a device with a server, as lines of JSON: a heading, then what was
//! said in the order in which it was over.

use std::net::SocketAddrV4;

use serde::{Deserialize, Serialize};

/// The edition of this form.
pub const EDITION: u32 = 1;
/// Characters kept of a body.
pub const BODY: usize = 64 << 10;

/// The first line of a recording.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Heading {
    /// The edition of this form.
    pub conversation: u32,
    /// What the device is called.
    pub device: String,
    /// What the server is called.
    pub server: String,
    /// When it was begun, in milliseconds since 1970.
    pub from_ms: u64,
}

/// A further line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "what", rename_all = "lowercase")]
pub enum Entry {
    /// A datagram of the device.
    Heard(RecordedDatagram),
    /// A datagram to the device.
    Sent(RecordedDatagram),
    /// A request of the device, with its answer.
    Request(Exchange),
    /// A request to the device, such as an event, with its answer.
    Event(Exchange),
    /// That so many entries are left out here: they came too fast, or there was no room.
    Left {
        /// How many.
        out: u64,
    },
}

/// A datagram.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RecordedDatagram {
    /// When, in milliseconds since 1970.
    pub at_ms: u64,
    /// The device's address and port.
    pub peer: SocketAddrV4,
    /// Its text.
    pub text: String,
}

/// A request and its answer.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Exchange {
    /// When the request was there, in milliseconds since 1970.
    pub at_ms: u64,
    /// How long the answer took to begin, in milliseconds.
    pub took_ms: u64,
    /// The method.
    pub method: String,
    /// The path and query.
    pub target: String,
    /// The fields of the request.
    pub fields: Vec<(String, String)>,
    /// The body of the request, where it is text.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub body: String,
    /// The status of the answer; 0 where there was none.
    pub status: u16,
    /// The fields of the answer.
    pub answer_fields: Vec<(String, String)>,
    /// The body of the answer, where it is text.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub answer: String,
    /// The length of the answer's body in bytes, where it is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub length: Option<u64>,
    /// Whether a body is longer than what is kept of it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub cut: bool,
}

impl Exchange {
    /// A field of the request.
    pub fn field(&self, name: &str) -> Option<&str> {
        field(&self.fields, name)
    }

    /// A field of the answer.
    pub fn answer_field(&self, name: &str) -> Option<&str> {
        field(&self.answer_fields, name)
    }

    /// Keeps the body of the request, if it is text.
    pub fn keep_body(&mut self, bytes: &[u8]) {
        if let Some((text, cut)) = text_of(bytes) {
            self.body = text;
            self.cut |= cut;
        }
    }

    /// Keeps the body of the answer, if it is text.
    pub fn keep_answer(&mut self, bytes: &[u8]) {
        if let Some((text, cut)) = text_of(bytes) {
            self.answer = text;
            self.cut |= cut;
        }
    }
}

fn field<'a>(fields: &'a [(String, String)], name: &str) -> Option<&'a str> {
    let found = fields.iter().find(|(known, _)| known.eq_ignore_ascii_case(name));
    found.map(|(_, value)| value.as_str())
}

/// Bytes as text, as much as is kept, and whether that is less than all; `None` where they are none.
fn text_of(bytes: &[u8]) -> Option<(String, bool)> {
    let kept = &bytes[..bytes.len().min(BODY)];
    let text = match std::str::from_utf8(kept) {
        Ok(text) => text,
        // Cut in the middle of a character.
        Err(error) if error.error_len().is_none() => {
            std::str::from_utf8(&kept[..error.valid_up_to()]).ok()?
        }
        Err(_) => return None,
    };
    Some((text.to_owned(), kept.len() < bytes.len()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bodies_are_kept_as_text_and_cut_and_bytes_are_not() {
        let mut exchange = Exchange::default();
        exchange.keep_body("über".as_bytes());
        exchange.keep_answer(&[0x89, b'P', 0xff, 0]);
        assert_eq!((&*exchange.body, &*exchange.answer, exchange.cut), ("über", "", false));
        exchange.keep_answer(&"ü".repeat(BODY).into_bytes()[1..]);
        assert_eq!(exchange.answer, "", "no text, wherever it is cut");
        exchange.keep_answer(format!("x{}", "ü".repeat(BODY)).as_bytes());
        assert!(exchange.cut && exchange.answer.len() <= BODY && exchange.answer.len() > BODY - 2);
    }

    #[test]
    fn fields_are_found_whatever_the_case_of_their_names() {
        let fields = vec![("User-Agent".to_owned(), "A/1".to_owned())];
        let exchange = Exchange { fields, ..Exchange::default() };
        assert_eq!(
            (exchange.field("user-agent"), exchange.answer_field("sid")),
            (Some("A/1"), None)
        );
    }
}
