//! Calling actions of things on the network, for a person who looks inside them.

use std::net::IpAddr;
use std::time::{Duration, Instant};

use mostra_core::found::FoundService;
use mostra_core::ids::FoundId;
use mostra_net::http::{self, Bounds, Client, HttpOptions, Method, RequestError};
use mostra_protocol::control_point::{CallError, read_answer_with, write_named_call};
use mostra_protocol::model::charset;
use mostra_protocol::model::service::{self, ReadAction, ReadDocument};

use super::{Network, server_field};
use crate::foreign_text::parse;

const BOUNDS: Bounds =
    Bounds { connect: Duration::from_secs(3), whole: Some(Duration::from_secs(30)), silence: None };
/// Bytes of a service document.
const DOCUMENT: usize = 512 << 10;
/// Bytes of an answer that are read and shown; the rest is cut.
pub const ANSWER: usize = 1 << 20;

/// Why an action is not called.
#[derive(Debug, thiserror::Error)]
pub enum NotCalled {
    /// There is no such thing, or no such service of it.
    #[error("there is no such service")]
    NoService,
    /// Its document names another host, and nothing is sent there (SEC-9).
    #[error("its address is at another host, and nothing is sent there")]
    Elsewhere,
    /// The interface by which it was found is down.
    #[error("the interface by which it was found is down")]
    InterfaceDown,
    /// Its document cannot be read.
    #[error("its service document cannot be read: {0}")]
    Document(String),
    /// The document has no such action.
    #[error("it has no action {0}")]
    NoAction(String),
    /// The action changes something, and nobody said that this is wanted.
    #[error("{0} changes something")]
    Changes(String),
    /// An argument is missing, or none of the action's.
    #[error("{0}")]
    Argument(String),
    /// It has no address for subscriptions, or one at another host.
    #[error("its description names no place to subscribe at")]
    NoEvents,
    /// So many services are watched at one time.
    #[error("{0} services are watched already")]
    TooMany(usize),
    /// It does not answer.
    #[error("{0}")]
    Unanswered(#[from] RequestError),
}

/// A call with its answer, as they were sent and received.
#[derive(Debug, Clone)]
pub struct CallRecord {
    /// Where it was sent.
    pub url: String,
    /// The fields that were sent.
    pub fields: Vec<(String, String)>,
    /// The body that was sent.
    pub request: String,
    /// The HTTP status.
    pub status: u16,
    /// The fields that came.
    pub answer_fields: Vec<(String, String)>,
    /// The body that came.
    pub answer: String,
    /// Whether more came than is shown.
    pub cut: bool,
    /// The out arguments, or the fault.
    pub outcome: Result<Vec<(String, String)>, CallError>,
    /// How long the answer took.
    pub took: Duration,
}

impl Network {
    /// A service of something found, by its place in the list, with our address towards it.
    pub(super) fn service(
        &self,
        id: FoundId,
        number: usize,
    ) -> Option<(FoundService, Option<IpAddr>)> {
        let book = self.found.book();
        let thing = book.get(id)?;
        let service = thing.described()?.services.get(number)?.clone();
        Some((service, self.own_address(thing.link).map(IpAddr::V4)))
    }

    /// Reads the document of a service.
    ///
    /// # Errors
    /// [`NotCalled`] when it cannot be read.
    pub async fn service_document(
        &self,
        id: FoundId,
        number: usize,
    ) -> Result<ReadDocument, NotCalled> {
        let (service, from) = self.service(id, number).ok_or(NotCalled::NoService)?;
        let url = service.document.ok_or(NotCalled::Elsewhere)?;
        let bytes = client(from)?.document(&url, DOCUMENT).await?;
        let unknown = || NotCalled::Document("its charset is not known".into());
        let text = charset::decode(None, &bytes).ok_or_else(unknown)?;
        let read = parse(text, |text| service::read(text)).await;
        read.map_err(|error| NotCalled::Document(error.to_string()))
    }

    /// Calls an action of a service with arguments by name. One that does not only read is called
    /// where `changes` says that this is wanted.
    ///
    /// # Errors
    /// [`NotCalled`] when it is not called, or not answered.
    pub async fn call_action(
        &self,
        id: FoundId,
        number: usize,
        name: &str,
        arguments: &[(String, String)],
        changes: bool,
    ) -> Result<CallRecord, NotCalled> {
        let document = self.service_document(id, number).await?;
        let usable = |action: &&ReadAction| is_name(&action.name);
        let action = document.action(name).filter(usable);
        let action = action.ok_or_else(|| NotCalled::NoAction(name.to_owned()))?;
        if !action.only_reads() && !changes {
            return Err(NotCalled::Changes(name.to_owned()));
        }
        let arguments = in_order(action, arguments)?;
        let (service, from) = self.service(id, number).ok_or(NotCalled::NoService)?;
        let url = service.control.ok_or(NotCalled::Elsewhere)?;
        let urn = service.kind.to_string();
        let request = write_named_call(&urn, name, &arguments);
        let header = format!("\"{urn}#{name}\"");
        let fields = [("Content-Type", "text/xml; charset=\"utf-8\""), ("SOAPACTION", &*header)];
        let began = Instant::now();
        let sent = client(from)?.send(Method::POST, &url, &fields, request.clone()).await?;
        let status = sent.status().as_u16();
        let answer_fields = sent.headers().iter().map(|(name, value)| {
            (name.as_str().to_owned(), String::from_utf8_lossy(value.as_bytes()).into_owned())
        });
        let answer_fields = answer_fields.collect();
        let (bytes, whole) = http::read(sent.bytes_stream(), ANSWER).await?;
        let answer = charset::decode(None, &bytes)
            .unwrap_or_else(|| String::from_utf8_lossy(&bytes).into_owned());
        let read = move |text: &String| read_answer_with(status, text);
        let outcome = parse(answer.clone(), read).await.map(|answer| answer.arguments);
        Ok(CallRecord {
            url,
            fields: fields.map(|(name, value)| (name.to_owned(), value.to_owned())).into(),
            request,
            status,
            answer_fields,
            outcome,
            answer,
            cut: !whole,
            took: began.elapsed(),
        })
    }
}

fn client(from: Option<IpAddr>) -> Result<Client, NotCalled> {
    // Without an address of ours there the request could leave by another interface.
    let from = Some(from.ok_or(NotCalled::InterfaceDown)?);
    let options = HttpOptions { from, user_agent: Some(server_field()), ..HttpOptions::default() };
    Ok(Client::new(&BOUNDS, &options)?)
}

/// Whether a text can be the name of an element: what others wrote goes into our document.
fn is_name(text: &str) -> bool {
    let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.');
    text.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') && text.chars().all(fits)
}

/// The arguments in the order of the service document (SOAP-20), each once.
fn in_order(
    action: &ReadAction,
    given: &[(String, String)],
) -> Result<Vec<(String, String)>, NotCalled> {
    for (name, _) in given {
        if !action.inputs.iter().any(|(known, _)| known == name) {
            let known: Vec<&str> = action.inputs.iter().map(|(name, _)| name.as_str()).collect();
            let has = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
            let why = format!("{} has no argument {name:?}; it has {has}", action.name);
            return Err(NotCalled::Argument(why));
        }
    }
    let value = |(name, _): &(String, String)| {
        let missing = || NotCalled::Argument(format!("{} needs the argument {name}", action.name));
        let (_, value) = given.iter().find(|(given, _)| given == name).ok_or_else(missing)?;
        if !is_name(name) {
            return Err(NotCalled::Argument(format!("{name:?} is no name of an argument")));
        }
        Ok((name.clone(), value.clone()))
    };
    action.inputs.iter().map(value).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn arguments_go_in_the_order_of_the_document_and_none_is_missing_or_made_up() {
        let pair = |name: &str, value: &str| (name.to_owned(), value.to_owned());
        let action = ReadAction {
            name: "SetVolume".into(),
            inputs: vec![pair("InstanceID", "A"), pair("DesiredVolume", "Volume")],
            outputs: Vec::new(),
        };
        let given = [pair("DesiredVolume", "30"), pair("InstanceID", "0")];
        let sent = in_order(&action, &given).unwrap();
        assert_eq!(sent, [pair("InstanceID", "0"), pair("DesiredVolume", "30")]);
        let why = in_order(&action, &given[..1]).unwrap_err().to_string();
        assert_eq!(why, "SetVolume needs the argument InstanceID");
        let why = in_order(&action, &[pair("Loud", "1")]).unwrap_err().to_string();
        assert!(why.ends_with("it has InstanceID, DesiredVolume"), "{why}");
        assert!(is_name("X_Get.A-1") && !is_name("a><b") && !is_name("") && !is_name("1a"));
    }
}
