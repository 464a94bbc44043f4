//! Server-sent events: which part of the house changed.

use std::collections::HashSet;
use std::time::Duration;

use actix_web::http::header;
use actix_web::{HttpResponse, get, web};
use bytes::Bytes;
use futures_util::stream;
use mostra_api::LiveEvent;
use mostra_app::{Context, Topic};
use tokio::sync::broadcast::error::RecvError;
use utoipa_actix_web::service_config::ServiceConfig;

use super::session::Caller;
use super::streams::StreamView;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(live);
}

/// The shortest time between two bundles of events, so that numbers move without flicker.
const BUNDLE: Duration = Duration::from_millis(200);
/// A comment this often keeps the connection known to be alive.
const ALIVE: Duration = Duration::from_secs(15);

#[utoipa::path(
    operation_id = "live",
    summary = "Server-sent events; each data is a LiveEvent",
    responses((status = 200, content_type = "text/event-stream"))
)]
#[get("/live")]
async fn live(_: Caller, context: web::Data<Context>, view: StreamView) -> HttpResponse {
    let events = stream::unfold(
        (context.changes(), (context, view), true),
        |(mut changes, parts, first)| async move {
            if first {
                // Something at once, so that the browser knows the stream is open.
                return Some((
                    Ok::<_, actix_web::Error>(Bytes::from_static(b": open\n\n")),
                    (changes, parts, false),
                ));
            }
            let mut topics: HashSet<Topic> = HashSet::new();
            let text = tokio::select! {
                () = parts.0.stopping() => return None,
                change = tokio::time::timeout(ALIVE, changes.recv()) => match change {
                    Err(_) => ": alive\n\n".to_owned(),
                    Ok(Err(RecvError::Closed)) => return None,
                    Ok(first) => {
                        note(&mut topics, first);
                        tokio::time::sleep(BUNDLE).await;
                        while let Ok(topic) = changes.try_recv() {
                            topics.insert(topic);
                        }
                        topics.iter().map(|t| event(&parts.1, *t)).collect()
                    }
                },
            };
            Some((Ok(Bytes::from(text)), (changes, parts, false)))
        },
    );
    HttpResponse::Ok()
        .insert_header((header::CONTENT_TYPE, "text/event-stream"))
        .insert_header((header::CACHE_CONTROL, "no-store"))
        .streaming(Box::pin(events))
}

fn note(topics: &mut HashSet<Topic>, change: Result<Topic, RecvError>) {
    match change {
        Ok(topic) => {
            topics.insert(topic);
        }
        // Too slow for some events: everything may have changed.
        Err(_) => topics.extend(Topic::ALL),
    }
}

fn event(view: &StreamView, topic: Topic) -> String {
    let streams = (topic == Topic::Streams).then(|| view.to_api());
    let event = LiveEvent { topic: topic.word().into(), streams };
    let data = serde_json::to_string(&event).unwrap_or_default();
    format!("event: changed\ndata: {data}\n\n")
}
