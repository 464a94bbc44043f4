//! Streams that run, and the host beside them.

use actix_web::{HttpResponse, delete, get, web};
use mostra_api::{HostLoad, Stream, Streams};
use utoipa_actix_web::service_config::ServiceConfig;

use super::problem::Failure;
use super::session::Caller;
use crate::clock::ms;
use crate::house::House;

pub fn routes(config: &mut ServiceConfig<'_>) {
    config.service(list).service(end);
}

#[utoipa::path(
    operation_id = "listStreams",
    summary = "Streams that run, and the host beside them",
    responses((status = 200, body = mostra_api::Streams))
)]
#[get("/streams")]
async fn list(_: Caller, house: web::Data<House>) -> web::Json<Streams> {
    web::Json(told(&house))
}

/// All streams as they are now.
pub fn told(house: &House) -> Streams {
    let running = house.streams().running(house.clock.now());
    let book = house.devices();
    let told = running.into_iter().filter_map(|stream| {
        Some(Stream {
            id: stream.id,
            device: stream.device,
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
    let streams = told.collect();
    let samples = house.host_load.samples();
    let host = HostLoad {
        processor: samples.iter().map(|s| s.processor).collect(),
        disk: samples.iter().map(|s| s.disk).collect(),
    };
    Streams { streams, host }
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
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    if !house.end_stream(*id) {
        return Err(Failure::missing("No such stream")
            .why("It may have ended by itself.")
            .next("`mostra stream list` shows those that run."));
    }
    tracing::info!(who = caller.0.account(), "stream {id} was ended");
    Ok(HttpResponse::NoContent().finish())
}
