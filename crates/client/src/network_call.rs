//! network call, and what a service can do.

use mostra_api::{
    ActionAnswer, ActionArgument, ActionCall, NamedValue, NetworkThing, OfferedAction,
    ServiceActions,
};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::output::{Output, sure, table};

/// How an answer is shown.
#[derive(Debug, Clone, Copy)]
pub(crate) enum AnswerStyle {
    /// Out arguments.
    Plain,
    /// As it was sent and received.
    Raw,
    /// As a line for a shell.
    Curl,
}

/// A call that is wanted.
#[derive(Debug, Clone, Copy)]
pub(crate) struct WantedCall<'a> {
    /// The service.
    pub service: &'a str,
    /// The action.
    pub action: &'a str,
    /// Its arguments as `NAME=VALUE`.
    pub arguments: &'a [String],
    /// Whether nobody is to be asked.
    pub yes: bool,
}

/// The path of a thing's service, by the last word of its type.
pub(crate) fn service_path(thing: &NetworkThing, service: &str) -> Result<String, Failure> {
    let names = |kind: &str| kind.split(':').rev().nth(1).unwrap_or(kind).to_owned();
    let mut all = Vec::new();
    for found in &thing.found {
        for (number, known) in found.services.iter().enumerate() {
            if known.kind == service || names(&known.kind).eq_ignore_ascii_case(service) {
                return Ok(format!("/network/found/{}/services/{number}", found.id));
            }
            all.push(names(&known.kind));
        }
    }
    let next = match all.as_slice() {
        [] => "Its description names no services.".to_owned(),
        all => format!("It has {}.", all.join(", ")),
    };
    Err(Failure::new(format!("{} has no service {service:?}", thing.label), &next))
}

/// What a service of a thing can do.
pub(crate) async fn actions(
    connection: &Connection,
    output: &Output,
    thing: &NetworkThing,
    service: &str,
) -> Result<(), Failure> {
    let actions: ServiceActions = connection.get(&service_path(thing, service)?).await?;
    output.print(&actions, |actions| {
        let row = |action: &OfferedAction| {
            let inputs = action.inputs.iter().map(argument).collect::<Vec<_>>().join(" ");
            let changes = if action.only_reads { "" } else { "may change something" };
            vec![action.name.clone(), inputs, action.outputs.join(" "), changes.to_owned()]
        };
        let mut parts = vec![table(&["action", "in", "out", ""], actions.actions.iter().map(row))];
        let evented = actions.variables.iter().filter(|variable| variable.evented);
        let evented: Vec<&str> = evented.map(|variable| variable.name.as_str()).collect();
        if !evented.is_empty() {
            parts.push(format!("Tells of changes of {}.", evented.join(", ")));
        }
        parts.join("\n")
    })
}

fn argument(argument: &ActionArgument) -> String {
    match (argument.allowed.as_slice(), argument.least.zip(argument.most)) {
        ([], None) => argument.name.clone(),
        ([], Some((least, most))) => format!("{}={least}…{most}", argument.name),
        (allowed, _) => format!("{}={}", argument.name, allowed.join("|")),
    }
}

/// Calls an action; one that may change something after a question.
pub(crate) async fn call(
    connection: &Connection,
    output: &Output,
    thing: &NetworkThing,
    wanted: WantedCall<'_>,
    look: AnswerStyle,
) -> Result<(), Failure> {
    let path = service_path(thing, wanted.service)?;
    let mut arguments = Vec::new();
    for text in wanted.arguments {
        let (name, value) = text.split_once('=').ok_or_else(|| {
            Failure::new(format!("{text:?} is not NAME=VALUE"), "For example: InstanceID=0")
        })?;
        arguments.push(NamedValue { name: name.to_owned(), value: value.to_owned() });
    }
    let known: ServiceActions = connection.get(&path).await?;
    let only_reads =
        known.actions.iter().any(|action| action.name == wanted.action && action.only_reads);
    let question = format!("{} may change something at {}. Call it?", wanted.action, thing.label);
    let changes = !only_reads && (wanted.yes || sure(&question));
    let body = ActionCall { action: wanted.action.to_owned(), arguments, changes };
    let path = format!("{path}/call");
    let answer: ActionAnswer = connection.change(Method::POST, &path, Some(&body)).await?;
    output.print(&answer, |answer| match look {
        AnswerStyle::Plain => in_words(answer),
        AnswerStyle::Raw => raw(answer),
        AnswerStyle::Curl => answer.curl.clone(),
    })
}

fn in_words(answer: &ActionAnswer) -> String {
    let mut lines = Vec::new();
    match &answer.fault {
        Some(fault) => lines.push(format!("Answered {} with {fault}", answer.status)),
        None if answer.outputs.is_empty() => lines.push("Done; it answers nothing.".into()),
        None => {
            let outputs = answer.outputs.iter();
            lines.extend(outputs.map(|output| format!("{:<20} {}", output.name, output.value)));
        }
    }
    lines.push(format!(
        "({} ms{})",
        answer.took_ms,
        if answer.cut { ", cut at 1 MiB" } else { "" }
    ));
    lines.join("\n")
}

fn raw(answer: &ActionAnswer) -> String {
    let fields = |all: &[NamedValue]| -> String {
        all.iter().map(|field| format!("{}: {}\n", field.name, field.value)).collect()
    };
    let cut = if answer.cut { "\n… cut at 1 MiB" } else { "" };
    format!(
        "POST {}\n{}\n{}\n\n{}\n{}\n{}{cut}",
        answer.url,
        fields(&answer.fields),
        answer.request,
        answer.status,
        fields(&answer.answer_fields),
        answer.answer
    )
}
