//! Control (UDA §3): reading calls tolerantly, writing answers strictly.

use std::fmt::Write as _;

use crate::model::identifiers::{NS_CONTROL, NS_SOAP, SOAP_ENCODING};
use crate::model::service::{ActionRow, Argument, ServiceAction};
use crate::model::xml::{self, Element, Limits, XmlError, escape, escape_into};

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
    /// 713 of WANIPConnection.
    #[error("SpecifiedArrayIndexInvalid")]
    InvalidIndex,
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
            Fault::InvalidIndex => 713,
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

/// Reads the body of a control request, in the memory that [`xml::read`] takes. The first child of
/// `Body` decides the action (SOAP-2).
///
/// # Errors
/// [`XmlError`] when the body is not XML, or not an envelope with an action: HTTP 400.
pub fn read_call(body: &str) -> Result<Call, XmlError> {
    let envelope = xml::read(body, Limits::CONTROL)?;
    let is_envelope = &*envelope.name == "Envelope" && &*envelope.namespace == NS_SOAP;
    let action = first_in_body(envelope)
        .filter(|_| is_envelope)
        .ok_or_else(|| XmlError::Malformed("no action in the envelope".into()))?;
    let mut arguments: Vec<(String, String)> = Vec::new();
    for child in action.children {
        if !arguments.iter().any(|(n, _)| **n == *child.name) {
            arguments.push((child.name.into(), child.text));
        }
    }
    Ok(Call { namespace: (*action.namespace).to_owned(), action: action.name.into(), arguments })
}

/// The first element in the body of an envelope.
fn first_in_body(envelope: Element) -> Option<Element> {
    let body = envelope.children.into_iter().find(|child| &*child.name == "Body")?;
    body.children.into_iter().next()
}

/// Writes a call, as a player sends it (SOAP-20), with a value for each in argument of the action,
/// in their order.
pub fn write_call<A: ServiceAction>(action: A, values: &[&str]) -> String {
    let values: Vec<Value> = values.iter().map(|text| Value::Text((*text).to_owned())).collect();
    tagged(action.row().name, &A::service().urn(), action.row().inputs, &values)
}

/// Writes a call of an action that no table of ours has: arguments by name, in their order.
pub fn write_named_call(urn: &str, action: &str, arguments: &[(String, String)]) -> String {
    let mut out = String::with_capacity(1024);
    begin(&mut out);
    let _ = writeln!(out, "<u:{action} xmlns:u=\"{}\">", escape(urn));
    for (name, value) in arguments {
        let _ = write!(out, "<{name}>");
        escape_into(&mut out, value);
        let _ = write!(out, "</{name}>");
    }
    let _ = write!(out, "\n</u:{action}>");
    out.push_str(END);
    out
}

/// An argument's value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// Text as it is; it is escaped when it is written.
    Text(String),
    /// A document written as [`Layer::Nested`](crate::model::xml_writer::Layer), escaped already.
    Nested(String),
}

impl Value {
    fn written(&self) -> &str {
        match self {
            Value::Text(text) | Value::Nested(text) => text,
        }
    }
}

impl From<String> for Value {
    fn from(text: String) -> Value {
        Value::Text(text)
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Value {
        Value::Text(text.to_owned())
    }
}

/// Writes a successful answer (SOAP-8), with a value for each out argument of the action, in their
/// order.
pub fn write_answer(call: &Call, action: &ActionRow, values: &[Value]) -> String {
    tagged(&format!("{}Response", call.action), &call.namespace, action.outputs, values)
}

/// Why there are no out arguments.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CallError {
    /// The other side says that something is wrong.
    #[error("error {code}{}", .description.as_ref().map(|d| format!(": {d}")).unwrap_or_default())]
    Fault {
        /// Its code.
        code: u16,
        /// What it says about it.
        description: Option<String>,
    },
    /// It answers with this HTTP status, and with nothing that says why (SOAP-21).
    #[error("HTTP status {0}")]
    Status(u16),
    /// The body is neither an answer nor a fault.
    #[error("the answer cannot be read: {0}")]
    Unreadable(#[from] XmlError),
}

/// An answer that was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// Out arguments by name.
    pub arguments: Vec<(String, String)>,
}

impl Answer {
    /// An out argument.
    pub fn argument(&self, name: &str) -> Option<&str> {
        self.arguments.iter().find(|(n, _)| n == name).map(|(_, value)| value.as_str())
    }
}

/// Reads an answer by its HTTP status and body: a fault is one with any status (SOAP-21).
///
/// # Errors
/// [`CallError`] for a fault, and for what is no answer.
pub fn read_answer_with(status: u16, body: &str) -> Result<Answer, CallError> {
    read_answer(body).map_err(|error| match error {
        CallError::Unreadable(_) if status >= 400 => CallError::Status(status),
        error => error,
    })
}

/// Reads the body of an answer, in the memory that [`xml::read`] takes.
///
/// # Errors
/// [`CallError`] for a fault, and for what is no answer.
pub fn read_answer(body: &str) -> Result<Answer, CallError> {
    let answer = first_in_body(xml::read(body, Limits::DOCUMENT)?);
    let answer = answer.ok_or_else(|| XmlError::Malformed("nothing in the envelope".into()))?;
    if &*answer.name != "Fault" {
        let arguments = answer.children.into_iter().map(|c| (c.name.into(), c.text));
        return Ok(Answer { arguments: arguments.collect() });
    }
    let text = |name: &str| answer.descendants(name).first().map(|e| e.text.trim().to_owned());
    let code = text("errorCode").and_then(|code| code.parse().ok());
    let code = code.ok_or_else(|| XmlError::Malformed("a fault without a code".into()))?;
    Err(CallError::Fault { code, description: text("errorDescription").filter(|d| !d.is_empty()) })
}

/// An envelope around one tagged body, written in one piece: a Result may have megabytes.
fn tagged(name: &str, namespace: &str, arguments: &[Argument], values: &[Value]) -> String {
    debug_assert_eq!(arguments.len(), values.len(), "{name}");
    let length: usize = values.iter().map(|value| value.written().len() + 64).sum();
    let mut out = String::with_capacity(512 + length);
    begin(&mut out);
    let _ = writeln!(out, "<u:{name} xmlns:u=\"{}\">", escape(namespace));
    for ((argument, _), value) in arguments.iter().zip(values) {
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
    use crate::model::service::OwnService;
    use crate::model::service::content_directory::Action;

    #[test]
    fn any_prefix_header_and_order_are_read() {
        let body = format!(
            "<?xml version='1.0'?><e:Envelope xmlns:e='{NS_SOAP}'><e:Header><x/></e:Header><e:Body>\
             <Browse xmlns='urn:schemas-upnp-org:service:ContentDirectory:2'><B>2</B><A>1</A><A>3</A></Browse></e:Body></e:Envelope>"
        );
        let call = read_call(&body).unwrap();
        assert_eq!(call.action, "Browse");
        assert_eq!((call.argument("A"), call.argument("B")), (Some("1"), Some("2")));
        assert!(OwnService::ContentDirectory.is_type(&call.namespace));
        let row = Action::GetSystemUpdateID.row();
        assert!(write_answer(&call, row, &["7".into()]).contains("ContentDirectory:2"));
    }

    #[test]
    fn answers_read_back_with_text_escaped_once() {
        let values = ["0", "BrowseMetadata", "*", "0", "0", ""];
        let call = read_call(&write_call(Action::Browse, &values)).unwrap();
        assert_eq!((call.argument("ObjectID"), call.argument("Filter")), (Some("0"), Some("*")));
        let outputs = ["<a>Salt &amp; Rope</a>", "1", "1", "7"].map(Value::from);
        let answer = write_answer(&call, Action::Browse.row(), &outputs);
        assert!(answer.contains("Salt &amp;amp; Rope"));
        let read = read_answer(&answer).unwrap();
        assert_eq!(read.argument("Result"), Some("<a>Salt &amp; Rope</a>"));
        assert_eq!((read.argument("UpdateID"), read.argument("Id")), (Some("7"), None));
        let description = Some("No such object".to_owned());
        let fault = CallError::Fault { code: 701, description };
        assert_eq!(read_answer(&Fault::NoSuchObject.write()), Err(fault));
        assert!(matches!(read_answer("nonsense"), Err(CallError::Unreadable(_))));
    }

    #[test]
    fn faults_of_odd_form_and_answers_that_are_none_are_told() {
        let fault = |inside: &str| {
            format!(
                "<e:Envelope xmlns:e='{NS_SOAP}'><e:Body><e:Fault><detail><x:UPnPError xmlns:x='urn:y'>\
                 {inside}</x:UPnPError></detail></e:Fault></e:Body></e:Envelope>"
            )
        };
        let code = |status, inside: &str| read_answer_with(status, &fault(inside)).unwrap_err();
        let without = CallError::Fault { code: 718, description: None };
        for status in [200, 400, 500] {
            assert_eq!(code(status, "<x:errorCode> 718\n</x:errorCode>"), without);
        }
        assert_eq!(code(500, "<errorCode>718</errorCode><errorDescription/>"), without);
        let told = code(500, "<errorDescription>Busy</errorDescription><errorCode>718</errorCode>");
        assert_eq!(told.to_string(), "error 718: Busy");
        // Nothing that says why: the status does.
        for body in
            ["", "<html><body>Not found</body>", &fault(""), &fault("<errorCode>x</errorCode>")]
        {
            assert_eq!(read_answer_with(404, body), Err(CallError::Status(404)), "{body}");
            assert!(matches!(read_answer_with(200, body), Err(CallError::Unreadable(_))), "{body}");
        }
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
