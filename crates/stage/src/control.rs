//! A stand-in's small server: events from media servers, and the local JSON control.

use std::convert::Infallible;
use std::sync::Arc;

use bytes::Bytes;
use http_body_util::{BodyExt, Full, Limited};
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper_util::rt::TokioIo;
use mostra_protocol::gena::read_properties;
use tokio::net::TcpListener;

use crate::screen;
use crate::stand_in::{Deed, StandIn};

/// Where events arrive.
pub const EVENT_PATH: &str = "/event";

/// Serves until the process ends.
pub async fn serve(stand_in: Arc<StandIn>, listener: TcpListener) {
    loop {
        let Ok((stream, peer)) = listener.accept().await else { continue };
        let stand_in = stand_in.clone();
        tokio::spawn(async move {
            let service = service_fn(|request| {
                let stand_in = stand_in.clone();
                async move {
                    Ok::<_, Infallible>(answer(&stand_in, peer.ip().is_loopback(), request).await)
                }
            });
            let _ = hyper::server::conn::http1::Builder::new()
                .serve_connection(TokioIo::new(stream), service)
                .await;
        });
    }
}

type Answer = hyper::Response<Full<Bytes>>;

fn reply(status: u16, kind: &str, body: impl Into<Bytes>) -> Answer {
    let mut answer = hyper::Response::new(Full::new(body.into()));
    *answer.status_mut() = hyper::StatusCode::from_u16(status).unwrap_or_default();
    if let Ok(kind) = kind.parse() {
        answer.headers_mut().insert("content-type", kind);
    }
    answer
}

async fn answer(stand_in: &Arc<StandIn>, local: bool, request: hyper::Request<Incoming>) -> Answer {
    let (head, body) = request.into_parts();
    let body =
        Limited::new(body, 256 << 10).collect().await.map(|b| b.to_bytes()).unwrap_or_default();
    match (head.method.as_str(), head.uri.path()) {
        ("NOTIFY", EVENT_PATH) => {
            let sid = head
                .headers
                .get("sid")
                .and_then(|v| v.to_str().ok())
                .unwrap_or_default()
                .to_owned();
            // The event may come before the answer to SUBSCRIBE has been read: it is taken up
            // when that is done.
            let (stand_in, text) = (stand_in.clone(), String::from_utf8_lossy(&body).into_owned());
            let Ok(variables) = read_properties(&text) else { return reply(400, "text/plain", "") };
            tokio::spawn(async move {
                let known = stand_in.state.lock().await.sid.as_deref() == Some(sid.as_str());
                if known {
                    stand_in.changed(variables).await;
                }
            });
            reply(200, "text/plain", "")
        }
        (_, path) if path.starts_with("/stage/") && !local => reply(403, "text/plain", ""),
        ("GET", "/stage/screen") => reply(
            200,
            "text/plain; charset=utf-8",
            screen::draw(&stand_in.persona, &*stand_in.state.lock().await),
        ),
        ("GET", "/stage/state") => {
            let state = stand_in.state.lock().await;
            let told = serde_json::json!({
                "name": stand_in.persona.name,
                "server": state.server.as_ref().map(|s| s.name.clone()),
                "menu": state.menu,
                "titles": state.listed.iter().map(|o| o.title.clone()).collect::<Vec<_>>(),
                "playing": state.take.as_ref().map(|t| t.title.clone()),
                "received": state.take.as_ref().map(|t| t.received),
                "last_url": state.last_url.as_ref().map(|(url, _)| url.clone()),
                "events": state.events,
                "update_id": state.update_id,
                "said": state.said,
            });
            reply(200, "application/json", told.to_string())
        }
        ("POST", "/stage/do") => match serde_json::from_slice::<Deed>(&body) {
            Ok(deed) => {
                let outcome = stand_in.act(deed).await;
                reply(200, "application/json", serde_json::to_string(&outcome).unwrap_or_default())
            }
            Err(error) => reply(400, "text/plain", error.to_string()),
        },
        _ => reply(404, "text/plain", ""),
    }
}
