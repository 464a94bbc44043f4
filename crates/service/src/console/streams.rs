//! Streams that run, and the host beside them.

use actix_web::{HttpResponse, web};
use mostra_api::{HostLoad, Stream, Streams};

use super::problem::Failure;
use super::session::Caller;
use crate::clock::ms;
use crate::house::House;

pub fn routes(config: &mut web::ServiceConfig) {
    config.route("/streams", web::get().to(list)).route("/streams/{id}", web::delete().to(end));
}

async fn list(_: Caller, house: web::Data<House>) -> web::Json<Streams> {
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
    web::Json(Streams { streams, host })
}

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
