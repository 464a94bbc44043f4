//! Noting requests and answers of a device whose conversation is recorded.

use actix_web::body::{BodySize, BoxBody, MessageBody as _};
use actix_web::dev::{RequestHead, ServiceRequest, ServiceResponse};
use actix_web::http::header::{self, HeaderMap};
use actix_web::web;
use mostra_app::Clock;
use mostra_app::clock::ms;
use mostra_app::devices::Devices;
use mostra_core::Moment;
use mostra_core::ids::DeviceId;
use mostra_protocol::model::conversation::{Entry, Exchange};

use super::gate::{Requester, text};

/// A request that is being answered.
pub(crate) struct Recorder {
    devices: web::Data<Devices>,
    clock: web::Data<Clock>,
    device: DeviceId,
    began: Moment,
    exchange: Exchange,
}

impl Recorder {
    /// Begins with a request, if its device is recorded.
    pub(crate) fn begin(requester: &Requester, request: &ServiceRequest) -> Option<Recorder> {
        let devices = request.app_data::<web::Data<Devices>>()?;
        let device = requester.device.device;
        if !devices.recordings.runs(device) {
            return None;
        }
        let clock = request.app_data::<web::Data<Clock>>()?;
        let began = clock.now();
        let mut exchange = asked(request.head(), began);
        exchange.keep_body(&requester.body);
        let (devices, clock) = (devices.clone(), clock.clone());
        Some(Recorder { devices, clock, device, began, exchange })
    }

    /// Notes the answer, and gives it back.
    pub(crate) fn end(mut self, answer: ServiceResponse<BoxBody>) -> ServiceResponse<BoxBody> {
        self.exchange.status = answer.status().as_u16();
        self.exchange.answer_fields = fields(answer.headers());
        let is_text = text(answer.headers(), &header::CONTENT_TYPE)
            .is_some_and(|mime| mime.starts_with("text/") || mime.contains("xml"));
        let answer = answer.map_body(|_, body| {
            if let BodySize::Sized(length) = body.size() {
                self.exchange.length = Some(length);
            }
            // Media are no part of it, only what is said.
            if !is_text {
                return body;
            }
            match body.try_into_bytes() {
                Ok(bytes) => {
                    self.exchange.keep_answer(&bytes);
                    BoxBody::new(bytes)
                }
                Err(body) => body,
            }
        });
        self.note();
        answer
    }

    fn note(self) {
        let now = self.clock.now();
        let mut exchange = self.exchange;
        exchange.took_ms = took(self.began, now);
        self.devices.recordings.note(now, self.device, || Entry::Request(exchange));
    }
}

/// Notes an answer of media that goes straight from the drive to the socket.
pub(crate) fn note_media(
    devices: &Devices,
    clock: Clock,
    (device, began): (DeviceId, Moment),
    request: &RequestHead,
    (status, answer_fields, length): (u16, &HeaderMap, u64),
) {
    devices.recordings.note(clock.now(), device, || {
        Entry::Request(Exchange {
            took_ms: took(began, clock.now()),
            status,
            answer_fields: fields(answer_fields),
            length: Some(length),
            ..asked(request, began)
        })
    });
}

fn asked(request: &RequestHead, began: Moment) -> Exchange {
    let target = request.uri.path_and_query().map_or("/", |target| target.as_str());
    Exchange {
        at_ms: ms(began),
        method: request.method.to_string(),
        target: target.to_owned(),
        fields: fields(&request.headers),
        ..Exchange::default()
    }
}

fn took(began: Moment, now: Moment) -> u64 {
    u64::try_from(now.since(began).as_millis()).unwrap_or(u64::MAX)
}

fn fields(headers: &HeaderMap) -> Vec<(String, String)> {
    let fields = headers.iter().map(|(name, value)| {
        (name.as_str().to_owned(), String::from_utf8_lossy(value.as_bytes()).into_owned())
    });
    fields.collect()
}
