//! Streams that run, and the host beside them.

use std::future::{Ready, ready};

use actix_web::dev::Payload;
use actix_web::{FromRequest, HttpRequest, HttpResponse, delete, get, put, web};
use mostra_api::{ConsolePlaying, HostLoad as ApiHostLoad, NowPlaying, Stream, StreamList};
use mostra_app::clock::ms;
use mostra_app::devices::Devices;
use mostra_app::host_load::HostLoad;
use mostra_app::library::Library;
use mostra_app::{Context, streams};
use mostra_core::access::Pass;
use mostra_core::catalogue::Node;
use mostra_core::ids::StreamId;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::JsonBody;
use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(list).service(end).service(show_host).service(plays).service(stops);
}

#[utoipa::path(
    operation_id = "listStreams",
    summary = "Streams that run, and the host beside them",
    responses((status = 200, body = mostra_api::StreamList))
)]
#[get("/streams")]
async fn list(_: Caller, view: StreamView) -> web::Json<StreamList> {
    web::Json(view.to_api())
}

/// What it takes to show streams.
#[derive(Clone)]
pub(crate) struct StreamView {
    context: web::Data<Context>,
    streams: web::Data<streams::Streams>,
    devices: web::Data<Devices>,
    host_load: web::Data<HostLoad>,
}

impl FromRequest for StreamView {
    type Error = ApiFailure;
    type Future = Ready<Result<StreamView, ApiFailure>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let view = || {
            Some(StreamView {
                context: request.app_data::<web::Data<Context>>()?.clone(),
                streams: request.app_data::<web::Data<streams::Streams>>()?.clone(),
                devices: request.app_data::<web::Data<Devices>>()?.clone(),
                host_load: request.app_data::<web::Data<HostLoad>>()?.clone(),
            })
        };
        ready(view().ok_or_else(|| ApiFailure::missing("No streams are kept")))
    }
}

impl StreamView {
    /// All streams as they are now.
    pub(crate) fn to_api(&self) -> StreamList {
        let running = self.streams.book().running(self.context.now());
        let book = self.devices.book();
        let shown = running.into_iter().filter_map(|stream| {
            Some(Stream {
                id: stream.id.0,
                device: stream.device.0,
                label: book.get(stream.device)?.label(),
                title: stream.title,
                kind: stream.kind.word().into(),
                since_ms: ms(stream.since),
                delivered: stream.delivered,
                position: stream.position,
                size: stream.size,
                duration_ms: stream.duration_ms,
                rate: stream.rate,
                average: stream.average,
                paused: stream.paused,
                history: stream.history,
            })
        });
        let console = self.streams.playing().into_iter().map(|playing| ConsolePlaying {
            account: playing.account,
            title: playing.title,
            kind: playing.kind.word().into(),
            since_ms: ms(playing.since),
        });
        let (streams, console) = (shown.collect(), console.collect());
        StreamList { streams, console, host: host_to_api(&self.host_load) }
    }
}

fn host_to_api(load: &HostLoad) -> ApiHostLoad {
    let samples = load.samples();
    ApiHostLoad {
        processor: samples.iter().map(|s| s.processor).collect(),
        disk: samples.iter().map(|s| s.disk).collect(),
    }
}

#[utoipa::path(
    operation_id = "showHost",
    summary = "How busy the host is",
    responses((status = 200, body = ApiHostLoad))
)]
#[get("/host")]
async fn show_host(_: Caller, load: web::Data<HostLoad>) -> web::Json<ApiHostLoad> {
    web::Json(host_to_api(&load))
}

/// Told every few seconds by a player of the console.
#[utoipa::path(
    operation_id = "tellPlaying",
    summary = "Tell that an item plays in the console; to be told again every few seconds",
    request_body = NowPlaying,
    responses((status = 204))
)]
#[put("/playing")]
async fn plays(
    caller: Caller,
    body: JsonBody<NowPlaying>,
    streams: web::Data<streams::Streams>,
    library: web::Data<Library>,
) -> Result<HttpResponse, ApiFailure> {
    let object = library.catalogue().object(&Pass::for_account(&caller.0), &body.0.object);
    let Some((title, Node::Item(item))) = object.map(|object| (object.title, object.node)) else {
        return Err(ApiFailure::not_in(&library, "No such item"));
    };
    streams.tell_playing(caller.0.account(), item.serial, &title, item.facts.kind);
    Ok(HttpResponse::NoContent().finish())
}

#[utoipa::path(
    operation_id = "stopPlaying",
    summary = "Tell that nothing plays in the console any more",
    responses((status = 204))
)]
#[delete("/playing")]
async fn stops(caller: Caller, streams: web::Data<streams::Streams>) -> HttpResponse {
    streams.stop_playing(caller.0.account());
    HttpResponse::NoContent().finish()
}

#[utoipa::path(
    operation_id = "endStream",
    summary = "End a stream; its file is kept from the device for a minute",
    responses((status = 204))
)]
#[delete("/streams/{id}")]
async fn end(
    caller: Caller,
    id: web::Path<u32>,
    streams: web::Data<streams::Streams>,
) -> Result<HttpResponse, ApiFailure> {
    if !streams.end(StreamId(*id)) {
        return Err(ApiFailure::missing("No such stream")
            .why("It may have ended by itself.")
            .next("`mostra stream list` shows those that run."));
    }
    tracing::info!(who = caller.0.account(), "stream {id} was ended");
    Ok(HttpResponse::NoContent().finish())
}
