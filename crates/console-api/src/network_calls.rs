//! Looking inside things on the network: what their services can do, and calling it.

use actix_web::http::StatusCode;
use actix_web::{get, post, web};
use mostra_api::{
    ActionAnswer, ActionArgument, ActionCall, NamedValue, OfferedAction, ServiceActions,
    StateVariable, ToldVariable, WatchedState,
};
use mostra_app::clock::ms;
use mostra_app::network::{CallRecord, Network, NotCalled};
use mostra_core::found::{SubscriptionPhase, VariableValue};
use mostra_core::ids::FoundId;
use mostra_protocol::model::service::ReadDocument;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::JsonBody;
use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(actions).service(call).service(state);
}

#[utoipa::path(
    operation_id = "listActions",
    summary = "What a service of something found can do",
    responses((status = 200, body = mostra_api::ServiceActions))
)]
#[get("/network/found/{id}/services/{number}")]
async fn actions(
    _: Caller,
    path: web::Path<(u32, usize)>,
    network: web::Data<Network>,
) -> Result<web::Json<ServiceActions>, ApiFailure> {
    let (id, number) = path.into_inner();
    let document = network.service_document(FoundId(id), number).await.map_err(not_called)?;
    Ok(web::Json(to_api(&document)))
}

fn to_api(document: &ReadDocument) -> ServiceActions {
    let argument = |(name, variable): &(String, String)| {
        let variable = document.variable(variable);
        let range = variable.and_then(|variable| variable.range);
        ActionArgument {
            name: name.clone(),
            allowed: variable.map(|variable| variable.allowed.clone()).unwrap_or_default(),
            least: range.map(|(least, _)| least),
            most: range.map(|(_, most)| most),
        }
    };
    ServiceActions {
        actions: document
            .actions
            .iter()
            .map(|action| OfferedAction {
                name: action.name.clone(),
                only_reads: action.only_reads(),
                inputs: action.inputs.iter().map(argument).collect(),
                outputs: action.outputs.iter().map(|(name, _)| name.clone()).collect(),
            })
            .collect(),
        variables: document
            .variables
            .iter()
            .map(|v| StateVariable { name: v.name.clone(), evented: v.evented })
            .collect(),
    }
}

#[utoipa::path(
    operation_id = "callAction",
    summary = "Call an action of something found; one that may change something only where that is said",
    request_body = mostra_api::ActionCall,
    responses((status = 200, body = mostra_api::ActionAnswer))
)]
#[post("/network/found/{id}/services/{number}/call")]
async fn call(
    caller: Caller,
    path: web::Path<(u32, usize)>,
    body: JsonBody<ActionCall>,
    network: web::Data<Network>,
) -> Result<web::Json<ActionAnswer>, ApiFailure> {
    let (id, number) = path.into_inner();
    let ActionCall { action, arguments, changes } = body.0;
    let arguments: Vec<(String, String)> =
        arguments.into_iter().map(|argument| (argument.name, argument.value)).collect();
    let called = network.call_action(FoundId(id), number, &action, &arguments, changes).await;
    let record = called.map_err(not_called)?;
    if changes {
        tracing::info!(who = caller.0.account(), url = record.url, "called {action}");
    }
    let curl = curl(&record);
    let named = |all: Vec<(String, String)>| -> Vec<NamedValue> {
        all.into_iter().map(|(name, value)| NamedValue { name, value }).collect()
    };
    let (outputs, fault) = match record.outcome {
        Ok(outputs) => (outputs, None),
        Err(why) => (Vec::new(), Some(why.to_string())),
    };
    Ok(web::Json(ActionAnswer {
        url: record.url,
        fields: named(record.fields),
        request: record.request,
        status: record.status,
        answer_fields: named(record.answer_fields),
        answer: record.answer,
        cut: record.cut,
        outputs: named(outputs),
        fault,
        took_ms: u64::try_from(record.took.as_millis()).unwrap_or(u64::MAX),
        curl,
    }))
}

/// The call as a line for a shell.
fn curl(record: &CallRecord) -> String {
    let quoted = |text: &str| format!("'{}'", text.replace('\'', "'\\''"));
    let fields = record.fields.iter();
    let fields: String = fields
        .map(|(name, value)| format!(" -H {}", quoted(&format!("{name}: {value}"))))
        .collect();
    format!("curl -s{fields} --data-binary {} {}", quoted(&record.request), quoted(&record.url))
}

#[utoipa::path(
    operation_id = "watchState",
    summary = "The state variables of a service as its events tell them; it is subscribed at for 30 seconds from now",
    responses((status = 200, body = mostra_api::WatchedState))
)]
#[get("/network/found/{id}/services/{number}/state")]
async fn state(
    _: Caller,
    path: web::Path<(u32, usize)>,
    network: web::Data<Network>,
) -> Result<web::Json<WatchedState>, ApiFailure> {
    let (id, number) = path.into_inner();
    let state = network.watch_service(FoundId(id), number).map_err(not_called)?;
    let (subscription, problem) = match &state.phase {
        SubscriptionPhase::Asking => ("asking", None),
        SubscriptionPhase::Granted => ("granted", None),
        SubscriptionPhase::Silent => ("silent", None),
        SubscriptionPhase::Failed(why) => ("failed", Some(why.clone())),
    };
    let variable = |(name, channel, told): (&str, &str, &VariableValue)| ToldVariable {
        name: name.to_owned(),
        channel: (!channel.is_empty()).then(|| channel.to_owned()),
        value: told.value.clone(),
        told_ms: ms(told.at),
    };
    Ok(web::Json(WatchedState {
        subscription: subscription.to_owned(),
        problem,
        events: state.events,
        missed: state.missed,
        variables: state.variables().map(variable).collect(),
    }))
}

fn not_called(why: NotCalled) -> ApiFailure {
    let (status, next) = match &why {
        NotCalled::NoService | NotCalled::NoAction(_) => {
            (StatusCode::NOT_FOUND, "`mostra network show` lists services and their actions.")
        }
        NotCalled::Changes(_) => (
            StatusCode::CONFLICT,
            "Say that this is wanted: --yes, or the question in the console.",
        ),
        NotCalled::Argument(_) => (StatusCode::UNPROCESSABLE_ENTITY, "Nothing was sent."),
        NotCalled::TooMany(_) => {
            (StatusCode::TOO_MANY_REQUESTS, "Close one, and try again half a minute later.")
        }
        NotCalled::NoEvents => {
            (StatusCode::CONFLICT, "Call the actions that begin with Get instead.")
        }
        NotCalled::Elsewhere
        | NotCalled::InterfaceDown
        | NotCalled::Document(_)
        | NotCalled::Unanswered(_) => {
            (StatusCode::BAD_GATEWAY, "Search again, and see whether it is still there.")
        }
    };
    ApiFailure::new(status, "The action was not called").why(format!("{why}.")).next(next)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    #[test]
    fn a_line_for_a_shell_says_what_was_sent_whatever_is_in_it() {
        let record = CallRecord {
            url: "http://192.0.2.7/c".into(),
            fields: vec![("SOAPACTION".into(), "\"urn:x#It's\"".into())],
            request: "<a>'; rm x</a>".into(),
            status: 200,
            answer_fields: Vec::new(),
            answer: String::new(),
            cut: false,
            outcome: Ok(Vec::new()),
            took: Duration::ZERO,
        };
        let line = curl(&record);
        assert!(line.contains(r#"-H 'SOAPACTION: "urn:x#It'\''s"'"#), "{line}");
        assert!(line.contains(r"--data-binary '<a>'\''; rm x</a>' 'http://192.0.2.7/c'"), "{line}");
    }
}
