//! Control (UDA §3): reading calls tolerantly, writing answers strictly.

use std::fmt::Write as _;

use crate::identifiers::{NS_CONTROL, NS_SOAP, SOAP_ENCODING, Service};
use crate::xml::{self, Limits, XmlError, escape, escape_into};

/// An action somebody asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Call {
    /// The service type the caller used; the answer uses the same (SOAP-3).
    pub namespace: String,
    /// The action's name.
    pub action: String,
    /// Arguments by local name; of duplicates the first counts (SOAP-5).
    pub arguments: Vec<(String, String)>,
}

impl Call {
    /// An argument's text, as sent.
    pub fn argument(&self, name: &str) -> Option<&str> {
        self.arguments.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str())
    }

    /// An argument that must be there.
    ///
    /// # Errors
    /// 402 when it is missing (SOAP-6).
    pub fn required(&self, name: &str) -> Result<&str, Fault> {
        self.argument(name).ok_or(Fault::InvalidArgs)
    }
}

/// What goes wrong with a call, by the standard's codes (requirements 4.3).
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Fault {
    /// 401.
    #[error("Invalid Action")]
    InvalidAction,
    /// 402.
    #[error("Invalid Args")]
    InvalidArgs,
    /// 501.
    #[error("Action Failed")]
    ActionFailed,
    /// 701 of ContentDirectory.
    #[error("No such object")]
    NoSuchObject,
    /// 708 of ContentDirectory.
    #[error("Unsupported or invalid search criteria")]
    InvalidSearch,
    /// 709 of ContentDirectory.
    #[error("Unsupported or invalid sort criteria")]
    InvalidSort,
    /// 710 of ContentDirectory.
    #[error("No such container")]
    NoSuchContainer,
    /// 706 of ConnectionManager.
    #[error("Invalid connection reference")]
    InvalidConnection,
}

impl Fault {
    /// The error code on the wire.
    pub fn code(self) -> u16 {
        match self {
            Fault::InvalidAction => 401,
            Fault::InvalidArgs => 402,
            Fault::ActionFailed => 501,
            Fault::NoSuchObject => 701,
            Fault::InvalidSearch => 708,
            Fault::InvalidSort => 709,
            Fault::NoSuchContainer => 710,
            Fault::InvalidConnection => 706,
        }
    }

    /// The fault as the body of a 500 answer (SOAP-9).
    pub fn write(self) -> String {
        envelope(&format!(
            "<s:Fault>\n<faultcode>s:Client</faultcode><faultstring>UPnPError</faultstring>\n<detail>\n\
             <UPnPError xmlns=\"{NS_CONTROL}\">\n<errorCode>{}</errorCode>\
             <errorDescription>{self}</errorDescription>\n</UPnPError>\n</detail>\n</s:Fault>",
            self.code()
        ))
    }
}

/// Reads the body of a control request. The first child of `Body` decides the action (SOAP-2).
///
/// # Errors
/// [`XmlError`] when the body is not XML, or not an envelope with an action: HTTP 400.
pub fn read_call(body: &str) -> Result<Call, XmlError> {
    let envelope = xml::read(body, Limits::CONTROL)?;
    let action = envelope
        .child("Body")
        .and_then(|b| b.children.first())
        .filter(|_| envelope.name == "Envelope" && envelope.namespace == NS_SOAP)
        .ok_or_else(|| XmlError::Malformed("no action in the envelope".into()))?;
    let mut arguments: Vec<(String, String)> = Vec::new();
    for child in &action.children {
        if !arguments.iter().any(|(n, _)| *n == child.name) {
            arguments.push((child.name.clone(), child.text.clone()));
        }
    }
    Ok(Call { namespace: action.namespace.clone(), action: action.name.clone(), arguments })
}

/// Writes a call, as a player sends it (SOAP-20).
pub fn write_call(service: Service, action: &str, arguments: &[(&str, &str)]) -> String {
    let arguments: Vec<(&str, Value<'_>)> =
        arguments.iter().map(|(name, text)| (*name, Value::Text(text))).collect();
    tagged(action, service.urn(), &arguments)
}

/// An out argument's value.
#[derive(Debug, Clone, Copy)]
pub enum Value<'a> {
    /// Text as it is; it is escaped here.
    Text(&'a str),
    /// A document written as [`Layer::Nested`](crate::xml_writer::Layer), escaped already.
    Nested(&'a str),
}

impl<'a> Value<'a> {
    fn written(self) -> &'a str {
        match self {
            Value::Text(text) | Value::Nested(text) => text,
        }
    }
}

/// Writes a successful answer (SOAP-8); out arguments in the order given.
pub fn write_answer(call: &Call, arguments: &[(&str, Value<'_>)]) -> String {
    tagged(&format!("{}Response", call.action), &call.namespace, arguments)
}

/// Reads an answer into its out arguments.
///
/// # Errors
/// The fault's code, or 0 when the body is neither an answer nor a fault.
pub fn read_answer(body: &str) -> Result<Vec<(String, String)>, u16> {
    let envelope = xml::read(body, Limits::DOCUMENT).map_err(|_| 0u16)?;
    let answer = envelope.child("Body").and_then(|b| b.children.first()).ok_or(0u16)?;
    if answer.name == "Fault" {
        let code = answer.descendants("errorCode").first().map(|e| e.text.trim().to_owned());
        return Err(code.and_then(|c| c.parse().ok()).unwrap_or(0));
    }
    Ok(answer.children.iter().map(|c| (c.name.clone(), c.text.clone())).collect())
}

/// An envelope around one tagged body, written in one piece: a Result may have megabytes.
fn tagged(name: &str, namespace: &str, arguments: &[(&str, Value<'_>)]) -> String {
    let length: usize = arguments.iter().map(|a| a.1.written().len() + 64).sum();
    let mut out = String::with_capacity(512 + length);
    begin(&mut out);
    let _ = writeln!(out, "<u:{name} xmlns:u=\"{}\">", escape(namespace));
    for (argument, value) in arguments {
        let _ = write!(out, "<{argument}>");
        match value {
            Value::Text(text) => escape_into(&mut out, text),
            Value::Nested(document) => out.push_str(document),
        }
        let _ = write!(out, "</{argument}>");
    }
    let _ = write!(out, "\n</u:{name}>");
    out.push_str(END);
    out
}

fn begin(out: &mut String) {
    let _ = write!(
        out,
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<s:Envelope xmlns:s=\"{NS_SOAP}\" \
         s:encodingStyle=\"{SOAP_ENCODING}\">\n<s:Body>\n"
    );
}

const END: &str = "\n</s:Body></s:Envelope>";

fn envelope(body: &str) -> String {
    let mut out = String::new();
    begin(&mut out);
    out + body + END
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn any_prefix_header_and_order_are_read() {
        let body = format!(
            "<?xml version='1.0'?><e:Envelope xmlns:e='{NS_SOAP}'><e:Header><x/></e:Header><e:Body>\
             <Browse xmlns='urn:schemas-upnp-org:service:ContentDirectory:2'><B>2</B><A>1</A><A>3</A></Browse></e:Body></e:Envelope>"
        );
        let call = read_call(&body).unwrap();
        assert_eq!(call.action, "Browse");
        assert_eq!((call.argument("A"), call.argument("B")), (Some("1"), Some("2")));
        assert!(Service::ContentDirectory.is_type(&call.namespace));
        assert!(write_answer(&call, &[]).contains("ContentDirectory:2"));
    }

    #[test]
    fn answers_read_back_with_text_escaped_once() {
        let call =
            read_call(&write_call(Service::ContentDirectory, "Browse", &[("ObjectID", "0")]))
                .unwrap();
        let answer = write_answer(&call, &[("Result", Value::Text("<a>Salt &amp; Rope</a>"))]);
        assert!(answer.contains("Salt &amp;amp; Rope"));
        assert_eq!(read_answer(&answer).unwrap()[0].1, "<a>Salt &amp; Rope</a>");
        assert_eq!(read_answer(&Fault::NoSuchObject.write()), Err(701));
    }

    #[test]
    fn no_envelope_no_call() {
        assert!(read_call("<a/>").is_err());
        assert!(
            read_call(&format!("<s:Envelope xmlns:s='{NS_SOAP}'><s:Body/></s:Envelope>")).is_err()
        );
        // The names alone do not make one: they must be of SOAP's namespace.
        for namespace in ["urn:x", ""] {
            let body = format!(
                "<s:Envelope xmlns:s='{namespace}'><s:Body><u:Browse xmlns:u='urn:y'/></s:Body></s:Envelope>"
            );
            assert!(read_call(&body).is_err(), "{namespace:?}");
        }
    }
}
