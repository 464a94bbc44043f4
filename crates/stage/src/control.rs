//! A stand-in's small server: events from media servers, and the local JSON control.

use std::net::TcpListener;
use std::sync::Arc;

use actix_web::http::StatusCode;
use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use mostra_protocol::control_point::read_properties;

use crate::stand_in::{Deed, StandIn};
use crate::{announce, screen};

/// Where events arrive.
pub(crate) const EVENT_PATH: &str = "/event";

/// Serves until the process ends.
///
/// # Errors
/// Those of the server.
pub(crate) fn serve(stand_in: Arc<StandIn>, listener: TcpListener) -> std::io::Result<()> {
    let data = web::Data::from(stand_in);
    let server = HttpServer::new(move || {
        App::new()
            .app_data(data.clone())
            .app_data(web::PayloadConfig::new(256 << 10))
            .default_service(web::to(answer))
    })
    .workers(1)
    .disable_signals()
    .listen(listener)?
    .run();
    tokio::spawn(server);
    Ok(())
}

fn reply(status: u16, kind: &str, body: impl Into<String>) -> HttpResponse {
    let status = StatusCode::from_u16(status).unwrap_or_default();
    HttpResponse::build(status).content_type(kind).body(body.into())
}

async fn answer(
    stand_in: web::Data<StandIn>,
    request: HttpRequest,
    body: web::Bytes,
) -> HttpResponse {
    let stand_in = stand_in.into_inner();
    // Only who sits before it may drive it: somebody on the same machine.
    let own = std::net::IpAddr::V4(stand_in.persona.address);
    let local = request.peer_addr().is_some_and(|peer| peer.ip().is_loopback() || peer.ip() == own);
    if let Some(answer) = announce::serve(&stand_in, &request, &body) {
        return answer;
    }
    let (method, path) = (request.method().as_str(), request.path());
    match (method, path) {
        ("NOTIFY", EVENT_PATH) => {
            let sid = request
                .headers()
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
                "expects": stand_in.persona.expects.as_deref().unwrap_or("confirmed"),
                "plays": stand_in.persona.plays,
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
